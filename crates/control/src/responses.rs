//! What handlers give, and what they read from a path.

use actix_web::web::{Json, Path};
use mainyard_core::model::Target;
use serde_json::Value;

use crate::problem::Problem;

/// A document, or why there is none.
pub type Answer = Result<Json<Value>, Problem>;

/// The target that a path names.
pub fn target(path: Path<(String, String)>) -> Result<Target, Problem> {
    let (environment, name) = path.into_inner();
    format!("{environment}/{name}")
        .parse()
        .map_err(|error: mainyard_core::model::NameError| Problem::invalid(error.to_string()))
}

/// Lines or entries that are sent where nobody says how many.
pub fn default_tail() -> u32 {
    200
}
