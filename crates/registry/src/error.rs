//! Errors in the form of the distribution specification: a list with a code, a message and a detail.

use std::fmt;

use serde_json::json;

macro_rules! codes {
    ($($(#[$about:meta])* $name:ident = $word:literal, $status:literal;)*) => {
        /// A code of the specification ("Error Codes").
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
        pub enum ErrorCode {
            $($(#[$about])* $name,)*
        }

        impl ErrorCode {
            /// All codes.
            pub const ALL: &[ErrorCode] = &[$(ErrorCode::$name),*];

            /// The word that clients know it by.
            pub fn word(self) -> &'static str {
                match self { $(ErrorCode::$name => $word),* }
            }

            /// The status that it is answered with.
            pub fn status(self) -> u16 {
                match self { $(ErrorCode::$name => $status),* }
            }
        }
    };
}

codes! {
    /// The repository has no such blob.
    BlobUnknown = "BLOB_UNKNOWN", 404;
    /// An upload cannot go on like this.
    BlobUploadInvalid = "BLOB_UPLOAD_INVALID", 400;
    /// There is no such upload, or it has ended.
    BlobUploadUnknown = "BLOB_UPLOAD_UNKNOWN", 404;
    /// A digest is none, or is not that of what came.
    DigestInvalid = "DIGEST_INVALID", 400;
    /// A manifest names a blob that the repository does not have.
    ManifestBlobUnknown = "MANIFEST_BLOB_UNKNOWN", 404;
    /// A manifest is none of the image specification.
    ManifestInvalid = "MANIFEST_INVALID", 400;
    /// The repository has no such manifest.
    ManifestUnknown = "MANIFEST_UNKNOWN", 404;
    /// No repository can be called so.
    NameInvalid = "NAME_INVALID", 400;
    /// There is no such repository.
    NameUnknown = "NAME_UNKNOWN", 404;
    /// A length is not that of what came, or past its limit.
    SizeInvalid = "SIZE_INVALID", 413;
    /// A part of an upload does not begin where the one before ended.
    RangeInvalid = "RANGE_INVALID", 416;
    /// A credential is needed.
    Unauthorized = "UNAUTHORIZED", 401;
    /// The credential does not allow it.
    Denied = "DENIED", 403;
    /// The registry does not do this.
    Unsupported = "UNSUPPORTED", 405;
    /// Something that this depends on stands in the way.
    Conflict = "CONFLICT", 409;
    /// Too many requests.
    TooManyRequests = "TOOMANYREQUESTS", 429;
    /// The disk has no room.
    NoSpace = "NO_SPACE", 507;
    /// It can be tried again in a moment.
    Unavailable = "UNAVAILABLE", 503;
}

/// Why a request is refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RegistryError {
    /// The code.
    pub code: ErrorCode,
    /// What is wrong, what was expected, and what to do.
    pub message: String,
}

impl RegistryError {
    /// With this code and message.
    pub fn new(code: ErrorCode, message: impl Into<String>) -> RegistryError {
        RegistryError { code, message: message.into() }
    }

    /// The body of the answer.
    pub fn body(&self) -> serde_json::Value {
        json!({ "errors": [{ "code": self.code.word(), "message": self.message, "detail": null }] })
    }
}

impl fmt::Display for RegistryError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.code.word(), self.message)
    }
}

impl std::error::Error for RegistryError {}
