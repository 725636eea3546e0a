//! The gateway's own answers, and why they are given.

use http::StatusCode;
use http::header::{ALLOW, HeaderName, HeaderValue, REFRESH, RETRY_AFTER, WWW_AUTHENTICATE};
use mainyard_core::model::{Bytes, Reason, ReasonCode};

/// A request that no replica gets.
#[derive(Debug)]
pub(crate) struct Refused {
    /// The answer's status.
    pub status: StatusCode,
    /// Why.
    pub reason: Reason,
    /// A header that goes with the status.
    pub header: Option<(HeaderName, HeaderValue)>,
    /// Whether the connection is closed after it, since what follows on it cannot be told.
    pub last: bool,
}

impl Refused {
    /// With this status and reason.
    pub(crate) fn new(status: StatusCode, code: ReasonCode, sentence: impl Into<String>) -> Refused {
        Refused { status, reason: Reason::new(code, sentence), header: None, last: false }
    }

    /// The request cannot be understood.
    pub(crate) fn bad(sentence: impl Into<String>) -> Refused {
        Refused::new(StatusCode::BAD_REQUEST, ReasonCode::BadRequest, sentence)
    }

    /// The body of the request has more bytes than the route allows.
    pub(crate) fn too_large(limit: u64) -> Refused {
        let sentence = format!("the request's body is larger than {}", Bytes::new(limit));
        let refused = Refused::new(StatusCode::PAYLOAD_TOO_LARGE, ReasonCode::BodyTooLarge, sentence);
        Refused { last: true, ..refused }
    }

    /// No replica is ready.
    pub(crate) fn unavailable() -> Refused {
        Refused::new(StatusCode::SERVICE_UNAVAILABLE, ReasonCode::NoneReady, "")
    }

    /// The methods that are taken.
    pub(crate) fn allow(self, methods: &str) -> Refused {
        self.with(ALLOW, methods)
    }

    /// When it may be tried again, in seconds.
    pub(crate) fn retry_after(self, seconds: u64) -> Refused {
        self.with(RETRY_AFTER, &seconds.to_string())
    }

    /// A browser asks again by itself.
    pub(crate) fn come_back(self) -> Refused {
        self.with(REFRESH, "1")
    }

    /// How a visitor shows that it may enter.
    pub(crate) fn challenge(self, scheme: &str) -> Refused {
        self.with(WWW_AUTHENTICATE, scheme)
    }

    fn with(mut self, name: HeaderName, value: &str) -> Refused {
        self.header = HeaderValue::from_str(value).ok().map(|value| (name, value));
        self
    }
}
