//! Certificate chains and keys, as a member gives them.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = mainyard_certificates::certificates(text);
    let _ = mainyard_certificates::key(text);
});
