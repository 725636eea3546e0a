//! Credentials, and the name of a session's cookie.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use sha2::{Digest, Sha256};

use mainyard_api::Problem;

/// The digest that a token is kept and found under.
pub(crate) fn hash(token: &str) -> Vec<u8> {
    Sha256::digest(token).to_vec()
}

/// A new secret: 32 random bytes in hexadecimal.
pub(crate) fn new_secret() -> Result<String, Problem> {
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).map_err(|error| Problem::unavailable(error.to_string()))?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// The session cookie's name. Cookies ignore ports, so the instance is in it; over TLS the browser itself binds it to
/// the host (RFC 6265bis, section 4.1.3.2).
pub(crate) fn cookie_name(instance: &str, tls: bool) -> String {
    format!("{}mainyard-session-{instance}", if tls { "__Host-" } else { "" })
}

/// User and password of RFC 7617, as an `Authorization: Basic` header has them.
pub(crate) fn basic(given: &str) -> Option<(String, String)> {
    let text = String::from_utf8(STANDARD.decode(given.trim()).ok()?).ok()?;
    let (user, password) = text.split_once(':')?;
    Some((user.to_owned(), password.to_owned()))
}
