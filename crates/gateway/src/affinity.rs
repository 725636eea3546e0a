//! A visitor's seat: the cookie by which it stays with a replica.

use http::HeaderMap;
use http::header::{COOKIE, HeaderValue, SET_COOKIE};
use mainyard_core::model::{ReplicaId, Sticky};

/// The name of a replica in a cookie. It reveals nothing of the inside (FNV-1a).
pub(crate) fn affinity_of(replica: &ReplicaId) -> u64 {
    replica
        .to_string()
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

/// The seat that a visitor brings.
pub(crate) fn presented(headers: &HeaderMap, sticky: &Sticky) -> Option<u64> {
    let cookies = headers.get_all(COOKIE).iter().filter_map(|value| value.to_str().ok());
    let mut pairs = cookies.flat_map(|list| list.split(';')).filter_map(|pair| pair.trim().split_once('='));
    let (_, value) = pairs.find(|(name, _)| *name == sticky.cookie)?;
    u64::from_str_radix(value, 16).ok()
}

/// Gives the visitor a seat.
pub(crate) fn set_cookie(headers: &mut HeaderMap, sticky: &Sticky, affinity: u64, secure: bool) {
    let lasts = sticky.lasts.map(|lasts| format!("; Max-Age={}", lasts.millis() / 1000)).unwrap_or_default();
    let secure = if secure { "; Secure" } else { "" };
    let cookie = format!("{}={affinity:016x}; Path=/; HttpOnly; SameSite=Lax{lasts}{secure}", sticky.cookie);
    if let Ok(value) = HeaderValue::from_str(&cookie) {
        headers.append(SET_COOKIE, value);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_affinity_cookie_round_trips() {
        let sticky = Sticky { cookie: "yard-seat".into(), lasts: None };
        let affinity = affinity_of(&"staging/locker-api/a0".parse().expect("an id"));
        let mut answer = HeaderMap::new();
        set_cookie(&mut answer, &sticky, affinity, true);
        let given = answer[SET_COOKIE].to_str().expect("text").to_owned();
        let (pair, rest) = given.split_once("; ").expect("attributes");
        assert_eq!(rest, "Path=/; HttpOnly; SameSite=Lax; Secure");
        let mut request = HeaderMap::new();
        request.append(COOKIE, HeaderValue::from_str(&format!("a=1; {pair};b=2")).expect("a value"));
        assert_eq!(presented(&request, &sticky), Some(affinity));
        assert_eq!(presented(&HeaderMap::new(), &sticky), None);
    }
}
