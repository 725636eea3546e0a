//! What the record cannot hold is taken back: as if it had not been asked, and everything goes on.

use super::*;

#[test]
fn what_is_withdrawn_leaves_no_trace_and_what_is_asked_next_is_done() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let (before, served) = (yard.record.clone(), yard.cluster.table());
    yard.cluster.scale(&api(), 5, "noor", yard.now).expect("scaled");
    let settled = yard.cluster.settle(yard.now);
    assert!(!settled.changes.is_empty() && !settled.orders.is_empty() && yard.cluster.state != before);
    yard.cluster.withdraw(settled, &before, yard.now);
    assert_eq!(yard.cluster.state, before, "nothing is left of it");
    let again = yard.cluster.settle(yard.now);
    assert_eq!((again.changes, again.orders), (vec![], BTreeMap::new()), "and nothing follows of it");
    let table = yard.cluster.table();
    assert_eq!(
        (table.services, table.routes),
        (served.services, served.routes),
        "gateways are told the same"
    );
    yard.cluster.scale(&api(), 4, "noor", yard.now).expect("scaled");
    yard.settle_down();
    assert_eq!((yard.state(), yard.backends().len()), (WorkloadState::Steady, 4));
    assert_eq!(yard.record, yard.cluster.state);
}

#[test]
fn a_removal_that_is_withdrawn_keeps_every_replica_in_service() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let (before, backends) = (yard.record.clone(), yard.backends());
    yard.cluster.remove_target(&api(), "noor", yard.now).expect("removed");
    let settled = yard.cluster.settle(yard.now);
    yard.cluster.withdraw(settled, &before, yard.now);
    yard.settle_down();
    assert_eq!((yard.state(), yard.backends()), (WorkloadState::Steady, backends));
    assert_eq!(yard.record, before);
}
