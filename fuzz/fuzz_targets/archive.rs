//! Image archives: nothing is written beside the store, whatever an archive says.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mainyard_images::{ContentStore, import_archive};

fuzz_target!(|bytes: &[u8]| {
    let dir = tempfile::tempdir().expect("a folder");
    let store = ContentStore::open(&dir.path().join("store")).expect("a store");
    let _ = import_archive(&store, bytes);
    assert_eq!(std::fs::read_dir(dir.path()).expect("a folder").count(), 1, "something lies beside the store");
});
