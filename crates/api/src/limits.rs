//! Limits on size and time of a call.

use serde::Serialize;

/// As deep as the reader of JSON goes.
const DEPTH: u32 = 127;

/// Limits on the size of one call, and on the time to send it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Limits {
    /// The body's largest size in bytes.
    pub body: u64,
    /// The whole body is here within so many seconds, unless it is a stream.
    pub within: u64,
    /// How deep a JSON document may be.
    pub depth: u32,
    /// The longest pause between two pieces of a streamed body, in seconds.
    pub pause: Option<u64>,
}

impl Limits {
    /// No body, or a tiny JSON document.
    pub const NONE: Limits = Limits { body: 1 << 10, within: 10, depth: DEPTH, pause: None };
    /// A small JSON document.
    pub const SMALL: Limits = Limits { body: 64 << 10, within: 10, depth: DEPTH, pause: None };

    /// Up to so many bytes.
    pub const fn bytes(body: u64) -> Limits {
        Limits { body, within: 60, depth: DEPTH, pause: None }
    }

    /// A body that comes in pieces for as long as it goes on.
    pub const fn streamed(body: u64) -> Limits {
        Limits { body, within: 24 * 3600, depth: DEPTH, pause: Some(30) }
    }
}
