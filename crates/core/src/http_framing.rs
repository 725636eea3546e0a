//! Where one request ends and the next begins (RFC 9112): a reader that takes only what every other reader takes in the
//! same way. What it refuses, and why, is in `docs/http.md`, row by row.
//!
//! It sees the bytes before anything else does and says how many of them may go on. A head goes on when it is whole.

mod fields;
mod frames;
mod head;

pub use fields::{Fields, read_fields};
pub use frames::{FrameBudget, FrameCounter, FrameCounts};
use head::{Body, read_head};

use crate::model::ReasonCode;

/// Most bytes of a head: request line, headers and line ends.
pub const HEAD: usize = 64 * 1024;
/// Most bytes of a chunk's size line with its extensions.
const SIZE_LINE: usize = 256;
/// Most bytes of trailers.
const TRAILERS: usize = 8 * 1024;

/// Why bytes go no further.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Violation {
    /// The status of the answer.
    pub status: u16,
    /// For programs.
    pub code: ReasonCode,
    /// For people.
    pub sentence: String,
}

impl Violation {
    fn new(status: u16, sentence: impl Into<String>) -> Violation {
        Violation { status, code: ReasonCode::BadRequest, sentence: sentence.into() }
    }

    fn bad(sentence: impl Into<String>) -> Violation {
        Violation::new(400, sentence)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// Before or in a head.
    Head,
    /// So many bytes of a body are left.
    Body(u64),
    /// Before or in a chunk's size line.
    Size,
    /// So many bytes of a chunk are left.
    Chunk(u64),
    /// Before or in the line end that follows a chunk.
    ChunkEnd,
    /// After the last chunk: so many bytes of trailers were read.
    Trailers(usize),
}

/// The next action for the bytes at hand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FramerAction {
    /// More is needed.
    More,
    /// So many go on.
    Pass(usize),
    /// So many are dropped: an empty line before a request.
    Drop(usize),
}

/// Follows one connection.
///
/// ```
/// use mainyard_core::http_framing::{FramerAction, Framing};
///
/// let mut framing = Framing::default();
/// assert_eq!(framing.look(b"GET / HTTP/1.1\r\nHost: "), Ok(FramerAction::More));
/// let whole = b"GET / HTTP/1.1\r\nHost: api.example\r\n\r\n";
/// assert_eq!(framing.look(whole), Ok(FramerAction::Pass(whole.len())));
///
/// // Two lengths could be read in two ways: nothing more of this connection goes on.
/// let smuggled = b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nContent-Length: 4\r\n\r\n";
/// assert!(framing.look(smuggled).is_err());
/// ```
#[derive(Debug, Clone)]
pub struct Framing {
    state: State,
    /// Whether anything was read yet.
    begun: bool,
    /// Bytes of the unfinished head that were looked at.
    looked: usize,
    /// The start of the unfinished head's current line.
    line: usize,
}

impl Default for Framing {
    fn default() -> Framing {
        Framing { state: State::Head, begun: false, looked: 0, line: 0 }
    }
}

impl Framing {
    /// Whether the next byte belongs to a head.
    pub fn is_between(&self) -> bool {
        self.state == State::Head
    }

    /// Bytes of a body that may go on without being looked at.
    pub fn free(&self) -> u64 {
        match self.state {
            State::Body(left) | State::Chunk(left) => left,
            _ => 0,
        }
    }

    /// So many of the free bytes went on.
    pub fn went(&mut self, bytes: u64) {
        self.state = match self.state {
            State::Body(left) if left <= bytes => State::Head,
            State::Body(left) => State::Body(left - bytes),
            State::Chunk(left) if left <= bytes => State::ChunkEnd,
            State::Chunk(left) => State::Chunk(left - bytes),
            other => other,
        };
    }

    /// Looks at what is there. The same bytes come again, with more behind them, until they pass or are dropped; at most
    /// one message's come to pass at once.
    ///
    /// # Errors
    /// The connection can't be read any further.
    pub fn look(&mut self, bytes: &[u8]) -> Result<FramerAction, Violation> {
        if bytes.is_empty() {
            return Ok(FramerAction::More);
        }
        match self.state {
            State::Head => self.head(bytes),
            State::Body(left) | State::Chunk(left) => {
                let count = (bytes.len() as u64).min(left);
                self.went(count);
                Ok(FramerAction::Pass(count as usize))
            }
            State::Size => self.size(bytes),
            State::ChunkEnd => match bytes {
                [b'\r', b'\n', ..] => {
                    self.state = State::Size;
                    Ok(FramerAction::Pass(2))
                }
                [b'\r'] => Ok(FramerAction::More),
                _ => Err(Violation::bad("a chunk is longer or shorter than its size says")),
            },
            State::Trailers(read) => self.trailers(bytes, read),
        }
    }

    fn head(&mut self, bytes: &[u8]) -> Result<FramerAction, Violation> {
        if !self.begun {
            self.begun = true;
            if bytes[0] == 0x16 {
                let sentence = "TLS was spoken where plain HTTP is expected";
                return Err(Violation { code: ReasonCode::TlsWherePlain, ..Violation::bad(sentence) });
            }
        }
        // RFC 9112, section 2.2: an empty line before a request is ignored.
        if self.looked == 0 && bytes[0] == b'\r' {
            return match bytes.get(1) {
                None => Ok(FramerAction::More),
                Some(b'\n') => Ok(FramerAction::Drop(2)),
                Some(_) => Err(bare_return()),
            };
        }
        while let Some(end) = bytes[self.looked..].iter().position(|byte| *byte == b'\n') {
            let (begin, end) = (self.line, self.looked + end);
            let line = bytes[begin..end].strip_suffix(b"\r").ok_or_else(bare_feed)?;
            if line.contains(&b'\r') {
                return Err(bare_return());
            }
            (self.looked, self.line) = (end + 1, end + 1);
            if line.is_empty() {
                (self.looked, self.line) = (0, 0);
                if end + 1 > HEAD {
                    return Err(too_long(end + 1));
                }
                self.state = match read_head(&bytes[..end + 1])? {
                    Body::None => State::Head,
                    Body::Length(length) => State::Body(length),
                    Body::Chunked => State::Size,
                };
                return Ok(FramerAction::Pass(end + 1));
            }
        }
        self.looked = bytes.len();
        if bytes.len() > HEAD { Err(too_long(bytes.len())) } else { Ok(FramerAction::More) }
    }

    /// `1A;name=value` (RFC 9112, section 7.1.1).
    fn size(&mut self, bytes: &[u8]) -> Result<FramerAction, Violation> {
        let Some(end) = bytes.iter().take(SIZE_LINE).position(|byte| *byte == b'\n') else {
            let over = bytes.len() >= SIZE_LINE;
            let refused = || Violation::bad(format!("a chunk's size line is longer than {SIZE_LINE} bytes"));
            return if over { Err(refused()) } else { Ok(FramerAction::More) };
        };
        let line = bytes[..end].strip_suffix(b"\r").ok_or_else(bare_feed)?;
        let digits = line.iter().take_while(|byte| byte.is_ascii_hexdigit()).count();
        let (size, rest) = line.split_at(digits);
        let size = std::str::from_utf8(size).ok().filter(|size| (1..=16).contains(&size.len()));
        let size = size.and_then(|size| u64::from_str_radix(size, 16).ok());
        let size =
            size.ok_or_else(|| Violation::bad("a chunk's size is not one to sixteen hexadecimal digits"))?;
        if !(rest.is_empty() || rest[0] == b';') || !rest.iter().all(|byte| is_text(*byte)) {
            return Err(Violation::bad("a chunk's size is followed by text that is not an extension"));
        }
        self.state = if size == 0 { State::Trailers(0) } else { State::Chunk(size) };
        Ok(FramerAction::Pass(end + 1))
    }

    fn trailers(&mut self, bytes: &[u8], read: usize) -> Result<FramerAction, Violation> {
        let Some(end) = bytes.iter().position(|byte| *byte == b'\n') else {
            let over = read + bytes.len() > TRAILERS;
            return if over { Err(too_long(read + bytes.len())) } else { Ok(FramerAction::More) };
        };
        let line = bytes[..end].strip_suffix(b"\r").ok_or_else(bare_feed)?;
        if line.is_empty() {
            self.state = State::Head;
            return Ok(FramerAction::Pass(end + 1));
        }
        head::header(line)?;
        let read = read + end + 1;
        if read > TRAILERS {
            return Err(too_long(read));
        }
        self.state = State::Trailers(read);
        Ok(FramerAction::Pass(end + 1))
    }
}

fn bare_feed() -> Violation {
    Violation::bad("a line ends with a line feed alone; every line ends with carriage return and line feed")
}

fn bare_return() -> Violation {
    Violation::bad("a carriage return stands without its line feed")
}

fn too_long(bytes: usize) -> Violation {
    Violation::new(431, format!("the headers are {bytes} bytes long or longer; at most {HEAD} are taken"))
}

/// Checks the bytes of a header's value: no control character but the tab.
fn is_text(byte: u8) -> bool {
    byte == b'\t' || (byte >= b' ' && byte != 0x7f)
}

#[cfg(test)]
mod tests;
