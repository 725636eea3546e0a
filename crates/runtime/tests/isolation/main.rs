//! Real replicas on the real kernel: what they may and may not do, and how they end.
//!
//! Needs root with namespaces, overlayfs and control groups, version 1.

mod common;
mod debian;

use std::net::TcpStream;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::PathBuf;

use common::{Bench, until};
use mainyard_core::model::{Bytes, EnvironmentIndex};
use mainyard_runtime::{Progress, first_id, listening};

#[test]
fn the_probe_gets_nowhere() {
    let bench = Bench::new("probe");
    let addresses =
        ["10.118.0.1:22", "10.118.32.2:8080", "10.118.16.3:8080", "127.0.0.1:22", "169.254.169.254:80"];
    let image = testing::probe_image(&addresses);
    let mut replica = bench.start(&image, 0, |run| run.user = (0, 0));
    let log = until("the probe is through", || {
        let text = replica.log();
        text.contains("end of acts").then_some(text)
    });
    let lines: Vec<&str> = log.lines().filter(|line| line.contains(" | ")).collect();
    assert!(lines.len() >= 25, "{} acts", lines.len());
    insta::assert_snapshot!(lines.join("\n"));
    replica.stop();
}

#[test]
fn an_ordinary_user_gets_no_further() {
    let bench = Bench::new("user");
    let mut replica = bench.start(&testing::probe_image(&[]), 0, |run| run.user = (1000, 1000));
    let log = until("the probe is through", || {
        let text = replica.log();
        text.contains("end of acts").then_some(text)
    });
    let lines: Vec<&str> = log.lines().filter(|line| line.contains(" | ")).collect();
    insta::assert_snapshot!(lines.join("\n"));
    replica.stop();
}

/// Numbers that are tried: past the last one that any kernel has.
const NUMBERS: i64 = 1024;

#[test]
fn every_system_call_that_is_not_named_is_refused() {
    let bench = Bench::new("calls");
    let image = testing::probe_image(&["calls", &NUMBERS.to_string()]);
    let mut replica = bench.start(&image, 0, |run| run.user = (0, 0));
    let log = until("the probe is through", || {
        let text = replica.log();
        text.contains("end of acts").then_some(text)
    });
    let allowed: std::collections::BTreeSet<i64> =
        sandbox::filter::allowed_for_replicas().into_iter().collect();
    let outcomes: std::collections::BTreeMap<i64, &str> = log
        .lines()
        .filter_map(|line| line.split_once("call ")?.1.split_once(" | "))
        .filter_map(|(number, outcome)| Some((number.parse().ok()?, outcome)))
        .collect();
    assert_eq!(outcomes.len(), NUMBERS as usize, "each was tried");
    for (number, outcome) in &outcomes {
        let (eperm, enosys) = (format!("error {}", libc::EPERM), format!("error {}", libc::ENOSYS));
        match *number {
            libc::SYS_clone3 => assert_eq!(*outcome, enosys),
            // With these arguments, both make what is refused.
            libc::SYS_clone | libc::SYS_socket => assert_eq!(*outcome, eperm, "{number}"),
            // `uretprobe` and `uprobe` are the kernel's own trampolines: it lets no filter see them, and ends
            // a program that calls them itself.
            335 | 336 if cfg!(target_arch = "x86_64") => assert_ne!(*outcome, "done", "{number}"),
            number if allowed.contains(&number) => {}
            number => assert_eq!(*outcome, eperm, "{number} is not named, and was let through"),
        }
    }
    replica.stop();
}

#[test]
fn a_flood_of_lines_is_dropped_and_counted_and_costs_the_replica_itself() {
    let bench = Bench::new("flood");
    let mut replica = bench.start(&testing::probe_image(&["flood"]), 0, |run| {
        run.limits.log_lines = 100;
    });
    until("it is told that lines were dropped", || {
        replica.log().contains("lines were dropped: more than 100 a second").then_some(())
    });
    let kept = replica.log().lines().filter(|line| line.contains("a line of a replica")).count();
    // Five seconds' worth at once, and what came since.
    assert!((1..5_000).contains(&kept), "{kept} lines are kept");
    let groups =
        std::fs::read_to_string(format!("/proc/{}/cgroup", replica.keeper.id())).expect("its groups");
    let of_cpu =
        |line: &&str| line.split(':').nth(1).is_some_and(|list| list.split(',').any(|one| one == "cpu"));
    let cpu = groups.lines().find(of_cpu).expect("a group");
    assert!(cpu.contains("mainyard-test-flood"), "the keeper's work is charged to the replica: {cpu}");
    replica.stop();
}

#[test]
fn replicas_are_reached_from_the_node_and_not_from_each_other() {
    let bench = Bench::new("reach");
    let mut first = bench.start_api("1.4.0", 0, |_| {});
    let mut second = bench.start_api("1.4.0", 1, |_| {});
    for replica in [&first, &second] {
        let address = replica.address;
        until("the replica answers", || {
            bench.in_network(move || TcpStream::connect((address, 8080)).ok().map(drop))
        });
    }
    let other = format!("{}:8080", second.address);
    let mut prober = bench.start(&testing::probe_image(&[&other]), 2, |_| {});
    let log = until("the probe is through", || {
        let text = prober.log();
        text.contains("end of acts").then_some(text)
    });
    let reach = log.lines().find(|line| line.contains("reach 10.118")).expect("the act");
    assert!(reach.contains("refused"), "{reach}");
    assert_eq!(listening(first.init).open, [8080]);
    first.stop();
    second.stop();
    prober.stop();
}

#[test]
fn a_stop_signal_is_forwarded_and_the_exit_reported() {
    let bench = Bench::new("stop");
    let mut replica = bench.start_api("1.4.0", 0, |_| {});
    // Running is reported before the program has written its first line.
    until("its first line", || replica.log().contains("locker-api 1.4.0 starts").then_some(()));
    let ending = replica.stop();
    assert_eq!((ending.code, ending.signal), (None, Some(libc::SIGTERM)));
}

#[test]
fn a_secret_file_is_readable_by_the_program_alone_and_never_on_disk() {
    let bench = Bench::new("file");
    let path = "/app/keys/kiosk.key";
    let replica = bench.start_api("1.4.0", 0, |run| {
        run.files.push((path.to_owned(), b"a key for the kiosk".to_vec()));
        run.env.push(format!("KIOSK_KEY_FILE={path}"));
    });
    until("it read the file", || replica.log().contains("the kiosk's key has 19 bytes").then_some(()));
    let inside = PathBuf::from(format!("/proc/{}/root{path}", replica.init));
    let found = std::fs::metadata(&inside).expect("the file, as the machine sees it");
    assert_eq!(found.permissions().mode() & 0o777, 0o400);
    let own = u64::from(found.uid()) - u64::from(first_id(EnvironmentIndex::new(1).expect("in range")));
    assert_eq!(own, 1000, "it belongs to the program's own user");
    assert!(bench.files_with(b"a key for the kiosk").is_empty(), "it is memory");
}

#[test]
fn growing_past_the_memory_limit_is_counted_by_the_kernel() {
    let bench = Bench::new("memory");
    let mut replica = bench.start_api("1.7.0", 0, |_| {});
    let ending = replica.wait_for_end();
    assert!(ending.memory_kills >= 1, "{ending:?}");
}

/// Version 1 does not count what waits in TCP buffers as memory in use: it has a limit of its own.
#[test]
fn connections_that_nobody_reads_hold_less_than_the_memory_limit() {
    let bench = Bench::new("buffers");
    let mut replica = bench.start(&testing::probe_image(&["buffers"]), 0, |_| {});
    let log = until("the probe is through", || {
        let text = replica.log();
        text.contains("end of acts").then_some(text)
    });
    let line = log.lines().find_map(|line| line.split_once("buffered | ")).expect("its line").1;
    let mebibytes: u64 = line.trim_end_matches(" MiB").parse().unwrap_or_else(|_| panic!("{line}"));
    assert!((1..48).contains(&mebibytes), "{mebibytes} MiB");
    replica.stop();
}

#[test]
fn terminals_and_files_end_at_the_limits() {
    let bench = Bench::new("hoard");
    let mut replica = bench.start(&testing::probe_image(&["hoard"]), 0, |run| {
        // Empty files take room for their names alone; in memory, their number ends them.
        run.limits.memory = Bytes::mib(512);
        run.limits.disk = Bytes::mib(16);
    });
    let log = until("the probe is through", || {
        let text = replica.log();
        text.contains("end of acts").then_some(text)
    });
    let count = |of: &str| -> usize {
        let line = log.lines().find_map(|line| line.split_once(&format!("{of} | "))).expect("its line").1;
        line.parse().unwrap_or_else(|_| panic!("{of}: {line}"))
    };
    let (terminals, files) = (count("terminals"), count("files"));
    assert!((1..=64).contains(&terminals), "{terminals} terminals");
    assert!((1_000..=65_536).contains(&files), "{files} files");
    replica.stop();
}

#[test]
fn a_killed_keeper_takes_its_replica_along_and_nothing_stays() {
    let bench = Bench::new("kill");
    let mut replica = bench.start_api("1.4.0", 0, |_| {});
    let init = replica.init;
    // SAFETY: the keeper is this test's own child.
    unsafe { libc::kill(replica.keeper.id() as i32, libc::SIGKILL) };
    let _ = replica.keeper.wait();
    until("the replica ends", || mainyard_runtime::process_started_at(init).is_none().then_some(()));
    assert!(bench.isolation.groups().members().is_empty());
}

#[test]
fn a_crashed_replica_restarts_at_once_at_its_address() {
    let bench = Bench::new("again");
    for _ in 0..20 {
        // The kernel may not have cleared away the link of the one before.
        let mut replica = bench.start_api("1.4.0", 0, |_| {});
        // SAFETY: the keeper is this test's own child.
        unsafe { libc::kill(replica.keeper.id() as i32, libc::SIGKILL) };
        let _ = replica.keeper.wait();
    }
}

#[test]
fn a_failed_start_says_why() {
    let bench = Bench::new("start");
    let progress =
        bench.try_start(&testing::probe_image(&[]), 0, |run| run.argv = vec!["/app/nothing".into()]);
    let Err(Progress::Failed { step, errno }) = progress else { panic!("it started") };
    assert_eq!((step.as_str(), errno), ("start /app/nothing", libc::ENOENT));
    let progress = bench.try_start(&testing::probe_image(&[]), 0, |run| run.argv = vec![]);
    let Err(Progress::Failed { step, .. }) = progress else { panic!("it started") };
    assert!(step.starts_with("find a command"), "{step}");
}

#[test]
fn a_hundred_replicas_start_and_stop_and_leave_nothing() {
    let bench = Bench::new("hundred");
    let mut replicas: Vec<_> = (0..100).map(|number| bench.start_api("1.4.0", number, |_| {})).collect();
    for replica in &replicas {
        let address = replica.address;
        until("the replica answers", || {
            bench.in_network(move || TcpStream::connect((address, 8080)).ok().map(drop))
        });
    }
    for replica in &mut replicas {
        replica.stop();
    }
    assert!(bench.isolation.groups().members().is_empty());
}
