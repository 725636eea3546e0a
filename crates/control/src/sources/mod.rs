//! Following Git: looking at repositories, and what people do with sources.
//!
//! One task looks; the core decides. What a commit declares is read from the repository as it is kept here, so that a
//! control that takes over knows it again without asking the repository's server.

pub mod acts;
pub mod back;
mod looking;
pub mod pushes;

pub use acts::routes;
pub use looking::{Follower, follow_all};
