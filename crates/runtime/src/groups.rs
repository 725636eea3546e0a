//! Control groups, version 1: one group a replica in each of the memory, cpu and pids hierarchies, below one
//! group a node.

use std::fs;
use std::path::{Path, PathBuf};

use mainyard_core::model::Limits;
use mainyard_keeper::Group;

use crate::{Doing, Error};

/// Where this node's control groups are.
#[derive(Debug, Clone)]
pub struct Groups {
    memory: PathBuf,
    cpu: PathBuf,
    processes: PathBuf,
}

const PERIOD_MICROS: u64 = 100_000;

impl Groups {
    /// Finds the hierarchies in the machine's list of mounts and makes this node's group in each.
    ///
    /// # Errors
    /// When a hierarchy is not mounted as version 1, or the group may not be made.
    pub fn open(name: &str) -> Result<Groups, Error> {
        let mounts = fs::read_to_string("/proc/self/mounts").doing("read the list of mounts")?;
        let find = |controller: &str| {
            let found = mounts.lines().find_map(|line| {
                let fields: Vec<&str> = line.split(' ').collect();
                let is_it =
                    fields.get(2) == Some(&"cgroup") && fields.get(3)?.split(',').any(|o| o == controller);
                is_it.then(|| PathBuf::from(fields[1]).join(name))
            });
            found.ok_or_else(|| Error {
                doing: format!("find the {controller} control group, version 1"),
                source: std::io::ErrorKind::NotFound.into(),
            })
        };
        let groups = Groups { memory: find("memory")?, cpu: find("cpu")?, processes: find("pids")? };
        for dir in groups.all() {
            fs::create_dir_all(dir).doing(format!("make the control group {}", dir.display()))?;
        }
        Ok(groups)
    }

    fn all(&self) -> [&Path; 3] {
        [&self.memory, &self.cpu, &self.processes]
    }

    /// The groups of one replica, for its keeper to make.
    pub fn of_replica(&self, name: &str, limits: &Limits) -> Vec<Group> {
        let group = |base: &Path, settings: Vec<(&str, String)>, kills: &str| Group {
            dir: base.join(name).display().to_string(),
            join: "tasks".to_owned(),
            settings: settings.into_iter().map(|(file, value)| (file.to_owned(), value)).collect(),
            kills: kills.to_owned(),
        };
        let quota = limits.cpu.milli() * PERIOD_MICROS / 1000;
        vec![
            group(
                &self.memory,
                vec![("memory.limit_in_bytes", limits.memory.bytes().to_string())],
                "memory.oom_control",
            ),
            group(
                &self.cpu,
                vec![
                    ("cpu.cfs_period_us", PERIOD_MICROS.to_string()),
                    ("cpu.cfs_quota_us", quota.to_string()),
                ],
                "",
            ),
            group(&self.processes, vec![("pids.max", limits.processes.to_string())], ""),
        ]
    }

    /// How often the kernel killed a process of the replica for memory; `None` when it has no group.
    pub fn memory_kills(&self, name: &str) -> Option<u64> {
        let text = fs::read_to_string(self.memory.join(name).join("memory.oom_control")).ok()?;
        text.lines().find_map(|line| line.strip_prefix("oom_kill "))?.trim().parse().ok()
    }

    /// Memory in use by the replica, in bytes.
    pub fn memory_used(&self, name: &str) -> Option<u64> {
        fs::read_to_string(self.memory.join(name).join("memory.usage_in_bytes")).ok()?.trim().parse().ok()
    }

    /// Process ids that are in a group of this node, whatever replica they belong to.
    pub fn members(&self) -> Vec<u32> {
        let below =
            |base: &Path| fs::read_dir(base).into_iter().flatten().flatten().map(|entry| entry.path());
        let tasks = self.all().into_iter().flat_map(|base| below(base).map(|dir| dir.join("tasks")));
        let mut list: Vec<u32> = tasks
            .filter_map(|file| fs::read_to_string(file).ok())
            .flat_map(|text| text.lines().filter_map(|line| line.parse().ok()).collect::<Vec<u32>>())
            .collect();
        list.sort_unstable();
        list.dedup();
        list
    }

    /// Removes this node's groups and all below them; what is still busy stays, and is the error.
    pub fn remove(&self) -> Result<(), Error> {
        for base in self.all() {
            for entry in fs::read_dir(base).into_iter().flatten().flatten() {
                if entry.path().is_dir() {
                    remove_when_idle(&entry.path())?;
                }
            }
            remove_when_idle(base)?;
        }
        Ok(())
    }
}

fn remove_when_idle(dir: &Path) -> Result<(), Error> {
    let mut tries = 0;
    loop {
        match fs::remove_dir(dir) {
            Ok(()) => return Ok(()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            Err(error) if error.raw_os_error() == Some(libc::EBUSY) && tries < 500 => {
                tries += 1;
                std::thread::sleep(std::time::Duration::from_millis(4));
            }
            Err(error) => return Err(error).doing(format!("remove the control group {}", dir.display())),
        }
    }
}
