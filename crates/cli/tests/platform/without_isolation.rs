//! Differences where replicas are ordinary processes, as a machine or an account without rights has them: first steps,
//! releases, kills, secrets, commands that run first, and words. Everything else runs isolated, once.

#![allow(dead_code, reason = "some helpers are needed by tests that run isolated only")]

mod browser;
mod common;
mod faults;
mod first_minutes;
mod first_runs;
mod mishaps;
mod ordinary;
mod releases;
mod secrets;

/// Start options of all platforms in these tests.
pub const ISOLATION: &str = "none";
