//! The attacker against a running platform: as someone with no credential, as a part, as a page in a member's browser,
//! and as another account of the machine.

/// How the replicas of this test program's platforms are kept apart.
pub const ISOLATION: &str = "kernel";

mod accounts;
mod api;
#[path = "../platform/common.rs"]
#[allow(dead_code, reason = "what other tests of the platform use")]
mod common;
mod credentials;
mod declarations;
