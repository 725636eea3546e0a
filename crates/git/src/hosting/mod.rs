//! Repositories that are pushed to and cloned from here.
//!
//! Fetches are answered by `git upload-pack`. Of a push the platform reads itself what it changes, `git` takes its objects in
//! and checks them, and the platform decides: so a push can wait for a build, and its client reads along.

pub mod pkt_line;
mod push;
mod repository;

pub use push::{NONE, PushError, PushRequest, RefUpdate, advertisement, read_request, report};
pub use repository::{Incoming, NewFile, Repository, TreePath};
