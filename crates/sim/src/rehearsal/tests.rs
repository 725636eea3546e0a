use mainyard_core::cluster::{DeployRequest, Goal};
use mainyard_core::link::NodeHello;
use mainyard_core::manifest::{SourceFile, read};
use mainyard_core::model::{Bytes, Cpu, ImageRecord, Origin};

use super::*;

fn now() -> Timestamp {
    Timestamp::from_second(1_000_000).expect("in range")
}

fn name(text: &str) -> Name {
    text.parse().expect("a name")
}

fn api() -> Target {
    "staging/locker-api".parse().expect("a target")
}

/// A cluster that has settled with three replicas, on nodes with so much memory each.
fn cluster(manner: &str, nodes: &[u64]) -> Cluster {
    let mut cluster = Cluster::new(State::default(), 1, now());
    cluster.at(now()).gateway_called("gateway-1", 1);
    cluster.transaction("mira", now()).add_environment(&name("staging"), None).expect("added");
    for (number, memory) in nodes.iter().enumerate() {
        let node = name(&format!("node-{}", number + 1));
        let (cpu, memory) = (Cpu::from_milli(8000), Bytes::mib(*memory));
        cluster.at(now()).node_called(NodeHello {
            node,
            incarnation: 1,
            cpu,
            memory,
            range: Default::default(),
        });
    }
    for tag in ["1.4.0", "1.5.0"] {
        cluster.at(now()).add_image(ImageRecord {
            image: format!("lockers/locker-api:{tag}").parse().expect("an image"),
            digest: format!("sha256:{tag}"),
            size: 1,
            layers: 1,
            origin: Origin::new("mira", "added", now()),
            named: None,
            signed_by: Default::default(),
        });
    }
    let text = format!(
        "application = \"lockers\"\n[workload.locker-api]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 3\n\
         ports = {{ http = 8080 }}\n[workload.locker-api.rollout]\nsettle = \"1s\"\n{manner}\n\
         [route.api]\nhost = \"api.localhost\"\nto = [{{ service = \"locker-api\" }}]\n"
    );
    let files = [SourceFile { name: "mainyard.toml".into(), text }];
    let declared = read(&files, Some(&name("staging"))).expect("valid");
    cluster.transaction("mira", now()).declare(&declared, &name("staging"), false).expect("declared");
    let watched = BTreeSet::from([api()]);
    let empty = Table::default();
    let mut stage = Stage {
        cluster,
        now: now(),
        due: BTreeMap::new(),
        count: 0,
        reports: 0,
        watched: &watched,
        seen: BTreeMap::new(),
        began: now(),
    };
    stage.play();
    assert_eq!(stage.cluster.table().routes.len() + empty.routes.len(), 1);
    assert!(answers(&stage.cluster.table(), "staging/api"));
    copy(stage.cluster.state().clone(), later())
}

fn later() -> Timestamp {
    now() + SignedDuration::from_mins(10)
}

fn look(cluster: &Cluster, before: &Table, lose: Option<&str>) -> Rehearsal {
    let lose = lose.map(name);
    rehearse(cluster, before, &BTreeSet::from([api()]), lose.as_ref(), later())
}

fn deploy(cluster: &mut Cluster) -> Table {
    let before = cluster.table();
    let image = "lockers/locker-api:1.5.0".parse().ok();
    let request = DeployRequest { image, ..DeployRequest::default() };
    cluster.transaction("mira", later()).deploy(&api(), &request).expect("taken");
    before
}

#[test]
fn replicas_that_were_unready_later_do_not_make_a_new_one_slow() {
    let mut state = cluster("deadline = \"30s\"", &[4096]).into_state();
    // A quarter of an hour after they were made they lost their node's agent for a while.
    for replica in state.replicas.values_mut() {
        replica.since = replica.created + SignedDuration::from_mins(15);
    }
    let mut cluster = copy(state, later());
    let before = deploy(&mut cluster);
    let seen = look(&cluster, &before, None);
    assert_eq!(seen.workloads[0].reason, None, "{seen:?}");
    assert!(seen.workloads[0].took_millis.is_some_and(|took| took < 20_000), "{seen:?}");
}

#[test]
fn a_rolling_move_is_rehearsed_with_its_time_and_its_lowest_number() {
    let mut yard = cluster("", &[4096]);
    let before = deploy(&mut yard);
    let shown = look(&yard, &before, None);
    let [moved] = &shown.workloads[..] else { panic!("{shown:?}") };
    assert_eq!((moved.lowest_ready, moved.most, moved.wanted), (3, 4, 3));
    // Three times a start of a second and a second to settle.
    let took = moved.took_millis.expect("it ends");
    assert!((6000..6600).contains(&took), "{took}");
    assert_eq!((shown.dark.len(), moved.asks, &moved.reason), (0, 0, &None));
    assert_eq!(yard.state().rollouts.len(), 2, "the copy that was given is as it was");
}

#[test]
fn a_forecast_reports_a_step_that_waits_for_approval_and_goes_on() {
    let mut yard = cluster("style = \"stepped\"\nsteps = [{ share = 50, then = \"ask\" }]", &[4096]);
    let before = deploy(&mut yard);
    let shown = look(&yard, &before, None);
    assert_eq!((shown.workloads[0].asks, shown.workloads[0].took_millis.is_some()), (1, true));
}

#[test]
fn an_image_that_does_not_fit_is_reported_before_it_starts() {
    let mut yard = cluster("style = \"swap\"", &[160]);
    let before = deploy(&mut yard);
    let shown = look(&yard, &before, None);
    let words = shown.workloads[0].reason.as_ref().map(ToString::to_string).unwrap_or_default();
    assert!(words.starts_with("no-room: "), "it would go back by itself: {shown:?}");
    let mut yard = cluster("", &[160]);
    let before = yard.table();
    yard.transaction("mira", later()).scale(&api(), 9).expect("scaled");
    let shown = look(&yard, &before, None);
    let words = shown.workloads[0].reason.as_ref().map(ToString::to_string).unwrap_or_default();
    assert!(words.starts_with("no-room: "), "{words}");
}

#[test]
fn a_lost_node_is_replaced_by_another_during_a_rollout() {
    let mut yard = cluster("", &[4096, 4096]);
    let before = deploy(&mut yard);
    let shown = look(&yard, &before, Some("node-1"));
    assert_eq!(shown.lost, Some(name("node-1")));
    let moved = &shown.workloads[0];
    assert!(moved.lowest_ready < 3 && moved.took_millis.is_some() && shown.dark.is_empty(), "{shown:?}");
    let mut alone = cluster("", &[4096]);
    let before = deploy(&mut alone);
    let shown = look(&alone, &before, Some("node-1"));
    assert_eq!((shown.workloads[0].lowest_ready, &shown.dark[..]), (0, &["api.localhost".to_owned()][..]));
}

#[test]
fn what_goes_dark_is_named() {
    let mut yard = cluster("", &[4096]);
    let before = yard.table();
    yard.transaction("mira", later()).scale(&api(), 0).expect("scaled");
    assert_eq!(look(&yard, &before, None).dark, ["api.localhost"]);
    let mut yard = cluster("", &[4096]);
    let refused = yard.transaction("mira", later()).rollback(&api(), Goal::Before);
    refused.expect_err("there is nothing to go back to");
}
