//! Tokens: made with a scope and an end, listed with their last use, and removed.

use actix_web::http::Method;
use actix_web::web::{Data, Json, Path};
use jiff::Timestamp;
use mainyard_core::model::{Name, Span};
use mainyard_store::{NewToken, Token, TokenKind};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::Control;
use crate::callers::Member;
use crate::credentials::{hash, new_secret};
use crate::operations::{Limits, Operations};
use crate::problem::Problem;
use crate::responses::Answer;

pub fn operations(to: &mut Operations) {
    to.get("/tokens", list).add(Method::POST, "/tokens", Limits::NONE, add).delete("/tokens/{id}", remove);
}

/// A credential, without what it is a credential by.
#[derive(Serialize, ToSchema)]
pub struct TokenEntry {
    /// Tells it from others; not a secret.
    id: String,
    /// What people call it.
    name: String,
    /// `client`, `part` or `session`.
    scope: String,
    /// Whose it is.
    member: String,
    /// For a part: `node/NAME` or `gateway/NAME`.
    part: Option<String>,
    /// When it was made.
    #[schema(value_type = String)]
    created: Timestamp,
    /// When it ends; without end where there is none.
    #[schema(value_type = Option<String>)]
    expires: Option<Timestamp>,
    /// When it was last used, to the minute.
    #[schema(value_type = Option<String>)]
    last_used: Option<Timestamp>,
    /// Whether this very request shows it.
    current: bool,
}

/// Every token and session that is good now.
#[utoipa::path(get, path = "/api/v1/tokens", responses((status = 200, body = Vec<TokenEntry>)))]
pub async fn list(member: Member, control: Data<Control>) -> Result<Json<Vec<TokenEntry>>, Problem> {
    let entry = |token: Token| TokenEntry {
        current: token.id == member.token,
        id: token.id,
        name: token.name,
        scope: token.kind.word().to_owned(),
        member: token.member,
        part: token.part,
        created: token.created,
        expires: token.expires,
        last_used: token.last_used,
    };
    Ok(Json(control.store.tokens().await?.into_iter().map(entry).collect()))
}

/// A token that is to be made.
#[derive(Deserialize, ToSchema)]
pub struct AddToken {
    /// What people call it.
    #[schema(value_type = String)]
    name: Name,
    /// For a part of the platform: `node/NAME` or `gateway/NAME`. A client's where it is left out.
    #[serde(default)]
    part: Option<String>,
    /// How long it is good; 90 days where it is left out.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    lasts: Option<Span>,
}

/// How long a token is good where nobody says so, and at most: in seconds.
const LASTS: f64 = 90.0 * 86_400.0;
const LASTS_AT_MOST: f64 = 366.0 * 86_400.0;

/// Makes a token. This answer is the only one that holds it.
#[utoipa::path(post, path = "/api/v1/tokens", request_body = AddToken, responses((status = 200), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add(member: Member, control: Data<Control>, body: Json<AddToken>) -> Answer {
    let AddToken { name, part, lasts } = body.into_inner();
    if let Some(part) = &part {
        let known = part
            .split_once('/')
            .is_some_and(|(kind, name)| matches!(kind, "node" | "gateway") && name.parse::<Name>().is_ok());
        if !known {
            return Err(Problem::invalid(format!("{part} is no part; write node/NAME or gateway/NAME")));
        }
    }
    let seconds = lasts.map_or(LASTS, |lasts| lasts.signed().as_secs_f64());
    if !(60.0..=LASTS_AT_MOST).contains(&seconds) {
        return Err(Problem::invalid("a token lasts from 1m to 366d"));
    }
    let tokens = control.store.tokens().await?;
    if tokens.iter().any(|token| token.kind == TokenKind::Client && token.name == name.as_str()) {
        return Err(Problem::conflict(format!(
            "there is a token {name} already; choose another name, or remove it first"
        )));
    }
    let token = new_secret()?;
    let hash = hash(&token);
    let new = NewToken {
        hash: &hash,
        member: &member.name,
        kind: if part.is_some() { TokenKind::Part } else { TokenKind::Client },
        name: name.as_str(),
        part: part.as_deref(),
        seconds: Some(seconds),
    };
    control.store.put_token(new).await?;
    let made = control.store.token(&hash).await?;
    let made = made.ok_or_else(|| Problem::unavailable("the token was not kept"))?;
    tracing::info!(by = member.name, name = name.as_str(), id = made.id, "a token was made");
    Ok(Json(json!({"token": token, "id": made.id, "name": name, "expires": made.expires})))
}

/// Ends a token or a session, named by its id or its name.
#[utoipa::path(delete, path = "/api/v1/tokens/{id}", responses((status = 200), (status = 404, body = Problem)))]
pub async fn remove(member: Member, control: Data<Control>, id: Path<String>) -> Answer {
    let tokens = control.store.tokens().await?;
    let named = tokens.iter().find(|token| token.id == *id);
    let named = named.or_else(|| {
        let mut same = tokens.iter().filter(|token| token.name == *id);
        same.next().filter(|_| same.next().is_none())
    });
    let found = named.ok_or_else(|| {
        Problem::not_found(format!("there is no token {id}; see them with: mainyard token list"))
    })?;
    control.store.remove_token(&found.id).await?;
    tracing::info!(by = member.name, id = found.id, name = found.name, "a token was removed");
    Ok(Json(json!({"ended": found.id, "name": found.name})))
}
