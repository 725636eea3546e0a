//! A source by its name.

use mainyard_core::model::{Source, Target};

use crate::Control;
use crate::problem::Problem;

/// The source of this name.
///
/// # Errors
/// When there is none.
pub async fn source(control: &Control, target: &Target) -> Result<Source, Problem> {
    let published = control.steward.published.read().await;
    published.0.sources.get(target).cloned().ok_or_else(|| {
        let known: Vec<String> = published.0.sources.keys().map(Target::to_string).collect();
        let hint = mainyard_core::near::did_you_mean(&target.to_string(), known.iter().map(String::as_str));
        Problem::not_found(format!("there is no source {target}{hint}"))
    })
}
