//! Stepped rollouts and swaps, and what is found against a release, in the small world of [`super::tests`].

use super::tests::*;
use super::*;
use crate::model::{Answered, OnFailure, Purpose, RolloutRule, Shadow, Shadowing, Span, Step, Then};

/// Both releases answer so many requests; so many fail.
fn answer(world: &mut World, new: (u64, u64), old: (u64, u64)) {
    let evidence = &mut world.rollout.as_mut().expect("a rollout").evidence;
    let add = |seen: &mut Answered, (requests, failed): (u64, u64)| {
        seen.requests += requests;
        seen.failed += failed;
        seen.latencies.record_many(1_600, requests);
    };
    add(&mut evidence.new, new);
    add(&mut evidence.old, old);
}

fn share(world: &World) -> Option<u32> {
    world.rollout.as_ref().and_then(|rollout| rollout.share)
}

fn number_of(world: &World, release: u32) -> usize {
    let of = |replica: &&Replica| replica.release == ReleaseNumber(release) && replica.state.is_staying();
    world.replicas.iter().filter(of).count()
}

#[test]
fn a_stepped_rollout_gives_exact_shares_and_never_has_too_few() {
    let mut world = moving(4, stepped(&[step(10, 1000), step(50, 1000)]));
    let mut shares = Vec::new();
    assert!(world.run_until_done(&DICE, |world| {
        assert!(world.count(ReplicaState::Ready) >= 4 && world.staying() <= 5);
        let (new, share) = (number_of(world, 2), share(world).expect("a share"));
        assert!(share == 0 || new > 0, "requests only where somebody is");
        if shares.last() != Some(&share) {
            shares.push(share);
        }
    }));
    assert_eq!((shares[0], shares[1]), (0, 100), "none before the first replica counts");
    assert!(shares.contains(&500) && shares.is_sorted(), "{shares:?}");
    assert_eq!((shares.last(), number_of(&world, 1), number_of(&world, 2)), (Some(&1000), 0, 4));
}

#[test]
fn a_step_that_asks_waits_for_approval_and_is_still_analysed() {
    let ask = Step { then: Some(Then::Ask), watch: None, ..step(25, 0) };
    let mut world = moving(4, stepped(&[ask]));
    assert!(world.run_until(RolloutState::Awaiting, &DICE, |_| {}));
    let rollout = world.rollout.clone().expect("a rollout");
    assert_eq!((rollout.share, number_of(&world, 2)), (Some(250), 1));
    let reason = rollout.reason.expect("a reason").to_string();
    assert_eq!(reason, "asks-first: step 1 of 1 is there (25 %, then ask); next: all");
    world.now += 1_000_000;
    let waits = world.step();
    assert_eq!((waits.acts, waits.rollout, waits.state), (vec![], None, WorkloadState::Moving));
    answer(&mut world, (40, 8), (120, 0));
    let turned = world.step().rollout.expect("the rollout changes");
    assert_eq!(turned.state, RolloutState::GoingBack);
    let words = "8 of 40 requests (20.0 %) failed, of release 1 in the same time 0 of 120";
    assert_eq!(turned.reason.map(|reason| reason.sentence).as_deref(), Some(words));
    world.step();
    assert_eq!(share(&world), Some(0), "no further request goes to it");
    assert!(world.run_until(RolloutState::WentBack, &DICE, |_| {}));
}

#[test]
fn a_person_sends_a_step_on() {
    let ask = Step { then: Some(Then::Ask), watch: None, ..step(25, 0) };
    let mut world = moving(4, stepped(&[ask]));
    assert!(world.run_until(RolloutState::Awaiting, &DICE, |_| {}));
    let rollout = world.rollout.as_mut().expect("a rollout");
    (rollout.state, rollout.reason) = (RolloutState::Shifting, None);
    next_step(rollout, at(world.now));
    assert!(world.run_until_done(&DICE, |world| assert!(world.count(ReplicaState::Ready) >= 4)));
}

#[test]
fn more_replicas_in_the_middle_of_a_step_are_of_both_releases() {
    let ask = Step { then: Some(Then::Ask), watch: None, ..step(25, 0) };
    let mut world = moving(4, stepped(&[ask]));
    assert!(world.run_until(RolloutState::Awaiting, &DICE, |_| {}));
    world.workload.wanted = 8;
    (0..200).for_each(|round| {
        world.step();
        world.let_time_pass(DICE[round % 4]);
    });
    assert_eq!((number_of(&world, 2), number_of(&world, 1), share(&world)), (2, 6, Some(250)));
    world.workload.wanted = 4;
    (0..200).for_each(|round| {
        world.step();
        world.let_time_pass(DICE[round % 4]);
    });
    assert_eq!((number_of(&world, 2), number_of(&world, 1), share(&world)), (1, 3, Some(250)));
}

#[test]
fn a_swap_gives_all_requests_at_once_and_keeps_the_old_set_for_a_while() {
    let mut world = moving(3, swap(Span::from_secs(60)));
    assert!(world.run_until_done(&DICE, |world| {
        let counted = number_of(world, 2) == 3;
        let share = share(world).expect("a share");
        assert!(share == 0 || (share == 1000 && counted), "all or nothing: {share}");
        assert_eq!(number_of(world, 1), 3);
    }));
    let decision = world.step();
    assert_eq!((decision.acts, decision.state), (vec![], WorkloadState::Steady));
    world.now += 59_000;
    assert_eq!(world.step().acts, vec![]);
    world.now += 2_000;
    assert_eq!(world.step().acts.len(), 3, "the old set goes");
    assert_eq!(number_of(&world, 2), 3);
}

#[test]
fn a_swap_that_fails_visitors_goes_back_at_once() {
    let mut world = moving(3, swap(Span::from_secs(60)));
    while share(&world) != Some(1000) {
        world.step();
        world.let_time_pass(1);
    }
    answer(&mut world, (40, 6), (4000, 2));
    world.step();
    let acts = world.step().acts;
    assert_eq!((share(&world), acts.len(), number_of(&world, 1)), (Some(0), 3, 3));
    assert!(world.run_until(RolloutState::WentBack, &DICE, |_| {}));
}

#[test]
fn a_held_workload_keeps_its_release_and_its_number() {
    let mut world = moving(3, rule(1, 0));
    assert!(world.run_until(RolloutState::Shifting, &DICE, |_| {}));
    let held = crate::model::HoldMark { because: "a look at it".into(), origin: origin() };
    world.workload.held = Some(held);
    let before = world.rollout.clone();
    for round in 0..200 {
        world.step();
        world.let_time_pass(DICE[round % 4]);
    }
    assert_eq!(world.rollout, before);
    assert!(number_of(&world, 1) > 0 && number_of(&world, 2) > 0);
    let lost = world.replicas.iter().find(|replica| replica.state.is_staying()).expect("one").id.clone();
    world.replicas.retain(|replica| replica.id != lost);
    for round in 0..200 {
        world.step();
        world.let_time_pass(DICE[round % 4]);
    }
    assert!(world.count(ReplicaState::Ready) >= 3);
    world.workload.held = None;
    assert!(world.run_until_done(&DICE, |_| {}));
}

#[test]
fn a_rollout_goes_on_despite_errors_when_a_person_says_so() {
    let mut world = moving(3, RolloutRule { on_failure: OnFailure::Hold, ..rule(1, 0) });
    assert!(world.run_until(RolloutState::Shifting, &DICE, |_| {}));
    answer(&mut world, (40, 10), (200, 0));
    let waits = world.step();
    assert_eq!(waits.state, WorkloadState::Failing);
    assert!(!world.run_until_done(&DICE, |_| {}), "it stays found against however well its checks are");
    let origin = origin();
    let rollout = world.rollout.as_mut().expect("a rollout");
    rollout.waived = Some(origin);
    assert!(world.run_until_done(&DICE, |_| {}));
}

#[test]
fn a_rollback_has_no_steps() {
    let mut world = moving(6, stepped(&[step(10, 100_000)]));
    world.rollout.as_mut().expect("a rollout").purpose = Purpose::Back;
    assert_eq!(world.step().acts, vec![Act::Start(ReleaseNumber(2), 6)]);
    assert!(world.run_until_done(&DICE, |world| assert!(world.count(ReplicaState::Ready) >= 6)));
    assert_eq!(share(&world), None);
    let verdict = world.rollout.and_then(|rollout| rollout.verdict).expect("a verdict");
    assert!(verdict.ends_with("known from before, judged by its checks alone"), "{verdict}");
}

fn copy(world: &mut World, new: (u64, u64), old: (u64, u64)) {
    let evidence = &mut world.rollout.as_mut().expect("a rollout").evidence;
    for (seen, (requests, failed)) in [(&mut evidence.copies, new), (&mut evidence.copied, old)] {
        seen.requests += requests;
        seen.failed += failed;
        seen.latencies.record_many(1_600, requests);
    }
}

fn shadowed(rule: RolloutRule) -> RolloutRule {
    RolloutRule { shadow: Some(Shadow { copies: 100, within: Span::from_secs(30) }), ..rule }
}

#[test]
fn a_release_that_fails_shadow_copies_goes_back_before_any_visitor() {
    for rule in [rule(1, 0), stepped(&[step(10, 1000)]), swap(Span::from_secs(60))] {
        let mut world = moving(3, shadowed(rule));
        while world.rollout.as_ref().is_some_and(|rollout| rollout.shadow == Shadowing::Before) {
            world.step();
            world.let_time_pass(1);
            assert_eq!(share(&world), Some(0));
        }
        answer(&mut world, (0, 0), (800, 0));
        copy(&mut world, (40, 5), (40, 0));
        let turned = world.step().rollout.expect("the rollout changes");
        assert_eq!((turned.state, turned.evidence.new.requests), (RolloutState::GoingBack, 0));
        let words = "5 of 40 copied requests (12.5 %) failed, of release 1 in the same time 0 of 800; \
                     no visitor was touched";
        assert_eq!(turned.reason.map(|reason| reason.sentence).as_deref(), Some(words));
        assert!(world.run_until(RolloutState::WentBack, &DICE, |_| {}));
    }
}

#[test]
fn after_enough_copies_or_enough_time_the_visitors_come() {
    for copies in [100, 0] {
        let mut world = moving(3, shadowed(rule(1, 0)));
        while world.rollout.as_ref().is_some_and(|rollout| rollout.shadow == Shadowing::Before) {
            world.step();
            world.let_time_pass(1);
        }
        assert_eq!(number_of(&world, 2), 1, "one answers copies");
        let since = world.now;
        copy(&mut world, (copies, 0), (copies, 0));
        assert!(world.run_until_done(&DICE, |world| assert!(world.count(ReplicaState::Ready) >= 3)));
        let waited = world.now - since >= 29_000;
        assert_eq!(waited, copies == 0, "{} ms", world.now - since);
    }
}

#[test]
fn a_watch_ends_at_its_time_and_not_before() {
    let mut world = moving(4, stepped(&[step(25, 1000)]));
    while world.rollout.as_ref().is_some_and(|rollout| rollout.watched_since.is_none()) {
        world.step();
        world.let_time_pass(1);
    }
    let since = world.rollout.as_ref().and_then(|rollout| rollout.watched_since).expect("it is watched");
    let at_step = |world: &World| world.rollout.as_ref().map(|rollout| rollout.step);
    world.now = since.as_millisecond() + 999;
    assert_eq!(world.step().look_again, Some(since + Span::from_secs(1).signed()));
    assert_eq!(at_step(&world), Some(0));
    world.now += 1;
    world.step();
    assert_eq!(at_step(&world), Some(1));
}

#[test]
fn a_rollback_that_fails_waits_instead_of_going_forward() {
    let mut world = moving(3, rule(1, 0));
    world.rollout.as_mut().expect("a rollout").purpose = Purpose::Back;
    world.step();
    let new = world.replicas.iter_mut().find(|replica| replica.release == ReleaseNumber(2));
    new.expect("one of it").reason = Some(Reason::new(ReasonCode::KeepsEnding, "ended 2 times"));
    assert_eq!(world.step().rollout.map(|rollout| rollout.state), Some(RolloutState::Awaiting));
}

#[test]
fn the_first_release_is_not_compared_with_anything() {
    let mut world = World::new(3, rule(1, 0));
    world.step();
    answer(&mut world, (400, 200), (0, 0));
    assert!(world.run_until_done(&DICE, |_| {}), "its checks decide");
}

#[test]
fn visitors_are_compared_from_the_beginning_after_the_shadow_step() {
    let mut world = moving(3, shadowed(rule(1, 0)));
    while world.rollout.as_ref().is_some_and(|rollout| rollout.shadow == Shadowing::Before) {
        world.step();
        world.let_time_pass(1);
    }
    answer(&mut world, (0, 0), (800, 0));
    for copies in [25, 20, 60] {
        copy(&mut world, (copies, 0), (copies, 0));
        world.step();
    }
    let rollout = world.rollout.as_ref().expect("a rollout");
    assert_eq!((rollout.shadow, rollout.evidence.looks), (Shadowing::Passed, 0));
    answer(&mut world, (20, 10), (800, 0));
    assert_eq!(world.step().rollout.map(|rollout| rollout.state), Some(RolloutState::GoingBack));
}
