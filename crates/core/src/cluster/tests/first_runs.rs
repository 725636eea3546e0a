//! The command that runs once before a release serves.

use super::*;
use crate::model::{FirstOutcome, FirstState};

fn first() -> String {
    MANIFEST.replace("replicas = 3", "replicas = 3\nrun_first = [\"/app/migrate\"]")
}

/// The run of a release, as its node knows it.
fn run_of(yard: &Yard, release: u32) -> Option<ReplicaId> {
    let id = ReplicaId::new(api(), format!("first{release}"));
    yard.running.contains_key(&id).then_some(id)
}

fn tell(yard: &mut Yard, release: u32, state: FirstState, how: &str) {
    let id = run_of(yard, release).expect("it runs");
    let outcome = FirstOutcome { state, how: how.to_owned() };
    yard.reports += 1;
    let told = ReplicaReport { outcome: Some(outcome), ..ReplicaReport::of(id, ReplicaState::Ended) };
    let report =
        NodeReport { incarnation: 1, number: yard.reports, replicas: vec![told], ..NodeReport::default() };
    yard.cluster.at(yard.now).node_reported(&name("node-1"), report);
}

fn first_of(yard: &Yard, release: u32) -> FirstState {
    yard.cluster.state.rollouts[&(api(), ReleaseNumber(release))].first.as_ref().expect("one").state
}

fn deploy(yard: &mut Yard, round: u32) {
    let settings = [("ROUND".to_owned(), Setting::Text(round.to_string()))].into();
    let request = DeployRequest { settings, ..Default::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
}

/// Release 1 serves with three replicas.
fn serving() -> Yard {
    let mut yard = Yard::new();
    yard.declare(&first(), false);
    yard.settle_down();
    assert!(yard.running.len() == 1 && yard.table.services["staging/locker-api"].ports[&80].is_empty());
    let order = &yard.running[&run_of(&yard, 1).expect("the run alone")];
    assert_eq!(order.once.and_then(|once| once.incarnation), Some(1));
    tell(&mut yard, 1, FirstState::Passed, "exit code 0");
    yard.settle_down();
    assert_eq!((yard.running.len(), run_of(&yard, 1), yard.state()), (3, None, WorkloadState::Steady));
    yard
}

fn newest(yard: &Yard) -> (RolloutState, String) {
    let newest = yard.cluster.state.newest_rollout(&api()).expect("a rollout");
    (newest.state, newest.reason.as_ref().map(ToString::to_string).unwrap_or_default())
}

#[test]
fn it_runs_before_any_replica_and_however_long_it_takes() {
    let mut yard = serving();
    deploy(&mut yard, 1);
    yard.settle_down();
    yard.now += jiff::SignedDuration::from_hours(1);
    yard.settle_down();
    assert_eq!(yard.running.len(), 4, "the old ones serve on, beside the run");
    assert_eq!((newest(&yard).0, yard.backends().len()), (RolloutState::Starting, 3));
    tell(&mut yard, 2, FirstState::Passed, "exit code 0");
    yard.settle_down();
    assert_eq!((newest(&yard).0, yard.state()), (RolloutState::Done, WorkloadState::Steady));
    // The same again is known to have run.
    yard.cluster.transaction("mira", yard.now).restart(&api()).expect("taken");
    yard.cluster.at(yard.now).settle();
    yard.settle_down();
    yard.cluster
        .transaction("mira", yard.now)
        .rollback(&api(), Goal::Release(ReleaseNumber(1)))
        .expect("taken");
    yard.settle_down();
    assert_eq!((newest(&yard).0, yard.cluster.state.rollouts.len()), (RolloutState::Done, 4));
    assert!(yard.cluster.state.rollouts.values().skip(2).all(|rollout| rollout.first.is_none()));
}

#[test]
fn a_failed_run_first_goes_back_with_its_last_log_lines() {
    let mut yard = serving();
    deploy(&mut yard, 1);
    yard.settle_down();
    tell(&mut yard, 2, FirstState::Failed, "ended with exit code 3");
    yard.settle_down();
    let told = "run-first-failed: run_first (first2) ended with exit code 3".to_owned();
    assert_eq!(newest(&yard), (RolloutState::WentBack, told));
    assert_eq!((yard.running.len(), yard.state()), (3, WorkloadState::Steady));
    // Going back to what failed there is to try it again.
    yard.cluster
        .transaction("mira", yard.now)
        .rollback(&api(), Goal::Release(ReleaseNumber(2)))
        .expect("taken");
    yard.settle_down();
    assert!(run_of(&yard, 3).is_some());
}

#[test]
fn a_run_first_of_unknown_outcome_waits_for_a_person() {
    let mut yard = serving();
    deploy(&mut yard, 1);
    yard.settle_down();
    tell(&mut yard, 2, FirstState::Unknown, "its keeper was ended from outside");
    yard.settle_down();
    yard.now += jiff::SignedDuration::from_hours(1);
    yard.settle_down();
    let (state, reason) = newest(&yard);
    assert_eq!((state, yard.running.len(), run_of(&yard, 2)), (RolloutState::Awaiting, 3, None));
    assert!(reason.starts_with("run-first-unknown: "), "{reason}");
    let words = yard.cluster.transaction("jon", yard.now).advance(&api()).expect("taken");
    assert_eq!(words, "the rollout to 2 goes on although its run_first may have run");
    yard.settle_down();
    assert_eq!((newest(&yard).0, first_of(&yard, 2)), (RolloutState::Done, FirstState::Waived));
    assert!(yard.running.values().all(|order| order.release == ReleaseNumber(2)));
}

#[test]
fn a_run_that_vanishes_without_a_word_is_not_started_again() {
    let mut yard = serving();
    deploy(&mut yard, 1);
    yard.settle_down();
    let id = run_of(&yard, 2).expect("it runs");
    yard.running.remove(&id);
    yard.reports += 1;
    let report = NodeReport { incarnation: 1, number: yard.reports, gone: vec![id], ..NodeReport::default() };
    yard.cluster.at(yard.now).node_reported(&name("node-1"), report);
    yard.settle_down();
    assert_eq!((newest(&yard).0, first_of(&yard, 2)), (RolloutState::Awaiting, FirstState::Unknown));
    assert_eq!(run_of(&yard, 2), None);
}

#[test]
fn cancelling_stops_it_and_the_next_release_waits_for_its_end() {
    let mut yard = serving();
    deploy(&mut yard, 1);
    yard.settle_down();
    deploy(&mut yard, 2);
    yard.settle_down();
    assert_eq!(first_of(&yard, 2), FirstState::Unknown, "what was superseded is ended");
    assert!(run_of(&yard, 2).is_none() && run_of(&yard, 3).is_some(), "and then the next begins");
    yard.cluster.transaction("jon", yard.now).cancel(&api()).expect("taken");
    yard.settle_down();
    assert_eq!((run_of(&yard, 3), yard.running.len(), newest(&yard).0), (None, 3, RolloutState::Cancelled));
    assert_eq!(first_of(&yard, 3), FirstState::Unknown);
}

#[test]
fn what_never_served_is_not_gone_back_to() {
    let mut yard = Yard::new();
    yard.declare(&first(), false);
    yard.settle_down();
    tell(&mut yard, 1, FirstState::Failed, "ended with exit code 3");
    yard.settle_down();
    assert_eq!((newest(&yard).0, yard.running.len()), (RolloutState::Awaiting, 0));
    deploy(&mut yard, 1);
    yard.settle_down();
    tell(&mut yard, 2, FirstState::Failed, "ended with exit code 3");
    yard.settle_down();
    assert_eq!((newest(&yard).0, yard.running.len()), (RolloutState::Awaiting, 0));
    yard.cluster.transaction("jon", yard.now).advance(&api()).expect("taken");
    yard.settle_down();
    assert_eq!((newest(&yard).0, yard.running.len()), (RolloutState::Done, 3));
}

#[test]
fn removing_the_workload_ends_a_run_as_well() {
    let mut yard = serving();
    deploy(&mut yard, 1);
    yard.settle_down();
    assert_eq!(yard.running.len(), 4);
    yard.cluster.transaction("mira", yard.now).remove_target(&api()).expect("taken");
    yard.settle_down();
    assert!(yard.running.is_empty() && yard.cluster.state.releases.is_empty());
}
