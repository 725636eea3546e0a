//! Frames of HTTP/2 (RFC 9113, section 4.1) as they go by, counted by what they cost.

/// The connection preface (section 3.4).
const PREFACE: usize = 24;
const HEAD: usize = 9;

/// Control frames that were seen.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct FrameCounts {
    /// PING, SETTINGS, PRIORITY and frames of unknown types.
    pub control: u32,
    /// WINDOW_UPDATE.
    pub windows: u32,
    /// DATA without anything in it, which does not end its stream; CONTINUATION.
    pub empty: u32,
    /// HEADERS: requests, and the ends of some.
    pub requests: u32,
}

/// Finds frames in the bytes of a connection.
#[derive(Debug, Clone, Default)]
pub struct FrameCounter {
    skipped: usize,
    head: [u8; HEAD],
    have: usize,
    rest: u32,
}

impl FrameCounter {
    /// The control frames that begin in these bytes.
    pub fn look(&mut self, mut bytes: &[u8]) -> FrameCounts {
        let mut seen = FrameCounts::default();
        let preface = (PREFACE - self.skipped).min(bytes.len());
        self.skipped += preface;
        bytes = &bytes[preface..];
        while !bytes.is_empty() {
            if self.rest > 0 {
                let passed = (self.rest as usize).min(bytes.len());
                self.rest -= passed as u32;
                bytes = &bytes[passed..];
                continue;
            }
            let taken = (HEAD - self.have).min(bytes.len());
            self.head[self.have..self.have + taken].copy_from_slice(&bytes[..taken]);
            self.have += taken;
            bytes = &bytes[taken..];
            if self.have < HEAD {
                break;
            }
            self.have = 0;
            let [a, b, c, kind, flags, ..] = self.head;
            self.rest = u32::from_be_bytes([0, a, b, c]);
            match kind {
                0 if self.rest == 0 && flags & 1 == 0 => seen.empty += 1,
                9 => seen.empty += 1,
                1 => seen.requests += 1,
                0 | 3 | 7 => {}
                8 => seen.windows += 1,
                _ => seen.control += 1,
            }
        }
        seen
    }
}

/// Frames that a connection may still bring, filled up with time and with what is sent to it.
#[derive(Debug, Clone)]
pub struct FrameBudget {
    control: u64,
    windows: u64,
    filled: u64,
    sent: u64,
}

/// Control frames at once, and each second.
const CONTROL: (u64, u64) = (300, 20);
/// Window updates at once, and each second, beside one for each so many bytes that were sent.
const WINDOWS: (u64, u64) = (1_000, 100);
const BYTES_EACH: u64 = 512;
/// Frames of each kind that come with a request, which costs more than they do: clients measure the connection with a PING,
/// and make room for each short answer. So many may be saved up.
const EACH_REQUEST: u64 = 4;
const SAVED: u64 = 4_000;

impl Default for FrameBudget {
    fn default() -> FrameBudget {
        FrameBudget { control: CONTROL.0, windows: WINDOWS.0, filled: 0, sent: 0 }
    }
}

impl FrameBudget {
    /// So many bytes were sent to the visitor, who may make room for more.
    pub fn sent(&mut self, bytes: u64) {
        self.sent += bytes;
        self.windows = self.windows.saturating_add(self.sent / BYTES_EACH);
        self.sent %= BYTES_EACH;
    }

    /// Takes what was seen at `now`, in milliseconds. False where it is more than the connection may bring.
    pub fn take(&mut self, seen: FrameCounts, now: u64) -> bool {
        let seconds = now.saturating_sub(self.filled) / 1000;
        if seconds > 0 {
            self.filled += seconds * 1000;
            self.control = self.control.max((self.control + seconds * CONTROL.1).min(CONTROL.0));
            self.windows = self.windows.max((self.windows + seconds * WINDOWS.1).min(WINDOWS.0));
        }
        let earned = u64::from(seen.requests) * EACH_REQUEST;
        self.control = self.control.max((self.control + earned).min(SAVED));
        self.windows = self.windows.max((self.windows + earned).min(SAVED));
        let control = u64::from(seen.control) + u64::from(seen.empty);
        match (self.control.checked_sub(control), self.windows.checked_sub(u64::from(seen.windows))) {
            (Some(control), Some(windows)) => {
                (self.control, self.windows) = (control, windows);
                true
            }
            _ => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn frame(kind: u8, flags: u8, length: usize) -> Vec<u8> {
        let mut bytes = (length as u32).to_be_bytes()[1..].to_vec();
        bytes.extend([kind, flags, 0, 0, 0, 1]);
        bytes.extend(vec![6; length]);
        bytes
    }

    proptest! {
        #[test]
        fn frames_are_counted_in_any_chunking(
            frames in proptest::collection::vec((0u8..12, 0usize..40), 0..40),
            pieces in proptest::collection::vec(1usize..20, 1..200),
        ) {
            let mut bytes = vec![b'P'; PREFACE];
            let mut expected = FrameCounts::default();
            for (kind, length) in frames {
                bytes.extend(frame(kind, 0, length));
                match kind {
                    0 if length == 0 => expected.empty += 1,
                    9 => expected.empty += 1,
                    1 => expected.requests += 1,
                    0 | 3 | 7 => {}
                    8 => expected.windows += 1,
                    _ => expected.control += 1,
                }
            }
            let mut counter = FrameCounter::default();
            let mut found = FrameCounts::default();
            let mut rest = bytes.as_slice();
            for piece in pieces.into_iter().cycle() {
                if rest.is_empty() {
                    break;
                }
                let (now, later) = rest.split_at(piece.min(rest.len()));
                rest = later;
                let seen = counter.look(now);
                found.control += seen.control;
                found.windows += seen.windows;
                found.empty += seen.empty;
                found.requests += seen.requests;
            }
            prop_assert_eq!(found, expected);
        }
    }

    #[test]
    fn a_flood_ends_and_a_long_download_does_not() {
        let mut budget = FrameBudget::default();
        let ping = FrameCounts { control: 1, ..FrameCounts::default() };
        let taken = (0..10_000).take_while(|_| budget.take(ping, 0)).count();
        assert_eq!(taken, CONTROL.0 as usize);
        assert!(budget.take(ping, 60_000), "it is filled up with time");
        let mut budget = FrameBudget::default();
        let call = FrameCounts { requests: 1, control: 2, windows: 3, empty: 0 };
        assert!((0..100_000).all(|_| budget.take(call, 0)), "short calls with all that comes with them");
        let taken = (0..10_000).take_while(|_| budget.take(ping, 0)).count() as u64;
        assert!(taken <= SAVED, "{taken} were saved up");
        let mut budget = FrameBudget::default();
        let window = FrameCounts { windows: 1, ..FrameCounts::default() };
        for _ in 0..100_000 {
            budget.sent(16 << 10);
            assert!(budget.take(window, 0), "each update answers what was sent");
        }
        let mut budget = FrameBudget::default();
        assert_eq!((0..10_000).take_while(|_| budget.take(window, 0)).count(), WINDOWS.0 as usize);
    }
}
