//! Pkt-lines: the frames of Git's protocol (gitprotocol-common), and the bands in which an answer's lines go (gitprotocol-pack).

use std::io;

use tokio::io::{AsyncRead, AsyncReadExt as _};

/// The longest payload of a line.
const LONGEST: usize = 65_516;
/// The frame that ends a list.
pub const FLUSH: &[u8] = b"0000";

/// What an answer's line is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Band {
    /// What the client asked for.
    Data = 1,
    /// Shown to the person as it comes.
    Progress = 2,
}

/// A line with its length in front.
///
/// ```
/// assert_eq!(mainyard_git::hosting::pkt_line::line(b"a\n"), b"0006a\n");
/// ```
pub fn line(payload: &[u8]) -> Vec<u8> {
    let mut framed = format!("{:04x}", payload.len() + 4).into_bytes();
    framed.extend_from_slice(payload);
    framed
}

/// Bytes in a band, in as many lines as they need.
pub fn in_band(band: Band, bytes: &[u8]) -> Vec<u8> {
    let pieces = bytes.chunks(LONGEST - 1).map(|piece| line(&[&[band as u8], piece].concat()));
    pieces.flatten().collect()
}

/// Reads a line: its payload, or `None` for the frame that ends a list.
///
/// # Errors
/// When the stream ends before the line does, or what comes is no line.
pub async fn read(from: &mut (impl AsyncRead + Unpin)) -> io::Result<Option<Vec<u8>>> {
    let invalid = |words: String| io::Error::new(io::ErrorKind::InvalidData, words);
    let mut length = [0; 4];
    from.read_exact(&mut length).await?;
    // A number may be read with a sign; a length has none.
    let digits = length.iter().all(u8::is_ascii_hexdigit);
    let length = std::str::from_utf8(&length).ok().filter(|_| digits);
    let length = length.and_then(|text| usize::from_str_radix(text, 16).ok());
    match length {
        Some(0) => Ok(None),
        Some(length @ 4..) if length - 4 <= LONGEST => {
            let mut payload = vec![0; length - 4];
            from.read_exact(&mut payload).await?;
            Ok(Some(payload))
        }
        _ => Err(invalid("a line does not begin with its length in four hexadecimal digits".to_owned())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_was_framed_is_read_again() {
        let all = [line(b"one\n"), line(b""), FLUSH.to_vec()].concat();
        let mut from = all.as_slice();
        assert_eq!(read(&mut from).await.expect("a line"), Some(b"one\n".to_vec()));
        assert_eq!(read(&mut from).await.expect("a line"), Some(Vec::new()));
        assert_eq!(read(&mut from).await.expect("the end"), None);
    }

    #[tokio::test]
    async fn what_is_no_line_is_an_error() {
        for text in ["0001", "zzzz", "ffff", "0009ab", "+005a", "00"] {
            assert!(read(&mut text.as_bytes()).await.is_err(), "{text}");
        }
    }

    #[test]
    fn long_progress_is_cut_into_lines() {
        let framed = in_band(Band::Progress, &[b'x'; 100_000]);
        assert_eq!((&framed[..5], framed.len()), (&b"fff0\x02"[..], 100_000 + 2 * 5));
    }
}
