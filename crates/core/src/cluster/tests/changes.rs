//! Changes of less usual kinds: a service that answered goes on answering, or the change is refused, or it is reported.

use super::*;
use crate::model::{RolloutState, Signal};
use crate::views::NeedKind;

/// The workload and its service, by the names that are changed here.
fn labelled(port: &str, tier: &str, image: &str) -> String {
    format!(
        "application = \"lockers\"\n[workload.locker-api]\nimage = \"lockers/locker-api:{image}\"\nreplicas = 2\n\
         ports = {{ {port} = 5000 }}\nlabels = {{ tier = \"{tier}\" }}\nrollout = {{ deadline = \"5s\" }}\n\
         [service.locker-api]\nselect = {{ tier = \"{tier}\" }}\nports = {{ 80 = \"{port}\" }}\n\
         [route.api]\nhost = \"api.lockers.localhost\"\nto = [{{ service = \"locker-api\" }}]\n"
    )
}

fn refused(yard: &mut Yard, text: &str) -> String {
    let files = [SourceFile { name: "mainyard.toml".into(), text: text.into() }];
    let declared = read(&files, Some(&name("staging"))).expect("valid");
    yard.cluster
        .transaction("mira", yard.now)
        .declare(&declared, &name("staging"), false)
        .expect_err("refused")
        .message
}

/// So many rounds; the service answers in each.
fn answers_throughout(yard: &mut Yard, rounds: usize) {
    for round in 0..rounds {
        yard.round();
        assert!(!yard.backends().is_empty(), "nobody answers in round {round}");
    }
}

fn newest(yard: &Yard) -> RolloutState {
    yard.cluster.state.newest_rollout(&api()).expect("a rollout").state
}

#[test]
fn a_renamed_port_and_label_are_followed_forward_and_back() {
    let mut yard = Yard::new();
    yard.declare(&labelled("http", "a", "1.4.0"), false);
    yard.settle_down();
    yard.declare(&labelled("web", "b", "1.4.0"), false);
    answers_throughout(&mut yard, 60);
    assert_eq!((newest(&yard), yard.backends().len()), (RolloutState::Done, 2));
    // Back by hand: the release from before has the old names, and the service still leads to it.
    yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect("taken");
    answers_throughout(&mut yard, 60);
    assert_eq!((newest(&yard), yard.backends().len()), (RolloutState::Done, 2));
    // What is deployed from there has those names as well.
    let image = "lockers/locker-api:1.5.0".parse().ok();
    let request = DeployRequest { image, ..DeployRequest::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    answers_throughout(&mut yard, 60);
    assert_eq!((newest(&yard), yard.backends().len()), (RolloutState::Done, 2));
}

#[test]
fn a_renamed_port_whose_release_fails_goes_back_and_answers() {
    let mut yard = Yard::new();
    yard.declare(&labelled("http", "a", "1.4.0"), false);
    yard.settle_down();
    yard.fails = Some("sha256:1.5.0".to_owned());
    yard.declare(&labelled("web", "b", "1.5.0"), false);
    answers_throughout(&mut yard, 100);
    assert_eq!((newest(&yard), yard.backends().len()), (RolloutState::WentBack, 2));
}

#[test]
fn a_rename_on_one_side_only_is_refused_with_both_names() {
    let mut yard = Yard::new();
    yard.declare(&labelled("http", "a", "1.4.0"), false);
    yard.settle_down();
    let workload_only = labelled("web", "a", "1.4.0").replace("80 = \"web\"", "80 = \"http\"");
    let said = refused(&mut yard, &workload_only);
    assert!(
        said.contains("port-missing: its port 80 leads to `http`, and locker-api would have `web`"),
        "{said}"
    );
    let service_only =
        labelled("http", "b", "1.4.0").replace("labels = { tier = \"b\" }", "labels = { tier = \"a\" }");
    let said = refused(&mut yard, &service_only);
    assert!(said.contains("selector-empty: it would select tier = b"), "{said}");
    answers_throughout(&mut yard, 10);
    // A service that never answered may wait for what it selects.
    yard.declare(
        "application = \"other\"\n[service.other]\nselect = { tier = \"none\" }\nports = { 80 = \"http\" }\n",
        false,
    );
}

#[test]
fn a_service_that_is_led_to_another_workload_waits_until_that_one_answers() {
    let mut yard = Yard::new();
    yard.declare(&labelled("http", "a", "1.4.0"), false);
    yard.settle_down();
    let other = labelled("http", "a", "1.4.0").replace(
        "[service.locker-api]\nselect = { tier = \"a\" }",
        "[workload.second]\nimage = \"lockers/locker-api:1.5.0\"\nports = { http = 5000 }\n\
         [service.locker-api]\nselect = { workload = \"second\" }",
    );
    yard.fails = Some("sha256:1.5.0".to_owned());
    yard.declare(&other, false);
    answers_throughout(&mut yard, 20);
    assert!(yard.backends().iter().all(|short| short.starts_with('a')), "the first one stands in");
    let second: Target = "staging/second".parse().expect("a target");
    yard.fails = None;
    yard.cluster
        .transaction("mira", yard.now)
        .restart(&second)
        .unwrap_or((ReleaseNumber(1), ReleaseNumber(1)));
    yard.cluster.transaction("mira", yard.now).cancel(&second).ok();
    let image = "lockers/locker-api:1.4.0".parse().ok();
    let request = DeployRequest { image, ..DeployRequest::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&second, &request).expect("taken");
    answers_throughout(&mut yard, 60);
    let entry = &yard.table.services["staging/locker-api"].ports[&80];
    assert!(entry.iter().all(|backend| backend.replica.workload == second), "{entry:?}");
    let bound = &yard.cluster.state.services[&"staging/locker-api".parse().expect("a target")].bound;
    assert!(bound.is_empty(), "nothing leads to the first one any more: {bound:?}");
}

#[test]
fn numbers_of_replicas_and_versions_of_secrets_never_come_again() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.cluster.transaction("mira", yard.now).remove_target(&api()).expect("removed");
    yard.round();
    yard.declare(MANIFEST, false);
    (0..6).for_each(|_| yard.round());
    assert_eq!(yard.backends(), ["a3", "a4", "a5"]);
    let key: Target = "staging/key".parse().expect("a target");
    let value = |name: &str| SealedValue { name: name.to_owned(), text: true };
    for (sealed, version) in [("first", 1), ("second", 2)] {
        let added =
            yard.cluster.transaction("mira", yard.now).add_secret(&key, value(sealed)).expect("added");
        assert_eq!(added.version, version);
    }
    yard.cluster.transaction("mira", yard.now).remove_secret(&key).expect("removed");
    let added = yard.cluster.transaction("mira", yard.now).add_secret(&key, value("third")).expect("added");
    assert_eq!(added.version, 3, "a release that names version 1 never means this value");
}

#[test]
fn what_was_deployed_at_zero_is_untried_and_is_rolled_out_once_replicas_are_wanted() {
    let mut yard = Yard::new();
    let manifest = MANIFEST.replace("[route", "[workload.locker-api.rollout]\ndeadline = \"5s\"\n[route");
    yard.declare(&manifest, false);
    yard.settle_down();
    yard.cluster.transaction("mira", yard.now).scale(&api(), 0).expect("scaled");
    yard.settle_down();
    yard.fails = Some("sha256:1.5.0".to_owned());
    let image = "lockers/locker-api:1.5.0".parse().ok();
    let request = DeployRequest { image, ..DeployRequest::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    yard.settle_down();
    assert_eq!(newest(&yard), RolloutState::Untried);
    let promoted = yard.cluster.promotes(&api(), &name("staging")).expect_err("nobody tried it");
    assert!(promoted.message.contains("is untried"), "{promoted:?}");
    yard.cluster.transaction("mira", yard.now).scale(&api(), 1).expect("scaled");
    yard.settle_down();
    assert_eq!(
        (newest(&yard), yard.backends().len()),
        (RolloutState::WentBack, 1),
        "the previous one answers"
    );
}

#[test]
fn a_workload_without_a_ready_replica_says_so_at_once() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.cluster.transaction("mira", yard.now).scale(&api(), 0).expect("scaled");
    yard.settle_down();
    // The same image no longer gets ready: no rollout watches it.
    yard.fails = Some("sha256:1.4.0".to_owned());
    yard.cluster.transaction("mira", yard.now).scale(&api(), 1).expect("scaled");
    (0..8).for_each(|_| yard.round());
    let workload = &yard.cluster.state.workloads[&api()];
    assert_eq!(workload.state, WorkloadState::TooFew);
    assert_eq!(
        workload.reason.as_ref().map(|reason| reason.sentence.as_str()),
        Some("no replica takes requests")
    );
}

#[test]
fn after_a_stop_in_the_middle_of_a_rollout_what_served_before_serves_first() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.fails = Some("sha256:1.5.0".to_owned());
    let image = "lockers/locker-api:1.5.0".parse().ok();
    let request = DeployRequest { image, ..DeployRequest::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    (0..4).for_each(|_| yard.round());
    // Every replica is gone at once, as after a loss of power.
    yard.reports += 1;
    let gone: Vec<ReplicaId> = std::mem::take(&mut yard.running).into_keys().collect();
    let report = NodeReport { incarnation: 1, number: yard.reports, gone, ..NodeReport::default() };
    yard.cluster.at(yard.now).node_reported(&name("node-1"), report);
    (0..10).for_each(|_| yard.round());
    let releases: Vec<u32> =
        yard.table.services["staging/locker-api"].ports[&80].iter().map(|it| it.release.0).collect();
    assert_eq!(releases, [1, 1, 1]);
}

#[test]
fn a_route_may_take_another_name_in_one_declaration() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let renamed = MANIFEST.replace("[route.api]", "[route.front]");
    assert!(refused(&mut yard, &renamed).contains("is taken by route staging/api"), "both would stay");
    let words = yard.declare(&renamed, true);
    assert!(words.iter().any(|line| line.starts_with("route front")), "{words:?}");
    yard.round();
    assert_eq!(yard.table.routes.keys().collect::<Vec<_>>(), ["staging/front"]);
}

#[test]
fn a_workload_that_is_renamed_goes_once_the_new_one_answers() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let renamed = MANIFEST.replace("locker-api]", "second]").replace("\"locker-api\"", "\"second\"");
    assert!(renamed.contains("[workload.second]") && renamed.contains("service = \"second\""));
    yard.declare(&renamed, true);
    let leads_to = |yard: &Yard| {
        let leg =
            yard.table.routes["staging/api"].to.first().expect("the route leads somewhere").service.clone();
        (leg.clone(), yard.table.services[&leg].ports[&80].len())
    };
    for round in 0..60 {
        yard.round();
        let (service, ready) = leads_to(&yard);
        assert!(ready > 0, "{service} has nobody in round {round}");
    }
    assert_eq!(leads_to(&yard), ("staging/second".to_owned(), 3));
    assert_eq!(yard.cluster.state.workloads.len(), 1, "the first one is gone");
    assert_eq!(yard.cluster.state.services.len(), 1);
    // One that never comes up takes nobody's place.
    yard.fails = Some("sha256:1.5.0".to_owned());
    let third = renamed.replace("second", "third").replace("1.4.0", "1.5.0");
    yard.declare(&third, true);
    yard.settle_down();
    assert_eq!(leads_to(&yard), ("staging/second".to_owned(), 3));
    assert!(yard.declare(&third, true).is_empty(), "it is as it is declared, and goes on");
}

#[test]
fn a_service_changes_over_to_another_workload_only_once_that_one_has_all_its_replicas() {
    let mut yard = Yard::new();
    yard.declare(&labelled("http", "a", "1.4.0"), false);
    yard.settle_down();
    // Replicas come up one after the other: the second workload moves to its release with one at a time.
    let second = "[workload.second]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 6\nports = { http = 5000 }\n\
                  [service.locker-api]\nselect = { workload = \"second\" }";
    let other =
        labelled("http", "a", "1.4.0").replace("[service.locker-api]\nselect = { tier = \"a\" }", second);
    yard.declare(&other, false);
    let of_second = |yard: &Yard| {
        let list = &yard.table.services["staging/locker-api"].ports[&80];
        list.iter().filter(|backend| backend.replica.workload.name.as_str() == "second").count()
    };
    for _ in 0..60 {
        yard.round();
        let (all, new) = (yard.backends().len(), of_second(&yard));
        assert!((all, new) == (2, 0) || (all, new) == (6, 6), "{new} of {all} carry everything");
    }
    assert_eq!(of_second(&yard), 6);
}

#[test]
fn a_port_in_use_is_refused_or_reported() {
    let mut yard = Yard::new();
    yard.cluster.reserved.ports.insert(8780, "the gateway itself".to_owned());
    let with_port =
        |port: u16| format!("{MANIFEST}[route.db]\nport = {port}\nto = [{{ service = \"locker-api\" }}]\n");
    let said = refused(&mut yard, &with_port(8780));
    assert!(said.contains("route db: port 8780 is taken by the gateway itself"), "{said}");
    yard.declare(&with_port(5432), false);
    yard.settle_down();
    let closed = BTreeMap::from([(5432, "another program has it".to_owned())]);
    yard.cluster.at(yard.now).closed_ports_reported("gateway-1", closed);
    let board = crate::views::board::board(&yard.cluster.state, &name("staging"), &BTreeMap::new(), yard.now);
    assert!(
        board
            .needs
            .iter()
            .any(|it| (it.kind, it.name.as_str(), it.signal) == (NeedKind::Route, "db", Signal::Fault))
    );
    yard.cluster.at(yard.now).closed_ports_reported("gateway-1", BTreeMap::new());
    let board = crate::views::board::board(&yard.cluster.state, &name("staging"), &BTreeMap::new(), yard.now);
    assert!(board.needs.is_empty(), "{:?}", board.needs);
}

#[test]
fn a_moved_tag_is_reported_and_changes_nothing() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let mut record = yard.cluster.state.images["lockers/locker-api:1.4.0"].clone();
    record.digest = "sha256:another".to_owned();
    yard.cluster.at(yard.now).add_image(record);
    let files = [SourceFile { name: "mainyard.toml".into(), text: MANIFEST.into() }];
    let declared = read(&files, Some(&name("staging"))).expect("valid");
    let plan = yard.cluster.plan(&declared, &name("staging"), false).expect("taken");
    assert!(plan.lines.is_empty() && plan.steps.is_empty(), "{plan:?}");
    assert!(plan.notes[0].contains("sha256:another"), "{:?}", plan.notes);
}

#[test]
fn what_is_held_is_named_before_it_goes() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.cluster.transaction("jon", yard.now).hold(&api(), "parcels are counted").expect("held");
    let gone =
        yard.cluster.clone().transaction("mira", yard.now).remove_target(&api()).expect("removed").join("\n");
    assert!(gone.contains("because parcels are counted"), "{gone}");
    let lockers = "staging/lockers".parse().expect("a target");
    let gone =
        yard.cluster.clone().transaction("mira", yard.now).remove_application(&lockers).expect("removed");
    assert!(gone.join("\n").contains("because parcels are counted"), "{gone:?}");
    let exact = yard.declare("application = \"lockers\"\n", true).join("\n");
    assert!(exact.contains("because parcels are counted"), "{exact}");
}

#[test]
fn an_environment_goes_when_it_holds_nothing_and_an_image_leaves_what_was_made_with_it() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let staging = name("staging");
    let said = yard
        .cluster
        .transaction("mira", yard.now)
        .remove_environment(&staging)
        .expect_err("it holds something");
    assert!(said.message.contains("staging holds 1 workload, 1 service"), "{}", said.message);
    let image = "lockers/locker-api:1.4.0".parse().expect("an image");
    let gone = yard.cluster.transaction("mira", yard.now).remove_image(&image).expect("removed");
    assert!(gone[0].contains("staging/locker-api@1 keep its content"), "{gone:?}");
    let lockers = "staging/lockers".parse().expect("a target");
    yard.cluster.transaction("mira", yard.now).remove_application(&lockers).expect("removed");
    let said = yard
        .cluster
        .transaction("mira", yard.now)
        .remove_environment(&staging)
        .expect_err("replicas still end");
    assert!(said.message.contains("still end"), "{}", said.message);
    yard.settle_down();
    yard.cluster.transaction("mira", yard.now).remove_environment(&staging).expect("removed");
    assert!(yard.cluster.state.environments.is_empty());
}

#[test]
fn a_route_takes_no_host_of_the_platform_itself() {
    let mut yard = Yard::new();
    yard.cluster.reserved.hosts.insert("yard.example".to_owned());
    for host in ["localhost", "127.0.0.1", "[::1]", "yard.example", "YARD.example."] {
        let text =
            format!("{MANIFEST}[route.own]\nhost = \"{host}\"\nto = [{{ service = \"locker-api\" }}]\n");
        let files = [SourceFile { name: "mainyard.toml".into(), text }];
        // Some are no host of a route at all.
        let Ok(declared) = read(&files, Some(&name("staging"))) else { continue };
        let refused = yard.cluster.transaction("mira", yard.now).declare(&declared, &name("staging"), false);
        let said = refused.expect_err(host).message;
        assert!(said.contains("is a host of the platform itself"), "{host}: {said}");
    }
    let own = |host: &str| {
        let text =
            format!("{MANIFEST}[route.own]\nhost = \"{host}\"\nto = [{{ service = \"locker-api\" }}]\n");
        read(&[SourceFile { name: "mainyard.toml".into(), text }], Some(&name("staging"))).is_ok()
    };
    assert!(own("localhost") && own("yard.example"), "these reach the rule");
}

#[test]
fn number_and_limits_are_set_together_or_not_at_all() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let memory = |mib| LimitChange { memory: Some(Bytes::mib(mib)), cpu: None };
    let done = yard.cluster.transaction("mira", yard.now).resize(&api(), Some(2), memory(96)).expect("taken");
    assert_eq!((done.before, done.release), (3, Some(ReleaseNumber(2))));
    assert!(done.differences.iter().any(|words| words.ends_with("→ 96 MiB")), "{:?}", done.differences);
    yard.settle_down();
    assert_eq!((yard.state(), yard.running.len()), (WorkloadState::Steady, 2));
    let before = yard.cluster.state.clone();
    for (wanted, limits) in
        [(Some(20_000), memory(128)), (Some(4), LimitChange { cpu: Some(Cpu::from_milli(1)), memory: None })]
    {
        yard.cluster.transaction("mira", yard.now).resize(&api(), wanted, limits).expect_err("refused");
    }
    assert_eq!(yard.cluster.state, before);
    let same = yard.cluster.transaction("mira", yard.now).resize(&api(), None, memory(96)).expect("taken");
    assert_eq!(same.release, None, "nothing differs");
}
