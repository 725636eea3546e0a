//! Bytes that a visitor sends: whatever the pieces they come in, the same is let through, and nothing panics.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mainyard_core::http_framing::{Framing, FramerAction};

/// What comes through of bytes that arrive in pieces of this size, and whether it ended in a violation.
fn passed(bytes: &[u8], piece: usize) -> (Vec<u8>, bool) {
    let (mut framing, mut inbox, mut out) = (Framing::default(), Vec::new(), Vec::new());
    for part in bytes.chunks(piece.max(1)) {
        inbox.extend_from_slice(part);
        loop {
            match framing.look(&inbox) {
                Ok(FramerAction::Pass(count)) => out.extend(inbox.drain(..count)),
                Ok(FramerAction::Drop(count)) => drop(inbox.drain(..count)),
                Ok(FramerAction::More) => {
                    let free = usize::try_from(framing.free()).unwrap_or(usize::MAX).min(inbox.len());
                    if free == 0 {
                        break;
                    }
                    out.extend(inbox.drain(..free));
                    framing.went(free as u64);
                }
                Err(_) => return (out, true),
            }
        }
    }
    (out, false)
}

fuzz_target!(|bytes: &[u8]| {
    let (whole, refused) = passed(bytes, bytes.len());
    let (pieces, refused_in_pieces) = passed(bytes, 1 + bytes.len() % 7);
    assert_eq!(refused, refused_in_pieces);
    assert!(whole.starts_with(&pieces) || pieces.starts_with(&whole));
});
