//! Processes of replicas, by the kernel.

use crate::common::Platform;

/// The replica's own program, below its init.
pub(crate) fn program_of(platform: &Platform, replica: &str) -> Option<i32> {
    let init =
        std::fs::read_to_string(platform.data().join("node/replicas").join(replica).join("init")).ok()?;
    let init = init.trim();
    let children = std::fs::read_to_string(format!("/proc/{init}/task/{init}/children")).ok()?;
    children.split_whitespace().next()?.parse().ok()
}
