//! Repositories of code that members push to: a push is taken in, its images are built, and its commit is declared.
//!
//! The record says where each branch is, and which commit is on its way; the repository on this machine follows it. So
//! a control that takes over, or one that ended between two writes, has what was told to the member who pushed, and no more.

mod access;
mod deliveries;
mod follow;
mod from_nothing;
mod http;
mod keys;
mod operations;
mod plan;
mod push;
mod repositories;
mod ssh_session;
mod view;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use mainyard_core::model::Target;
use mainyard_git::Fence;
use tokio::sync::{Notify, watch};

pub(crate) use deliveries::deliver_all;
pub(crate) use http::configure;
pub(crate) use keys::keep_keys;
pub(crate) use operations::operations;
pub(crate) use ssh_session::serve_sessions;
pub use ssh_session::{SshDoor, SshSession};

/// Largest push, in MiB, and largest repository.
const LARGEST: u64 = 2048;
/// How long one call of `git` may take.
const WITHIN: std::time::Duration = std::time::Duration::from_secs(300);

/// Repositories of code on this machine.
pub(crate) struct CodeHost {
    fence: Fence,
    /// Of one repository there is one change at a time.
    turns: Mutex<BTreeMap<Target, Arc<tokio::sync::Mutex<()>>>>,
    /// Counts up with every change, for those who follow.
    changes: watch::Sender<u64>,
    /// A commit may have come further.
    wake: Notify,
}

impl CodeHost {
    /// With these surroundings.
    pub(crate) fn new(mut fence: Fence) -> CodeHost {
        fence.size = LARGEST;
        fence.time = WITHIN;
        CodeHost { fence, turns: Mutex::default(), changes: watch::Sender::default(), wake: Notify::new() }
    }

    fn turn(&self, target: &Target) -> Arc<tokio::sync::Mutex<()>> {
        let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(turns.entry(target.clone()).or_default())
    }

    /// Those who follow look again.
    fn tell_change(&self) {
        self.changes.send_modify(|count| *count = count.wrapping_add(1));
        self.wake.notify_one();
    }
}

/// How code is reached over ssh.
#[derive(Debug, Clone)]
pub struct SshHost {
    /// Where, as `ssh://USER@HOST:PORT`.
    pub address: String,
    /// The fingerprint of the host key.
    pub host_key: String,
    /// The file that the keys of members are written to.
    pub keys: std::path::PathBuf,
    /// Where sessions call.
    pub door: SshDoor,
}

/// The path that a repository is cloned from and pushed to.
fn path_of(target: &Target) -> String {
    format!("/code/{}/{}", target.environment, target.name)
}
