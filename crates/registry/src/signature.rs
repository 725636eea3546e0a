//! Signatures of images: a JSON Web Signature (RFC 7515) with Ed25519 (RFC 8037) over the digest of a manifest, kept in the
//! registry as something that is about the manifest (a referrer of the distribution specification).
//!
//! The signature holds its public key. Whether that key counts is the caller's decision, not the signature's.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use mainyard_images::Digest;
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair, UnparsedPublicKey};
use serde::{Deserialize, Serialize};

/// The media type of a signature and of its artifact (RFC 7515, section 9.2.1: the compact form).
pub const SIGNATURE: &str = "application/jose";
/// Longest signature that is read.
pub const SIGNATURE_LIMIT: u64 = 16 << 10;
/// How a public key is written: this, and its 32 bytes in base64url.
const KEY: &str = "ed25519:";

#[derive(Serialize, Deserialize)]
struct Header {
    alg: String,
    jwk: Jwk,
}

#[derive(Serialize, Deserialize)]
struct Jwk {
    kty: String,
    crv: String,
    x: String,
}

/// What is signed.
#[derive(Serialize, Deserialize)]
struct Signed {
    digest: String,
}

/// A key that signs.
pub struct SigningKey(Ed25519KeyPair);

impl SigningKey {
    /// A new one, as PKCS #8 (RFC 5958).
    ///
    /// # Errors
    /// When the system gives no random bytes.
    pub fn generate() -> Result<Vec<u8>, String> {
        let made = Ed25519KeyPair::generate_pkcs8(&ring::rand::SystemRandom::new());
        made.map(|key| key.as_ref().to_vec()).map_err(|_| "the system gives no random bytes".to_owned())
    }

    /// Reads one from PKCS #8.
    ///
    /// # Errors
    /// When it is no Ed25519 key.
    pub fn read(pkcs8: &[u8]) -> Result<SigningKey, String> {
        let read = Ed25519KeyPair::from_pkcs8_maybe_unchecked(pkcs8);
        read.map(SigningKey).map_err(|_| "it is no Ed25519 private key".to_owned())
    }

    /// The public key.
    pub fn public(&self) -> String {
        format!("{KEY}{}", URL_SAFE_NO_PAD.encode(self.0.public_key().as_ref()))
    }

    /// The signature of a manifest, in the compact form.
    pub fn sign(&self, manifest: &Digest) -> String {
        let x = URL_SAFE_NO_PAD.encode(self.0.public_key().as_ref());
        let jwk = Jwk { kty: "OKP".to_owned(), crv: "Ed25519".to_owned(), x };
        let part = |bytes: serde_json::Result<Vec<u8>>| URL_SAFE_NO_PAD.encode(bytes.unwrap_or_default());
        let header = part(serde_json::to_vec(&Header { alg: "EdDSA".to_owned(), jwk }));
        let payload = part(serde_json::to_vec(&Signed { digest: manifest.to_string() }));
        let input = format!("{header}.{payload}");
        let signature = URL_SAFE_NO_PAD.encode(self.0.sign(input.as_bytes()).as_ref());
        format!("{input}.{signature}")
    }
}

/// Checks a signature of a manifest; gives the public key that made it.
///
/// # Errors
/// Why it is none, in words.
pub fn signer_of(signature: &str, manifest: &Digest) -> Result<String, String> {
    let none = || "it is no compact JSON Web Signature (RFC 7515)".to_owned();
    let [header, payload, mark] = signature.trim().split('.').collect::<Vec<_>>()[..] else {
        return Err(none());
    };
    let part = |text: &str| URL_SAFE_NO_PAD.decode(text).map_err(|_| none());
    let read: Header = serde_json::from_slice(&part(header)?).map_err(|_| none())?;
    if (read.alg.as_str(), read.jwk.kty.as_str(), read.jwk.crv.as_str()) != ("EdDSA", "OKP", "Ed25519") {
        return Err(format!("it is made with {}; only Ed25519 is taken (RFC 8037)", read.alg));
    }
    let key = part(&read.jwk.x)?;
    let input = format!("{header}.{payload}");
    let checked = UnparsedPublicKey::new(&ED25519, &key).verify(input.as_bytes(), &part(mark)?);
    checked.map_err(|_| "it does not fit what it signs: one of them was changed".to_owned())?;
    let signed: Signed = serde_json::from_slice(&part(payload)?).map_err(|_| none())?;
    if signed.digest != manifest.to_string() {
        return Err(format!("it is a signature of {}, not of {manifest}", signed.digest));
    }
    Ok(format!("{KEY}{}", URL_SAFE_NO_PAD.encode(key)))
}

/// The manifest that keeps a signature beside the image that it is about.
pub fn signature_manifest(subject: &Subject, signature: &[u8]) -> Vec<u8> {
    let empty = Digest::of(b"{}");
    let manifest = serde_json::json!({
        "schemaVersion": 2,
        "mediaType": "application/vnd.oci.image.manifest.v1+json",
        "artifactType": SIGNATURE,
        "config": {"mediaType": "application/vnd.oci.empty.v1+json", "digest": empty.to_string(), "size": 2},
        "layers": [{"mediaType": SIGNATURE, "digest": Digest::of(signature).to_string(), "size": signature.len()}],
        "subject": {"mediaType": subject.media_type, "digest": subject.digest.to_string(), "size": subject.size},
    });
    manifest.to_string().into_bytes()
}

/// The manifest that something is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Subject {
    /// Its digest.
    pub digest: Digest,
    /// Its media type.
    pub media_type: String,
    /// Its length in bytes.
    pub size: u64,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn key() -> SigningKey {
        SigningKey::read(&SigningKey::generate().expect("a key")).expect("it is read")
    }

    #[test]
    fn a_signature_is_of_one_manifest_by_one_key() {
        let (one, other) = (key(), key());
        let (manifest, changed) = (Digest::of(b"one"), Digest::of(b"changed"));
        let signature = one.sign(&manifest);
        assert_eq!(signer_of(&signature, &manifest), Ok(one.public()));
        assert_ne!(one.public(), other.public());
        assert!(
            signer_of(&signature, &changed).expect_err("another").starts_with("it is a signature of sha256:")
        );
        // The other's key in the header, or another payload: the mark does not fit.
        let parts: Vec<&str> = signature.split('.').collect();
        let others = other.sign(&manifest);
        let others: Vec<&str> = others.split('.').collect();
        let swapped = format!("{}.{}.{}", others[0], parts[1], parts[2]);
        assert!(signer_of(&swapped, &manifest).expect_err("swapped").starts_with("it does not fit"));
        let payload = URL_SAFE_NO_PAD.encode(format!("{{\"digest\":\"{changed}\"}}"));
        let forged = format!("{}.{payload}.{}", parts[0], parts[2]);
        assert!(signer_of(&forged, &changed).expect_err("forged").starts_with("it does not fit"));
        let unsigned =
            URL_SAFE_NO_PAD.encode(br#"{"alg":"none","jwk":{"kty":"OKP","crv":"Ed25519","x":""}}"#);
        assert!(
            signer_of(&format!("{unsigned}.{}.", parts[1]), &manifest)
                .expect_err("none")
                .contains("only Ed25519")
        );
    }

    #[test]
    fn the_example_of_the_standard_is_taken() {
        // RFC 8037, appendix A: the key of its example, whose public part is known.
        let d = URL_SAFE_NO_PAD.decode("nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A").expect("bytes");
        let mut pkcs8 = vec![
            0x30, 0x2e, 0x02, 0x01, 0x00, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x04, 0x22, 0x04, 0x20,
        ];
        pkcs8.extend(d);
        let key = SigningKey::read(&pkcs8).expect("the older form, without the public key");
        assert_eq!(key.public(), "ed25519:11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo");
    }

    proptest! {
        #[test]
        fn anything_is_a_signature_or_refused(text in any::<String>(), digest in any::<[u8; 4]>()) {
            prop_assert!(signer_of(&text, &Digest::of(&digest)).is_err());
        }
    }
}
