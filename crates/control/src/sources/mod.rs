//! Following Git: looking at repositories, and what people do with sources.
//!
//! One task looks; the core decides. What a commit declares is read from the repository as it is kept here, so that a
//! control that takes over knows it again without asking the repository's server.

pub mod commands;
mod lookup;
mod polling;
pub mod webhooks;
pub mod write_back;

pub use polling::{Follower, follow_all};

use actix_web::http::Method;

use crate::operations::{Limits, Operations};

const ONE: &str = "/environments/{environment}/sources/{name}";

/// The operations.
pub fn operations(to: &mut Operations) {
    let act = |act: &str| format!("{ONE}/{act}");
    to.get("/sources", commands::list)
        .get(ONE, commands::show)
        .add(Method::PUT, ONE, Limits::SMALL, commands::add)
        .add(Method::PATCH, ONE, Limits::SMALL, commands::change)
        .delete(ONE, commands::remove)
        .post(&act("look"), commands::look)
        .get(&act("compare"), commands::compare)
        .post(&act("catch-up"), commands::catch_up)
        .post(&act("hold"), commands::hold)
        .post(&act("write-back"), write_back::write)
        .post(&act("resume"), commands::resume)
        .post("/environments/{environment}/workloads/{name}/promote-in-git", write_back::promote)
        .add(Method::POST, "/pushes/{environment}/{name}", Limits::bytes(1 << 20), webhooks::pushed);
}
