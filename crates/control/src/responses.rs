//! Lookups that several handlers share.

use mainyard_api::Problem;
use mainyard_core::model::{Name, Target};
use mainyard_core::record::State;
use mainyard_core::suggestions::did_you_mean;

/// An environment that is there.
///
/// # Errors
/// 404, with the name that may have been meant.
pub(crate) fn known_environment(state: &State, name: &Name) -> Result<(), Problem> {
    if state.environments.contains_key(name) {
        return Ok(());
    }
    let hint = did_you_mean(name.as_str(), state.environments.keys().map(Name::as_str));
    Err(Problem::not_found(format!("there is no environment {name}{hint}")))
}

/// There is no workload of this name.
pub(crate) fn no_workload(state: &State, target: &Target, when: &str) -> Problem {
    let known: Vec<String> = state.workloads.keys().map(ToString::to_string).collect();
    let hint = did_you_mean(&target.to_string(), known.iter().map(String::as_str));
    Problem::not_found(format!("there is no workload {target}{when}{hint}"))
}
