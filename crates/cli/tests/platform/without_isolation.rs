//! The same tests on replicas that are ordinary processes, as a machine or an account without rights has them.
//! Those of the console alone are left out: nothing differs there but the mark, which `ordinary` looks at.

mod browser;
mod common;
mod console;
mod faults;
mod first_minutes;
mod first_runs;
mod in_git;
mod interface;
mod mishaps;
mod mixed_load;
mod ordinary;
mod releases;
mod secrets;
mod side_by_side;
mod sources;
mod stats;
mod steering;

/// What every platform of these tests is started with.
pub const ISOLATION: &str = "none";
