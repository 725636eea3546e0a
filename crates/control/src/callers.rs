//! Letting callers in: who an operation is for is a type of the API, and what comes of it is what its handler gets.
//!
//! [`crate::operations`] authenticates by that type before it reads anything of the request. So a handler cannot be
//! reached by a way of writing its path that an earlier check did not foresee.

use actix_web::HttpRequest;
use actix_web::http::Method;
use actix_web::http::header::{AUTHORIZATION, HeaderMap, ORIGIN};
use mainyard_api::{AnyPart, Anyone, Caller, GatewayPart, NodeAgent, Person, Problem};
use mainyard_store::{Token, TokenKind};

use crate::Control;
use crate::credentials::{cookie_name, hash};
use crate::problem::of_record;

/// How a kind of caller is let in.
pub(crate) trait Admit: Caller {
    /// The caller, if it was let in.
    type Admitted: 'static;

    /// Lets the bearer of a credential in, or says why not. `None` stands for a request without one.
    fn admit(token: Option<&Token>, request: &HttpRequest) -> Result<Self::Admitted, Problem>;
}

/// A person.
#[derive(Debug, Clone)]
pub(crate) struct Member {
    /// The name, as the trail tells it.
    pub name: String,
    /// The credential's public id, which is not a secret.
    pub token: String,
}

/// A part of the platform, as `node/NAME` or `gateway/NAME`.
#[derive(Debug, Clone)]
pub(crate) struct PartName(pub String);

impl Admit for Anyone {
    type Admitted = ();

    fn admit(_: Option<&Token>, _: &HttpRequest) -> Result<(), Problem> {
        Ok(())
    }
}

impl Admit for Person {
    type Admitted = Member;

    fn admit(token: Option<&Token>, request: &HttpRequest) -> Result<Member, Problem> {
        let token = token.ok_or_else(no_credential)?;
        match token.kind {
            TokenKind::Client => {}
            TokenKind::Session => from_the_console(request)?,
            TokenKind::Part | TokenKind::SignIn | TokenKind::Registry => {
                return Err(Problem::forbidden(
                    "this operation is for people; a part's token does not open it",
                ));
            }
        }
        Ok(Member { name: token.member.clone(), token: token.id.clone() })
    }
}

impl Admit for NodeAgent {
    type Admitted = ();

    fn admit(token: Option<&Token>, request: &HttpRequest) -> Result<(), Problem> {
        named_part(token, request, "node")
    }
}

impl Admit for GatewayPart {
    type Admitted = ();

    fn admit(token: Option<&Token>, request: &HttpRequest) -> Result<(), Problem> {
        named_part(token, request, "gateway")
    }
}

impl Admit for AnyPart {
    type Admitted = PartName;

    fn admit(token: Option<&Token>, _: &HttpRequest) -> Result<PartName, Problem> {
        part_of(token).map(|part| PartName(part.to_owned()))
    }
}

/// The part that a token is for, such as `node/node-1`.
fn part_of(token: Option<&Token>) -> Result<&str, Problem> {
    let part = token.ok_or_else(no_credential)?.part.as_deref();
    part.ok_or_else(|| {
        Problem::forbidden("this operation is for node agents and gateways, with a token of their own")
    })
}

/// A part acts under its own name only.
fn named_part(token: Option<&Token>, request: &HttpRequest, kind: &str) -> Result<(), Problem> {
    let part = part_of(token)?;
    let name = request.match_info().get(kind).unwrap_or_default();
    match part.split_once('/') {
        Some((of, own)) if of == kind && own == name => Ok(()),
        _ => Err(Problem::forbidden(format!("this token is for {part}, which acts under its own name only"))),
    }
}

fn no_credential() -> Problem {
    Problem::unauthorized("send a bearer token, or sign in with the link that `mainyard sign-in` prints")
}

/// The credential that a request shows, where it is known and still good. A bearer token goes before a cookie.
///
/// # Errors
/// 401 where one is shown that is not known, or that cannot be read in one way.
pub(crate) async fn credential(request: &HttpRequest, control: &Control) -> Result<Option<Token>, Problem> {
    let headers = request.headers();
    if headers.get_all(AUTHORIZATION).count() > 1 {
        return Err(Problem::unauthorized("send one Authorization header"));
    }
    if let Some(header) = headers.get(AUTHORIZATION) {
        let token = header.to_str().ok().and_then(|value| value.strip_prefix("Bearer "));
        let token =
            token.ok_or_else(|| Problem::unauthorized("the Authorization header must be: Bearer TOKEN"))?;
        let found = control.store.token(&hash(token.trim())).await.map_err(of_record)?;
        let found = found.filter(|found| matches!(found.kind, TokenKind::Client | TokenKind::Part));
        return found
            .map(Some)
            .ok_or_else(|| Problem::unauthorized("this token is not known here, or has ended"));
    }
    let cookie = request.cookie(&cookie_name(&control.instance, control.tls));
    let Some(cookie) = cookie else { return Ok(None) };
    let found = control.store.token(&hash(cookie.value())).await.map_err(of_record)?;
    let found = found.filter(|found| found.kind == TokenKind::Session);
    found.map(Some).ok_or_else(|| {
        Problem::unauthorized(
            "the session has ended; sign in again with the link that `mainyard sign-in` prints",
        )
    })
}

/// A browser sends the session's cookie for any page that asks, so the page must be the console's own: what changes
/// something needs the console's origin, and what reads must not come from another site's page.
fn from_the_console(request: &HttpRequest) -> Result<(), Problem> {
    let foreign = || Problem::forbidden("this request comes from another site's page");
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD);
    if changing && !same_origin(request) {
        return Err(foreign());
    }
    match text(request.headers(), "sec-fetch-site") {
        None | Some("same-origin" | "none") => Ok(()),
        Some(_) => Err(foreign()),
    }
}

/// RFC 6454: scheme, host and port.
fn same_origin(request: &HttpRequest) -> bool {
    let scheme = if request.app_config().secure() { "https" } else { "http" };
    let host = crate::hosts::host_of(request);
    text(request.headers(), ORIGIN.as_str()) == Some(format!("{scheme}://{host}").as_str())
}

fn text<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}
