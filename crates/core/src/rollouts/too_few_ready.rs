//! When a check is believed no longer: where so few replicas pass it that the few would be overrun.
//!
//! Under load the checks of all replicas are answered late. If each that fails were sent no requests, the others would get
//! more and fail next, until none is left. So where fewer pass than are enough, those that take connections serve on, until
//! they all pass again.

use super::View;
use crate::model::{Reason, ReasonCode, Replica, ReplicaState};

/// A replica that was ready, fails its check, and takes connections.
pub fn may_serve(replica: &Replica) -> bool {
    replica.state == ReplicaState::Unready && replica.takes_connections
}

/// Whether the others are sent requests as well. Once it begins, it goes on until every one of them passes again: if it
/// ended at the bound, those that just recovered would be overrun at once.
pub(super) fn applies(view: View<'_>) -> bool {
    if !view.replicas.iter().any(may_serve) || view.enough == 0 {
        return false;
    }
    let ready = view.replicas.iter().filter(|replica| replica.state == ReplicaState::Ready).count() as u64;
    view.workload.serves_unready || ready * 100 < u64::from(view.workload.wanted) * u64::from(view.enough)
}

/// Why, with what one of the checks says. How many pass changes from moment to moment and is not said.
pub(super) fn reason(view: View<'_>) -> Reason {
    let of_check = view.replicas.iter().find(|replica| may_serve(replica)).and_then(|it| it.reason.as_ref());
    let of_check = of_check.map_or(String::new(), |reason| format!(": {}", reason.sentence));
    let sentence = format!(
        "fewer than {} % of the replicas passed their check, so those that fail it are sent requests as well{of_check}",
        view.enough
    );
    Reason::new(ReasonCode::TooFewReady, sentence)
}

#[cfg(test)]
mod tests {
    use crate::rollouts::tests::World;

    use super::*;

    /// The first so many replicas become unready; whether they take connections.
    fn fail(world: &mut World, count: usize, takes_connections: bool) {
        for replica in world.replicas.iter_mut().take(count) {
            (replica.state, replica.takes_connections) = (ReplicaState::Unready, takes_connections);
            replica.reason = Some(Reason::new(ReasonCode::CheckSlow, "it is slow"));
        }
    }

    #[test]
    fn those_that_fail_serve_on_where_too_few_pass_until_all_pass_again() {
        let mut world = World::steady(10);
        let applies = |world: &mut World| world.step().serves_unready;
        fail(&mut world, 5, true);
        assert!(!applies(&mut world), "half of them are enough");
        fail(&mut world, 6, true);
        let decision = world.step();
        assert!(decision.serves_unready);
        let reason = decision.reason.expect("a reason");
        assert_eq!(reason.code, ReasonCode::TooFewReady);
        assert!(reason.sentence.ends_with("sent requests as well: it is slow"), "{}", reason.sentence);
        world.workload.serves_unready = true;
        world.replicas[0].state = ReplicaState::Ready;
        assert!(applies(&mut world), "it does not end at the bound");
        for replica in &mut world.replicas {
            replica.state = ReplicaState::Ready;
        }
        assert!(!applies(&mut world));
    }

    #[test]
    fn one_that_takes_no_connection_is_never_kept() {
        let mut world = World::steady(4);
        fail(&mut world, 4, false);
        assert!(!world.step().serves_unready);
        world.enough = 0;
        fail(&mut world, 4, true);
        assert!(!world.step().serves_unready, "the check is always believed");
    }
}
