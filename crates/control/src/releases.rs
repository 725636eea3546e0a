//! Releases and the rollouts to them: made, taken back, steered, kept and compared.

use mainyard_api::{
    AdvanceRollout, CancelRollout, CompareReleases, Compared, DeployRelease, HoldWorkload, KeepRelease,
    NewDeploy, NewKeep, NewSetAside, Problem, PromoteRelease, RestartWorkload, ResumeWorkload, RollBack,
    SetReplicaAside,
};
use mainyard_core::cluster::{DeployRequest, Goal, LimitChange};
use mainyard_core::commands::{
    Advance, Advanced, Cancel, Cancelled, Deploy, Deployed, Hold, HoldOutcome, Promote, PromoteOutcome,
    ReleaseKept, Restart, Restarted, Resume, Resumed, Rollback, RolledBack, SetAside, SetAsideOutcome,
};
use mainyard_core::model::{NameError, Release, ReleaseId, ReplicaId};
use mainyard_core::record::State;

use crate::forecast::Acted;
use crate::operations::{Call, Operations};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(deploy)
        .mount(promote)
        .mount(rollback)
        .mount(restart)
        .mount(set_aside)
        .mount(hold)
        .mount(resume)
        .mount(advance)
        .mount(cancel)
        .mount(keep)
        .mount(compare);
}

async fn deploy(call: Call<DeployRelease>) -> Acted<Deployed> {
    let NewDeploy { image, settings, memory, cpu } = call.body.clone();
    let request = DeployRequest { image, settings, limits: LimitChange { memory, cpu } };
    call.act(Deploy { workload: call.path.target(), request }).await
}

async fn promote(call: Call<PromoteRelease>) -> Acted<PromoteOutcome> {
    call.act(Promote { from: call.path.target(), to: call.body.to.clone() }).await
}

async fn rollback(call: Call<RollBack>) -> Acted<RolledBack> {
    let goal = match (call.body.to, call.body.at) {
        (Some(_), Some(_)) => return Err(Problem::invalid("say either `to` or `at`")),
        (Some(number), None) => Goal::Release(number),
        (None, Some(at)) => Goal::At(at),
        (None, None) => Goal::Before,
    };
    call.act(Rollback { workload: call.path.target(), goal }).await
}

async fn restart(call: Call<RestartWorkload>) -> Acted<Restarted> {
    call.act(Restart { workload: call.path.target() }).await
}

async fn set_aside(call: Call<SetReplicaAside>) -> Acted<SetAsideOutcome> {
    let NewSetAside { replica, lasts } = call.body.clone();
    call.act(SetAside { replica: ReplicaId::new(call.path.target(), replica), lasts }).await
}

async fn hold(call: Call<HoldWorkload>) -> Acted<HoldOutcome> {
    call.act(Hold { workload: call.path.target(), because: call.body.because.clone() }).await
}

async fn resume(call: Call<ResumeWorkload>) -> Acted<Resumed> {
    call.act(Resume { workload: call.path.target() }).await
}

async fn advance(call: Call<AdvanceRollout>) -> Acted<Advanced> {
    call.act(Advance { workload: call.path.target() }).await
}

async fn cancel(call: Call<CancelRollout>) -> Acted<Cancelled> {
    call.act(Cancel { workload: call.path.target() }).await
}

async fn keep(call: Call<KeepRelease>) -> Acted<ReleaseKept> {
    let NewKeep { release, keep } = call.body;
    call.act(mainyard_core::commands::KeepRelease { workload: call.path.target(), release, keep }).await
}

async fn compare(call: Call<CompareReleases>) -> Result<Compared, Problem> {
    let published = call.control.leader.published.read().await;
    let (from, to) = (call.query.from, call.query.to);
    let differences =
        mainyard_core::difference::between(release(&published.0, &from)?, release(&published.0, &to)?);
    Ok(Compared { from, to, differences })
}

/// The release that a text names.
fn release<'a>(state: &'a State, text: &str) -> Result<&'a Release, Problem> {
    let id: ReleaseId = text.parse().map_err(|error: NameError| Problem::invalid(error.to_string()))?;
    let found = state.releases.get(&(id.workload.clone(), id.number));
    found.ok_or_else(|| {
        let all = state.releases.keys().filter(|(workload, _)| *workload == id.workload);
        let numbers: Vec<String> = all.map(|(_, number)| number.to_string()).collect();
        let kept = if numbers.is_empty() {
            "none is kept".to_owned()
        } else {
            format!("kept are {}", numbers.join(", "))
        };
        Problem::not_found(format!("there is no release {id}; {kept}"))
    })
}
