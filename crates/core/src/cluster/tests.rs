//! A whole platform in memory: a node that obeys, and a gateway that confirms.

use std::collections::BTreeMap;

use jiff::Timestamp;

use super::*;
use crate::address::Range;
use crate::drain::GatewayView;
use crate::link::{NodeHello, NodeReport, ReplicaReport, RunOrder};
use crate::manifest::{SourceFile, read};
use crate::model::{
    Bytes, Cpu, ImageRecord, Name, ReleaseNumber, ReplicaId, ReplicaState, RolloutState, Setting, Target,
    WorkloadState,
};
use crate::routing::LegEntry;
use crate::routing::Table;

mod changes;
mod first_runs;
mod growth;
mod leaving;
mod live_changes;
mod promoting;
mod secrets;
mod sources;
mod views;
mod ways;
mod withdrawn;

const MANIFEST: &str = r#"
application = "lockers"
[workload.locker-api]
image = "lockers/locker-api:1.4.0"
replicas = 3
ports = { http = 8080 }
[route.api]
host = "api.lockers.localhost"
to = [{ service = "locker-api" }]
"#;

fn name(text: &str) -> Name {
    text.parse().expect("a name")
}

fn api() -> Target {
    "staging/locker-api".parse().expect("a target")
}

fn hello() -> NodeHello {
    let (cpu, memory, range) = (Cpu::from_milli(2000), Bytes::mib(4096), Range::PRIVATE);
    NodeHello { node: name("node-1"), incarnation: 1, cpu, memory, range }
}

struct Yard {
    cluster: Cluster,
    now: Timestamp,
    running: BTreeMap<ReplicaId, RunOrder>,
    table: Table,
    record: State,
    confirms: bool,
    reports: u64,
    /// The process that the node reports.
    started: Option<String>,
    /// Replicas of images whose digests begin so do not get ready.
    fails: Option<String>,
    epoch: u64,
}

impl Yard {
    fn new() -> Yard {
        let now = Timestamp::from_second(1_000_000).expect("in range");
        let mut yard = Yard {
            cluster: Cluster::new(State::default(), 1, now),
            now,
            running: BTreeMap::new(),
            table: Table::default(),
            record: State::default(),
            confirms: true,
            reports: 0,
            started: None,
            fails: None,
            epoch: 1,
        };
        yard.cluster.at(now).gateway_called("gateway-1", 1);
        yard.cluster
            .transaction("mira", now)
            .add_environment(&name("staging"), None)
            .expect("a new environment");
        yard.cluster.at(now).node_called(hello());
        for tag in ["1.4.0", "1.5.0"] {
            yard.add_image(tag);
        }
        yard
    }

    fn add_image(&mut self, tag: &str) {
        self.cluster.at(self.now).add_image(ImageRecord {
            image: format!("lockers/locker-api:{tag}").parse().expect("an image"),
            digest: format!("sha256:{tag}"),
            size: 1,
            layers: 1,
            origin: crate::model::Origin::new("platform", "settled", self.now),
            named: None,
            signed_by: Default::default(),
        });
    }

    fn declare(&mut self, text: &str, exact: bool) -> Vec<String> {
        let files = [SourceFile { name: "mainyard.toml".into(), text: text.into() }];
        let declared = read(&files, Some(&name("staging"))).expect("valid");
        let lines = self
            .cluster
            .transaction("mira", self.now)
            .declare(&declared, &name("staging"), exact)
            .expect("taken");
        lines.lines.into_iter().map(|line| format!("{}: {}", line.object, line.words)).collect()
    }

    /// One round: settle, write, let node and gateway do their part.
    fn round(&mut self) {
        self.now += jiff::SignedDuration::from_millis(300);
        let settled = self.cluster.at(self.now).settle();
        for change in settled.changes {
            match change.object {
                Some(object) => self.record.put(object),
                None => self.record.remove(change.kind, &change.key),
            }
        }
        self.reports += 1;
        let whole = self.reports == 1;
        let mut report = NodeReport { incarnation: 1, number: self.reports, whole, ..NodeReport::default() };
        if whole {
            let running = self.running.keys().cloned();
            report.replicas = running.map(|id| ReplicaReport::of(id, ReplicaState::Ready)).collect();
            // What an earlier control heard and did not write is reported again.
            let gone = self.record.replicas.values().filter(|replica| replica.stopping);
            report.gone = gone.map(|replica| replica.id.clone()).collect();
            report.gone.retain(|id| !self.running.contains_key(id));
        }
        for orders in settled.orders.into_values() {
            for order in orders.run {
                let fails = self.fails.as_ref().is_some_and(|begin| order.digest.starts_with(begin));
                let state = if fails { ReplicaState::Starting } else { ReplicaState::Ready };
                let told = ReplicaReport::of(order.id.clone(), state);
                report.replicas.push(ReplicaReport { started: self.started.clone(), ..told });
                self.running.insert(order.id.clone(), order);
            }
            for id in orders.stop {
                let in_table = self
                    .table
                    .services
                    .values()
                    .flat_map(|s| s.ports.values().flatten())
                    .any(|b| b.replica == id);
                assert!(!in_table, "{id} is stopped while the gateway sends to it");
                self.running.remove(&id);
                report.gone.push(id);
            }
        }
        if let Some(change) = settled.table {
            assert_eq!(*self.cluster.served(), self.cluster.table(), "what was not made again differs");
            if self.confirms {
                assert!(change.version > self.table.version);
                self.table = self.cluster.served().clone();
            }
        }
        let view = GatewayView { confirmed: self.table.version, open: BTreeMap::new() };
        self.cluster.at(self.now).gateway_confirmed("gateway-1", 1, view);
        self.cluster.at(self.now).node_reported(&name("node-1"), report);
    }

    fn settle_down(&mut self) {
        (0..60).for_each(|_| self.round());
    }

    fn state(&self) -> WorkloadState {
        self.cluster.state.workloads[&api()].state
    }

    fn backends(&self) -> Vec<String> {
        self.table.services["staging/locker-api"].ports[&80].iter().map(|b| b.replica.short.clone()).collect()
    }
}

#[test]
fn a_declaration_becomes_replicas_in_the_table() {
    let mut yard = Yard::new();
    let words = yard.declare(MANIFEST, false);
    assert_eq!(words[0], "workload locker-api: 3 × lockers/locker-api:1.4.0");
    yard.settle_down();
    assert_eq!(yard.state(), WorkloadState::Steady);
    assert_eq!(yard.backends(), ["a0", "a1", "a2"]);
    let leg = LegEntry { service: "staging/locker-api".to_owned(), port: 80, share: 100 };
    assert_eq!(yard.table.routes["staging/api"].to, [leg]);
    assert_eq!(yard.record, yard.cluster.state, "all that is known is in the record");
    assert_eq!(yard.declare(MANIFEST, false), Vec::<String>::new(), "the same again changes nothing");
}

#[test]
fn a_declaration_names_whom_it_overrules() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.cluster.transaction("jon", yard.now).scale(&api(), 9).expect("scaled");
    let words = yard.declare(MANIFEST, false);
    assert_eq!(words, ["workload locker-api: replicas 9 → 3 (scaled by jon at 1970-01-12T13:46:58Z)"]);
    let silent = MANIFEST.replace("replicas = 3\n", "");
    yard.cluster.transaction("jon", yard.now).scale(&api(), 5).expect("scaled");
    assert_eq!(
        yard.declare(&silent, false),
        Vec::<String>::new(),
        "a number that is left out belongs to anyone who scales"
    );
}

#[test]
fn a_rollout_moves_and_goes_back() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let image = Some("lockers/locker-api:1.5.0".parse().expect("an image"));
    let request = DeployRequest { image, ..DeployRequest::default() };
    let (number, words) =
        yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken").expect("differs");
    assert_eq!((number, words), (ReleaseNumber(2), vec!["image 1.4.0 → 1.5.0".to_owned()]));
    yard.settle_down();
    assert_eq!(yard.state(), WorkloadState::Steady);
    assert!(yard.running.values().all(|order| order.release == ReleaseNumber(2)));
    assert_eq!(
        yard.cluster.transaction("mira", yard.now).deploy(&api(), &request),
        Ok(None),
        "the same again is no release"
    );
    let done = yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect("taken");
    assert_eq!((done.number, done.same_as), (ReleaseNumber(3), ReleaseNumber(1)));
    yard.settle_down();
    let spec = |number| &yard.cluster.state.releases[&(api(), ReleaseNumber(number))];
    assert_eq!(spec(3).spec, spec(1).spec);
    assert_eq!(spec(3).digest, spec(1).digest);
    let refused =
        yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect_err("it was left");
    assert!(refused.message.contains("release 2 was left: rolled back by mira"), "{refused:?}");
    // A third one is left as well; then the first is the one that was good, not the second.
    yard.add_image("1.6.0");
    let image = "lockers/locker-api:1.6.0".parse().ok();
    yard.cluster
        .transaction("mira", yard.now)
        .deploy(&api(), &DeployRequest { image, ..DeployRequest::default() })
        .expect("taken");
    yard.settle_down();
    let done = yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect("taken");
    assert_eq!(done.same_as, ReleaseNumber(1));
}

#[test]
fn the_one_before_is_the_last_good_one_that_runs_something_else() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let deploy = |yard: &mut Yard, version: &str| {
        let image = format!("lockers/locker-api:{version}").parse().ok();
        let request = DeployRequest { image, ..DeployRequest::default() };
        yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    };
    deploy(&mut yard, "1.5.0");
    yard.settle_down();
    // Not done yet when the one after it comes.
    deploy(&mut yard, "1.4.0");
    deploy(&mut yard, "1.5.0");
    let done = yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect("taken");
    assert_eq!(done.same_as, ReleaseNumber(1), "release 2 runs what release 4 runs");
}

#[test]
fn a_release_that_was_never_good_is_no_rollback_target() {
    let mut yard = Yard::new();
    yard.fails = Some("sha256:".to_owned());
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let past_the_deadline = jiff::SignedDuration::from_mins(3);
    yard.now += past_the_deadline;
    yard.settle_down();
    let image = "lockers/locker-api:1.5.0".parse().ok();
    let request = DeployRequest { image, ..DeployRequest::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    yard.settle_down();
    yard.now += past_the_deadline;
    yard.round();
    yard.round();
    let rollout = &yard.cluster.state.rollouts[&(api(), ReleaseNumber(2))];
    assert_eq!(rollout.state, RolloutState::Awaiting);
    assert!(rollout.verdict.as_ref().is_some_and(|it| it.contains("nothing to go back to")), "{rollout:?}");
}

#[test]
fn without_a_confirmation_nothing_is_stopped() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.confirms = false;
    yard.cluster.transaction("jon", yard.now).scale(&api(), 1).expect("scaled");
    yard.settle_down();
    assert_eq!(yard.running.len(), 3);
    yard.confirms = true;
    yard.cluster.at(yard.now).touch(&api());
    yard.settle_down();
    assert_eq!(yard.running.len(), 1);
    assert_eq!(yard.state(), WorkloadState::Steady);
}

#[test]
fn a_missing_image_is_reported_with_near_names_and_recovers() {
    let mut yard = Yard::new();
    yard.declare(&MANIFEST.replace("1.4.0", "1.4.1"), false);
    yard.settle_down();
    let workload = &yard.cluster.state.workloads[&api()];
    let reason = workload.reason.clone().expect("a reason");
    assert_eq!(
        reason.to_string(),
        "image-not-found: the store has no lockers/locker-api:1.4.1; there are: lockers/locker-api:1.4.0, lockers/locker-api:1.5.0"
    );
    yard.add_image("1.4.1");
    yard.settle_down();
    assert_eq!(yard.state(), WorkloadState::Steady);
    let request = DeployRequest {
        image: Some("lockers/locker-api:1.5".parse().expect("an image")),
        ..Default::default()
    };
    let refused =
        yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect_err("not in the store");
    assert_eq!(refused.kind, RefusalKind::NotFound);
}

#[test]
fn no_room_says_what_is_asked_and_what_is_free_and_is_used_when_it_comes() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.cluster.transaction("jon", yard.now).scale(&api(), 200).expect("scaled");
    yard.settle_down();
    let reason = yard.cluster.state.workloads[&api()].reason.clone().expect("a reason");
    assert_eq!(
        reason.to_string(),
        "no-room: a replica asks for 0.01 cpu and 32 MiB; free: node-1 has 0.72 cpu and 0 B"
    );
    assert_eq!(yard.running.len(), 128);
    yard.cluster.transaction("jon", yard.now).scale(&api(), 100).expect("scaled");
    yard.settle_down();
    assert_eq!((yard.running.len(), yard.state()), (100, WorkloadState::Steady));
}

#[test]
fn the_board_tells_of_each_workload_how_it_is_reached_and_what_it_does() {
    let mut yard = Yard::new();
    let by_label = "[workload.map]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 0\nlabels = { tier = \"web\" }\n\
        ports = { http = 8080 }\n[service.pages]\nselect = { tier = \"web\" }\nports = { 80 = \"http\" }\n";
    yard.declare(&format!("{MANIFEST}{by_label}"), false);
    yard.settle_down();
    let rates = [("staging/locker-api".to_owned(), 2.5)].into();
    let board = crate::views::board::board(&yard.cluster.state, &name("staging"), &rates, yard.now);
    assert_eq!((board.nodes, board.not_isolated.len(), board.workloads.len()), (1, 0, 2));
    let [api, map] = &board.workloads[..] else { panic!("two rows") };
    assert_eq!((api.ready, api.wanted, api.requests_per_second), (3, 3, 2.5));
    assert_eq!(api.hosts, ["api.lockers.localhost"]);
    let services: Vec<&str> = map.services.iter().map(Name::as_str).collect();
    assert_eq!((services, map.hosts.len(), map.state), (vec!["map", "pages"], 0, WorkloadState::Off));
    assert_eq!(
        crate::views::board::board(&yard.cluster.state, &name("production"), &rates, yard.now).workloads,
        []
    );
}

#[test]
fn old_releases_go_and_the_last_good_one_stays() {
    let mut yard = Yard::new();
    yard.add_image("1.5.0");
    yard.declare(MANIFEST, false);
    yard.settle_down();
    // None of these ever runs: the first release goes on serving, and is what going back leads to.
    for round in 0..80 {
        let settings = [("ROUND".to_owned(), Setting::Text(round.to_string()))].into();
        let request = DeployRequest { settings, ..Default::default() };
        yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("deployed");
    }
    let kept: Vec<u32> = yard.cluster.state.releases.keys().map(|(_, number)| number.0).collect();
    assert_eq!((kept.len(), kept[0], kept[1], kept[kept.len() - 1]), (51, 1, 32, 81));
    assert_eq!(yard.cluster.state.rollouts.len(), 51);
    yard.settle_down();
    assert_eq!(yard.state(), WorkloadState::Steady);
}

#[test]
fn a_new_control_takes_over_in_the_middle_of_a_rollout() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let image = Some("lockers/locker-api:1.5.0".parse().expect("an image"));
    yard.cluster
        .transaction("mira", yard.now)
        .deploy(&api(), &DeployRequest { image, ..Default::default() })
        .expect("taken");
    (0..7).for_each(|_| yard.round());
    let open = yard.record.rollouts[&(api(), ReleaseNumber(2))].state;
    assert!(open.is_open() && open != RolloutState::Starting, "{open}");
    yard.cluster = Cluster::new(yard.record.clone(), 2, yard.now);
    yard.cluster.at(yard.now).gateway_called("gateway-1", 1);
    yard.cluster.at(yard.now).node_called(hello());
    let known: Vec<ReplicaReport> =
        yard.running.keys().map(|id| ReplicaReport::of(id.clone(), ReplicaState::Ready)).collect();
    yard.cluster.at(yard.now).node_reported(
        &name("node-1"),
        NodeReport { incarnation: 1, number: 1, whole: true, replicas: known, gone: vec![] },
    );
    yard.settle_down();
    assert_eq!(yard.state(), WorkloadState::Steady);
    assert!(yard.running.values().all(|order| order.release == ReleaseNumber(2)));
    assert_eq!(yard.running.len(), 3);
}

#[test]
fn a_removed_workload_leaves_nothing() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let gone = yard.cluster.transaction("mira", yard.now).remove_target(&api()).expect("removed");
    assert_eq!(gone.len(), 3, "{gone:?}");
    yard.settle_down();
    let state = &yard.cluster.state;
    assert!(
        yard.running.is_empty()
            && state.replicas.is_empty()
            && state.releases.is_empty()
            && state.rollouts.is_empty()
    );
    assert_eq!(yard.record, yard.cluster.state);
}

#[test]
fn exact_removes_what_the_application_no_longer_declares() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let less = MANIFEST.split("[route.api]").next().expect("the first part").to_owned();
    assert_eq!(yard.declare(&less, false), Vec::<String>::new());
    assert_eq!(yard.declare(&less, true), ["route api: api.lockers.localhost no longer leads anywhere"]);
}

#[test]
fn what_a_node_started_otherwise_does_not_count_and_goes_back() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    let release = |yard: &Yard, number| yard.cluster.state.releases[&(api(), ReleaseNumber(number))].clone();
    yard.started =
        crate::launch_fingerprint::LaunchFingerprint::of(&release(&yard, 1)).map(|started| started.digest());
    yard.settle_down();
    assert_eq!(yard.state(), WorkloadState::Steady, "as it was asked for");
    let image = Some("lockers/locker-api:1.5.0".parse().expect("an image"));
    let request = DeployRequest { image, ..Default::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    // The node goes on starting what it started before.
    yard.settle_down();
    let rollout = yard.cluster.state.newest_rollout(&api()).expect("a rollout").clone();
    assert_eq!(rollout.state, RolloutState::WentBack);
    let reason = rollout.reason.expect("a reason").to_string();
    assert!(
        reason.starts_with("not-as-released: node-1 started something else than release 2: "),
        "{reason}"
    );
    assert_eq!((yard.state(), yard.backends().len()), (WorkloadState::Steady, 3));
}

#[test]
fn a_rollback_adopts_replicas_of_the_equal_release() {
    let mut yard = Yard::new();
    let manner = "[workload.locker-api.rollout]\nstyle = \"swap\"\nkeep_old = \"1h\"\n[route.api]";
    yard.declare(&MANIFEST.replace("[route.api]", manner), false);
    yard.settle_down();
    let first: Vec<ReplicaId> = yard.running.keys().cloned().collect();
    let image = Some("lockers/locker-api:1.5.0".parse().expect("an image"));
    let request = DeployRequest { image, ..Default::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    yard.settle_down();
    assert_eq!(
        (yard.running.len(), yard.state()),
        (6, WorkloadState::Steady),
        "both sets, one beside the other"
    );
    yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect("taken");
    let settled = yard.cluster.at(yard.now).settle();
    assert!(settled.orders.values().all(|orders| orders.run.is_empty()), "nothing is started");
    let state = &yard.cluster.state;
    assert_eq!(state.newest_rollout(&api()).map(|rollout| rollout.state), Some(RolloutState::Done));
    let now: Vec<ReplicaId> = state
        .replicas
        .values()
        .filter(|replica| replica.release == ReleaseNumber(3) && replica.state == ReplicaState::Ready)
        .map(|replica| replica.id.clone())
        .collect();
    assert_eq!(now, first, "the very replicas, as release 3");
}

fn figure(yard: &Yard, release: u32, requests: u64, failed: u64, shadow: bool) -> crate::link::Figure {
    let state = &yard.cluster.state;
    let replica = state.replicas.values().next().expect("a replica").id.clone();
    let mut latencies = crate::latency::Latencies::default();
    latencies.record_many(1_600, requests);
    let (service, release) = (api(), Some(ReleaseNumber(release)));
    let (way, inside) = ("api.lockers.localhost".to_owned(), false);
    let replica = Some(replica);
    crate::link::Figure {
        way,
        inside,
        service,
        replica,
        release,
        open: 0,
        requests,
        failed,
        received: 0,
        sent: 0,
        latencies,
        shadow,
        other_size: 0,
    }
}

#[test]
fn shadow_copies_are_not_visitors_and_a_person_may_advance_despite_errors() {
    let mut yard = Yard::new();
    let manner = "[workload.locker-api.rollout]\non_failure = \"hold\"\nwatch = \"1h\"\n[route.api]";
    yard.declare(&MANIFEST.replace("[route.api]", manner), false);
    yard.settle_down();
    let image = Some("lockers/locker-api:1.5.0".parse().expect("an image"));
    let request = DeployRequest { image, ..Default::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    yard.settle_down();
    let rollout = |yard: &Yard| yard.cluster.state.newest_rollout(&api()).expect("a rollout").clone();
    let copies = [figure(&yard, 2, 400, 200, true), figure(&yard, 1, 400, 0, true)];
    yard.cluster.at(yard.now).figures_reported(&copies);
    yard.settle_down();
    let evidence = rollout(&yard).evidence;
    assert_eq!((evidence.served, evidence.copies.requests, evidence.copied.requests), (0, 400, 400));
    assert!(rollout(&yard).state != RolloutState::Awaiting, "without a shadow step nobody judges copies");
    let visits = [figure(&yard, 2, 400, 200, false), figure(&yard, 1, 400, 0, false)];
    yard.cluster.at(yard.now).figures_reported(&visits);
    yard.settle_down();
    assert_eq!(rollout(&yard).state, RolloutState::Awaiting);
    yard.cluster.transaction("mira", yard.now).advance(&api()).expect("a person says so");
    yard.cluster.at(yard.now).figures_reported(&visits);
    yard.settle_down();
    assert_ne!(rollout(&yard).state, RolloutState::Awaiting);
}
