//! Ranges of bytes: those that are asked for (RFC 9110, section 14.1.2), and those of the parts of an upload.

use crate::error::{ErrorCode, RegistryError};

/// The first and the last byte.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ByteRange {
    /// The first one.
    pub first: u64,
    /// The last one.
    pub last: u64,
}

impl ByteRange {
    /// How many bytes that are.
    #[expect(clippy::len_without_is_empty, reason = "a range has at least one byte")]
    pub fn len(self) -> u64 {
        self.last - self.first + 1
    }
}

/// The range that a `Range` header asks for, of a blob of this length. `None` asks for all: there is no header, it has several
/// ranges, or it cannot be read, which all may be answered so.
///
/// # Errors
/// `RANGE_INVALID` where it begins after the end.
pub fn requested(header: Option<&str>, length: u64) -> Result<Option<ByteRange>, RegistryError> {
    let Some((first, last)) = header.and_then(|header| header.strip_prefix("bytes=")?.split_once('-')) else {
        return Ok(None);
    };
    let number = |text: &str| text.parse::<u64>().ok();
    let range = match (first, last) {
        ("", last) => number(last).map(|count| (length.saturating_sub(count), length.saturating_sub(1))),
        (first, "") => number(first).map(|first| (first, length.saturating_sub(1))),
        (first, last) => {
            number(first).zip(number(last)).map(|(first, last)| (first, last.min(length.saturating_sub(1))))
        }
    };
    match range {
        None => Ok(None),
        Some((first, last)) if first < length && first <= last => Ok(Some(ByteRange { first, last })),
        Some(_) => {
            let message = format!("the blob has {length} bytes, and none of what was asked for");
            Err(RegistryError::new(ErrorCode::RangeInvalid, message))
        }
    }
}

/// Checks the `Content-Range` of a part of an upload, `FIRST-LAST`, against what has come so far.
///
/// # Errors
/// `RANGE_INVALID` where it does not begin there, or has another length than its part.
pub fn chunk_of(header: Option<&str>, so_far: u64, length: Option<u64>) -> Result<(), RegistryError> {
    let Some(header) = header else { return Ok(()) };
    let header = header.trim_start_matches("bytes ").split('/').next().unwrap_or_default();
    let ends = header
        .split_once('-')
        .and_then(|(first, last)| Some((first.parse::<u64>().ok()?, last.parse::<u64>().ok()?)));
    let refuse = |message: String| Err(RegistryError::new(ErrorCode::RangeInvalid, message));
    match ends {
        None => refuse(format!("Content-Range is {header:?}; FIRST-LAST is expected")),
        Some((first, _)) if first != so_far => {
            refuse(format!("the part begins at {first}; {so_far} bytes have come so far"))
        }
        Some((first, last)) if last < first || length.is_some_and(|length| last - first + 1 != length) => {
            refuse(format!("the part is said to be {header}, which is not its length"))
        }
        Some(_) => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_range_is_taken_when_there_is_something_in_it() {
        let range = |header: &str| {
            requested(Some(header), 100).map(|range| range.map(|range| (range.first, range.last)))
        };
        assert_eq!(range("bytes=0-9"), Ok(Some((0, 9))));
        assert_eq!(range("bytes=90-"), Ok(Some((90, 99))));
        assert_eq!(range("bytes=-5"), Ok(Some((95, 99))));
        assert_eq!(range("bytes=50-5000"), Ok(Some((50, 99))));
        for all in ["bytes=0-1,5-6", "bytes=a-b", "lines=0-1", ""] {
            assert_eq!(range(all), Ok(None), "{all}");
        }
        for none in ["bytes=100-", "bytes=100-200", "bytes=9-0", "bytes=-0"] {
            assert!(range(none).is_err(), "{none}");
        }
        assert_eq!(requested(Some("bytes=0-"), 0).expect_err("nothing in it").code, ErrorCode::RangeInvalid);
        assert_eq!(requested(None, 100), Ok(None));
    }

    #[test]
    fn parts_of_an_upload_follow_each_other() {
        assert!(chunk_of(Some("10-19"), 10, Some(10)).is_ok());
        assert!(chunk_of(Some("bytes 10-19/*"), 10, None).is_ok());
        assert!(chunk_of(None, 10, Some(10)).is_ok());
        for (header, length) in
            [("0-9", 10), ("11-20", 10), ("10-20", 10), ("10-9", 0), ("10", 1), ("a-b", 1)]
        {
            assert!(chunk_of(Some(header), 10, Some(length)).is_err(), "{header}");
        }
    }
}
