//! A small world around `decide`: replicas become ready or fail as the test's dice say.

use proptest::prelude::*;

use super::*;
use crate::model::{Evidence, Origin, RolloutRule, Span, Target, replica_short_name};

fn at(millis: i64) -> Timestamp {
    Timestamp::from_millisecond(millis).expect("in range")
}

fn origin() -> Origin {
    Origin { by: "mira".into(), act: "deployed".into(), at: at(0) }
}

struct World {
    workload: Workload,
    replicas: Vec<Replica>,
    rollout: Option<Rollout>,
    now: i64,
}

impl World {
    fn new(wanted: u32, rule: RolloutRule) -> World {
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
        };
        let mut world = World { workload, replicas: Vec::new(), rollout: None, now: 0 };
        world.release(1);
        world
    }

    fn release(&mut self, number: u32) {
        let from = (number > 1).then_some(self.workload.release);
        self.workload.release = ReleaseNumber(number);
        self.rollout = Some(Rollout {
            workload: self.workload.target.clone(),
            from,
            to: ReleaseNumber(number),
            state: RolloutState::Starting,
            started: at(self.now),
            ended: None,
            reason: None,
            verdict: None,
            evidence: Evidence::default(),
        });
    }

    fn step(&mut self) -> Decision {
        let view =
            View { workload: &self.workload, replicas: &self.replicas, rollout: self.rollout.as_ref() };
        let decision = decide(view, at(self.now));
        for act in &decision.acts {
            match act {
                Act::Start(release, count) => (0..*count).for_each(|_| self.start(*release)),
                Act::LetGo(id) => self.set(id, ReplicaState::Draining),
            }
        }
        if let (Some(step), Some(rollout)) = (&decision.rollout, &mut self.rollout) {
            rollout.state = step.state;
            rollout.reason.clone_from(&step.reason);
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
            restarts: 0,
            stopping: false,
        });
    }

    fn set(&mut self, id: &ReplicaId, state: ReplicaState) {
        let now = at(self.now);
        let replica =
            self.replicas.iter_mut().find(|replica| replica.id == *id).expect("a replica that exists");
        replica.state = state;
        replica.since = now;
    }

    fn count(&self, state: ReplicaState) -> usize {
        self.replicas.iter().filter(|replica| replica.state == state).count()
    }

    fn staying(&self) -> usize {
        self.replicas.iter().filter(|replica| replica.state.is_staying()).count()
    }

    /// One starting replica becomes ready, one leaving replica goes; which ones the dice say.
    fn let_time_pass(&mut self, dice: usize) {
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

    fn run_until_done(&mut self, dice: &[usize], mut watch: impl FnMut(&World)) -> bool {
        for round in 0..4000 {
            self.step();
            watch(self);
            if self.rollout.as_ref().is_some_and(|rollout| rollout.state == RolloutState::Done) {
                return true;
            }
            self.let_time_pass(dice[round % dice.len()]);
            watch(self);
        }
        false
    }
}

fn rule(may_exceed: u32, may_lack: u32) -> RolloutRule {
    let (settle, deadline) = (Span::from_millis(200), Span::from_secs(100_000));
    RolloutRule { may_exceed, may_lack, settle, deadline }
}

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
    fn deciding_twice_changes_nothing_more(wanted in 0u32..20, dice in prop::collection::vec(0usize..1000, 5..20)) {
        let mut world = World::new(wanted, rule(1, 0));
        for die in dice {
            world.step();
            let again = world.step();
            prop_assert_eq!(again.acts, vec![]);
            world.let_time_pass(die);
        }
    }
}

#[test]
fn a_new_release_with_a_fault_waits_and_the_old_one_stays_whole() {
    let mut world = World::new(3, rule(1, 0));
    assert!(world.run_until_done(&[1, 2, 4, 5], |_| {}));
    world.release(2);
    world.step();
    let new = world
        .replicas
        .iter_mut()
        .find(|replica| replica.release == ReleaseNumber(2))
        .expect("one of the new");
    new.reason =
        Some(Reason::new(ReasonCode::PortSilent, "nothing listens on 8080; the process listens on 9090"));
    let decision = world.step();
    let step = decision.rollout.expect("the rollout changes");
    assert_eq!(step.state, RolloutState::Awaiting);
    assert_eq!(
        step.verdict.as_deref(),
        Some(
            "release 2 does not take over: nothing listens on 8080; the process listens on 9090; \
             release 1 still answers with 3 of 3 ready"
        )
    );
    assert_eq!(decision.state, WorkloadState::Failing);
    world.now += 10_000;
    assert_eq!(world.step().acts, vec![]);
    assert_eq!(world.count(ReplicaState::Ready), 3);
    // Going back is a release like any other.
    world.release(3);
    assert!(world.run_until_done(&[1, 2, 4, 5], |world| assert!(world.count(ReplicaState::Ready) >= 3)));
}

#[test]
fn a_rollout_that_is_never_ready_waits_at_its_deadline() {
    let mut world = World::new(2, RolloutRule { deadline: Span::from_secs(5), ..rule(1, 0) });
    assert!(world.run_until_done(&[1, 2, 4, 5], |_| {}));
    world.release(2);
    let deadline = world.now + 5000;
    let asked = world.step().look_again;
    assert_eq!(asked, Some(at(deadline)));
    world.now = deadline - 1;
    assert_eq!(world.step().rollout, None);
    world.now = deadline;
    let reason = world.step().rollout.and_then(|step| step.reason).expect("a reason");
    assert_eq!(reason.code, ReasonCode::NotReadyInTime);
}

#[test]
fn what_takes_no_requests_goes_first() {
    let mut world = World::new(3, rule(1, 0));
    assert!(world.run_until_done(&[1, 2, 4, 5], |_| {}));
    let oldest = world.replicas[0].id.clone();
    world.set(&oldest, ReplicaState::Unready);
    world.workload.wanted = 2;
    assert_eq!(world.step().acts, vec![Act::LetGo(oldest)]);
}
