//! Two platforms on one machine.

use testing::MachineLists;

use crate::common::{Platform, Visitors};
use crate::faults::kill_all;

const API: &str = "api.staging.lockers.localhost";

#[test]
fn two_platforms_do_not_notice_each_other() {
    let [one, other] = [Platform::start(true), Platform::start(true)];
    for platform in [&one, &other] {
        platform.workload("staging/locker-api", |w| w["state"] == "steady");
    }
    let visitors = Visitors::start(one.http, API, 2);
    let before = one.ok(&["show", "staging/locker-api", "--json"]);
    // What is of this one alone: other tests have their own groups and networks meanwhile.
    let own = |platform: &Platform| {
        let lists = MachineLists::read(&platform.data().display().to_string());
        let instance = std::fs::read_to_string(platform.data().join("instance")).expect("the instance");
        let groups: Vec<String> =
            lists.groups.into_iter().filter(|group| group.contains(&instance)).collect();
        // Workers of the demo end and are started again by themselves: keepers come and go. Those of the workload that
        // is asked about are looked at below.
        let parts = lists.processes.into_iter().filter(|process| !process.contains("node/keeper"));
        (lists.mounts, lists.links, parts.collect::<Vec<_>>(), groups)
    };
    let lists = own(&one);

    // The other one changes, crashes, comes back and goes.
    other.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    other.ok(&["scale", "staging/locker-api", "12"]);
    assert_eq!(other.get(API, "/who").json()["version"], "1.5.0");
    kill_all(&other);
    assert_eq!(other.try_start(false).code, 0);
    other.workload("staging/locker-api", |w| w["state"] == "steady");
    assert_eq!(other.get(API, "/who").json()["version"], "1.5.0");
    other.ok(&["stop"]);

    let seen = visitors.finish();
    assert_eq!(seen.keys().collect::<Vec<_>>(), ["1.4.0"], "{seen:?}");
    assert_eq!(own(&one), lists);
    let replicas =
        |shown: &str| serde_json::from_str::<serde_json::Value>(shown).expect("JSON")["replicas"].clone();
    assert_eq!(replicas(&one.ok(&["show", "staging/locker-api", "--json"])), replicas(&before));
}
