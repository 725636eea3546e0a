//! Files that are changed in running replicas.

use super::*;
use crate::cluster::live_replicas;

#[test]
fn a_changed_replica_is_marked_until_it_is_started_again() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let of = |yard: &Yard| {
        let state = &yard.cluster.state;
        live_replicas(state, &state.workloads[&api()]).map(|found| found.len())
    };
    let refused = of(&yard).expect_err("it is not allowed");
    assert!(refused.message.contains("live-changes staging on"), "{}", refused.message);
    let note = |yard: &mut Yard, files: Option<u32>| {
        let marks = BTreeMap::from([("a0".to_owned(), files), ("gone".to_owned(), files)]);
        yard.cluster.transaction("noor", yard.now).note_live_change(&api(), &marks)
    };
    assert!(note(&mut yard, None).is_err(), "nothing is begun where it is not allowed");
    yard.cluster.transaction("mira", yard.now).allow_live_changes(&name("staging"), true).expect("allowed");
    assert_eq!(of(&yard).expect("allowed"), 3);
    let changed = |yard: &Yard| {
        let replica = yard.cluster.state.replicas.values().find(|it| it.id.short == "a0").expect("it");
        replica.changed.as_ref().map(|change| change.files)
    };
    assert_eq!((note(&mut yard, None).expect("noted"), changed(&yard)), (1, Some(0)));
    assert_eq!(
        (note(&mut yard, Some(0)).expect("noted"), changed(&yard)),
        (0, None),
        "nothing had to be written"
    );
    note(&mut yard, None).expect("noted");
    note(&mut yard, Some(2)).expect("noted");
    note(&mut yard, None).expect("noted");
    assert_eq!((note(&mut yard, Some(1)).expect("noted"), changed(&yard)), (1, Some(3)));
    yard.settle_down();
    assert_eq!(changed(&yard), Some(3));
    let id = ReplicaId::new(api(), "a0".to_owned());
    let report = ReplicaReport { restarts: 1, ..ReplicaReport::of(id, ReplicaState::Starting) };
    let report =
        NodeReport { incarnation: 1, number: 1_000, whole: false, replicas: vec![report], gone: vec![] };
    yard.cluster.at(yard.now).node_reported(&name("node-1"), report);
    assert_eq!(changed(&yard), None, "it has its image's own files again");
}
