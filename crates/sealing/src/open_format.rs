//! Values that people encrypt themselves, in the age format (age-encryption.org/v1) with its X25519 keys: anyone who has the
//! public key can encrypt, and only the platform opens.

use std::io::Read;

use age::secrecy::ExposeSecret;
use age::x25519::{Identity, Recipient};

/// Why a value cannot be encrypted or opened.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Error {
    /// The text is no public key.
    #[error("{0:?} is not a public key, which begins with age1")]
    Key(String),
    /// The kept private key is damaged.
    #[error("the environment's private key cannot be read")]
    Identity,
    /// It was encrypted to another key.
    #[error("it is encrypted to another key than this environment's")]
    OtherKey,
    /// It is not what was encrypted.
    #[error("it is damaged: {0}")]
    Damaged(String),
    /// It is larger than a value may be.
    #[error("its value is larger than {0} bytes")]
    TooLarge(u64),
}

/// A pair of keys.
pub struct Pair(Identity);

impl Pair {
    /// A new one.
    pub fn new() -> Pair {
        Pair(Identity::generate())
    }

    /// Reads the private key.
    ///
    /// # Errors
    /// When it is none.
    pub fn read(private: &str) -> Result<Pair, Error> {
        private.trim().parse().map(Pair).map_err(|_| Error::Identity)
    }

    /// The private key, as text. It is kept sealed.
    pub fn private(&self) -> String {
        self.0.to_string().expose_secret().to_owned()
    }

    /// The public key, as text: `age1…`.
    pub fn public(&self) -> String {
        self.0.to_public().to_string()
    }

    /// Opens a value in its armored form, of at most so many bytes.
    ///
    /// # Errors
    /// When it is encrypted to another key, damaged or too large.
    pub fn open(&self, armored: &str, most: u64) -> Result<Vec<u8>, Error> {
        let damaged = |error: &dyn std::fmt::Display| Error::Damaged(error.to_string());
        let reader = age::armor::ArmoredReader::new(armored.as_bytes());
        let decryptor = age::Decryptor::new(reader).map_err(|error| damaged(&error))?;
        let identity: &dyn age::Identity = &self.0;
        let opened = decryptor.decrypt(std::iter::once(identity)).map_err(|error| match error {
            age::DecryptError::NoMatchingKeys => Error::OtherKey,
            other => damaged(&other),
        })?;
        let mut value = Vec::new();
        opened.take(most + 1).read_to_end(&mut value).map_err(|error| damaged(&error))?;
        if value.len() as u64 > most { Err(Error::TooLarge(most)) } else { Ok(value) }
    }
}

impl Default for Pair {
    fn default() -> Pair {
        Pair::new()
    }
}

/// Encrypts a value to a public key; gives its armored form.
///
/// # Errors
/// When the key is none.
pub fn encrypt(public: &str, value: &[u8]) -> Result<String, Error> {
    let recipient: Recipient = public.trim().parse().map_err(|_| Error::Key(public.trim().to_owned()))?;
    age::encrypt_and_armor(&recipient, value).map_err(|error| Error::Damaged(error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_pair_it_was_encrypted_to_opens_a_value() {
        let pair = Pair::new();
        let sealed = encrypt(&pair.public(), b"a parcel").expect("encrypted");
        assert!(sealed.starts_with("-----BEGIN AGE ENCRYPTED FILE-----\n") && !sealed.contains("parcel"));
        let again = Pair::read(&pair.private()).expect("the same pair");
        assert_eq!(again.open(&sealed, 100).as_deref(), Ok(&b"a parcel"[..]));
        assert_eq!(Pair::new().open(&sealed, 100), Err(Error::OtherKey));
        assert_eq!(again.open(&sealed, 7), Err(Error::TooLarge(7)));
        let line = sealed.lines().nth(4).expect("a line of it");
        let turned: String = line.chars().rev().collect();
        assert!(matches!(again.open(&sealed.replace(line, &turned), 100), Err(Error::Damaged(_))));
        assert!(matches!(again.open("not encrypted at all", 100), Err(Error::Damaged(_))));
        assert_eq!(encrypt("age1nobody", b"x"), Err(Error::Key("age1nobody".into())));
        assert!(Pair::read("AGE-SECRET-KEY-1").is_err());
    }
}
