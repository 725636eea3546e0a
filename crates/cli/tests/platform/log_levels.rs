//! How much the parts write to their logs is changed while they run, for each part alone.

use std::collections::BTreeSet;

use crate::common::{Platform, until};

#[test]
fn each_part_takes_its_new_level_while_it_runs() {
    let platform = Platform::start(false);
    let log = |part: &str| {
        let path = platform.data().join(format!("logs/{part}.log"));
        std::fs::read_to_string(path).unwrap_or_default()
    };
    assert_eq!(platform.ok(&["log-level"]).trim(), "info");
    let wrong = platform.run(&["log-level", "gatway=debug"]);
    assert_eq!(wrong.code, 2, "{wrong:?}");
    assert_eq!(platform.ok(&["log-level"]).trim(), "info", "what is refused changes nothing");

    platform.ok(&["log-level", "info,control=debug"]);
    for part in ["control", "node", "gateway"] {
        until("the part has the new levels", || log(part).contains("mainyard_control=debug").then_some(()));
    }
    // Control tells of each decision now; the others write what they wrote before.
    platform.ok(&["environment", "add", "trial"]);
    until("control tells of a decision", || log("control").contains("DEBUG").then_some(()));
    assert!(!log("gateway").contains("DEBUG"));
    assert_eq!(platform.ok(&["log-level"]).trim(), "info,control=debug");
}

#[test]
fn only_the_parts_have_the_file_of_the_levels_open() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let levels = platform.data().join("log-levels");
    let has_it = |pid: &i32| {
        let open = std::fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
        open.filter_map(|fd| std::fs::read_link(fd.path()).ok()).any(|path| path == levels)
    };
    let all = std::fs::read_dir("/proc").expect("proc").flatten();
    let all = all.filter_map(|entry| entry.file_name().to_str()?.parse::<i32>().ok());
    let found: BTreeSet<i32> = all.filter(has_it).collect();
    let parts = ["control", "node", "gateway"].iter().flat_map(|part| platform.part(part)).collect();
    assert_eq!(found, parts, "keepers and replicas do not inherit it");
}
