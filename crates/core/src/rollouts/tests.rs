//! A small world around `decide`: replicas become ready or fail as the test's dice say.

use proptest::prelude::*;

use super::*;
use crate::model::{OnFailure, Origin, Purpose, RolloutRule, Span, Step, Style, Target, replica_short_name};

pub(super) fn at(millis: i64) -> Timestamp {
    Timestamp::from_millisecond(millis).expect("in range")
}

pub(super) fn origin() -> Origin {
    Origin::new("mira", "deployed", at(0))
}

pub(super) struct World {
    pub(super) workload: Workload,
    pub(super) replicas: Vec<Replica>,
    pub(super) rollout: Option<Rollout>,
    pub(super) now: i64,
    pub(super) enough: u32,
}

impl World {
    pub(super) fn new(wanted: u32, rule: RolloutRule) -> World {
        let target: Target = "staging/locker-api".parse().expect("a target");
        let workload = Workload {
            target: target.clone(),
            application: "lockers".parse().expect("a name"),
            wanted,
            wanted_origin: origin(),
            rule,
            release: ReleaseNumber(1),
            settled: None,
            next_replica: 0,
            origin: origin(),
            last_change: origin(),
            state: WorkloadState::Moving,
            reason: None,
            since: at(0),
            after: Default::default(),
            follow_tag: None,
            growing: None,
            held: None,
            unanswered_since: None,
            serves_unready: false,
            leaves: false,
            kept: Default::default(),
        };
        let mut world = World { workload, replicas: Vec::new(), rollout: None, now: 0, enough: 50 };
        world.release(1);
        world
    }

    /// One whose replicas are all ready.
    pub(super) fn steady(wanted: u32) -> World {
        let mut world = World::new(wanted, RolloutRule::default());
        (0..wanted).for_each(|_| world.start(ReleaseNumber(1)));
        for replica in &mut world.replicas {
            replica.state = ReplicaState::Ready;
        }
        (world.rollout, world.workload.settled) = (None, Some(ReleaseNumber(1)));
        world
    }

    pub(super) fn release(&mut self, number: u32) {
        let from = (number > 1).then_some(self.workload.release);
        self.workload.release = ReleaseNumber(number);
        let target = self.workload.target.clone();
        self.rollout = Some(Rollout::new(target, from, ReleaseNumber(number), Purpose::Change, at(self.now)));
    }

    pub(super) fn step(&mut self) -> Decision {
        let view = View {
            workload: &self.workload,
            replicas: &self.replicas,
            runs: &[],
            rollout: self.rollout.as_ref(),
            enough: self.enough,
        };
        let decision = decide(view, at(self.now));
        for act in &decision.acts {
            match act {
                Act::Start(release, count) => (0..*count).for_each(|_| self.start(*release)),
                Act::RunFirst(release) => panic!("{release} has nothing to run first"),
                Act::LetGo(id) => self.set(id, ReplicaState::Draining),
            }
        }
        if let Some(rollout) = &decision.rollout {
            if rollout.state == RolloutState::GoingBack {
                self.workload.release = rollout.from.expect("something to go back to");
            }
            self.rollout = Some(rollout.clone());
        }
        decision
    }

    fn start(&mut self, release: ReleaseNumber) {
        let short = replica_short_name(self.workload.next_replica);
        self.workload.next_replica += 1;
        self.replicas.push(Replica {
            id: ReplicaId::new(self.workload.target.clone(), short),
            release,
            node: None,
            address: None,
            state: ReplicaState::Starting,
            reason: None,
            since: at(self.now),
            created: at(self.now),
            ready_after: None,
            restarts: 0,
            changed: None,
            started: None,
            takes_connections: false,
            aside: None,
            once: None,
            stopping: false,
        });
    }

    pub(super) fn set(&mut self, id: &ReplicaId, state: ReplicaState) {
        let now = at(self.now);
        let replica =
            self.replicas.iter_mut().find(|replica| replica.id == *id).expect("a replica that exists");
        replica.state = state;
        replica.since = now;
    }

    pub(super) fn count(&self, state: ReplicaState) -> usize {
        self.replicas.iter().filter(|replica| replica.state == state).count()
    }

    pub(super) fn staying(&self) -> usize {
        self.replicas.iter().filter(|replica| replica.state.is_staying()).count()
    }

    /// One starting replica becomes ready, one leaving replica goes; which ones the dice say.
    pub(super) fn let_time_pass(&mut self, dice: usize) {
        self.now += 50 + (dice % 400) as i64;
        let ids = |state: ReplicaState, world: &World| -> Vec<ReplicaId> {
            world.replicas.iter().filter(|r| r.state == state).map(|r| r.id.clone()).collect()
        };
        let starting = ids(ReplicaState::Starting, self);
        if !starting.is_empty() && !dice.is_multiple_of(3) {
            self.set(&starting[dice % starting.len()], ReplicaState::Ready);
        }
        let draining = ids(ReplicaState::Draining, self);
        if !draining.is_empty() && dice.is_multiple_of(2) {
            let gone = &draining[dice % draining.len()];
            self.replicas.retain(|replica| replica.id != *gone);
        }
    }

    pub(super) fn run_until_done(&mut self, dice: &[usize], watch: impl FnMut(&World)) -> bool {
        self.run_until(RolloutState::Done, dice, watch)
    }

    pub(super) fn run_until(
        &mut self,
        state: RolloutState,
        dice: &[usize],
        mut watch: impl FnMut(&World),
    ) -> bool {
        for round in 0..4000 {
            self.step();
            watch(self);
            if self.rollout.as_ref().is_some_and(|rollout| rollout.state == state) {
                return true;
            }
            self.let_time_pass(dice[round % dice.len()]);
            watch(self);
        }
        false
    }
}

pub(super) fn rule(may_exceed: u32, may_lack: u32) -> RolloutRule {
    let (settle, deadline) = (Span::from_millis(200), Span::from_secs(100_000));
    RolloutRule { may_exceed, may_lack, settle, deadline, ..RolloutRule::default() }
}

pub(super) fn step(share: u32, watch: u64) -> Step {
    Step { share: Some(share), count: None, watch: Some(Span::from_millis(watch)), then: None }
}

pub(super) fn stepped(steps: &[Step]) -> RolloutRule {
    RolloutRule { style: Style::Stepped, steps: steps.to_vec(), ..rule(1, 0) }
}

pub(super) fn swap(keep_old: Span) -> RolloutRule {
    RolloutRule { style: Style::Swap, keep_old, watch: Some(Span::from_millis(500)), ..rule(1, 0) }
}

/// A world whose second release has just begun.
pub(super) fn moving(wanted: u32, rule: RolloutRule) -> World {
    let mut world = World::new(wanted, rule);
    assert!(world.run_until_done(&DICE, |_| {}), "the first release never came up");
    world.release(2);
    world
}

pub(super) const DICE: [usize; 4] = [1, 2, 4, 5];

proptest! {
    #[test]
    fn a_rolling_move_never_has_too_few_or_too_many_and_ends(
        wanted in 1u32..12,
        may_exceed in 0u32..4,
        may_lack in 0u32..3,
        dice in prop::collection::vec(0usize..1000, 20..60),
    ) {
        let mut world = World::new(wanted, rule(may_exceed, may_lack));
        prop_assert!(world.run_until_done(&dice, |_| {}), "the first release never came up");
        world.release(2);
        let least = wanted.saturating_sub(may_lack) as usize;
        let exceed = if may_lack == 0 { may_exceed.max(1) } else { may_exceed };
        let most = (wanted + exceed) as usize;
        let mut seen = Ok(());
        let done = world.run_until_done(&dice, |world| {
            let ready = world.count(ReplicaState::Ready);
            if seen.is_ok() && (ready < least || world.staying() > most) {
                seen = Err(format!("{ready} ready of at least {least}, {} staying of at most {most}", world.staying()));
            }
        });
        prop_assert!(seen.is_ok(), "{seen:?}");
        prop_assert!(done, "the rollout never ended");
        prop_assert!(world.replicas.iter().filter(|r| r.state.is_staying()).all(|r| r.release == ReleaseNumber(2)));
    }

    #[test]
    fn any_scale_in_the_middle_of_a_rollout_ends_with_what_is_wanted(
        before in 1u32..8,
        after in 0u32..12,
        when in 0usize..30,
        dice in prop::collection::vec(0usize..1000, 20..60),
    ) {
        let mut world = World::new(before, rule(1, 0));
        prop_assert!(world.run_until_done(&dice, |_| {}), "the first release never came up");
        world.release(2);
        for round in 0..when {
            world.step();
            world.let_time_pass(dice[round % dice.len()]);
        }
        world.workload.wanted = after;
        for round in 0..3000 {
            world.step();
            world.let_time_pass(dice[round % dice.len()]);
        }
        prop_assert_eq!(world.count(ReplicaState::Ready), after as usize);
        prop_assert_eq!(world.staying(), after as usize);
        let end = world.step();
        prop_assert_eq!(end.acts, vec![]);
        prop_assert_eq!(end.state, if after == 0 { WorkloadState::Off } else { WorkloadState::Steady });
    }

    #[test]
    fn deciding_is_idempotent(wanted in 0u32..20, dice in prop::collection::vec(0usize..1000, 5..20)) {
        let mut world = World::new(wanted, rule(1, 0));
        for die in dice {
            world.step();
            let again = world.step();
            prop_assert_eq!(again.acts, vec![]);
            world.let_time_pass(die);
        }
    }
}

fn fault() -> Reason {
    Reason::new(ReasonCode::PortSilent, "nothing listens on 8080; the process listens on 9090")
}

fn break_one_new(world: &mut World) {
    let target = world.rollout.as_ref().map(|rollout| rollout.to);
    let new = world.replicas.iter_mut().find(|replica| Some(replica.release) == target);
    new.expect("one of the new").reason = Some(fault());
}

#[test]
fn a_new_release_with_a_fault_goes_back_and_the_old_one_stays_whole() {
    let mut world = moving(3, rule(1, 0));
    world.step();
    break_one_new(&mut world);
    let turned = world.step().rollout.expect("the rollout changes");
    assert_eq!(turned.state, RolloutState::GoingBack);
    assert_eq!(
        turned.verdict.as_deref(),
        Some("release 2 goes back to 1: nothing listens on 8080; the process listens on 9090")
    );
    let old: Vec<ReplicaId> = world.replicas.iter().take(3).map(|replica| replica.id.clone()).collect();
    assert!(world.run_until(RolloutState::WentBack, &DICE, |world| {
        assert!(world.count(ReplicaState::Ready) >= 3);
    }));
    let verdict = world.rollout.as_ref().and_then(|rollout| rollout.verdict.clone()).expect("a verdict");
    assert!(verdict.contains("release 1 answers with 3 of 3 ready"), "{verdict}");
    world.replicas.retain(|replica| replica.state.is_staying());
    let left: Vec<ReplicaId> = world.replicas.iter().map(|replica| replica.id.clone()).collect();
    assert_eq!(left, old, "exactly the old release, the very replicas");
    assert_eq!(world.step().state, WorkloadState::Steady);
}

#[test]
fn a_new_release_with_a_fault_waits_where_it_is_to_be_held() {
    let mut world = moving(3, RolloutRule { on_failure: OnFailure::Hold, ..rule(1, 0) });
    world.step();
    break_one_new(&mut world);
    let decision = world.step();
    let waits = decision.rollout.expect("the rollout changes");
    assert_eq!(waits.state, RolloutState::Awaiting);
    assert_eq!(
        waits.verdict.as_deref(),
        Some(
            "release 2 does not take over: nothing listens on 8080; the process listens on 9090; \
             release 1 still answers with 3 of 3 ready"
        )
    );
    assert_eq!(decision.state, WorkloadState::Failing);
    world.now += 10_000;
    assert_eq!(world.step().acts, vec![]);
    assert_eq!(world.count(ReplicaState::Ready), 3);
}

#[test]
fn an_awaiting_rollout_with_a_crashing_replica_settles() {
    let mut world = World::new(2, rule(1, 0));
    assert!(world.run_until(RolloutState::Shifting, &DICE, |_| {}));
    let keeps_ending = Reason::new(ReasonCode::KeepsEnding, "ended 2 times, the last with signal 9");
    for replica in &mut world.replicas {
        (replica.state, replica.since) = (ReplicaState::Ready, at(world.now));
    }
    world.replicas[0].reason = Some(keeps_ending);
    world.now += 60_000;
    assert_eq!(world.step().rollout.map(|rollout| rollout.state), Some(RolloutState::Awaiting));
    assert_eq!(world.step().rollout, None, "nothing has changed since");
    world.replicas[0].reason = None;
    let went_on = world.step().rollout.expect("it is well after all");
    assert_ne!(went_on.state, RolloutState::Awaiting);
}

#[test]
fn a_rollout_that_is_never_ready_goes_back_at_its_deadline() {
    let mut world = moving(2, RolloutRule { deadline: Span::from_secs(5), ..rule(1, 0) });
    let deadline = world.now + 5000;
    let asked = world.step().look_again;
    assert_eq!(asked, Some(at(deadline)));
    world.now = deadline - 1;
    assert_eq!(world.step().rollout, None);
    world.now = deadline;
    let turned = world.step().rollout.expect("the rollout changes");
    assert_eq!(turned.state, RolloutState::GoingBack);
    assert_eq!(turned.reason.map(|reason| reason.code), Some(ReasonCode::NotReadyInTime));
}

#[test]
fn replicas_that_are_not_ready_go_first() {
    let mut world = World::new(3, rule(1, 0));
    assert!(world.run_until_done(&DICE, |_| {}));
    let oldest = world.replicas[0].id.clone();
    world.set(&oldest, ReplicaState::Unready);
    world.workload.wanted = 2;
    assert_eq!(world.step().acts, vec![Act::LetGo(oldest)]);
}
