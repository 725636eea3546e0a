//! Control groups: one group a replica below one group a node, in whichever version the machine has mounted.
//!
//! Version 1 has a hierarchy for each of memory, cpu and pids; version 2 one for all, whose controllers must be
//! let through to the groups below. Where both are there, as on machines between the two, version 1 has the
//! controllers. What is written where is decided on paths alone, so that it can be tried on a tree of plain files.

use std::fs;
use std::path::{Path, PathBuf};

use mainyard_core::model::Limits;
use mainyard_keeper::Group;

use crate::{Doing, Error};

/// The directories of this node's control groups.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Groups {
    /// A hierarchy for each controller.
    V1 {
        /// The node's group in the memory hierarchy.
        memory: PathBuf,
        /// In the cpu hierarchy.
        cpu: PathBuf,
        /// In the pids hierarchy.
        processes: PathBuf,
        /// In hierarchies that limit nothing here, and that language runtimes want to find beside the others before they
        /// believe any of them.
        shown: Vec<PathBuf>,
    },
    /// One hierarchy.
    V2 {
        /// The node's group.
        all: PathBuf,
    },
}

/// The control group hierarchies that limit replicas, by the kernel's names.
const CONTROLLERS: [&str; 3] = ["memory", "cpu", "pids"];
/// Further hierarchies of version 1 that a replica has a group in.
const SHOWN: [&str; 2] = ["cpuacct", "cpuset"];
/// Files of the cpuset hierarchy that a group must have set before it takes a process; each takes what the group above has.
const CPUSET: [&str; 2] = ["cpuset.cpus", "cpuset.mems"];

/// Version 1's limit of what waits in TCP buffers.
const TCP_LIMIT: &str = "memory.kmem.tcp.limit_in_bytes";

const PERIOD_MICROS: u64 = 100_000;

impl Groups {
    /// Finds the hierarchies in the machine's list of mounts and makes this node's group in each.
    ///
    /// # Errors
    /// When a controller is in neither version's hierarchy, or the group may not be made.
    pub fn open(name: &str) -> Result<Groups, Error> {
        let mounts = fs::read_to_string("/proc/self/mounts").doing("read the list of mounts")?;
        let groups = Groups::find(&mounts, name)?;
        groups.make()?;
        Ok(groups)
    }

    /// The place for the node's groups, by a list of mounts in the form of `/proc/self/mounts`.
    fn find(mounts: &str, name: &str) -> Result<Groups, Error> {
        let mounted: Vec<Vec<&str>> = mounts.lines().map(|line| line.split(' ').collect()).collect();
        let of_kind = |kind: &'static str| mounted.iter().filter(move |fields| fields.get(2) == Some(&kind));
        let first = |controller: &str| {
            let has =
                |fields: &&Vec<&str>| fields.get(3).is_some_and(|o| o.split(',').any(|o| o == controller));
            of_kind("cgroup").find(has).map(|fields| PathBuf::from(fields[1]).join(name))
        };
        if let [Some(memory), Some(cpu), Some(processes)] = CONTROLLERS.map(first) {
            let known = [&memory, &cpu, &processes].map(PathBuf::clone);
            let mut shown: Vec<PathBuf> = SHOWN.into_iter().filter_map(first).collect();
            shown.retain(|dir| !known.contains(dir));
            shown.dedup();
            return Ok(Groups::V1 { memory, cpu, processes, shown });
        }
        let unified = of_kind("cgroup2").find_map(|fields| {
            let root = PathBuf::from(fields.get(1)?);
            let offered = fs::read_to_string(root.join("cgroup.controllers")).ok()?;
            let has = |controller| offered.split_whitespace().any(|word| word == controller);
            CONTROLLERS.into_iter().all(has).then(|| root.join(name))
        });
        unified.map(|all| Groups::V2 { all }).ok_or_else(|| Error {
            doing: "find the control groups: memory, cpu and pids are mounted neither as version 1 nor all as version 2"
                .to_owned(),
            source: std::io::ErrorKind::NotFound.into(),
        })
    }

    fn make(&self) -> Result<(), Error> {
        for dir in self.roots() {
            fs::create_dir_all(dir).doing(format!("make the control group {}", dir.display()))?;
            for (file, value) in inherited(dir.parent().unwrap_or(dir)) {
                fs::write(dir.join(file), value).doing(format!("set {file} of {}", dir.display()))?;
            }
        }
        if let Groups::V2 { all } = self {
            // From the top down to the node's own group: what is not let through is not there below.
            for dir in all.parent().into_iter().chain([all.as_path()]) {
                let through = CONTROLLERS.map(|controller| format!("+{controller}")).join(" ");
                fs::write(dir.join("cgroup.subtree_control"), through).doing(format!(
                    "let memory, cpu and pids through to the groups below {}",
                    dir.display()
                ))?;
            }
        }
        Ok(())
    }

    fn roots(&self) -> Vec<&Path> {
        match self {
            Groups::V1 { memory, cpu, processes, shown } => {
                [memory, cpu, processes].into_iter().chain(shown).map(PathBuf::as_path).collect()
            }
            Groups::V2 { all } => vec![all],
        }
    }

    /// The file that lists a group's members, and takes new ones. Version 1 counts threads.
    fn members_file(&self) -> &'static str {
        match self {
            Groups::V1 { .. } => "tasks",
            Groups::V2 { .. } => "cgroup.procs",
        }
    }

    /// The groups of one replica, for its keeper to make.
    pub fn of_replica(&self, name: &str, limits: &Limits) -> Vec<Group> {
        let group = |base: &Path, settings: Vec<(&str, String)>, kills: &str| Group {
            keeper: false,
            dir: base.join(name).display().to_string(),
            join: self.members_file().to_owned(),
            shown_as: self.shown_as(base),
            settings: settings.into_iter().map(|(file, value)| (file.to_owned(), value)).collect(),
            kills: kills.to_owned(),
        };
        let (most, quota) = (limits.memory.bytes().to_string(), limits.cpu.milli() * PERIOD_MICROS / 1000);
        let processes = limits.processes.to_string();
        match self {
            Groups::V1 { memory, cpu, processes: pids, shown } => [
                // Version 1 counts what waits in TCP buffers apart, and does not limit it unless told to.
                group(
                    memory,
                    [("memory.limit_in_bytes", most)].into_iter().chain(self.buffers(limits)).collect(),
                    "memory.oom_control",
                ),
                Group {
                    keeper: true,
                    ..group(
                        cpu,
                        vec![
                            ("cpu.cfs_period_us", PERIOD_MICROS.to_string()),
                            ("cpu.cfs_quota_us", quota.to_string()),
                        ],
                        "",
                    )
                },
                group(pids, vec![("pids.max", processes)], ""),
            ]
            .into_iter()
            .chain(shown.iter().map(|base| group(base, inherited(base), "")))
            .collect(),
            Groups::V2 { all } => {
                let cpu = format!("{quota} {PERIOD_MICROS}");
                let settings = vec![("memory.max", most), ("cpu.max", cpu), ("pids.max", processes)];
                vec![group(all, settings, "memory.events")]
            }
        }
    }

    /// Where programs inside look for a hierarchy: by the name that its mount has, or at the top for version 2.
    fn shown_as(&self, base: &Path) -> String {
        match self {
            Groups::V1 { .. } => {
                let mounted_at = base.parent().and_then(Path::file_name);
                mounted_at.map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
            }
            Groups::V2 { .. } => String::new(),
        }
    }

    /// The limit of what waits in TCP buffers: a quarter of the memory, where this kernel counts it.
    fn buffers(&self, limits: &Limits) -> Option<(&'static str, String)> {
        let Groups::V1 { memory, .. } = self else { return None };
        let known = memory.join(TCP_LIMIT).exists();
        known.then(|| (TCP_LIMIT, (limits.memory.bytes() / 4).to_string()))
    }

    /// Bytes in TCP buffers: version 1 does not count them as memory in use, version 2 does.
    fn buffered(&self, name: &str) -> u64 {
        match self {
            Groups::V1 { memory, .. } => {
                number(&memory.join(name).join("memory.kmem.tcp.usage_in_bytes")).unwrap_or(0)
            }
            Groups::V2 { .. } => 0,
        }
    }

    fn memory_file(&self, name: &str, [v1, v2]: [&str; 2]) -> PathBuf {
        match self {
            Groups::V1 { memory, .. } => memory.join(name).join(v1),
            Groups::V2 { all } => all.join(name).join(v2),
        }
    }

    /// How often the kernel killed a process of the replica for memory; `None` when it has no group.
    pub fn memory_kills(&self, name: &str) -> Option<u64> {
        let text =
            fs::read_to_string(self.memory_file(name, ["memory.oom_control", "memory.events"])).ok()?;
        text.lines().find_map(|line| line.strip_prefix("oom_kill "))?.trim().parse().ok()
    }

    /// How often the kernel refused the replica another process or thread; `None` when it has no group.
    pub fn processes_refused(&self, name: &str) -> Option<u64> {
        let file = match self {
            Groups::V1 { processes, .. } => processes.join(name).join("pids.events"),
            Groups::V2 { all } => all.join(name).join("pids.events"),
        };
        let text = fs::read_to_string(file).ok()?;
        text.lines().find_map(|line| line.strip_prefix("max "))?.trim().parse().ok()
    }

    /// Memory in use by the replica, in bytes.
    pub fn memory_used(&self, name: &str) -> Option<u64> {
        let file = self.memory_file(name, ["memory.usage_in_bytes", "memory.current"]);
        Some(number(&file)? + self.buffered(name))
    }

    /// The kernel's counters of a replica now; `None` if it has no group.
    pub fn reading(&self, name: &str) -> Option<Reading> {
        let (memory, cpu, processes) = match self {
            Groups::V1 { memory, cpu, processes, .. } => {
                (memory.join(name), cpu.join(name), processes.join(name))
            }
            Groups::V2 { all } => (all.join(name), all.join(name), all.join(name)),
        };
        let stat = fs::read_to_string(memory.join("memory.stat")).ok()?;
        let needed = match self {
            Groups::V1 { .. } => field(&stat, "total_rss")? + field(&stat, "total_shmem")?,
            Groups::V2 { .. } => field(&stat, "anon")? + field(&stat, "shmem")?,
        };
        let needed = needed + self.buffered(name);
        let peak_file = memory.join(match self {
            Groups::V1 { .. } => "memory.max_usage_in_bytes",
            Groups::V2 { .. } => "memory.peak",
        });
        let peak = number(&peak_file)?;
        if matches!(self, Groups::V1 { .. }) {
            // Each reading tells the peak since the one before. Version 2 tells that of the group's whole life.
            let _ = fs::write(&peak_file, "0");
        }
        let times = fs::read_to_string(cpu.join("cpu.stat")).ok()?;
        let held_back = field(&times, "throttled_usec")
            .or_else(|| Some(field(&times, "throttled_time")? / 1000))
            .unwrap_or(0);
        let most = number(&processes.join("pids.peak")).or_else(|| number(&processes.join("pids.current")));
        let kills = self.memory_kills(name).unwrap_or(0);
        Some(Reading {
            needed,
            peak: peak.max(needed),
            kills,
            held_back,
            cpu_time: self.cpu_time(name, &times),
            processes: most.unwrap_or(0),
            disk: 0,
        })
    }

    /// Microseconds of processor time; version 1 counts them in a hierarchy of their own.
    fn cpu_time(&self, name: &str, times: &str) -> u64 {
        let of_v1 = || match self {
            Groups::V1 { cpu, shown, .. } => {
                let mut dirs = shown.iter().chain([cpu]).map(|dir| dir.join(name).join("cpuacct.usage"));
                dirs.find_map(|file| number(&file)).map(|nanos| nanos / 1000)
            }
            Groups::V2 { .. } => None,
        };
        field(times, "usage_usec").or_else(of_v1).unwrap_or(0)
    }

    /// Process ids that are in a group of this node, whatever replica they belong to.
    pub fn members(&self) -> Vec<u32> {
        let below =
            |base: &Path| fs::read_dir(base).into_iter().flatten().flatten().map(|entry| entry.path());
        let lists =
            self.roots().into_iter().flat_map(|base| below(base).map(|dir| dir.join(self.members_file())));
        let mut list: Vec<u32> = lists
            .filter_map(|file| fs::read_to_string(file).ok())
            .flat_map(|text| text.lines().filter_map(|line| line.parse().ok()).collect::<Vec<u32>>())
            .collect();
        list.sort_unstable();
        list.dedup();
        list
    }

    /// Removes this node's groups and all below them; what is still busy stays, and is the error.
    pub fn remove(&self) -> Result<(), Error> {
        for base in self.roots() {
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

/// The kernel's counters of one replica.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Reading {
    /// Memory that the kernel cannot take back, in bytes: anonymous and shared.
    pub needed: u64,
    /// The most memory that was charged, cached files included, in bytes.
    pub peak: u64,
    /// How often it killed for memory in all.
    pub kills: u64,
    /// For how long it was held back for its processor time in all, in microseconds.
    pub held_back: u64,
    /// Processor time that it used in all, in microseconds; 0 where the kernel does not count it.
    pub cpu_time: u64,
    /// The most processes and threads.
    pub processes: u64,
    /// What it has written to its root file system on disk, in bytes; no control group counts it.
    pub disk: u64,
}

/// What a group below this one must have set: nothing, but in the cpuset hierarchy.
fn inherited(above: &Path) -> Vec<(&'static str, String)> {
    let read = |file| Some((file, fs::read_to_string(above.join(file)).ok()?.trim().to_owned()));
    CPUSET.into_iter().filter_map(read).collect()
}

fn number(file: &Path) -> Option<u64> {
    fs::read_to_string(file).ok()?.trim().parse().ok()
}

/// The value behind a name, in a file of lines of both.
fn field(text: &str, name: &str) -> Option<u64> {
    text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(' '))?.trim().parse().ok()
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

#[cfg(test)]
mod tests {
    use mainyard_core::model::{Bytes, Cpu};

    use super::*;

    const V1: &str = "tmpfs /sys/fs/cgroup tmpfs ro 0 0\n\
        cgroup /sys/fs/cgroup/memory cgroup rw,nosuid,memory 0 0\n\
        cgroup /sys/fs/cgroup/cpu,cpuacct cgroup rw,cpu,cpuacct 0 0\n\
        cgroup /sys/fs/cgroup/pids cgroup rw,pids 0 0\n";

    fn limits() -> Limits {
        Limits { cpu: Cpu::from_milli(500), memory: Bytes::mib(64), processes: 32, ..Limits::default() }
    }

    /// A tree of plain files that stands for a machine with version 2, and its list of mounts.
    fn unified(controllers: &str) -> (tempfile::TempDir, String) {
        let dir = tempfile::tempdir().expect("a directory");
        fs::write(dir.path().join("cgroup.controllers"), controllers).expect("a file");
        let mounts = format!("cgroup2 {} cgroup2 rw,nosuid 0 0\n", dir.path().display());
        (dir, mounts)
    }

    #[test]
    fn control_groups_v1_are_used_when_they_have_the_controllers() {
        let (_dir, both) = unified("memory cpu pids");
        let groups = Groups::find(&(both + V1), "yard").expect("found");
        assert_eq!(groups, Groups::find(V1, "yard").expect("found"));
        let made = groups.of_replica("staging.a", &limits());
        let dirs: Vec<&str> = made.iter().map(|group| group.dir.as_str()).collect();
        let expected =
            ["memory", "cpu,cpuacct", "pids"].map(|h| format!("/sys/fs/cgroup/{h}/yard/staging.a"));
        assert_eq!(dirs, expected);
    }

    #[test]
    fn readings_are_found_in_the_files_of_both_versions() {
        let dir = tempfile::tempdir().expect("a directory");
        let write = |path: &str, text: &str| {
            let path = dir.path().join(path);
            fs::create_dir_all(path.parent().expect("a parent")).expect("a directory");
            fs::write(path, text).expect("a file");
        };
        let at = |hierarchy: &str| dir.path().join(hierarchy);
        let v1 = Groups::V1 { memory: at("m"), cpu: at("c"), processes: at("p"), shown: Vec::new() };
        assert_eq!(v1.reading("a"), None, "it is not there yet");
        write("m/a/memory.stat", "cache 900\nrss 1\ntotal_rss 100\ntotal_rss_huge 7\ntotal_shmem 20\n");
        write("m/a/memory.max_usage_in_bytes", "500\n");
        write("m/a/memory.oom_control", "oom_kill_disable 0\nunder_oom 0\noom_kill 2\n");
        write("c/a/cpu.stat", "nr_periods 9\nnr_throttled 3\nthrottled_time 7000000\n");
        write("p/a/pids.peak", "12\n");
        write("c/a/cpuacct.usage", "1500\n");
        let expected = Reading {
            needed: 120,
            peak: 500,
            kills: 2,
            held_back: 7000,
            cpu_time: 1,
            processes: 12,
            disk: 0,
        };
        assert_eq!(v1.reading("a"), Some(expected));
        let reset = fs::read_to_string(dir.path().join("m/a/memory.max_usage_in_bytes"));
        assert_eq!(reset.expect("a file"), "0", "the next peak is that since this reading");
        let v2 = Groups::V2 { all: at("u") };
        write("u/a/memory.stat", "anon 100\nfile 900\nshmem 20\n");
        write("u/a/memory.peak", "500\n");
        write("u/a/memory.events", "low 0\noom 3\noom_kill 2\n");
        write("u/a/cpu.stat", "usage_usec 1\nnr_throttled 3\nthrottled_usec 7000\n");
        write("u/a/pids.peak", "12\n");
        assert_eq!(v2.reading("a"), Some(expected));
    }

    #[test]
    fn version_2_has_one_group_a_replica_with_all_its_limits() {
        let (dir, mounts) = unified("cpuset cpu io memory pids\n");
        let groups = Groups::find(&mounts, "yard").expect("found");
        groups.make().expect("made");
        for group in [dir.path().to_owned(), dir.path().join("yard")] {
            let through = fs::read_to_string(group.join("cgroup.subtree_control")).expect("written");
            assert_eq!(through, "+memory +cpu +pids");
        }
        let [group] = &groups.of_replica("staging.a", &limits())[..] else { panic!("one group") };
        let own = dir.path().join("yard/staging.a");
        assert_eq!((group.dir.as_str(), group.join.as_str()), (own.to_str().expect("text"), "cgroup.procs"));
        let settings: Vec<(&str, &str)> =
            group.settings.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        assert_eq!(settings, [("memory.max", "67108864"), ("cpu.max", "50000 100000"), ("pids.max", "32")]);

        // What the kernel would tell there.
        fs::create_dir_all(&own).expect("a group");
        fs::write(own.join("memory.events"), "low 0\nhigh 0\nmax 9\noom 2\noom_kill 2\n").expect("a file");
        fs::write(own.join("memory.current"), "4096\n").expect("a file");
        fs::write(own.join("cgroup.procs"), "77\n78\n").expect("a file");
        assert_eq!(groups.memory_kills("staging.a"), Some(2));
        assert_eq!(groups.memory_used("staging.a"), Some(4096));
        assert_eq!(groups.members(), [77, 78]);
    }

    #[test]
    fn a_machine_without_the_controllers_names_what_is_missing() {
        let (_dir, mounts) = unified("cpu pids");
        let error = Groups::find(&mounts, "yard").expect_err("no memory controller");
        assert!(error.to_string().contains("memory, cpu and pids"), "{error}");
    }
}
