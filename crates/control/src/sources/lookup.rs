//! A source by its name.

use mainyard_api::Problem;
use mainyard_core::model::{Commit, Source, Target};
use mainyard_core::record::State;

use crate::Control;
use crate::problem::elsewhere;

/// The source of this name.
///
/// # Errors
/// When there is none.
pub(super) fn source_of<'a>(state: &'a State, target: &Target) -> Result<&'a Source, Problem> {
    state.sources.get(target).ok_or_else(|| {
        let known: Vec<String> = state.sources.keys().map(Target::to_string).collect();
        let hint =
            mainyard_core::suggestions::did_you_mean(&target.to_string(), known.iter().map(String::as_str));
        Problem::not_found(format!("there is no source {target}{hint}"))
    })
}

/// The same of now.
///
/// # Errors
/// When there is none.
pub(super) async fn source(control: &Control, target: &Target) -> Result<Source, Problem> {
    source_of(&control.leader.published.read().await.0, target).cloned()
}

/// The same on the control that decides: there the repository is kept.
///
/// # Errors
/// When there is none, or another control decides.
pub(super) async fn source_here(control: &Control, target: &Target) -> Result<Source, Problem> {
    match control.leader.elsewhere() {
        Some(holder) => Err(elsewhere(holder)),
        None => source(control, target).await,
    }
}

/// The commit that a source read last.
///
/// # Errors
/// When none was read yet.
pub(crate) fn newest(source: &Source) -> Result<Commit, Problem> {
    let unread = || Problem::conflict(format!("no commit of {} was read yet", source.target));
    source.seen.clone().ok_or_else(unread)
}
