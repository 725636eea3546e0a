//! What a keeper is told, and how it travels: length-prefixed fields in a fixed order behind a version mark.

/// Changes whenever a field is added, removed or reordered.
const MARK: &[u8; 8] = b"MYKEEP03";

/// One control group that the replica joins.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Group {
    /// Absolute path of the group's directory; the keeper makes it and removes it at the end.
    pub dir: String,
    /// File in `dir` that a process writes `0` into to join: `tasks` or `cgroup.procs`.
    pub join: String,
    /// Files in `dir` and what to write into them, in order.
    pub settings: Vec<(String, String)>,
    /// File in `dir` with a line `oom_kill N`, where this group has one.
    pub kills: String,
    /// Whether the keeper joins it too: what it does for the replica's output is charged to the replica.
    pub keeper: bool,
}

/// Everything needed to start one isolated process.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Spec {
    /// The name the replica sees as its host name.
    pub hostname: String,
    /// Where `pid` and `exit` are written; absolute.
    pub run_dir: String,
    /// Where the log files `current` and `previous` are; absolute.
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
    /// Room for what the replica writes to its root file system, in bytes.
    pub scratch: u64,
    /// Content of `/etc/hosts`.
    pub hosts: String,
    /// The whole `/etc/resolv.conf`.
    pub resolver: String,
    /// Files put into the root: absolute paths and contents.
    pub files: Vec<(String, Vec<u8>)>,
    /// Content of `/proc/meminfo`: the replica's limit, not the machine's memory.
    pub meminfo: String,
    /// Control groups to make and to join.
    pub groups: Vec<Group>,
    /// The replica's address.
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
    /// The bytes a keeper reads from its standard input.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Writer(MARK.to_vec());
        out.text(&self.hostname);
        out.text(&self.run_dir);
        out.text(&self.log_dir);
        out.number(self.log_limit);
        out.number(self.log_lines.into());
        out.text(&self.stage);
        out.text(&self.node_net);
        out.text(&self.id_map);
        out.number(self.id_base.into());
        out.number(self.plain.into());
        out.number(self.memory);
        out.texts(&self.layers);
        out.number(self.scratch);
        out.text(&self.hosts);
        out.text(&self.resolver);
        out.number(self.files.len() as u64);
        for (path, content) in &self.files {
            out.text(path);
            out.bytes(content);
        }
        out.text(&self.meminfo);
        out.number(self.groups.len() as u64);
        for group in &self.groups {
            out.text(&group.dir);
            out.text(&group.join);
            out.number(group.settings.len() as u64);
            for (file, value) in &group.settings {
                out.text(file);
                out.text(value);
            }
            out.text(&group.kills);
            out.number(group.keeper.into());
        }
        out.bytes(&self.address);
        out.bytes(&self.neighbour);
        out.number(self.link.into());
        out.texts(&self.argv);
        out.texts(&self.env);
        out.text(&self.cwd);
        out.number(self.uid.into());
        out.number(self.gid.into());
        out.number(self.watches.into());
        out.number(self.open_files);
        out.number(self.inodes);
        out.number(self.terminals.into());
        out.bytes(&self.filter);
        out.number(self.grace_ms);
        out.0
    }

    /// Reads what [`Spec::encode`] wrote; `None` when it is cut short or of another version.
    pub fn decode(bytes: &[u8]) -> Option<Spec> {
        let mut from = Reader(bytes.strip_prefix(MARK)?);
        Some(Spec {
            hostname: from.text()?,
            run_dir: from.text()?,
            log_dir: from.text()?,
            log_limit: from.number()?,
            log_lines: from.number()? as u32,
            stage: from.text()?,
            node_net: from.text()?,
            id_map: from.text()?,
            id_base: from.number()? as u32,
            plain: from.number()? != 0,
            memory: from.number()?,
            layers: from.texts()?,
            scratch: from.number()?,
            hosts: from.text()?,
            resolver: from.text()?,
            files: from.list(|from| Some((from.text()?, from.bytes()?.to_vec())))?,
            meminfo: from.text()?,
            groups: from.list(|from| {
                Some(Group {
                    dir: from.text()?,
                    join: from.text()?,
                    settings: from.list(|from| Some((from.text()?, from.text()?)))?,
                    kills: from.text()?,
                    keeper: from.number()? != 0,
                })
            })?,
            address: from.bytes()?.try_into().ok()?,
            neighbour: from.bytes()?.try_into().ok()?,
            link: from.number()? as u32,
            argv: from.texts()?,
            env: from.texts()?,
            cwd: from.text()?,
            uid: from.number()? as u32,
            gid: from.number()? as u32,
            watches: from.number()? as u32,
            open_files: from.number()?,
            inodes: from.number()?,
            terminals: from.number()? as u32,
            filter: from.bytes()?.to_vec(),
            grace_ms: from.number()?,
        })
    }
}

struct Writer(Vec<u8>);

impl Writer {
    fn number(&mut self, value: u64) {
        self.0.extend_from_slice(&value.to_le_bytes());
    }
    fn bytes(&mut self, value: &[u8]) {
        self.number(value.len() as u64);
        self.0.extend_from_slice(value);
    }
    fn text(&mut self, value: &str) {
        self.bytes(value.as_bytes());
    }
    fn texts(&mut self, values: &[String]) {
        self.number(values.len() as u64);
        values.iter().for_each(|value| self.text(value));
    }
}

struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn number(&mut self) -> Option<u64> {
        let (head, rest) = self.0.split_first_chunk::<8>()?;
        self.0 = rest;
        Some(u64::from_le_bytes(*head))
    }
    fn bytes(&mut self) -> Option<&'a [u8]> {
        let length = usize::try_from(self.number()?).ok()?;
        let (head, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(head)
    }
    fn text(&mut self) -> Option<String> {
        String::from_utf8(self.bytes()?.to_vec()).ok()
    }
    fn list<T>(&mut self, mut each: impl FnMut(&mut Self) -> Option<T>) -> Option<Vec<T>> {
        let count = self.number()?;
        (0..count).map(|_| each(self)).collect()
    }
    fn texts(&mut self) -> Option<Vec<String>> {
        self.list(Self::text)
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
    fn a_cut_or_foreign_specification_is_not_taken() {
        let whole = sample().encode();
        for length in 0..whole.len() {
            assert_eq!(Spec::decode(&whole[..length]), None, "cut at {length}");
        }
        let mut foreign = whole.clone();
        foreign[7] ^= 1;
        assert_eq!(Spec::decode(&foreign), None);
    }
}
