//! How tables change requests.

use std::net::Ipv4Addr;

use super::*;

use mainyard_core::model::EnvironmentIndex;
use mainyard_core::model::{ReleaseNumber, ReplicaId};
use mainyard_core::routing::ServiceEntry;
use mainyard_core::routing::{Backend, Capacity};

fn table(counter: u64, shorts: &[&str]) -> Table {
    let target: Target = "staging/locker-api".parse().expect("a target");
    let backends = shorts.iter().enumerate().map(|(n, short)| Backend {
        replica: ReplicaId::new(target.clone(), (*short).to_owned()),
        release: ReleaseNumber(1),
        node: "node-1".parse().expect("a name"),
        address: std::net::SocketAddrV4::new([10, 118, 16, 2 + n as u8].into(), 8080),
        capacity: Capacity::default(),
    });
    let ports = BTreeMap::from([(80, backends.collect())]);
    let address = Ipv4Addr::new(10, 118, 0, 16);
    let environment = EnvironmentIndex::new(1).expect("in range");
    let entry = serde_json::json!({"target": target, "environment": environment, "address": address, "ports": {}, "reason": null});
    let mut entry: ServiceEntry = serde_json::from_value(entry).expect("an entry");
    entry.ports = ports;
    Table {
        version: TableVersion { epoch: 1, counter },
        services: BTreeMap::from([("staging/locker-api".to_owned(), entry)]),
        ..Table::default()
    }
}

fn service(serving: &Serving) -> Arc<Service> {
    serving.service(&"staging/locker-api".parse().expect("a target")).expect("a service")
}

fn replicas(serving: &Serving) -> Vec<Arc<Replica>> {
    let service = service(serving);
    let port = &service.ports[&80];
    port.in_turn(0, port.lanes[0].replicas.len()).cloned().collect()
}

#[test]
fn an_older_table_is_refused() {
    let serving = Serving::new(1, None);
    assert!(serving.take(&table(5, &["a0"])));
    assert!(!serving.take(&table(5, &["a0", "a1"])));
    assert!(!serving.take(&table(4, &[])));
    assert_eq!(replicas(&serving).len(), 1);
}

#[test]
fn a_retired_replica_gets_no_new_requests_and_its_open_ones_are_counted() {
    let serving = Serving::new(1, None);
    serving.take(&table(1, &["a0", "a1"]));
    let first = replicas(&serving).into_iter().find(|r| r.backend.replica.short == "a0").expect("a0");
    let open = serving.enter(&first, None).expect("it is in the table");
    serving.take(&table(2, &["a1"]));
    assert!(serving.enter(&first, None).is_none());
    assert_eq!(serving.view().open.get(&first.backend.replica), Some(&1));
    drop(open);
    assert_eq!(serving.view().open, BTreeMap::new());
}

#[test]
fn a_request_from_an_old_table_finds_its_service_in_the_new_one() {
    let serving = Serving::new(1, None);
    serving.take(&table(1, &["a0"]));
    let old = service(&serving);
    serving.take(&table(2, &["a1"]));
    assert!(serving.enter(&old.ports[&80].lanes[0].replicas[0], None).is_none());
    let new = service(&serving);
    assert!(serving.enter(&new.ports[&80].lanes[0].replicas[0], None).is_some());
}

#[test]
fn a_service_that_goes_is_there_until_the_new_routing_is_in_place() {
    let serving = Serving::new(1, None);
    let (before, after) =
        (table(1, &["a0"]), Table { version: TableVersion { epoch: 1, counter: 2 }, ..Table::default() });
    serving.take(&before);
    let cell = serving.lock().cell("staging/locker-api").expect("a service");
    let change = after.change_from(&before);
    let routing = serving.routing();
    serving.lock().change(&change, 1, &routing);
    assert!(cell.now().is_some(), "requests that found the route before are led on");
    serving.lock().retire(|_| {});
    assert!(cell.now().is_none());
}

#[test]
fn figures_are_reported_once_also_of_retired_replicas() {
    let serving = Serving::new(1, None);
    serving.take(&table(1, &["a0"]));
    let replica = replicas(&serving)[0].clone();
    let way = EntryPoint { name: "api.lockers.localhost".into(), inside: false };
    let service: Target = "staging/locker-api".parse().expect("a target");
    for failed in [false, true, false] {
        serving.count(&way, &service, Some(&replica), Ended { failed, micros: 900, received: 1, sent: 2 });
    }
    serving.count(&way, &service, None, Ended { failed: true, micros: 100, received: 0, sent: 0 });
    serving.take(&table(2, &["a1"]));
    let figures = serving.take_figures();
    let told: Vec<_> = figures.iter().map(|it| (it.replica.is_some(), it.requests, it.failed)).collect();
    assert_eq!(told, [(true, 3, 1), (false, 1, 1)]);
    assert_eq!(serving.take_figures(), []);
}

#[test]
fn open_requests_are_reported_by_their_entry_point() {
    let serving = Serving::new(1, None);
    serving.take(&table(1, &["a0"]));
    let (replica, service) = (replicas(&serving)[0].clone(), service(&serving));
    let way = |name: &str| EntryPoint { name: name.into(), inside: false };
    let (api, www) = (way("api.lockers.localhost"), way("www.lockers.localhost"));
    let first = serving.enter(&replica, Some((&api, &service))).expect("it is in the table");
    let second = serving.enter(&replica, Some((&api, &service))).expect("it is in the table");
    let third = serving.enter(&replica, Some((&www, &service))).expect("it is in the table");
    let copy = serving.enter(&replica, None).expect("it is in the table");
    let told = || {
        let figures = serving.take_figures();
        figures.iter().map(|it| (it.way.clone(), it.open, it.requests)).collect::<Vec<_>>()
    };
    let both = [(api.name.to_string(), 2, 0), (www.name.to_string(), 1, 0)];
    assert_eq!(told(), both);
    assert_eq!(told(), both, "they are told again while they are open");
    serving.count(
        &api,
        &service.target,
        Some(&replica),
        Ended { failed: false, micros: 900, received: 0, sent: 0 },
    );
    drop((first, third));
    assert_eq!(told(), [(api.name.to_string(), 1, 1)]);
    drop((second, copy));
    assert_eq!(told(), []);
    assert_eq!(replica.open.load(std::sync::atomic::Ordering::SeqCst), 0);
}

#[test]
fn of_a_thousand_requests_a_release_gets_its_share_and_another_replica_is_tried_where_one_is_gone() {
    let serving = Serving::new(2, None);
    let mut split = table(1, &["a0", "a1", "b0"]);
    let entry = split.services.values_mut().next().expect("a service");
    entry.ports.get_mut(&80).expect("a port")[2].release = ReleaseNumber(2);
    let workload = entry.target.clone();
    let share =
        mainyard_core::routing::Split { workload, release: ReleaseNumber(2), per_mille: 37, shadow: false };
    entry.splits.push(share);
    serving.take(&split);
    let service = service(&serving);
    let port = &service.ports[&80];
    for worker in [0, 1, 0] {
        let firsts = (0..1000).filter_map(|_| port.in_turn(worker, 4).next());
        let new = firsts.filter(|replica| replica.backend.release == ReleaseNumber(2)).count();
        assert_eq!(new, 37, "of any thousand of one worker");
    }
    let tried: Vec<&str> = loop {
        let list: Vec<_> = port.in_turn(0, 4).collect();
        if list[0].backend.replica.short == "b0" {
            break list.iter().map(|replica| replica.backend.replica.short.as_str()).collect();
        }
    };
    assert_eq!(tried, ["b0", "a0", "a1"]);
}

#[test]
fn round_robin_continues_across_tables() {
    let serving = Serving::new(1, None);
    serving.take(&table(1, &["a0", "a1", "a2"]));
    let mut seen = BTreeMap::new();
    for round in 0..300 {
        if round == 100 {
            serving.take(&table(2, &["a0", "a1", "a2"]));
        }
        *seen.entry(replicas(&serving)[0].backend.replica.short.clone()).or_insert(0) += 1;
    }
    assert!(seen.values().all(|count| *count == 100), "{seen:?}");
}
