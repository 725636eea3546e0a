//! URLs of repositories, none of them allowed: none is reached, and no name is looked up.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mainyard_git::AllowList;

fuzz_target!(|url: &str| {
    assert!(AllowList::default().check(url).is_err(), "{url:?} is reached");
});
