//! Signing in to the console and out of it, and the credentials that control is started with.

use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::cookie::{Cookie, SameSite};
use mainyard_api::{
    AddSignInKey, EndSessions, Problem, SessionsEnded, SignIn, SignInKey, SignOut, SignedOut,
};
use mainyard_core::sign_in_backoff::SignInBackoff;
use mainyard_store::{NewToken, Store, TokenKind};

use crate::credentials::{cookie_name, hash, new_secret};
use crate::operations::{Call, Operations};
use crate::problem::of_record;
use crate::{Config, Control};

/// Seconds a console stays signed in.
const SESSION: f64 = 30.0 * 86_400.0;
/// Seconds a sign-in link is good.
const LINK: f64 = 900.0;
/// The display name of the data directory's token.
const DATA_DIRECTORY: &str = "data-directory";
/// The token's file is looked at this often.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// The first member's client's token.
#[derive(Debug, Clone)]
pub enum ClientToken {
    /// In a file. When the file has another one, the previous one is no longer valid.
    File(PathBuf),
    /// As it is.
    Given(String),
}

impl ClientToken {
    fn read(&self) -> std::io::Result<String> {
        match self {
            ClientToken::File(file) => Ok(std::fs::read_to_string(file)?.trim().to_owned()),
            ClientToken::Given(token) => Ok(token.clone()),
        }
    }
}

/// Lets the first member's client and the parts in.
pub(crate) async fn admit(store: &Store, config: &Config) -> Result<(), crate::Error> {
    admit_client(store, &config.client_token, &config.member).await?;
    for (part, token) in &config.part_tokens {
        let new = NewToken {
            hash: &hash(token),
            member: "platform",
            kind: TokenKind::Part,
            name: part,
            part: Some(part),
            seconds: None,
            registry: None,
        };
        store.replace_token(new).await?;
    }
    Ok(())
}

/// Gives the digest of the token that is good now.
async fn admit_client(store: &Store, token: &ClientToken, member: &str) -> Result<Vec<u8>, crate::Error> {
    let token = token.read()?;
    if token.len() < 16 {
        let short = "the client's token is shorter than 16 characters";
        return Err(std::io::Error::new(std::io::ErrorKind::InvalidData, short).into());
    }
    let hash = hash(&token);
    let kind = TokenKind::Client;
    let new = NewToken {
        hash: &hash,
        member,
        kind,
        name: DATA_DIRECTORY,
        part: None,
        seconds: None,
        registry: None,
    };
    store.replace_token(new).await?;
    Ok(hash)
}

/// Takes the token in the data directory when it is replaced, without a restart.
pub(crate) async fn follow_client_token(store: Store, token: ClientToken, member: String) {
    let mut known = token.read().ok().map(|token| hash(&token));
    if matches!(token, ClientToken::Given(_)) {
        return;
    }
    loop {
        actix_web::rt::time::sleep(LOOK_EVERY).await;
        let Ok(text) = token.read() else { continue };
        if known.as_ref() == Some(&hash(&text)) {
            continue;
        }
        match admit_client(&store, &token, &member).await {
            Ok(hash) => {
                known = Some(hash);
                tracing::info!(
                    "the token in the data directory was replaced; the previous one is no longer valid"
                );
            }
            Err(error) => tracing::warn!(%error, "the new token in the data directory cannot be taken"),
        }
    }
}

fn cookie(control: &Control, value: String, seconds: i64) -> Cookie<'static> {
    Cookie::build(cookie_name(&control.instance, control.tls), value)
        .path("/")
        .http_only(true)
        .secure(control.tls)
        .same_site(SameSite::Strict)
        .max_age(actix_web::cookie::time::Duration::seconds(seconds))
        .finish()
}

/// Failed attempts to sign in, with the clock they are timed by.
pub(crate) struct SignInAttempts(Mutex<SignInBackoff>, Instant);

impl Default for SignInAttempts {
    fn default() -> SignInAttempts {
        SignInAttempts(Mutex::default(), Instant::now())
    }
}

impl SignInAttempts {
    fn with<T>(&self, act: impl FnOnce(&mut SignInBackoff, u64) -> T) -> T {
        let now = self.1.elapsed().as_millis() as u64;
        act(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner), now)
    }
}

pub(crate) fn operations(to: &mut Operations) {
    to.mount(sign_in).mount(add_sign_in_key).mount(sign_out).mount(end_sessions);
}

/// A new sign-in link for the member who asks.
async fn add_sign_in_key(call: Call<AddSignInKey>) -> Result<SignInKey, Problem> {
    let key = new_secret()?;
    let (kind, member) = (TokenKind::SignIn, &call.caller.name);
    let hash = hash(&key);
    let new =
        NewToken { hash: &hash, member, kind, name: "", part: None, seconds: Some(LINK), registry: None };
    call.control.store.put_token(new).await.map_err(of_record)?;
    Ok(SignInKey { path: format!("/sign-in?key={key}"), good_for_seconds: LINK as u64 })
}

/// Takes a sign-in key for a session cookie, and leads to the console.
async fn sign_in(call: Call<SignIn>) -> Result<HttpResponse, Problem> {
    let control = &call.control;
    let address = call.request.peer_addr().map_or(IpAddr::from([0, 0, 0, 0]), |peer| peer.ip());
    let attempts = &control.sign_in_attempts;
    attempts.with(|attempts, now| attempts.may_try(address, now)).map_err(Problem::too_many_attempts)?;
    let taken = control.store.take_token(&hash(&call.query.key), TokenKind::SignIn).await;
    let Some(member) = taken.map_err(of_record)? else {
        attempts.with(|attempts, now| attempts.failed(address, now));
        return Ok(HttpResponse::Unauthorized().content_type("text/html; charset=utf-8").body(USED_LINK));
    };
    attempts.with(|attempts, _| attempts.succeeded(address));
    let session = new_secret()?;
    let from = format!("console, from {address}");
    let (hash, kind) = (hash(&session), TokenKind::Session);
    let new = NewToken {
        hash: &hash,
        member: &member,
        kind,
        name: &from,
        part: None,
        seconds: Some(SESSION),
        registry: None,
    };
    control.store.put_token(new).await.map_err(of_record)?;
    // A page of our own that goes on by itself: a redirect from elsewhere would leave a strict cookie behind.
    Ok(HttpResponse::Ok()
        .cookie(cookie(control, session, SESSION as i64))
        .insert_header(("cache-control", "no-store"))
        .insert_header(("referrer-policy", "no-referrer"))
        .content_type("text/html; charset=utf-8")
        .body(SIGNED_IN))
}

/// Ends the credential that this request shows: a session of the console, or a client's token.
async fn sign_out(call: Call<SignOut>) -> Result<SignedOut, Problem> {
    call.control.store.remove_token(&call.caller.token).await.map_err(of_record)?;
    call.send_cookie(cookie(&call.control, String::new(), 0));
    Ok(SignedOut { ended: call.caller.token })
}

/// Ends every session of the console, and every sign-in link that was not used.
async fn end_sessions(call: Call<EndSessions>) -> Result<SessionsEnded, Problem> {
    Ok(SessionsEnded { ended: call.control.store.remove_sessions().await.map_err(of_record)? })
}

const SIGNED_IN: &str = "<!doctype html><meta charset=utf-8><title>Main Yard</title>\
    <meta http-equiv=refresh content='0;url=/'><p>Signed in. <a href=/>To the board</a></p>";

const USED_LINK: &str = "<!doctype html><meta charset=utf-8><title>Main Yard</title>\
    <body style='font:16px/1.5 system-ui,sans-serif;max-width:34rem;margin:12vh auto'>\
    <h1>This link was used already, or is too old</h1><p>A sign-in link works once and for 15 minutes. \
    Make a new one with: <code>mainyard sign-in</code></p>";
