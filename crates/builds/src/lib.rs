//! How images are made from code: recipes, and what a build of one does next. No I/O; time is a parameter.
//!
//! [`recipe::read`] reads a `recipe.toml`. A [`Build`] carries one out: its steps are done one after the other, each on top
//! of the layers before it. What a step made is kept under a key of all that went into it
//! ([`key_of_run`]), so that another build, or the same one after a crash, goes on from there. [`image`] puts the image's
//! documents together. A commit that was pushed is a
//! [`Delivery`]: its images are built, and then it is declared.

mod build;
mod build_log;
pub mod declaration;
mod delivery;
mod ignore;
pub mod image;
mod keys;
mod live_places;
pub mod materials;
mod queue;
pub mod recipe;
pub mod skeletons;
mod step_key;
pub mod suggest;
mod views;

pub use build::{
    Build, BuildState, Commit, Fault, FaultKind, LAST_LINES, LayerMade, StepRecord, StepState, Way,
};
pub use build_log::{BuildLog, LogLine};
pub use declaration::DECLARATION;
pub use delivery::{CodeRepository, Delivery, DeliveryState, NextAct, USUAL_BRANCH};
pub use ignore::IgnoreRules;
pub use keys::RECIPE;
pub use live_places::{LivePlace, LivePlaces, live_places};
pub use queue::{next_to_begin, place_in_queue};
pub use recipe::{FILE_NAME, Recipe};
pub use step_key::key_of_run;
pub use views::{BuildEvent, BuildView};

/// The JSON Schema (draft 2020-12) of `recipe.toml`.
pub fn schema() -> serde_json::Value {
    mainyard_core::manifest::schema::schema_of(&RECIPE, FILE_NAME)
}
