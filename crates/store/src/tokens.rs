//! Who may call: hashes of tokens, sessions and sign-in keys.

use sqlx::Row;

use crate::{Error, Store};

/// What a token is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// A person's client.
    Client,
    /// A part of the platform: node agent or gateway.
    Part,
    /// The console, after signing in.
    Session,
    /// A sign-in link: once, for a short time.
    SignIn,
}

impl TokenKind {
    fn word(self) -> &'static str {
        match self {
            TokenKind::Client => "client",
            TokenKind::Part => "part",
            TokenKind::Session => "session",
            TokenKind::SignIn => "sign-in",
        }
    }
}

pub(crate) const PUT_TOKEN: &str = "INSERT INTO token (hash, member, kind, expires) \
    VALUES ($1, $2, $3, now() + make_interval(secs => $4)) ON CONFLICT (hash) DO NOTHING";
pub(crate) const READ_TOKEN: &str =
    "SELECT member FROM token WHERE hash = $1 AND kind = $2 AND (expires IS NULL OR expires > now())";
pub(crate) const TAKE_TOKEN: &str = "DELETE FROM token WHERE hash = $1 AND kind = $2 AND (expires IS NULL OR expires > now()) RETURNING member";
pub(crate) const SWEEP_TOKENS: &str = "DELETE FROM token WHERE expires < now()";

impl Store {
    /// Lets the bearer of what hashes to `hash` in; for `seconds`, or for good.
    pub async fn put_token(
        &self,
        hash: &[u8],
        member: &str,
        kind: TokenKind,
        seconds: Option<f64>,
    ) -> Result<(), Error> {
        sqlx::query(SWEEP_TOKENS).execute(self.pool()).await?;
        sqlx::query(PUT_TOKEN)
            .bind(hash)
            .bind(member)
            .bind(kind.word())
            .bind(seconds)
            .execute(self.pool())
            .await?;
        Ok(())
    }

    /// Whose token this is, if it is one and still good.
    pub async fn token(&self, hash: &[u8], kind: TokenKind) -> Result<Option<String>, Error> {
        let row = sqlx::query(READ_TOKEN).bind(hash).bind(kind.word()).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| row.get(0)))
    }

    /// The same, and it is good no more.
    pub async fn take_token(&self, hash: &[u8], kind: TokenKind) -> Result<Option<String>, Error> {
        let row = sqlx::query(TAKE_TOKEN).bind(hash).bind(kind.word()).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| row.get(0)))
    }
}
