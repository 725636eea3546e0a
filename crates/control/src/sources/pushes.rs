//! Told of a push: signed with HMAC-SHA256 (RFC 2104) over the body, as forges do.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

use actix_web::web::{Bytes, Data, Path};
use actix_web::{HttpRequest, HttpResponse};
use mainyard_core::model::Target;
use ring::hmac;

use crate::Control;
use crate::answers::target;
use crate::problem::Problem;

/// Deliveries that are remembered, so that one that comes again is known.
const REMEMBERED: usize = 2_000;

/// Headers in which forges send the signature, with or without `sha256=` in front, and the delivery's id.
const SIGNATURES: [&str; 4] =
    ["x-hub-signature-256", "x-signature-256", "x-forgejo-signature", "x-gitea-signature"];
const DELIVERIES: [&str; 4] = ["x-github-delivery", "x-delivery", "x-forgejo-delivery", "x-gitea-delivery"];

static SEEN: Mutex<VecDeque<(Target, String)>> = Mutex::new(VecDeque::new());

/// Looks at a source at once. What is not signed with the source's secret is not told whether there is such a source.
#[utoipa::path(post, path = "/api/v1/pushes/{environment}/{name}", request_body = String, responses((status = 202), (status = 401, body = Problem)))]
pub async fn pushed(
    control: Data<Control>,
    path: Path<(String, String)>,
    request: HttpRequest,
    body: Bytes,
) -> Result<HttpResponse, Problem> {
    let unknown = || Problem::unauthorized("the push is not signed with the secret of a source");
    let target = target(path).map_err(|_| unknown())?;
    let header = |names: &[&str]| {
        let mut found = names.iter().filter_map(|name| request.headers().get(*name)?.to_str().ok());
        found.next().map(str::to_owned)
    };
    let signature = header(&SIGNATURES).ok_or_else(unknown)?;
    let signature = unhex(signature.trim_start_matches("sha256=")).ok_or_else(unknown)?;
    let sealed = {
        let published = control.steward.published.read().await;
        let source = published.0.sources.get(&target).and_then(|source| source.pushes.clone());
        let secret = source.map(|name| Target::new(&target.environment, &name));
        let secret = secret.and_then(|secret| published.0.secrets.get(&secret).cloned());
        secret.and_then(|secret| Some(secret.versions.values().next_back()?.sealed.clone()))
    };
    let sealed = sealed.ok_or_else(unknown)?;
    let mut opened = control.vault.open(vec![sealed.clone()]).await?;
    let value = opened.remove(&sealed).ok_or_else(unknown)?;
    let value = value.text().map_or_else(|| value.0.clone(), |text| text.trim().as_bytes().to_vec());
    let key = hmac::Key::new(hmac::HMAC_SHA256, &value);
    hmac::verify(&key, &body, &signature).map_err(|_| unknown())?;
    if let Some(elsewhere) = control.steward.elsewhere() {
        return Err(Problem::elsewhere(elsewhere));
    }
    // A delivery without an id is known by its signature.
    let delivery = header(&DELIVERIES).unwrap_or_else(|| format!("{signature:x?}"));
    if is_new(&target, delivery) {
        control.follower.look_soon(&target);
    }
    Ok(HttpResponse::Accepted().finish())
}

fn is_new(target: &Target, delivery: String) -> bool {
    let mut seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner);
    let key = (target.clone(), delivery);
    if seen.contains(&key) {
        return false;
    }
    if seen.len() == REMEMBERED {
        seen.pop_front();
    }
    seen.push_back(key);
    true
}

fn unhex(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes();
    let whole = digits.len() == 64 && digits.iter().all(u8::is_ascii_hexdigit);
    whole
        .then(|| (0..64).step_by(2).filter_map(|at| u8::from_str_radix(&text[at..at + 2], 16).ok()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_delivery_that_comes_again_is_known_for_each_source() {
        let source = |name: &str| -> Target { format!("staging/{name}").parse().expect("a target") };
        assert!(is_new(&source("lockers"), "d1".into()));
        assert!(!is_new(&source("lockers"), "d1".into()));
        assert!(is_new(&source("kiosk"), "d1".into()));
        assert!(is_new(&source("lockers"), "d2".into()));
    }

    #[test]
    fn signatures_are_64_hexadecimal_digits() {
        assert_eq!(unhex(&"0f".repeat(32)), Some(vec![15; 32]));
        assert_eq!((unhex("0f"), unhex(&"xy".repeat(32))), (None, None));
    }
}
