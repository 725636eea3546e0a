//! What a replica writes: nothing of it reaches a terminal as a command.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mainyard_core::untrusted_text::{for_record, visible};

fuzz_target!(|text: &str| {
    for shown in [for_record(text), visible(text).into_owned()] {
        assert!(!shown.contains(|letter: char| letter.is_control() && letter != '\t'), "{shown:?}");
    }
});
