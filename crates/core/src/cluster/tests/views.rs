//! The views follow from the record, and agree with the gateway.

use std::collections::BTreeSet;

use super::*;
use crate::model::Signal;
use crate::views::{Act, EnvironmentView, GatewayPorts, WorkloadView};

const PORTS: GatewayPorts = GatewayPorts { http: 8080, https: 8443 };

fn view(yard: &Yard) -> EnvironmentView {
    EnvironmentView::of(&yard.cluster.state, &name("staging"), PORTS, yard.now)
}

fn of_api(yard: &Yard) -> WorkloadView {
    view(yard).workloads[&name("locker-api")].clone()
}

#[test]
fn a_view_names_what_belongs_together() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let view = view(&yard);
    let api = &view.workloads[&name("locker-api")];
    assert_eq!((api.signal, api.ready, api.taking, api.replicas.len()), (Signal::Good, 3, 3, 3));
    assert_eq!((&api.services, &api.routes), (&vec![name("locker-api")], &vec![name("api")]));
    assert_eq!((api.open, api.moves), (false, None));
    let service = &view.services[&name("locker-api")];
    assert_eq!((service.ready, &service.workloads), (3, &vec![name("locker-api")]));
    assert_eq!(service.replicas, api.replicas);
    let route = &view.routes[&name("api")];
    assert_eq!(route.url.as_deref(), Some("http://api.lockers.localhost:8080"));
    assert!(route.answers && route.legs.iter().all(|leg| leg.answers && leg.percent == 100.0));
    assert_eq!(view.needs, []);
}

#[test]
fn while_a_release_moves_both_lanes_are_shown_and_it_may_be_sent_back() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.declare(&MANIFEST.replace("1.4.0", "1.5.0"), false);
    yard.round();
    let api = of_api(&yard);
    assert_eq!(api.moves, Some([ReleaseNumber(1), ReleaseNumber(2)]));
    let lanes: Vec<(u32, &str)> = api.lanes.iter().map(|lane| (lane.release.0, lane.tag.as_str())).collect();
    assert_eq!(lanes, [(2, "1.5.0"), (1, "1.4.0")]);
    assert_eq!(api.acts, BTreeSet::from([Act::Hold, Act::Cancel]));
    yard.settle_down();
    let api = of_api(&yard);
    assert_eq!(api.acts, BTreeSet::from([Act::Hold, Act::Restart, Act::Rollback]));
    let back: Vec<(u32, bool)> = api.releases.iter().map(|row| (row.release.0, row.can_go_back)).collect();
    assert_eq!(back, [(2, false), (1, true)]);
}

#[test]
fn a_service_view_has_the_replicas_that_the_gateway_sends_to() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    for _ in 0..30 {
        yard.round();
        let sent_to: BTreeSet<String> =
            yard.backends().into_iter().map(|short| format!("staging/locker-api/{short}")).collect();
        let view = view(&yard);
        let shown: BTreeSet<String> = view.services[&name("locker-api")].replicas.iter().cloned().collect();
        assert!(sent_to.is_subset(&shown), "{sent_to:?} but {shown:?}");
        assert_eq!(view.services[&name("locker-api")].ready > 0, view.routes[&name("api")].answers);
    }
}

#[test]
fn what_is_scaled_to_none_answers_nothing_and_needs_nobody() {
    let mut yard = Yard::new();
    yard.declare(&MANIFEST.replace("replicas = 3", "replicas = 0"), false);
    yard.settle_down();
    let view = view(&yard);
    assert!(!view.routes[&name("api")].answers);
    assert_eq!((view.needs.len(), view.workloads[&name("locker-api")].taking), (0, 0));
}
