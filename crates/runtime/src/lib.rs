//! How replicas run on Linux: what one is started with, and what the machine has to give for it.
//!
//! A node has one [`Driver`]: [`Isolation`] where the machine gives the rights, [`Plain`] where it does not.
//! [`Isolation`] belongs to one node. It owns the node's network namespace, its control groups and the id maps
//! of the environments, and turns a [`Run`] into a command that starts a keeper. It starts nothing itself and
//! has no threads: the node agent does the waiting.

mod adopted_keepers;
mod disk_scratch;
mod driver;
mod groups;
mod isolation;
mod keepers;
mod listening_sockets;
mod network;
mod ordinary_processes;
mod socket_steering;
mod users;

pub use adopted_keepers::{
    AdoptedKeeper, find_settled_survivor, find_survivor, last_ending, never_began, process_started_at,
};
pub use disk_scratch::DiskScratch;
pub use driver::{Driver, IsolationMode};
pub use groups::{Groups, Reading};
pub use isolation::{Isolation, Run, first_id};
pub use listening_sockets::{Listening, listening, listening_below};
pub use mainyard_keeper::{Ending, Progress};
pub use network::{LAST_LINK, NodeNetwork, cover, enter, uncover};
pub use ordinary_processes::{HOSTS_VARIABLE, Plain};
pub use socket_steering::SocketSteering;

/// An operation that the machine refused.
#[derive(Debug, thiserror::Error)]
#[error("cannot {doing}: {source}")]
pub struct Error {
    /// The operation, as in "make a control group".
    pub doing: String,
    /// The kernel's error.
    pub source: std::io::Error,
}

/// Bytes that an ordinary account may still write to the file system of a directory.
pub fn room_at(dir: &std::path::Path) -> Option<u64> {
    use std::os::unix::ffi::OsStrExt;
    let path = std::ffi::CString::new(dir.as_os_str().as_bytes()).ok()?;
    // SAFETY: the string lives across the call, which fills the structure.
    unsafe {
        let mut found: libc::statvfs = std::mem::zeroed();
        (libc::statvfs(path.as_ptr(), &mut found) == 0).then(|| found.f_bavail * found.f_frsize)
    }
}

trait Doing<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error>;
}

impl<T> Doing<T> for std::io::Result<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error> {
        self.map_err(|source| Error { doing: doing.into(), source })
    }
}
