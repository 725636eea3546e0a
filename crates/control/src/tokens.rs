//! Tokens: made with a scope and an end, listed with their last use, and removed.

use mainyard_api::{
    AddToken, ListTokens, NewToken, Problem, RemoveToken, TokenAdded, TokenEntry, TokenRemoved, TokenScope,
};
use mainyard_core::model::Name;
use mainyard_store::{Token, TokenKind};

use crate::credentials::{hash, new_secret};
use crate::operations::{Call, Operations};
use crate::problem::of_record;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(add).mount(remove);
}

fn scope(kind: TokenKind) -> TokenScope {
    match kind {
        // Those of the registry are never listed; they go with the client's.
        TokenKind::Client | TokenKind::Registry => TokenScope::Client,
        TokenKind::Part => TokenScope::Part,
        TokenKind::Session => TokenScope::Session,
        TokenKind::SignIn => TokenScope::SignIn,
    }
}

async fn list(call: Call<ListTokens>) -> Result<Vec<TokenEntry>, Problem> {
    let entry = |token: Token| TokenEntry {
        current: token.id == call.caller.token,
        id: token.id,
        name: token.name,
        scope: scope(token.kind),
        member: token.member,
        part: token.part,
        created: token.created,
        expires: token.expires,
        last_used: token.last_used,
    };
    Ok(call.control.store.tokens().await.map_err(of_record)?.into_iter().map(entry).collect())
}

/// How long a token is good where nobody says so, and at most: in seconds.
const LASTS: f64 = 90.0 * 86_400.0;
const LASTS_AT_MOST: f64 = 366.0 * 86_400.0;

async fn add(call: Call<AddToken>) -> Result<TokenAdded, Problem> {
    let (member, store) = (&call.caller, &call.control.store);
    let NewToken { name, part, lasts } = call.body;
    if let Some(part) = &part {
        let known = part
            .split_once('/')
            .is_some_and(|(kind, name)| matches!(kind, "node" | "gateway") && name.parse::<Name>().is_ok());
        if !known {
            return Err(Problem::invalid(format!("{part} is not a part; write node/NAME or gateway/NAME")));
        }
    }
    let seconds = lasts.map_or(LASTS, |lasts| lasts.signed().as_secs_f64());
    if !(60.0..=LASTS_AT_MOST).contains(&seconds) {
        return Err(Problem::invalid("a token lasts from 1m to 366d"));
    }
    let tokens = store.tokens().await.map_err(of_record)?;
    if tokens.iter().any(|token| token.kind == TokenKind::Client && token.name == name.as_str()) {
        return Err(Problem::conflict(format!(
            "there is a token {name} already; choose another name, or remove it first"
        )));
    }
    let token = new_secret()?;
    let hash = hash(&token);
    let new = mainyard_store::NewToken {
        hash: &hash,
        member: &member.name,
        kind: if part.is_some() { TokenKind::Part } else { TokenKind::Client },
        name: name.as_str(),
        part: part.as_deref(),
        seconds: Some(seconds),
        registry: None,
    };
    store.put_token(new).await.map_err(of_record)?;
    let made = store.token(&hash).await.map_err(of_record)?;
    let made = made.ok_or_else(|| Problem::unavailable("the token was not kept"))?;
    tracing::info!(by = member.name, name = name.as_str(), id = made.id, "a token was made");
    Ok(TokenAdded { token, id: made.id, name, expires: made.expires })
}

async fn remove(call: Call<RemoveToken>) -> Result<TokenRemoved, Problem> {
    let (store, id) = (&call.control.store, &call.path.id);
    let tokens = store.tokens().await.map_err(of_record)?;
    let named = tokens.iter().find(|token| token.id == *id);
    let named = named.or_else(|| {
        let mut same = tokens.iter().filter(|token| token.name == *id);
        same.next().filter(|_| same.next().is_none())
    });
    let found = named.ok_or_else(|| {
        Problem::not_found(format!("there is no token {id}; see them with: mainyard token list"))
    })?;
    store.remove_token(&found.id).await.map_err(of_record)?;
    tracing::info!(by = call.caller.name, id = found.id, name = found.name, "a token was removed");
    Ok(TokenRemoved { ended: found.id.clone(), name: found.name.clone() })
}
