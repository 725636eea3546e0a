//! Following Git: looking at repositories, and what people do with sources.
//!
//! One task looks; the core decides. What a commit declares is read from the repository as it is kept here, so that a
//! control that takes over knows it again without asking the repository's server.

mod code;
pub(crate) mod commands;
mod lookup;
mod polling;
pub(crate) mod webhooks;
pub(crate) mod write_back;

pub(crate) use code::{follow_builds, name_newest};
pub(crate) use polling::{Follower, follow_all};

use crate::operations::Operations;

/// Who does what nobody asked for.
const PLATFORM: &str = "platform";

/// The operations.
pub(crate) fn operations(to: &mut Operations) {
    to.mount(commands::list)
        .mount(commands::show)
        .mount(commands::add)
        .mount(commands::change)
        .mount(commands::remove)
        .mount(commands::look)
        .mount(code::build_at)
        .mount(commands::compare)
        .mount(commands::catch_up)
        .mount(commands::hold)
        .mount(commands::resume)
        .mount(write_back::write)
        .mount(write_back::promote)
        .mount(webhooks::pushed);
}
