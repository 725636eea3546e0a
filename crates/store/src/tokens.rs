//! Credentials: hashes of tokens, sessions and sign-in keys.

use jiff::Timestamp;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Error, Store};

/// The purpose of a credential.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// A person's client, or a program that acts for one.
    Client,
    /// A part of the platform: node agent or gateway.
    Part,
    /// The console, after signing in.
    Session,
    /// A sign-in link: once, for a short time.
    SignIn,
    /// A client of the registry, for some repositories and a short time.
    Registry,
}

impl TokenKind {
    const ALL: [TokenKind; 5] =
        [TokenKind::Client, TokenKind::Part, TokenKind::Session, TokenKind::SignIn, TokenKind::Registry];

    /// The word that it is stored and shown under.
    pub fn word(self) -> &'static str {
        match self {
            TokenKind::Client => "client",
            TokenKind::Part => "part",
            TokenKind::Session => "session",
            TokenKind::SignIn => "sign-in",
            TokenKind::Registry => "registry",
        }
    }

    fn from_word(word: &str) -> Option<TokenKind> {
        TokenKind::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// A credential that is to be let in.
#[derive(Debug, Clone)]
pub struct NewToken<'a> {
    /// The SHA-256 digest of the token.
    pub hash: &'a [u8],
    /// Whose it is.
    pub member: &'a str,
    /// Its purpose.
    pub kind: TokenKind,
    /// Its display name.
    pub name: &'a str,
    /// For a part: `node/NAME` or `gateway/NAME`.
    pub part: Option<&'a str>,
    /// Seconds that it is good for; without end where it is `None`.
    pub seconds: Option<f64>,
    /// For the registry: the scopes that it is good for, and the id of the token that it was given for.
    pub registry: Option<(&'a str, &'a str)>,
}

/// A credential that is good now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    /// The SHA-256 digest of the token.
    pub hash: Vec<u8>,
    /// Tells it from others in lists and commands; not a secret.
    pub id: String,
    /// Its display name.
    pub name: String,
    /// Whose it is.
    pub member: String,
    /// Its purpose.
    pub kind: TokenKind,
    /// For a part: `node/NAME` or `gateway/NAME`.
    pub part: Option<String>,
    /// For the registry: the scopes that it is good for.
    pub scopes: Option<String>,
    /// When it was made.
    pub created: Timestamp,
    /// When it ends.
    pub expires: Option<Timestamp>,
    /// When it was last used, to the minute.
    pub last_used: Option<Timestamp>,
}

macro_rules! columns {
    () => {
        "hash, id, name, member, kind, part, (extract(epoch FROM created) * 1000)::bigint, \
         (extract(epoch FROM expires) * 1000)::bigint, (extract(epoch FROM last_used) * 1000)::bigint, scopes"
    };
}

pub(crate) const PUT_TOKEN: &str = "INSERT INTO token (hash, member, kind, name, part, expires, scopes, parent) \
    VALUES ($1, $2, $3, $4, $5, now() + make_interval(secs => $6), $7, $8) ON CONFLICT (hash) DO NOTHING";
pub(crate) const READ_TOKEN: &str = concat!(
    "SELECT ",
    columns!(),
    ", coalesce(last_used < now() - interval '1 minute', true) FROM token \
     WHERE hash = $1 AND (expires IS NULL OR expires > now())"
);
pub(crate) const READ_TOKENS: &str = concat!(
    "SELECT ",
    columns!(),
    " FROM token WHERE kind NOT IN ('sign-in', 'registry') AND (expires IS NULL OR expires > now()) ORDER BY kind, created, id"
);
pub(crate) const USE_TOKEN: &str = "UPDATE token SET last_used = now() WHERE hash = $1";
pub(crate) const TAKE_TOKEN: &str = "DELETE FROM token WHERE hash = $1 AND kind = $2 AND (expires IS NULL OR expires > now()) RETURNING member";
pub(crate) const REMOVE_TOKEN: &str =
    "DELETE FROM token WHERE (id = $1 OR parent = $1) AND kind <> 'sign-in'";
pub(crate) const REMOVE_SESSIONS: &str = "DELETE FROM token WHERE kind IN ('session', 'sign-in')";
pub(crate) const REMOVE_OTHERS: &str =
    "DELETE FROM token WHERE kind = $1 AND name = $2 AND part IS NOT DISTINCT FROM $3 AND hash <> $4";
pub(crate) const SWEEP_TOKENS: &str = "DELETE FROM token WHERE expires < now()";

impl Store {
    /// Lets the bearer of a credential in.
    pub async fn put_token(&self, new: NewToken<'_>) -> Result<(), Error> {
        sqlx::query(SWEEP_TOKENS).execute(self.pool()).await?;
        let (scopes, parent) = new.registry.unzip();
        let put = sqlx::query(PUT_TOKEN).bind(new.hash).bind(new.member).bind(new.kind.word());
        put.bind(new.name)
            .bind(new.part)
            .bind(new.seconds)
            .bind(scopes)
            .bind(parent)
            .execute(self.pool())
            .await?;
        Ok(())
    }

    /// The same, and no other credential of the same kind, name and part is good any more.
    pub async fn replace_token(&self, new: NewToken<'_>) -> Result<(), Error> {
        let others = sqlx::query(REMOVE_OTHERS).bind(new.kind.word()).bind(new.name).bind(new.part);
        others.bind(new.hash).execute(self.pool()).await?;
        self.put_token(new).await
    }

    /// The credential of this digest, if it is one and still good. Notes that it was used.
    pub async fn token(&self, hash: &[u8]) -> Result<Option<Token>, Error> {
        let Some(row) = sqlx::query(READ_TOKEN).bind(hash).fetch_optional(self.pool()).await? else {
            return Ok(None);
        };
        if row.get::<bool, _>(10) {
            sqlx::query(USE_TOKEN).bind(hash).execute(self.pool()).await?;
        }
        Ok(read(&row))
    }

    /// Every credential that is good, but for sign-in links.
    pub async fn tokens(&self) -> Result<Vec<Token>, Error> {
        let rows = sqlx::query(READ_TOKENS).fetch_all(self.pool()).await?;
        Ok(rows.iter().filter_map(read).collect())
    }

    /// Whose credential this is; it is good no more.
    pub async fn take_token(&self, hash: &[u8], kind: TokenKind) -> Result<Option<String>, Error> {
        let row = sqlx::query(TAKE_TOKEN).bind(hash).bind(kind.word()).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| row.get(0)))
    }

    /// Ends the credential of this public id. False where there is none.
    pub async fn remove_token(&self, id: &str) -> Result<bool, Error> {
        Ok(sqlx::query(REMOVE_TOKEN).bind(id).execute(self.pool()).await?.rows_affected() > 0)
    }

    /// Ends every session and sign-in link; gives how many.
    pub async fn remove_sessions(&self) -> Result<u64, Error> {
        Ok(sqlx::query(REMOVE_SESSIONS).execute(self.pool()).await?.rows_affected())
    }
}

/// A row of [`columns`]; `None` where its kind is of another version.
fn read(row: &PgRow) -> Option<Token> {
    let time = |at: usize| row.get::<Option<i64>, _>(at).and_then(|ms| Timestamp::from_millisecond(ms).ok());
    Some(Token {
        hash: row.get(0),
        id: row.get(1),
        name: row.get(2),
        member: row.get(3),
        kind: TokenKind::from_word(row.get(4))?,
        part: row.get(5),
        scopes: row.get(9),
        created: time(6)?,
        expires: time(7),
        last_used: time(8),
    })
}
