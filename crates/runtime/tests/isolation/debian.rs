//! Programs as Debian packs them, those that every installation has: what comes of it when they try to get out.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use mainyard_core::model::Bytes;
use mainyard_core::replica_lifecycle::DiskFull;
use mainyard_images::{FileEntry, ImageContent};
use mainyard_runtime::Run;

use crate::common::{Bench, Replica, until};

/// Programs of Debian's essential packages: shells, coreutils, util-linux and perl-base.
const PROGRAMS: [&str; 27] = [
    "/usr/bin/bash",
    "/usr/bin/cat",
    "/usr/bin/chmod",
    "/usr/bin/chown",
    "/usr/bin/chrt",
    "/usr/bin/cp",
    "/usr/bin/dash",
    "/usr/bin/date",
    "/usr/bin/dmesg",
    "/usr/bin/grep",
    "/usr/bin/id",
    "/usr/bin/ionice",
    "/usr/bin/ipcmk",
    "/usr/bin/ln",
    "/usr/bin/ls",
    "/usr/bin/mknod",
    "/usr/bin/mount",
    "/usr/bin/nproc",
    "/usr/bin/nsenter",
    "/usr/bin/perl",
    "/usr/bin/prlimit",
    "/usr/bin/setpriv",
    "/usr/bin/timeout",
    "/usr/bin/true",
    "/usr/bin/umount",
    "/usr/bin/unshare",
    "/usr/sbin/chroot",
];

/// An attempt: a name, and a line of shell that succeeds if the attempt does.
const ACTS: &[(&str, &str)] = &[
    ("list the root directory", "ls /"),
    ("write a file of its own", "echo x > /tmp/x"),
    ("run a line of Perl", "perl -e 'print 1'"),
    ("make a pipe with a name", "mknod /tmp/p p"),
    ("mount a file system in memory", "mount -t tmpfs none /mnt"),
    ("mount the processes", "mount -t proc none /mnt"),
    ("mount the kernel's objects", "mount -t sysfs none /mnt"),
    ("mount control groups", "mount -t cgroup -o memory none /mnt"),
    ("mount a directory again", "mount --bind / /mnt"),
    ("mount the root again, for writing", "mount -o remount,rw,suid,dev /"),
    ("take the processes' mount away", "umount -l /proc"),
    ("take the root away", "umount -l /"),
    ("a user namespace", "unshare -U true"),
    ("a user namespace as root", "unshare -Ur true"),
    ("a mount namespace", "unshare -m true"),
    ("a network namespace", "unshare -n true"),
    ("a namespace of processes", "unshare -pf true"),
    ("a namespace of messages", "unshare -i true"),
    ("a namespace of names", "unshare -u true"),
    ("a namespace of groups", "unshare -C true"),
    ("a namespace of clocks", "unshare -T true"),
    ("enter the first process's mounts", "nsenter -t 1 -m true"),
    ("enter the first process's network", "nsenter -t 1 -n true"),
    ("enter all of the first process", "nsenter -t 1 -a true"),
    ("another root directory", "chroot /app true"),
    ("a disk's device file", "mknod /tmp/d b 8 0"),
    ("the memory's device file", "mknod /tmp/m c 1 1"),
    ("the kernel log's device file", "mknod /tmp/k c 1 11"),
    ("read the kernel's log", "dmesg"),
    ("set the clock", "date -s 2001-01-01"),
    ("run before all others", "chrt -f 50 true"),
    ("run in turn before others", "chrt -r 1 true"),
    ("read and write before all others", "ionice -c 1 true"),
    ("more open files than allowed", "prlimit --nofile=9999999:9999999 true"),
    ("more locked memory than allowed", "prlimit --memlock=unlimited:unlimited true"),
    ("a right to carry over", "setpriv --inh-caps +sys_admin true"),
    (
        "a right for what is run",
        "setpriv --ambient-caps +sys_admin cat /proc/self/status | grep -q 'CapAmb:.*[1-9a-f]'",
    ),
    ("a right in its bounding set", "setpriv --dump | cat | grep -q sys_admin"),
    (
        "read the kernel's memory",
        "timeout 1 perl -e 'open(F, \"<\", \"/proc/kcore\") or exit 1; exit(sysread(F, $b, 1) ? 0 : 1)'",
    ),
    (
        "read the kernel's messages",
        "timeout 1 perl -e 'open(F, \"<\", \"/proc/kmsg\") or exit 1; exit(sysread(F, $b, 1) ? 0 : 1)'",
    ),
    (
        "read the machine's memory",
        "timeout 1 perl -e 'open(F, \"<\", \"/dev/mem\") or exit 1; exit(sysread(F, $b, 1) ? 0 : 1)'",
    ),
    (
        "read the machine's first disk",
        "timeout 1 perl -e 'open(F, \"<\", \"/dev/vda\") or exit 1; exit(sysread(F, $b, 1) ? 0 : 1)'",
    ),
    ("write where core dumps go", "echo '|/app/x' > /proc/sys/kernel/core_pattern"),
    ("write the program that loads modules", "echo /app/x > /proc/sys/kernel/modprobe"),
    ("write the machine's name", "echo x > /proc/sys/kernel/hostname"),
    ("let packets through", "echo 1 > /proc/sys/net/ipv4/ip_forward"),
    ("press the kernel's emergency key", "echo h > /proc/sysrq-trigger"),
    ("write the program that hears of devices", "echo /app/x > /sys/kernel/uevent_helper"),
    ("write a control group's release program", "echo /app/x > /sys/fs/cgroup/memory/release_agent"),
    ("leave its memory group", "echo $$ > /sys/fs/cgroup/memory/tasks"),
    ("be killed last", "echo -1000 > /proc/self/oom_score_adj"),
    ("map its own users", "echo '0 0 1' > /proc/self/uid_map"),
    (
        "read the first process's memory",
        "timeout 1 perl -e 'open(F, \"<\", \"/proc/1/mem\") or exit 1; exit(sysread(F, $b, 1) ? 0 : 1)'",
    ),
    ("read the first process's environment", "cat /proc/1/environ"),
    ("see a process that is not its own", "ls /proc | grep -q '^[0-9]\\{4,\\}$'"),
    // Of a replica that runs as root, this is no gain.
    ("be root in a set-uid shell", "[ \"$(/app/set-uid -p -c 'id -u')\" = 0 ]"),
    ("write to the machine's address", "timeout 2 bash -c 'exec 3<>/dev/tcp/10.118.0.1/22'"),
    ("write to another environment", "timeout 2 bash -c 'exec 3<>/dev/tcp/10.118.32.2/8080'"),
    ("write to an address outside", "timeout 2 bash -c 'exec 3<>/dev/tcp/169.254.169.254/80'"),
    ("a socket for raw packets", "perl -e 'socket(S, 17, 3, 768) or exit 1'"),
    ("a socket for raw messages", "perl -e 'socket(S, 2, 3, 1) or exit 1'"),
    ("a socket to the kernel's routes", "perl -e 'socket(S, 16, 3, 0) or exit 1'"),
    ("a socket to the kernel's ciphers", "perl -e 'socket(S, 38, 5, 0) or exit 1'"),
    ("a socket to the machine below", "perl -e 'socket(S, 40, 1, 0) or exit 1'"),
];

/// System calls, made by Perl with no arguments of sense: one that is let through fails for those instead.
const CALLS: [(&str, i64); 16] = [
    ("bpf", libc::SYS_bpf),
    ("perf_event_open", libc::SYS_perf_event_open),
    ("keyctl", libc::SYS_keyctl),
    ("add_key", libc::SYS_add_key),
    ("userfaultfd", libc::SYS_userfaultfd),
    ("io_uring_setup", libc::SYS_io_uring_setup),
    ("open_by_handle_at", libc::SYS_open_by_handle_at),
    ("kexec_load", libc::SYS_kexec_load),
    ("init_module", libc::SYS_init_module),
    ("swapon", libc::SYS_swapon),
    ("pivot_root", libc::SYS_pivot_root),
    ("fsopen", libc::SYS_fsopen),
    ("move_mount", libc::SYS_move_mount),
    ("acct", libc::SYS_acct),
    ("setns", libc::SYS_setns),
    ("process_vm_writev", libc::SYS_process_vm_writev),
];

/// The script that tries everything, one line of output an act.
fn script() -> String {
    let mut lines = vec![
        "try() { if eval \"$2\" >/dev/null 2>&1; then echo \"$1 | done\"; else echo \"$1 | refused\"; fi; }"
            .to_owned(),
    ];
    // What is refused is the act, not a program that does not have a library.
    let starting = PROGRAMS.iter().filter(|program| **program != "/usr/bin/dash");
    lines.extend(
        starting
            .map(|program| format!("{program} --version >/dev/null 2>&1 || echo {program} does not start")),
    );
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "'\\''"));
    lines.extend(ACTS.iter().map(|(name, line)| format!("try {} {}", quoted(name), quoted(line))));
    for (name, number) in CALLS {
        // Refused by the filter is 1, which is not what the kernel says of such arguments.
        let line = format!("perl -e 'syscall({number}, -1, 0, 0, 0, 0, 0); exit($! == 1 ? 1 : 0)'");
        lines.push(format!("try {} {}", quoted(&format!("the system call {name}")), quoted(&line)));
    }
    lines.push("echo end of acts; while :; do timeout 3600 cat /tmp/p; done".to_owned());
    lines.join("\n")
}

/// Libraries that a program is linked with, its loader among them.
fn libraries(program: &str) -> BTreeSet<String> {
    let out = Command::new("ldd").arg(program).output().expect("ldd, of libc-bin");
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    text.split_whitespace().filter(|word| word.starts_with('/')).map(str::to_owned).collect()
}

/// An image with these programs, as they lie on this machine, and the script as its command.
fn image(script: String) -> ImageContent {
    let mut files: BTreeSet<String> = PROGRAMS.iter().flat_map(|program| libraries(program)).collect();
    files.extend(PROGRAMS.map(str::to_owned));
    let read = |path: &str| std::fs::read(path).unwrap_or_else(|error| panic!("{path}: {error}"));
    let mut folders: BTreeSet<String> = ["app", "tmp", "mnt", "etc"].map(str::to_owned).into();
    for file in &files {
        let above = Path::new(file).ancestors().skip(1).filter_map(|dir| dir.to_str());
        folders.extend(above.map(|dir| dir.trim_start_matches('/').to_owned()).filter(|dir| !dir.is_empty()));
    }
    let mode = |dir: &str| if dir == "tmp" { 0o1777 } else { 0o755 };
    let mut layer: Vec<FileEntry> =
        folders.iter().map(|dir| FileEntry::Dir(format!("{dir}/"), mode(dir))).collect();
    layer.extend(files.iter().map(|file| FileEntry::File(file[1..].to_owned(), read(file), 0o755)));
    layer.push(FileEntry::Link("mnt/link".into(), "/proc".into()));
    layer.push(FileEntry::Link("mnt/root".into(), "/".into()));
    layer.push(FileEntry::File("app/set-uid".into(), read("/usr/bin/dash"), 0o4755));
    layer.push(FileEntry::File("app/acts.sh".into(), script.into_bytes(), 0o755));
    let entrypoint = ["/usr/bin/dash", "/app/acts.sh"].map(str::to_owned).to_vec();
    ImageContent { layers: vec![layer], entrypoint, ..ImageContent::default() }
}

/// Everyday acts that must succeed: a name, and a line of shell. Its output is the replica's own.
const EVERYDAY: &[(&str, &str)] = &[
    ("write to /dev/stdout", "echo line 1 > /dev/stdout"),
    ("write to /dev/stderr", "echo line 2 > /dev/stderr"),
    ("write to /proc/self/fd/1", "echo line 3 > /proc/self/fd/1"),
    ("write to a log that is a link", "ln -s /dev/stdout /tmp/access.log && echo line 4 > /tmp/access.log"),
    ("find its host name in a file", "[ \"$(cat /etc/hostname)\" = \"$(cat /proc/sys/kernel/hostname)\" ]"),
    ("be in its working directory", "[ \"$(pwd)\" = /srv/made/here ]"),
    ("be a member of a further group", "id -G | grep -qw 2000"),
    ("share memory", "echo x > /dev/shm/x"),
    ("have the usual devices", "[ -c /dev/tty ] && [ -c /dev/full ] && [ -d /dev/fd ] && [ -d /run ]"),
    ("ask whether an address answers", "perl -e 'socket(S, 2, 2, 1) or exit 1'"),
    ("listen at a low port", "perl -e 'socket(S, 2, 1, 0); bind(S, pack(\"S n N x8\", 2, 80, 0)) or exit 1'"),
    (
        "find its memory limit",
        "cat /sys/fs/cgroup/memory/memory.limit_in_bytes /sys/fs/cgroup/memory.max 2>/dev/null | grep -qx 50331648",
    ),
    (
        "find its processor limit",
        "cat /sys/fs/cgroup/cpu/cpu.cfs_quota_us /sys/fs/cgroup/cpu.max 2>/dev/null | grep -qw 100000",
    ),
    (
        "be told of as many processors as it may use",
        "[ \"$(nproc)\" = 1 ] && [ \"$(cat /sys/devices/system/cpu/online)\" = 0 ]",
    ),
    (
        "find all hierarchies that a Java runtime looks for",
        "[ -f /sys/fs/cgroup/cpuset/cpuset.cpus ] && [ -d /sys/fs/cgroup/cpuacct ] || [ -f /sys/fs/cgroup/memory.max ]",
    ),
    ("change nothing below /sys", "! echo 1 > /sys/x && ! echo 1 > /sys/fs/cgroup/x"),
    (
        "see no path of the machine",
        "! grep -qE '/\\.tmp|mainyard-test|keeper' /proc/self/mountinfo /proc/1/cmdline /proc/self/cgroup",
    ),
    ("trace no other process", "! perl -e 'exit(syscall(101, 0, 0, 0, 0) == 0 ? 0 : 1)'"),
];

/// With a root file system that can only be read, and tracing allowed.
const READ_ONLY: &[(&str, &str)] = &[
    ("write nothing to the root", "! echo x > /x && ! echo x > /srv/x && ! echo x > /mnt/x"),
    (
        "find masked what always is",
        "! read line < /proc/kallsyms && ! read line < /proc/interrupts && [ -e /dev/shm ]",
    ),
    ("find what was furnished", "read line < /etc/hosts && read line < /proc/meminfo && [ -c /dev/null ]"),
    ("change nothing of the machine", "! echo x > /proc/sys/kernel/domainname && ! echo x > /sys/x"),
    ("write to /tmp, /run and /dev/shm", "echo x > /tmp/x && echo x > /run/x && echo x > /dev/shm/x"),
    ("write to what the image says is written to", "echo x > /srv/data/x"),
    ("trace its own processes", "perl -e 'exit(syscall(101, 0, 0, 0, 0) == 0 ? 0 : 1)'"),
];

/// Fills a file, and says what the system answered.
const FILL: &str = "fill() { perl -e '$x = \"x\" x 1048576; open(F, \">\", $ARGV[0]) or exit 1; \
    for (1..$ARGV[1]) { syswrite(F, $x) == 1048576 or do { print \"refused: $!\\n\"; exit 1 } }' \"$@\"; }";

/// The same, only for root: a server that opens its logs again after it has changed to another account.
const AS_ROOT: &[(&str, &str)] = &[
    (
        "write to /dev/stdout as another account",
        "setpriv --reuid 65534 --regid 65534 --clear-groups bash -c 'echo line 5 > /dev/stdout'",
    ),
    (
        "write to /dev/stdout after a change of account",
        "perl -e '$) = $( = 65534; $> = $< = 65534; open(F, \">\", \"/dev/stdout\") or exit 1; print F \"line 6\\n\"'",
    ),
    ("write its process id", "echo $$ > /run/server.pid"),
];

fn everyday(name: &str, user: (u32, u32), acts: &[(&str, &str)], lines: usize) {
    let bench = Bench::new(name);
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "'\\''"));
    let mut script =
        "try() { if eval \"$2\"; then echo \"$1 | done\"; else echo \"$1 | failed\"; fi; }\n".to_owned();
    for (act, line) in acts {
        script.push_str(&format!("try {} {}\n", quoted(act), quoted(line)));
    }
    // It waits in short steps: a signal that comes just before a step is heard after it.
    script.push_str(
        "exec perl -e '$SIG{QUIT} = sub { print \"asked by SIGQUIT\\n\"; exit }; $| = 1; print \"end of acts\\n\"; \
         select(undef, undef, undef, 0.1) while 1'\n",
    );
    let mut replica = bench.start(&image(script), 0, |run| {
        run.user = user;
        run.groups = vec![2000];
        run.env = vec!["PATH=/usr/sbin:/usr/bin".into()];
        run.cwd = "/srv/made/here".into();
        run.stop_signal = libc::SIGQUIT;
    });
    until("the acts are through", || replica.log().contains("end of acts").then_some(()));
    replica.stop();
    let log = replica.log();
    for (act, _) in acts {
        assert!(log.contains(&format!("{act} | done")), "{act}: {log}");
    }
    let arrived = (1..=lines).filter(|number| log.contains(&format!("line {number}"))).count();
    assert_eq!(arrived, lines, "each line is in the log: {log}");
    assert!(log.contains("asked by SIGQUIT"), "the image's own stop signal: {log}");
}

/// A replica that tries these acts as root; what it printed until it was through.
fn tried(
    bench: &Bench,
    number: u16,
    acts: &[(&str, &str)],
    change: impl FnOnce(&mut Run),
) -> (Replica, String) {
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "'\\''"));
    let mut script = format!(
        "{FILL}\ntry() {{ if eval \"$2\" 2>/dev/null; then echo \"$1 | done\"; else echo \"$1 | failed\"; fi; }}\n"
    );
    for (act, line) in acts {
        script.push_str(&format!("try {} {}\n", quoted(act), quoted(line)));
    }
    script.push_str("mknod /tmp/p p; echo end of acts; cat /tmp/p & wait\n");
    let replica = bench.start(&image(script), number, |run| {
        (run.user, run.env) = ((0, 0), vec!["PATH=/usr/sbin:/usr/bin".into()]);
        change(run);
    });
    let log = until("the acts are through", || {
        let text = replica.log();
        text.contains("end of acts").then_some(text)
    });
    (replica, log)
}

#[test]
fn a_root_that_can_only_be_read_leaves_what_programs_need_writable() {
    let bench = Bench::new("read-only");
    let (mut replica, log) = tried(&bench, 0, READ_ONLY, |run| {
        // An image may say that it writes to what is masked, also by a link, or to all of its root.
        let volumes = ["/srv/data", "/proc", "/proc/sys", "/sys", "/dev", "/etc", "/mnt/link", "/mnt/root"];
        (run.read_only, run.ptrace, run.volumes) = (true, true, volumes.map(str::to_owned).to_vec());
    });
    replica.stop();
    for (act, _) in READ_ONLY {
        assert!(log.contains(&format!("{act} | done")), "{act}: {log}");
    }
}

#[test]
fn what_a_replica_writes_has_a_limit_of_its_own() {
    let bench = Bench::new("disk");
    let scratch = bench.isolation.scratch().expect("btrfs, loop devices and btrfs-progs");
    let acts = [
        ("write half", "fill /srv/half 20"),
        ("write too much", "fill /srv/cache/big 40"),
        ("go on", "[ -d /proc ]"),
    ];
    let small = |run: &mut Run| {
        run.limits.disk = Bytes::mib(32);
        run.volumes = vec!["/srv/cache".into()];
    };
    let (mut full, log) = tried(&bench, 0, &acts, small);
    for line in ["write half | done", "write too much | failed", "go on | done"] {
        assert!(log.contains(line), "{line}: {log}");
    }
    // Another one writes as much as it may, all the same; and memory is not what it costs.
    let (mut other, log) =
        tried(&bench, 1, &[("write", "fill /tmp/file 200")], |run| run.limits.disk = Bytes::mib(400));
    assert!(log.contains("write | done"), "{log}");
    let name = "staging.locker-api.0";
    let written = until("the writing is counted", || {
        scratch.written(name).filter(|written| DiskFull::counts(*written, Bytes::mib(32)))
    });
    assert!(written <= Bytes::mib(32), "{written}");
    assert_eq!(scratch.most_in(name).as_deref(), Some("/srv"), "it holds both");
    full.stop();
    other.stop();
    scratch.remove(name);
    assert_eq!(scratch.written(name), None);
    scratch.only(&[], &[]);
    assert_eq!(scratch.written("staging.locker-api.1"), None, "what no replica has is gone");
}

#[test]
fn a_tmp_in_memory_and_shared_memory_have_sizes_of_their_own() {
    let bench = Bench::new("memory-files");
    let acts = [
        ("fill /tmp", "fill /tmp/x 6"),
        ("overfill /tmp", "fill /tmp/x 20"),
        ("fill /dev/shm", "rm -f /tmp/x; fill /dev/shm/x 3"),
        ("overfill /dev/shm", "fill /dev/shm/x 20"),
        ("open many files", "[ \"$(ulimit -n)\" = 1000 ]"),
    ];
    let (mut replica, log) = tried(&bench, 0, &acts, |run| {
        run.limits.tmp = Some(Bytes::mib(8));
        run.limits.shared_memory = Bytes::mib(4);
        run.limits.open_files = 1000;
    });
    replica.stop();
    for line in [
        "fill /tmp | done",
        "overfill /tmp | failed",
        "fill /dev/shm | done",
        "overfill /dev/shm | failed",
        "open many files | done",
    ] {
        assert!(log.contains(line), "{line}: {log}");
    }
}

#[test]
fn debians_programs_do_what_they_do_every_day_as_root() {
    everyday("everyday-root", (0, 0), &[EVERYDAY, AS_ROOT].concat(), 6);
}

#[test]
fn debians_programs_do_what_they_do_every_day_as_another_user() {
    everyday("everyday-user", (1000, 1000), EVERYDAY, 4);
}

fn tried_by(name: &str, user: (u32, u32)) -> String {
    let bench = Bench::new(name);
    let mut replica = bench.start(&image(script()), 0, |run| {
        run.user = user;
        run.env = vec!["PATH=/usr/sbin:/usr/bin".into()];
    });
    let log = until("the acts are through", || {
        let text = replica.log();
        text.contains("end of acts").then_some(text)
    });
    replica.stop();
    assert!(!log.contains("does not start"), "{log}");
    let lines: Vec<&str> = log.lines().filter(|line| line.contains(" | ")).collect();
    assert_eq!(lines.len(), ACTS.len() + CALLS.len(), "each was tried: {log}");
    lines.join("\n")
}

#[test]
fn debians_programs_get_nowhere_as_root() {
    insta::assert_snapshot!(tried_by("debian-root", (0, 0)));
}

#[test]
fn debians_programs_get_nowhere_as_another_user() {
    insta::assert_snapshot!(tried_by("debian-user", (1000, 1000)));
}
