//! Changes that the record cannot hold are taken back as if they had not been asked, and everything else goes on.

use super::*;

#[test]
fn what_is_withdrawn_leaves_no_trace_and_what_is_asked_next_is_done() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let (before, served) = (yard.record.clone(), yard.cluster.table());
    yard.cluster.transaction("noor", yard.now).scale(&api(), 5).expect("scaled");
    let settled = yard.cluster.at(yard.now).settle();
    assert!(!settled.changes.is_empty() && !settled.orders.is_empty() && yard.cluster.state != before);
    yard.cluster.withdraw(settled, &before);
    assert_eq!(yard.cluster.state, before, "nothing is left of it");
    let again = yard.cluster.at(yard.now).settle();
    assert_eq!((again.changes, again.orders), (vec![], BTreeMap::new()), "and nothing follows of it");
    let table = yard.cluster.table();
    assert_eq!(
        (table.services, table.routes),
        (served.services, served.routes),
        "gateways are told the same"
    );
    yard.cluster.transaction("noor", yard.now).scale(&api(), 4).expect("scaled");
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
    yard.cluster.transaction("noor", yard.now).remove_target(&api()).expect("removed");
    let settled = yard.cluster.at(yard.now).settle();
    yard.cluster.withdraw(settled, &before);
    yard.settle_down();
    assert_eq!((yard.state(), yard.backends()), (WorkloadState::Steady, backends));
    assert_eq!(yard.record, before);
}

#[test]
fn what_a_command_did_before_it_was_refused_is_taken_back() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard.cluster.transaction("mira", yard.now).scale(&api(), 5).expect("scaled");
    let (before, pending) = (yard.cluster.state.clone(), yard.cluster.changes.clone());
    let now = yard.now;
    let refused: Result<(), Refusal> = yard.cluster.attempt("noor", now, |transaction| {
        transaction.scale(&api(), 7)?;
        transaction.remove_target(&api())?;
        transaction.add_environment(&"elsewhere".parse().expect("a name"), None)?;
        assert_ne!(transaction.state, before);
        Refusal::new(RefusalKind::Conflict, "not today")
    });
    assert_eq!(refused.map_err(|it| it.message), Err("not today".to_owned()));
    assert_eq!(yard.cluster.state, before);
    assert_eq!(yard.cluster.changes.take(), pending.clone().take(), "what was asked before still stands");
    assert!(pending.clone().take().iter().any(|change| change.cause.by == "mira"));
}
