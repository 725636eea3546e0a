//! The keeper's specification and its encoding: the postcard format, after a version mark.

use serde::{Deserialize, Serialize};

/// Changes whenever a field is added, removed or reordered.
const MARK: &[u8; 8] = b"MYKEEP06";

/// One control group that the replica joins.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Group {
    /// Absolute path of the group's directory; the keeper makes it and removes it at the end.
    pub dir: String,
    /// File in `dir` that a process writes `0` into to join: `tasks` or `cgroup.procs`.
    pub join: String,
    /// Files in `dir` and what to write into them, in order.
    pub settings: Vec<(String, String)>,
    /// File in `dir` with a line `oom_kill N`, where this group has one.
    pub kills: String,
    /// Where its own files are shown inside, below `/sys/fs/cgroup`; empty for that directory itself.
    pub shown_as: String,
    /// Whether the keeper joins it too: what it does for the replica's output is charged to the replica.
    pub keeper: bool,
}

/// Everything needed to start one isolated process.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Spec {
    /// The name the replica sees as its host name.
    pub hostname: String,
    /// The directory for `pid` and `exit`; absolute.
    pub run_dir: String,
    /// The directory of the log files `current` and `previous`; absolute.
    pub log_dir: String,
    /// The log is turned over when `current` has grown past this many bytes.
    pub log_limit: u64,
    /// Lines in a second that are kept; 0 for any number.
    pub log_lines: u32,
    /// An empty directory on which the keeper mounts its scratch, in a mount namespace of its own.
    pub stage: String,
    /// A file that names the node's network namespace.
    pub node_net: String,
    /// A file that names a user namespace with the environment's id map, for the image's layers.
    pub id_map: String,
    /// The first id outside that `0` inside stands for; 65,536 follow.
    pub id_base: u32,
    /// An ordinary process: nothing below that isolates is done. `layers` is then one directory with all of the
    /// image, whose paths the program is looked up by.
    pub plain: bool,
    /// For an ordinary process: the most memory of its own, in bytes. Control groups hold an isolated one.
    pub memory: u64,
    /// Unpacked layers, the lowest first; absolute paths.
    pub layers: Vec<String>,
    /// A directory on disk, bounded by the node, that takes what the replica writes to its root file system. Empty where
    /// the node has none: then memory takes it.
    pub scratch_dir: String,
    /// Room for what the replica writes to its root file system, in bytes, where memory takes it.
    pub scratch: u64,
    /// Room for files in `/dev/shm`, in bytes.
    pub shared_memory: u64,
    /// Room in a `/tmp` of its own in memory, in bytes; 0 for none.
    pub tmp: u64,
    /// The root file system can only be read, but for `/tmp`, `/run` and `volumes`.
    pub read_only: bool,
    /// Directories that can be written whatever else can be.
    pub volumes: Vec<String>,
    /// How many processors programs are told of.
    pub processors: u32,
    /// Content of `/etc/hosts`.
    pub hosts: String,
    /// The whole `/etc/resolv.conf`.
    pub resolver: String,
    /// Files put into the root: absolute paths and contents.
    pub files: Vec<(String, Vec<u8>)>,
    /// Folders of the node that are put into the root, to write to: where they are, and where they go.
    pub folders: Vec<(String, String)>,
    /// Content of `/proc/meminfo`: the replica's limit, not the machine's memory.
    pub meminfo: String,
    /// Control groups to make and to join.
    pub groups: Vec<Group>,
    /// The replica's address; all zero for one without a network.
    pub address: [u8; 4],
    /// The node's address as the replica sees it: its only neighbour.
    pub neighbour: [u8; 4],
    /// Interface index of the node's end of the link.
    pub link: u32,
    /// The process: arguments, environment (`K=V`), directory, ids.
    pub argv: Vec<String>,
    /// `KEY=value` pairs.
    pub env: Vec<String>,
    /// Working directory inside.
    pub cwd: String,
    /// User id inside.
    pub uid: u32,
    /// Group id inside.
    pub gid: u32,
    /// Ids of further groups inside.
    pub member_of: Vec<u32>,
    /// The signal that asks the process to end; 0 stands for `SIGTERM`.
    pub stop_signal: i32,
    /// Most inotify watches inside.
    pub watches: u32,
    /// Most open files of one process.
    pub open_files: u64,
    /// Most files and directories in its scratch.
    pub inodes: u64,
    /// Most pseudo-terminals.
    pub terminals: u32,
    /// Seccomp filter: an array of `sock_filter`, eight bytes each.
    pub filter: Vec<u8>,
    /// How long after the stop signal the process is killed, in milliseconds.
    pub grace_ms: u64,
}

impl Spec {
    /// Whether it has a link to the node.
    pub fn has_network(&self) -> bool {
        self.address != [0; 4]
    }

    /// The bytes a keeper reads from its standard input.
    pub fn encode(&self) -> Vec<u8> {
        // What is extended is memory, and every length is known: there is nothing that could fail.
        postcard::to_extend(self, MARK.to_vec()).expect("plain data is written to memory")
    }

    /// Reads what [`Spec::encode`] wrote; `None` when it is cut short, has more behind it, or is of another version.
    pub fn decode(bytes: &[u8]) -> Option<Spec> {
        let (spec, rest) = postcard::take_from_bytes(bytes.strip_prefix(MARK)?).ok()?;
        rest.is_empty().then_some(spec)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Spec {
        Spec {
            hostname: "locker-api-a0".into(),
            layers: vec!["/l/1".into(), "/l/2".into()],
            files: vec![("/app/key".into(), vec![0, 1]), ("/app/empty".into(), Vec::new())],
            groups: vec![Group {
                dir: "/g/memory".into(),
                join: "tasks".into(),
                settings: vec![("memory.limit_in_bytes".into(), "1048576".into())],
                kills: "memory.oom_control".into(),
                shown_as: "memory".into(),
                keeper: true,
            }],
            address: [10, 118, 16, 2],
            env: vec!["A=ä".into(), "B=".into()],
            filter: vec![0, 255, 7],
            grace_ms: 10_000,
            ..Spec::default()
        }
    }

    #[test]
    fn what_is_written_is_read_back() {
        assert_eq!(Spec::decode(&sample().encode()), Some(sample()));
    }

    #[test]
    fn a_truncated_or_foreign_specification_is_refused() {
        let whole = sample().encode();
        for length in 0..whole.len() {
            assert_eq!(Spec::decode(&whole[..length]), None, "cut at {length}");
        }
        assert_eq!(Spec::decode(&[whole.as_slice(), b"more"].concat()), None);
        let mut foreign = whole.clone();
        foreign[7] ^= 1;
        assert_eq!(Spec::decode(&foreign), None);
    }

    proptest::proptest! {
        #[test]
        fn any_specification_round_trips_and_any_bytes_are_read_or_refused(
            argv in proptest::collection::vec(".*", 0..5), numbers in proptest::array::uniform4(0u64..),
            files in proptest::collection::vec(("/[a-z]{1,9}", proptest::collection::vec(0u8.., 0..20)), 0..4),
            noise in proptest::collection::vec(0u8.., 0..200),
        ) {
            let [log_limit, memory, scratch, grace_ms] = numbers;
            let spec = Spec { argv, files, log_limit, memory, scratch, grace_ms, ..sample() };
            proptest::prop_assert_eq!(Spec::decode(&spec.encode()), Some(spec));
            // A length that nothing stands behind must not take memory for it.
            let _ = Spec::decode(&[MARK.as_slice(), &noise].concat());
        }
    }
}
