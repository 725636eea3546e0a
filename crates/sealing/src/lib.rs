//! Sealing of values that must not be readable where they are kept.
//!
//! Envelope encryption: each value is sealed under a data key of its own, and the data key under the platform's. Another
//! platform key means sealing the data keys again; the values stay as they are. Both seals are AES-256-GCM (NIST SP
//! 800-38D) with a nonce of chance; each key seals one value, and the platform's key far fewer than 2^32. What a value
//! is for ("place") is bound to it, so that a sealed value moved elsewhere does not open.
//!
//! As bytes: `MYSEAL01`, the platform key's id (8), nonce (12), sealed data key (48), nonce (12), sealed value.

pub mod file;
pub mod open_format;

use std::fmt;

use ring::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::digest::{SHA256, digest};

const MARK: &[u8; 8] = b"MYSEAL01";
const KEY_LENGTH: usize = 32;
const ID_LENGTH: usize = 8;
const TAG_LENGTH: usize = 16;
const HEAD: usize = MARK.len() + ID_LENGTH;
const WRAPPED: usize = NONCE_LEN + KEY_LENGTH + TAG_LENGTH;

/// Why a value cannot be sealed or opened, or a key not be used. No message holds any part of a value or a key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Error {
    /// The text is not a list of keys.
    #[error("a key is 64 hexadecimal digits, such as those of `openssl rand -hex 32`; the {0}. one is not")]
    Key(usize),
    /// There is no key at all.
    #[error("there is no key")]
    NoKey,
    /// It was sealed under another key.
    #[error("it is sealed under the key {0}, which is not among this platform's ({1})")]
    OtherKey(String, String),
    /// It is not what was sealed, or not where it was sealed for.
    #[error("it is damaged, or was moved from where it belongs")]
    Damaged,
    /// The system gives no chance numbers.
    #[error("the system gives no random numbers")]
    NoChance,
}

/// A platform key, told from others by an id that gives nothing of it away.
struct Key {
    id: [u8; ID_LENGTH],
    text: String,
    key: LessSafeKey,
}

/// Keys, the newest first: it seals, all open.
pub struct KeyRing(Vec<Key>);

impl fmt::Debug for KeyRing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "keys {}", self.ids())
    }
}

/// A new key as text.
///
/// # Errors
/// When the system gives no chance numbers.
pub fn new_key() -> Result<String, Error> {
    Ok(hex(&chance::<KEY_LENGTH>()?))
}

impl KeyRing {
    /// Reads keys of 64 hexadecimal digits each, separated by commas or white space, the newest first.
    ///
    /// # Errors
    /// When one of them is not a key, or there is none.
    pub fn parse(text: &str) -> Result<KeyRing, Error> {
        let words = text.split(|c: char| c == ',' || c.is_whitespace()).filter(|word| !word.is_empty());
        let keys = words.enumerate().map(|(place, word)| Key::parse(word).ok_or(Error::Key(place + 1)));
        let keys = keys.collect::<Result<Vec<_>, _>>()?;
        if keys.is_empty() { Err(Error::NoKey) } else { Ok(KeyRing(keys)) }
    }

    /// The keys as text, the newest first, one a line; what [`KeyRing::parse`] reads.
    pub fn to_text(&self) -> String {
        self.0.iter().map(|key| format!("{}\n", key.text)).collect()
    }

    /// These keys behind a new one that seals from now on.
    ///
    /// # Errors
    /// When the system gives no chance numbers.
    pub fn with_new_key(&self) -> Result<KeyRing, Error> {
        KeyRing::parse(&format!("{}\n{}", new_key()?, self.to_text()))
    }

    /// The newest key alone.
    pub fn newest_only(&self) -> Result<KeyRing, Error> {
        KeyRing::parse(&self.0[0].text)
    }

    /// The id of the key that seals.
    pub fn sealing_id(&self) -> String {
        hex(&self.0[0].id)
    }

    /// How many keys there are.
    pub fn count(&self) -> usize {
        self.0.len()
    }

    fn ids(&self) -> String {
        self.0.iter().map(|key| hex(&key.id)).collect::<Vec<_>>().join(", ")
    }

    /// Seals a value for a place.
    ///
    /// # Errors
    /// When the system gives no chance numbers.
    pub fn seal(&self, place: &str, value: &[u8]) -> Result<Vec<u8>, Error> {
        let data_key = chance::<KEY_LENGTH>()?;
        let mut sealed = self.wrap(place, &data_key)?;
        sealed.extend(lock(&key_of(&data_key)?, place, value)?);
        Ok(sealed)
    }

    /// Opens what was sealed for this place.
    ///
    /// # Errors
    /// When it was sealed under a key that is not here, was changed, or was sealed for another place.
    pub fn open(&self, place: &str, sealed: &[u8]) -> Result<Vec<u8>, Error> {
        let data_key = self.unwrap(place, sealed)?;
        unlock(&key_of(&data_key)?, place, &sealed[HEAD + WRAPPED..])
    }

    /// The same value with its data key sealed under the newest key; `None` where it is already.
    ///
    /// # Errors
    /// As [`KeyRing::open`].
    pub fn renew(&self, place: &str, sealed: &[u8]) -> Result<Option<Vec<u8>>, Error> {
        let data_key = self.unwrap(place, sealed)?;
        if sealed[MARK.len()..HEAD] == self.0[0].id {
            return Ok(None);
        }
        let mut renewed = self.wrap(place, &data_key)?;
        renewed.extend_from_slice(&sealed[HEAD + WRAPPED..]);
        Ok(Some(renewed))
    }

    fn wrap(&self, place: &str, data_key: &[u8]) -> Result<Vec<u8>, Error> {
        let newest = &self.0[0];
        let mut head = MARK.to_vec();
        head.extend_from_slice(&newest.id);
        head.extend(lock(&newest.key, place, data_key)?);
        Ok(head)
    }

    fn unwrap(&self, place: &str, sealed: &[u8]) -> Result<Vec<u8>, Error> {
        let rest = sealed
            .strip_prefix(MARK)
            .filter(|rest| rest.len() >= ID_LENGTH + WRAPPED)
            .ok_or(Error::Damaged)?;
        let (id, rest) = rest.split_at(ID_LENGTH);
        let key =
            self.0.iter().find(|key| key.id == id).ok_or_else(|| Error::OtherKey(hex(id), self.ids()))?;
        unlock(&key.key, place, &rest[..WRAPPED])
    }
}

impl Key {
    fn parse(text: &str) -> Option<Key> {
        let digit = |byte: u8| char::from(byte).to_digit(16).map(|digit| digit as u8);
        let bytes = text.as_bytes();
        if bytes.len() != 2 * KEY_LENGTH {
            return None;
        }
        let key = bytes.chunks(2).map(|pair| Some(digit(pair[0])? << 4 | digit(pair[1])?));
        let key = key.collect::<Option<Vec<u8>>>()?;
        let named = digest(&SHA256, &[b"id of ".as_slice(), &key].concat());
        let id = named.as_ref()[..ID_LENGTH].try_into().ok()?;
        Some(Key { id, text: text.to_ascii_lowercase(), key: key_of(&key).ok()? })
    }
}

fn key_of(bytes: &[u8]) -> Result<LessSafeKey, Error> {
    UnboundKey::new(&AES_256_GCM, bytes).map(LessSafeKey::new).map_err(|_| Error::Damaged)
}

fn lock(key: &LessSafeKey, place: &str, plain: &[u8]) -> Result<Vec<u8>, Error> {
    let nonce = chance::<NONCE_LEN>()?;
    let mut body = plain.to_vec();
    key.seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), Aad::from(place), &mut body)
        .map_err(|_| Error::Damaged)?;
    Ok([nonce.as_slice(), &body].concat())
}

fn unlock(key: &LessSafeKey, place: &str, locked: &[u8]) -> Result<Vec<u8>, Error> {
    let (nonce, body) = locked.split_first_chunk::<NONCE_LEN>().ok_or(Error::Damaged)?;
    let mut body = body.to_vec();
    let plain = key.open_in_place(Nonce::assume_unique_for_key(*nonce), Aad::from(place), &mut body);
    plain.map(|plain| plain.to_vec()).map_err(|_| Error::Damaged)
}

fn chance<const N: usize>() -> Result<[u8; N], Error> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|_| Error::NoChance)?;
    Ok(bytes)
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ring() -> KeyRing {
        KeyRing::parse(&new_key().expect("a key")).expect("a ring")
    }

    #[test]
    fn a_sealed_value_opens_only_for_its_own_name() {
        let ring = ring();
        let value = b"open sesame".repeat(3);
        let sealed = ring.seal("staging/db-password", &value).expect("sealed");
        assert_eq!(ring.open("staging/db-password", &sealed), Ok(value.clone()));
        assert_eq!(ring.open("production/db-password", &sealed), Err(Error::Damaged));
        assert!(!sealed.windows(5).any(|window| window == b"open "));
        assert_ne!(ring.seal("staging/db-password", &value).expect("sealed"), sealed, "no two are alike");
        assert_eq!(ring.open("p", &ring.seal("p", b"").expect("sealed")), Ok(Vec::new()));
    }

    #[test]
    fn any_changed_or_missing_byte_is_detected() {
        let ring = ring();
        let sealed = ring.seal("p", b"value").expect("sealed");
        for place in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[place] ^= 1;
            assert!(ring.open("p", &changed).is_err(), "byte {place}");
            assert!(ring.open("p", &sealed[..place]).is_err(), "cut at {place}");
        }
    }

    #[test]
    fn a_new_key_takes_over_while_the_old_one_still_opens() {
        let old = ring();
        let sealed = old.seal("p", b"value").expect("sealed");
        let both = old.with_new_key().expect("two keys");
        assert_eq!(both.open("p", &sealed), Ok(b"value".to_vec()));
        let renewed = both.renew("p", &sealed).expect("renewed").expect("it was under the old one");
        assert_eq!(both.renew("p", &renewed), Ok(None));
        assert_eq!(
            renewed[HEAD + WRAPPED..],
            sealed[HEAD + WRAPPED..],
            "the value itself is not sealed again"
        );
        let new = both.newest_only().expect("one key");
        assert_eq!(new.open("p", &renewed), Ok(b"value".to_vec()));
        let refused = new.open("p", &sealed).expect_err("under the old key").to_string();
        assert!(refused.contains(&old.sealing_id()) && refused.contains(&new.sealing_id()), "{refused}");
        assert!(!refused.contains(old.to_text().trim()));
    }

    #[test]
    fn keys_are_read_strictly_and_never_shown() {
        let text = new_key().expect("a key");
        let ring = KeyRing::parse(&format!(" {text},\n{} ", new_key().expect("a key"))).expect("two");
        assert_eq!(ring.count(), 2);
        assert!(!format!("{ring:?}").contains(&text));
        assert_eq!(KeyRing::parse(&format!("{text} {}", &text[1..])).map(|_| ()), Err(Error::Key(2)));
        assert_eq!(KeyRing::parse(" \n").map(|_| ()), Err(Error::NoKey));
    }
}
