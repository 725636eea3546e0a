//! Paths of requests: what is compared is plain, and being made plain twice changes nothing.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mainyard_core::routing::plain_path;

fuzz_target!(|path: &str| {
    let Ok(plain) = plain_path(path) else { return };
    let compared = plain.compared.into_owned();
    assert!(!compared.split('/').any(|segment| matches!(segment, "." | "..")), "{path:?}: {compared:?}");
    if let Ok(again) = plain_path(&plain.onward) {
        assert_eq!(again.compared, compared, "{path:?}");
    }
});
