//! Told of a push: signed with HMAC-SHA256 (RFC 2104) over the body, as forges do.

use actix_web::HttpRequest;
use mainyard_api::{Problem, TellOfPush};
use mainyard_core::model::Target;
use ring::hmac;

use crate::operations::Call;
use crate::problem::elsewhere;

/// Suffixes of the headers that hold the signature, with or without `sha256=` in front, and the
/// delivery's id: forges put their own word before it.
const SIGNATURES: [&str; 2] = ["-signature-256", "-signature"];
const DELIVERIES: [&str; 1] = ["-delivery"];

/// Looks at a source at once. What is not signed with the source's secret is not told whether there is such a source.
pub(crate) async fn pushed(call: Call<TellOfPush>) -> Result<(), Problem> {
    let unknown = || Problem::unauthorized("the push is not signed with the secret of a source");
    let (control, target) = (&call.control, call.path.target());
    let signature = headers(&call.request, &SIGNATURES).find_map(unhex).ok_or_else(unknown)?;
    let sealed = {
        let published = control.leader.published.read().await;
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
    hmac::verify(&key, &call.body, &signature).map_err(|_| unknown())?;
    if let Some(holder) = control.leader.elsewhere() {
        return Err(elsewhere(holder));
    }
    // A delivery without an id is known by its signature.
    let delivery = headers(&call.request, &DELIVERIES).next();
    let delivery = delivery.map_or_else(|| format!("{signature:x?}"), str::to_owned);
    if control.follower.is_new(&target, delivery) {
        control.follower.look_soon(&target);
    }
    Ok(())
}

/// Values of the headers whose names end so, in the order of the endings.
fn headers<'a>(request: &'a HttpRequest, endings: &'a [&str]) -> impl Iterator<Item = &'a str> {
    endings.iter().flat_map(|ending| {
        let named = request.headers().iter().filter(move |(name, _)| name.as_str().ends_with(ending));
        named.filter_map(|(_, value)| value.to_str().ok())
    })
}

fn unhex(text: &str) -> Option<Vec<u8>> {
    let text = text.trim_start_matches("sha256=");
    let digits = text.as_bytes();
    let whole = digits.len() == 64 && digits.iter().all(u8::is_ascii_hexdigit);
    whole
        .then(|| (0..64).step_by(2).filter_map(|at| u8::from_str_radix(&text[at..at + 2], 16).ok()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signatures_are_64_hexadecimal_digits() {
        assert_eq!(unhex(&"0f".repeat(32)), Some(vec![15; 32]));
        assert_eq!(unhex(&format!("sha256={}", "0f".repeat(32))), Some(vec![15; 32]));
        assert_eq!((unhex("0f"), unhex(&"xy".repeat(32))), (None, None));
    }
}
