//! Following Git: looking at repositories, and what people do with sources.
//!
//! One task looks; the core decides. What a commit declares is read from the repository as it is kept here, so that a
//! control that takes over knows it again without asking the repository's server.

pub mod acts;
pub mod back;
mod found;
mod looking;
pub mod pushes;

pub use looking::{Follower, follow_all};

use actix_web::http::Method;

use crate::operations::{Limits, Operations};

const ONE: &str = "/environments/{environment}/sources/{name}";

/// The operations.
pub fn operations(to: &mut Operations) {
    let act = |act: &str| format!("{ONE}/{act}");
    to.get("/sources", acts::list)
        .get(ONE, acts::show)
        .add(Method::PUT, ONE, Limits::SMALL, acts::add)
        .add(Method::PATCH, ONE, Limits::SMALL, acts::change)
        .delete(ONE, acts::remove)
        .post(&act("look"), acts::look)
        .get(&act("compare"), acts::compare)
        .post(&act("catch-up"), acts::catch_up)
        .post(&act("hold"), acts::hold)
        .post(&act("write-back"), back::write)
        .post(&act("resume"), acts::resume)
        .post("/environments/{environment}/workloads/{name}/promote-in-git", back::promote)
        .add(Method::POST, "/pushes/{environment}/{name}", Limits::bytes(1 << 20), pushes::pushed);
}
