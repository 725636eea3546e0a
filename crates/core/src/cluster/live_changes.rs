//! Files that are changed in running replicas, without a build: where that is allowed, and which replicas are marked.

use std::collections::BTreeMap;

use super::{Refusal, RefusalKind, Transaction};
use crate::model::{Environment, LiveChange, Name, Replica, ReplicaId, ReplicaState, Target, Workload};
use crate::record::{Object, State};

/// The replicas whose files a live change would write: those of the wanted release whose program runs.
///
/// # Errors
/// Where the environment does not allow it, or nothing runs.
pub fn live_replicas<'a>(state: &'a State, workload: &Workload) -> Result<Vec<&'a Replica>, Refusal> {
    let target = &workload.target;
    check_allowed(state, target)?;
    let running = |replica: &&Replica| {
        let runs =
            matches!(replica.state, ReplicaState::Starting | ReplicaState::Ready | ReplicaState::Unready);
        replica.id.workload == *target
            && replica.release == workload.release
            && replica.once.is_none()
            && runs
    };
    let found: Vec<&Replica> = state.replicas.values().filter(running).collect();
    if found.is_empty() {
        let message = format!(
            "no replica of release {} of {target} runs, so there is none to change; see why with: mainyard why {target}",
            workload.release
        );
        return Refusal::new(RefusalKind::Conflict, message);
    }
    Ok(found)
}

fn check_allowed(state: &State, workload: &Target) -> Result<(), Refusal> {
    let environment = &workload.environment;
    if state.environments.get(environment).is_some_and(|it| it.live_changes) {
        return Ok(());
    }
    let message = format!(
        "{environment} does not allow changes to running replicas; to build instead: mainyard send. \
         To allow it: mainyard environment live-changes {environment} on"
    );
    Refusal::new(RefusalKind::Conflict, message)
}

impl Transaction<'_> {
    /// Allows changes to running replicas of an environment, or ends that.
    pub fn allow_live_changes(&mut self, name: &Name, allowed: bool) -> Result<(), Refusal> {
        let environment = self.environment(name)?.clone();
        if environment.live_changes != allowed {
            self.act(if allowed { "allowed live changes in" } else { "ended live changes in" });
            self.put(Object::Environment(Environment { live_changes: allowed, ..environment }));
        }
        Ok(())
    }

    /// Marks replicas whose files are about to be changed, or were: the mark comes first, so that no death of control leaves a
    /// changed replica without one. One that went in the meantime needs none.
    pub fn note_live_change(
        &mut self,
        workload: &Target,
        replicas: &BTreeMap<String, Option<u32>>,
    ) -> Result<u32, Refusal> {
        self.workload(workload)?;
        if replicas.values().any(Option::is_none) {
            check_allowed(&self.state, workload)?;
        }
        self.act(if replicas.values().any(Option::is_none) {
            "began to change files of"
        } else {
            "changed files of"
        });
        let mut marked = 0;
        for (short, more) in replicas {
            let id = ReplicaId::new(workload.clone(), short.clone());
            let Ok(replica) = self.replica(&id).cloned() else { continue };
            let before = replica.changed.as_ref().map_or(0, |change| change.files);
            let files = before.saturating_add(more.unwrap_or(0));
            // Where nothing of it had to be written, it is what its release says.
            let keep = files > 0 || more.is_none();
            let changed = keep.then(|| LiveChange { files, origin: self.cause.clone() });
            marked += u32::from(changed.is_some());
            self.put(Object::Replica(Replica { changed, ..replica }));
        }
        Ok(marked)
    }
}
