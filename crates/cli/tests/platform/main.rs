//! The whole platform, as a person meets it: started by its command, on a real PostgreSQL, with isolated
//! replicas behind a real gateway; called through the client, over HTTP, and by the console in Chromium.
//!
//! Needs root, PostgreSQL and Chromium with its driver; `make test` installs what is missing.

mod authorities;
mod browser;
mod builds;
mod code_sources;
mod common;
mod console;
mod console_daily;
mod console_fits;
mod contract;
mod debian_packages;
mod exit_codes;
mod faults;
mod first_minutes;
mod first_runs;
mod forecasts;
mod growth;
mod image_store;
mod in_git;
mod interface;
mod live_changes;
mod log_levels;
mod mishaps;
mod mixed_load;
mod odd_changes;
mod outages;
mod outages_told;
mod outside_images;
mod over_ssh;
mod overload;
mod past;
mod programs;
mod pushes;
mod registry;
mod releases;
mod secrets;
mod side_by_side;
mod signed_images;
mod soak;
mod sources;
mod stats;
mod steering;
mod way_out;
mod ways;
mod why;

/// Start options of all platforms in these tests.
pub const ISOLATION: &str = "kernel";
