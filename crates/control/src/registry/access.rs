//! Who may use the registry: with a token of the API, as a password or as it is, or with one that was given out here for some
//! repositories and a short time.

use actix_web::http::header::AUTHORIZATION;
use actix_web::{HttpRequest, HttpResponse};
use jiff::Timestamp;
use mainyard_registry::{ErrorCode, RegistryError, Scope, granted};
use mainyard_store::{NewToken, Token, TokenKind};

use super::{Call, of_problem, of_record};
use crate::Control;
use crate::credentials::{basic, hash, new_secret};
use crate::hosts::host_of;

/// The name of the registry in challenges and tokens.
pub(super) const SERVICE: &str = "main-yard";
/// A token is good for so many seconds.
const GOOD_FOR: u32 = 300;
/// Most scopes of one token.
const SCOPES: usize = 16;

/// Someone who was let in.
pub(super) struct Caller {
    /// The member's name.
    pub(super) member: String,
    /// The public id of the token.
    token: String,
    /// Whether it is a token of the API, which is good for everything here.
    is_client: bool,
}

/// The address of the token service, as this client reaches it.
pub(super) fn realm(request: &HttpRequest) -> String {
    let scheme = if request.app_config().secure() { "https" } else { "http" };
    format!("{scheme}://{}/v2/token", host_of(request))
}

/// Lets the caller in, for what is needed.
///
/// # Errors
/// `UNAUTHORIZED` without a credential that is known, or one for other repositories: the client asks for another token then.
pub(super) async fn caller(
    request: &HttpRequest,
    control: &Control,
    needed: Option<&Scope>,
) -> Result<Caller, RegistryError> {
    let refuse = |message: &str| RegistryError::new(ErrorCode::Unauthorized, message);
    let mut headers = request.headers().get_all(AUTHORIZATION);
    let header = match (headers.next(), headers.next()) {
        (Some(header), None) => {
            header.to_str().map_err(|_| refuse("the Authorization header cannot be read"))?
        }
        (None, _) => return Err(refuse("sign in with a member's name and a token as the password")),
        (Some(_), Some(_)) => return Err(refuse("send one Authorization header")),
    };
    let (scheme, given) = header.split_once(' ').unwrap_or((header, ""));
    let (member, secret) = match scheme.to_ascii_lowercase().as_str() {
        "bearer" => (None, given.trim().to_owned()),
        "basic" => {
            let (user, password) =
                basic(given).ok_or_else(|| refuse("the Authorization header cannot be read"))?;
            (Some(user), password)
        }
        _ => return Err(refuse("the Authorization header must be Basic or Bearer")),
    };
    let found = control.store.token(&hash(&secret)).await.map_err(|error| of_record(&error))?;
    let unknown = || refuse("this token is not known here, or has ended");
    let found = found.ok_or_else(unknown)?;
    if member.is_some_and(|member| member != found.member) {
        return Err(refuse("this token belongs to another member"));
    }
    if allows(&found, needed) {
        Ok(Caller { is_client: found.kind == TokenKind::Client, member: found.member, token: found.id })
    } else {
        Err(unknown())
    }
}

/// Whether a credential is good for this: a client's for all of the registry, one of the registry for its scopes.
fn allows(token: &Token, needed: Option<&Scope>) -> bool {
    match (token.kind, &token.scopes) {
        (TokenKind::Client, _) => true,
        (TokenKind::Registry, Some(scopes)) => needed.is_none_or(|needed| needed.is_in(&granted(scopes))),
        _ => false,
    }
}

/// Gives a token for the scopes that are asked for.
pub(super) async fn give_token(call: &Call) -> Result<HttpResponse, RegistryError> {
    // One of the registry would otherwise widen its own scopes, and outlive the token that it was given for.
    if !call.caller.is_client {
        let message = "a token of the registry gives no other; ask with a token of the API";
        return Err(RegistryError::new(ErrorCode::Denied, message));
    }
    let asked = url_pairs(call.request.query_string());
    let asked = asked.iter().filter(|(key, _)| key == "scope").flat_map(|(_, value)| value.split(' '));
    let scopes: Vec<String> =
        asked.filter_map(Scope::parse).take(SCOPES).map(|scope| scope.to_string()).collect();
    let token = new_secret().map_err(|problem| of_problem(&problem))?;
    let new = NewToken {
        hash: &hash(&token),
        member: &call.caller.member,
        kind: TokenKind::Registry,
        name: "",
        part: None,
        seconds: Some(f64::from(GOOD_FOR)),
        registry: Some((&scopes.join(" "), &call.caller.token)),
    };
    call.control.store.put_token(new).await.map_err(|error| of_record(&error))?;
    Ok(HttpResponse::Ok().insert_header(("Cache-Control", "no-store")).json(serde_json::json!({
        "token": token,
        "access_token": token,
        "expires_in": GOOD_FOR,
        "issued_at": Timestamp::now().to_string(),
    })))
}

/// The pairs of a query; a key may come several times.
fn url_pairs(query: &str) -> Vec<(String, String)> {
    serde_urlencoded::from_str(query).unwrap_or_default()
}
