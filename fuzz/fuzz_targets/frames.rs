//! Bytes of an HTTP/2 connection: frames are counted alike, however the bytes come.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mainyard_core::http_framing::{FrameBudget, FrameCounter};

fuzz_target!(|bytes: &[u8]| {
    let whole = FrameCounter::default().look(bytes);
    let (mut counter, mut budget) = (FrameCounter::default(), FrameBudget::default());
    let (mut control, mut windows, mut empty) = (0, 0, 0);
    for piece in bytes.chunks(3) {
        let seen = counter.look(piece);
        (control, windows, empty) = (control + seen.control, windows + seen.windows, empty + seen.empty);
        budget.sent(7);
        let _ = budget.take(seen, u64::from(control));
    }
    assert_eq!((whole.control, whole.windows, whole.empty), (control, windows, empty));
});
