//! Replicas as ordinary processes: for a machine, or an account, that gives no rights to isolate.
//!
//! Each has a loopback address of its own, told by `HOST` and `PORT`; names of services are in the file that
//! `MAINYARD_HOSTS` names. Nothing keeps replicas from each other or from the machine. Of the limits only memory
//! is held, by the kernel and for each process: one that asks for more is refused it.
//! Started by root, a replica still gives up root: it runs as its image's user among the environment's ids.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use mainyard_core::address::Range;
use mainyard_keeper::Spec;

use crate::isolation::{LOG_LIMIT, Run, first_id};
use crate::keepers::{keeper_command, write_keeper};
use crate::{Doing, Error};

/// Names the file with the names of services, and so marks every process of a replica as one of this node.
pub const HOSTS_VARIABLE: &str = "MAINYARD_HOSTS";

/// A node's means to start ordinary processes.
pub struct Plain {
    keeper: PathBuf,
    range: Range,
}

impl Plain {
    /// Prepares the node in `dir`, whose replicas have addresses in `range`.
    ///
    /// # Errors
    /// When its files cannot be written.
    pub fn open(dir: &Path, range: Range) -> Result<Plain, Error> {
        fs::create_dir_all(dir).doing(format!("make {}", dir.display()))?;
        Ok(Plain { keeper: write_keeper(dir)?, range })
    }

    /// The addresses of its replicas.
    pub fn range(&self) -> Range {
        self.range
    }

    /// The file with the names of services of the replica with this run directory.
    pub fn hosts_file(run_dir: &Path) -> PathBuf {
        run_dir.join("hosts")
    }

    /// The command that starts a keeper for this run, as that of [`crate::Isolation`]. `layers` must be one
    /// directory with the whole image.
    pub fn command(&self, run: &Run) -> Result<Command, Error> {
        if let Some((path, _)) = run.files.first() {
            let why = "its root is the machine's own, and what is put there would stay: take an isolated node, or a setting";
            return Err(std::io::Error::other(why)).doing(format!("put the file {path} there"));
        }
        let hosts = Plain::hosts_file(&run.run_dir);
        fs::write(&hosts, &run.hosts).doing("write the names of services")?;
        let mut env = run.env.clone();
        let own = [
            ("HOST", run.address.map(|address| self.range.place(address).to_string())),
            ("PORT", run.port.map(|port| port.to_string())),
            (HOSTS_VARIABLE, Some(hosts.display().to_string())),
        ];
        for (key, value) in own.into_iter().filter_map(|(key, value)| Some((key, value?))) {
            env.retain(|pair| !pair.starts_with(&format!("{key}=")));
            env.push(format!("{key}={value}"));
        }
        let base = first_id(run.environment);
        let spec = Spec {
            plain: true,
            hostname: run.hostname.clone(),
            run_dir: run.run_dir.display().to_string(),
            log_dir: run.log_dir.display().to_string(),
            log_limit: LOG_LIMIT.bytes(),
            log_lines: run.limits.log_lines,
            layers: run.layers.iter().map(|layer| layer.display().to_string()).collect(),
            argv: run.argv.clone(),
            env,
            cwd: run.cwd.clone(),
            uid: base + run.user.0,
            gid: base + run.user.1,
            member_of: run.groups.iter().map(|group| base + group).collect(),
            stop_signal: run.stop_signal,
            memory: run.limits.memory.bytes(),
            grace_ms: run.grace.as_millis() as u64,
            ..Spec::default()
        };
        keeper_command(&self.keeper, &spec)
    }
}
