//! The attacker is another account of the machine, without rights.

use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

use crate::common::Platform;

/// An account that owns nothing here: Debian's `nobody`.
const NOBODY: u32 = 65_534;

/// Runs a shell's line as that account; gives its exit code and what it wrote.
fn as_nobody(line: &str) -> (i32, String) {
    let mut command = Command::new("/bin/sh");
    command.arg("-c").arg(line).env_clear().env("PATH", "/usr/bin:/bin").current_dir("/");
    // SAFETY: system calls only, on constants.
    unsafe {
        command.pre_exec(|| {
            libc::setgroups(0, std::ptr::null());
            if libc::setresgid(NOBODY, NOBODY, NOBODY) != 0 || libc::setresuid(NOBODY, NOBODY, NOBODY) != 0 {
                return Err(std::io::Error::last_os_error());
            }
            Ok(())
        });
    }
    let done = command.output().expect("a shell");
    let text = [done.stdout, done.stderr].concat();
    (done.status.code().unwrap_or(-1), String::from_utf8_lossy(&text).into_owned())
}

fn pids(platform: &Platform) -> Vec<i32> {
    ["control", "node", "gateway", "postgres"].iter().flat_map(|part| platform.part(part)).collect()
}

#[test]
fn another_account_reads_runs_and_ends_nothing_of_the_platform() {
    // SAFETY: no memory is involved.
    if unsafe { libc::geteuid() } != 0 || !crate::common::isolated() {
        eprintln!("not root with isolation: there is no other account to try with");
        return;
    }
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |it| it["state"] == "steady");
    let data = platform.data().display().to_string();
    let mut acts: Vec<(String, String)> = [
        ("list the data directory", "ls DATA"),
        ("read the client's token", "cat DATA/client-token"),
        ("read a part's token", "cat DATA/token-of-node-node-1"),
        ("read the key of the secrets", "cat DATA/secrets-key"),
        ("read the local authority's key", "cat DATA/gateway/authority.key"),
        ("read the gateway's table", "cat DATA/gateway/table.json"),
        ("read a log", "cat DATA/logs/control.log"),
        ("list the logs of replicas", "ls DATA/node/logs"),
        ("list the orders of replicas", "ls DATA/node/replicas"),
        ("list the layers of images", "ls DATA/node/layers"),
        ("list the images", "ls DATA/images/blobs/sha256"),
        ("read PostgreSQL's password", "cat DATA/postgres/password"),
        ("list PostgreSQL's data", "ls DATA/postgres/data"),
        ("read a followed repository", "ls DATA/repositories"),
        ("write into the data directory", "touch DATA/x"),
        ("enter the node's network", "nsenter --net=DATA/node/network true"),
        ("use the client", "MAINYARD_DATA=DATA PROGRAM board"),
        ("stop the platform", "MAINYARD_DATA=DATA PROGRAM stop"),
    ]
    .map(|(name, line)| {
        (name.to_owned(), line.replace("DATA", &data).replace("PROGRAM", env!("CARGO_BIN_EXE_mainyard")))
    })
    .to_vec();
    for pid in pids(&platform) {
        for file in ["environ", "mem", "maps", "fd/0", "root/etc/passwd", "cwd/x", "stack", "auxv"] {
            acts.push((format!("read {file} of a part"), format!("cat /proc/{pid}/{file}")));
        }
        acts.push(("end a part".to_owned(), format!("kill -9 {pid}")));
    }
    for (name, line) in &acts {
        let (code, said) = as_nobody(line);
        assert_ne!(code, 0, "{name}: {line}: {said}");
    }
    let layers = Path::new(&data).join("node/layers");
    assert!(layers.exists(), "there was something to find");
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").expect("the mounts");
    let own =
        mounts.lines().find(|line| line.split(' ').nth(4) == layers.to_str()).expect("a mount of its own");
    let options = own.split(' ').nth(5).expect("options");
    assert!(options.contains("nosuid") && options.contains("nodev"), "{options}");
    // The API without a credential, and the record without a password.
    let (_, said) = as_nobody(&format!(
        "curl -s -o /dev/null -w '%{{http_code}}' http://{}/api/v1/snapshot",
        platform.api
    ));
    assert_eq!(said, "401");
    platform.ok(&["board"]);
}

#[test]
fn each_part_has_what_it_needs_and_no_more() {
    // SAFETY: no memory is involved.
    if unsafe { libc::geteuid() } != 0 || !crate::common::isolated() {
        return;
    }
    let platform = Platform::start(true);
    let token = platform.token().trim().to_owned();
    let password = std::fs::read_to_string(platform.data().join("postgres/password")).expect("a password");
    for part in ["control", "node", "gateway", "postgres"] {
        for pid in platform.part(part) {
            let read =
                |file: &str| std::fs::read_to_string(format!("/proc/{pid}/{file}")).unwrap_or_default();
            let status = read("status");
            let field = |name: &str| {
                let line = status.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':'));
                line.unwrap_or_default().trim().to_owned()
            };
            assert_eq!(field("NoNewPrivs"), "1", "{part}");
            let surroundings = [read("environ"), read("cmdline")].concat();
            for secret in [&token, password.trim()] {
                assert!(!surroundings.contains(secret), "{part} has a credential in its surroundings");
            }
            let limits = read("limits");
            let core = limits.lines().find(|line| line.starts_with("Max core file size")).expect("a limit");
            assert!(core.split_whitespace().nth(4) == Some("0"), "{part}: {core}");
            if part == "gateway" {
                assert_eq!(field("CapEff"), "0000000000000000", "{part}");
                assert_eq!(field("CapPrm"), "0000000000000000", "{part}");
                assert!(
                    field("Uid")
                        .split_whitespace()
                        .all(|id| id.parse::<u32>().is_ok_and(|id| id > 1_000_000))
                );
                assert_eq!(field("Seccomp"), "2", "{part}");
                // Its own folders are there, and no other part's.
                let root = format!("/proc/{pid}/root{}", platform.data().display());
                assert!(Path::new(&format!("{root}/gateway/table.json")).exists());
                for other in ["client-token", "node/replicas", "postgres", "images", "secrets-key", "logs"] {
                    assert!(!Path::new(&format!("{root}/{other}")).exists(), "the gateway sees {other}");
                }
            }
            if part == "node" {
                assert_eq!(field("Seccomp"), "2", "{part}");
            }
            if part == "control" {
                assert_eq!(field("Seccomp"), "2", "{part}");
                // Of root's rights it has what building namespaces for Git takes: no modules, no devices, no tracing.
                let rights = u64::from_str_radix(&field("CapBnd"), 16).expect("a set of capabilities");
                assert_eq!(rights & !0x0120_11ef, 0, "{rights:x}");
                assert!(
                    read("mountinfo").lines().any(|line| line.contains(" / / ro")),
                    "the machine is read-only"
                );
                let root = format!("/proc/{pid}/root{}", platform.data().display());
                assert!(Path::new(&format!("{root}/images")).exists());
                for other in ["node/replicas", "postgres/port", "logs/node.log"] {
                    assert!(!Path::new(&format!("{root}/{other}")).exists(), "control sees {other}");
                }
            }
        }
    }
    let rights = "SELECT rolsuper, rolcreatedb, rolcreaterole FROM pg_roles WHERE rolname = current_user";
    assert_eq!(as_control_asks(&platform, rights).trim(), "f|f|f", "control's role is no superuser");
    let program = as_control_asks(&platform, "COPY (SELECT 1) TO PROGRAM 'id'");
    assert!(program.contains("must be superuser"), "{program}");
}

/// The record's answer to control's own role.
pub(crate) fn as_control_asks(platform: &Platform, statement: &str) -> String {
    let read =
        |name: &str| std::fs::read_to_string(platform.data().join("postgres").join(name)).expect("a file");
    let mut command = Command::new("psql");
    command.args(["--no-psqlrc", "--tuples-only", "--no-align", "--host", "127.0.0.1", "--username"]);
    command.args([
        "mainyard_owner",
        "--port",
        read("port").trim(),
        "--dbname",
        "mainyard",
        "--command",
        statement,
    ]);
    command.env("PGPASSWORD", read("mainyard-password").trim());
    let done = command.output().expect("psql; PostgreSQL's package has it");
    String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned()
}
