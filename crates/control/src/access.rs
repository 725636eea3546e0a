//! Who may ask: a bearer token, or the console's cookie. Nothing but health, signing in and the console's own
//! files answers without.

use actix_web::body::MessageBody;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{AUTHORIZATION, HOST, ORIGIN};
use actix_web::middleware::Next;
use actix_web::web::Data;
use actix_web::{FromRequest, HttpMessage, HttpRequest, HttpResponse};
use mainyard_store::{Store, TokenKind};
use sha2::{Digest, Sha256};

use crate::problem::Problem;
use crate::{Config, Control};

/// Seconds a console stays signed in.
const SESSION: f64 = 30.0 * 86_400.0;
/// Seconds a sign-in link is good.
const LINK: f64 = 900.0;

/// Who asks.
#[derive(Debug, Clone)]
pub struct Member(pub String);

impl FromRequest for Member {
    type Error = Problem;
    type Future = std::future::Ready<Result<Member, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut actix_web::dev::Payload) -> Self::Future {
        let member = request.extensions().get::<Member>().cloned();
        std::future::ready(member.ok_or_else(|| Problem::unauthorized("no member is known for this request")))
    }
}

pub fn hash(token: &str) -> Vec<u8> {
    Sha256::digest(token).to_vec()
}

/// A new secret: 32 bytes of chance in hexadecimal.
fn new_secret() -> Result<String, Problem> {
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).map_err(|error| Problem::unavailable(error.to_string()))?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// Lets the first member's client and the parts in.
pub async fn admit(store: &Store, config: &Config) -> Result<(), mainyard_store::Error> {
    store.put_token(&hash(&config.client_token), &config.member, TokenKind::Client, None).await?;
    store.put_token(&hash(&config.part_token), "platform", TokenKind::Part, None).await
}

fn cookie_name(instance: &str) -> String {
    // Cookies do not tell ports apart: the instance does.
    format!("mainyard-session-{instance}")
}

/// Turns away whoever is not known.
pub async fn check<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let path = request.path();
    // Whoever tells of a push shows by a signature who it is.
    let signed = path.starts_with("/api/v1/pushes/");
    let open = !path.starts_with("/api/") || signed || matches!(path, "/api/v1/health" | "/api/v1/sign-in");
    if !open {
        let control = request.app_data::<Data<Control>>().cloned();
        let control = control.ok_or_else(|| Problem::unavailable("control is starting"))?;
        let member = member(&request, &control).await?;
        request.extensions_mut().insert(member);
        refuse_if_given_up(&request)?;
    }
    next.call(request).await
}

/// Until when the caller waits, in milliseconds since 1970 UTC.
const WAITS_UNTIL: &str = "mainyard-waits-until";

/// While control is away, calls lie in the listener's queue. What nobody waits for any more was told to have
/// failed, and must not be done after all.
fn refuse_if_given_up(request: &ServiceRequest) -> Result<(), Problem> {
    let until = request.headers().get(WAITS_UNTIL).and_then(|value| value.to_str().ok()?.parse::<i64>().ok());
    match until {
        Some(until) if jiff::Timestamp::now().as_millisecond() > until => Err(Problem::given_up()),
        _ => Ok(()),
    }
}

async fn member(request: &ServiceRequest, control: &Control) -> Result<Member, Problem> {
    let for_parts = request.path().starts_with("/api/v1/link/");
    let header = request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok());
    if let Some(token) = header.and_then(|value| value.strip_prefix("Bearer ")) {
        let kind = if for_parts { TokenKind::Part } else { TokenKind::Client };
        let member = control.store.token(&hash(token.trim()), kind).await?;
        return member.map(Member).ok_or_else(|| Problem::unauthorized("this token is not known here"));
    }
    if for_parts {
        return Err(Problem::unauthorized("only node agents and gateways call here, with their token"));
    }
    let cookie = request.cookie(&cookie_name(&control.instance));
    let cookie = cookie.ok_or_else(|| {
        Problem::unauthorized("send a bearer token, or sign in with the link that `mainyard sign-in` prints")
    })?;
    // Another site's page can make a browser send the cookie, but not a different origin.
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD);
    if changing && !same_origin(request) {
        return Err(Problem::forbidden("this request comes from another site's page"));
    }
    let member = control.store.token(&hash(cookie.value()), TokenKind::Session).await?;
    member.map(Member).ok_or_else(|| {
        Problem::unauthorized(
            "the session has ended; sign in again with the link that `mainyard sign-in` prints",
        )
    })
}

fn same_origin(request: &ServiceRequest) -> bool {
    let text = |name| request.headers().get(name).and_then(|value| value.to_str().ok());
    let origin = text(ORIGIN).and_then(|origin| origin.split_once("://"));
    origin.is_some_and(|(_, origin)| text(HOST) == Some(origin))
}

/// Makes a sign-in key for whoever asks.
pub async fn sign_in_key(control: &Control, member: &Member) -> Result<String, Problem> {
    let key = new_secret()?;
    control.store.put_token(&hash(&key), &member.0, TokenKind::SignIn, Some(LINK)).await?;
    Ok(key)
}

/// Takes a sign-in key for a session cookie, and leads to the console.
pub async fn sign_in(control: Data<Control>, key: &str) -> Result<HttpResponse, Problem> {
    let member = control.store.take_token(&hash(key), TokenKind::SignIn).await?;
    let Some(member) = member else {
        return Ok(HttpResponse::Unauthorized().content_type("text/html; charset=utf-8").body(USED_LINK));
    };
    let session = new_secret()?;
    control.store.put_token(&hash(&session), &member, TokenKind::Session, Some(SESSION)).await?;
    let cookie = Cookie::build(cookie_name(&control.instance), session)
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .max_age(actix_web::cookie::time::Duration::seconds(SESSION as i64))
        .finish();
    // A page of our own that goes on by itself: a redirect from elsewhere would leave a strict cookie behind.
    Ok(HttpResponse::Ok().cookie(cookie).content_type("text/html; charset=utf-8").body(SIGNED_IN))
}

const SIGNED_IN: &str = "<!doctype html><meta charset=utf-8><title>Main Yard</title>\
    <meta http-equiv=refresh content='0;url=/'><p>Signed in. <a href=/>To the board</a></p>";

const USED_LINK: &str = "<!doctype html><meta charset=utf-8><title>Main Yard</title>\
    <body style='font:16px/1.5 system-ui,sans-serif;max-width:34rem;margin:12vh auto'>\
    <h1>This link has been used, or is too old</h1><p>A sign-in link works once and for 15 minutes. \
    Make a new one with: <code>mainyard sign-in</code></p>";
