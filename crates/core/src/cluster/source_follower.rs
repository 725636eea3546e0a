//! What a source does next: it catches up with a commit stage by stage, or says how Git and the environment differ.

use std::collections::BTreeSet;

use jiff::Timestamp;

use super::Cluster;
use crate::declare::{ChangeLine, PlanStep};
use crate::git_plan::touched_by;
use crate::model::{
    CatchingUp, Commit, GitNewer, LiveChanged, Name, Reason, ReasonCode, ReleaseNumber, RolloutState,
    SetBack, Source, SourceBuildState, SourceState, Target, Touched, WorkloadState,
};

/// How a workload that a commit changed gets on.
enum Headway {
    There,
    On(String),
    Back(String),
}

/// The next state of a source.
pub(super) enum Followed {
    /// Nothing is to be changed but the source itself.
    At(Box<Source>),
    /// The next stage of a commit is to be applied.
    Stage(Box<Stage>),
}

/// One stage of a commit whose earlier stages are steady.
pub(super) struct Stage {
    /// The source, without the commit that it catches up with.
    pub(super) source: Source,
    pub(super) catching_up: CatchingUp,
    /// The application that the commit declares.
    pub(super) application: Name,
    pub(super) steps: Vec<(ChangeLine, PlanStep)>,
}

impl Followed {
    fn at(source: Source) -> Followed {
        Followed::At(Box::new(source))
    }
}

/// How a source is that holds code: as the builds of its newest commit are.
fn of_code(source: &mut Source, seen: &Commit) -> (SourceState, Option<Reason>, Vec<String>) {
    let builds = source.builds.as_ref().filter(|builds| builds.commit == seen.id);
    match builds.map(|builds| (builds.state, builds.says.clone())) {
        Some((SourceBuildState::Done, _)) => {
            source.applied = Some(seen.clone());
            (SourceState::InStep, None, Vec::new())
        }
        Some((SourceBuildState::Failed, says)) => {
            let reason = Reason::new(ReasonCode::BuildFailed, format!("{}: {says}", seen.short()));
            (SourceState::Refused, Some(reason), Vec::new())
        }
        Some((SourceBuildState::Building, _)) | None => (SourceState::CatchingUp, None, Vec::new()),
    }
}

/// Decides for one source at a time. It reads the cluster and changes nothing.
pub(super) struct SourceFollower<'c> {
    cluster: &'c Cluster,
    now: Timestamp,
}

impl<'c> SourceFollower<'c> {
    pub(super) fn new(cluster: &'c Cluster, now: Timestamp) -> SourceFollower<'c> {
        SourceFollower { cluster, now }
    }

    /// The source as it is now, or the stage to apply.
    pub(super) fn next(&self, mut source: Source) -> Followed {
        if source.held.is_some() {
            return Followed::at(source);
        }
        if let Some(catching_up) = source.catching_up.take() {
            return self.go_on(source, catching_up);
        }
        let (state, reason, differs) = self.evaluate(&mut source);
        if source.state != state {
            source.since = self.now;
        }
        (source.state, source.reason, source.differs) = (state, reason, differs);
        Followed::at(source)
    }

    /// How a source is that is not catching up; what it does by itself begins here.
    fn evaluate(&self, source: &mut Source) -> (SourceState, Option<Reason>, Vec<String>) {
        let now = self.now;
        use SourceState::{Behind, CatchingUp as On, Drifted, InStep, Refused, Unreachable};
        let as_it_was = (source.state, source.reason.clone(), source.differs.clone());
        let state =
            |state, code, sentence: String, differs| (state, Some(Reason::new(code, sentence)), differs);
        if let Some(reason) = &source.unreachable {
            return (Unreachable, Some(reason.clone()), source.differs.clone());
        }
        let Some(seen) = source.seen.clone() else { return as_it_was };
        if source.code.is_some() {
            return of_code(source, &seen);
        }
        if let Some(first) = source.problems.first() {
            let more = match source.problems.len() {
                1 => String::new(),
                count => format!(", and {} more", count - 1),
            };
            let sentence = format!("{} is not valid: {first}{more}", seen.short());
            return state(Refused, ReasonCode::FilesInvalid, sentence, Vec::new());
        }
        if self.cluster.observations.declared(&source.target, &seen.id).is_none() {
            return as_it_was;
        }
        let ahead = match self.cluster.ahead(source, &seen, false) {
            Ok(ahead) => ahead,
            Err(refusal) => {
                let sentence = format!("{} cannot be taken: {}", seen.short(), refusal.message);
                return state(Refused, ReasonCode::CannotBeTaken, sentence, Vec::new());
            }
        };
        self.lift_where_git_agrees(source, &seen);
        let kept =
            ahead.kept.iter().map(|line| format!("{}: stays, though Git declares it no longer", line.object));
        let differs: Vec<String> =
            ahead.lines().chain(&ahead.asks).map(ToString::to_string).chain(kept).collect();
        let newer = source.applied.as_ref().map(|applied| &applied.id) != Some(&seen.id);
        let set_back = source.set_back.clone().filter(|it| it.commit == seen.id);
        if ahead.stages.is_empty() {
            let gone: Vec<&str> = ahead.asks.iter().map(|line| line.object.as_str()).collect();
            if gone.is_empty() {
                source.applied = Some(seen);
                source.set_back = None;
                return (InStep, None, differs);
            }
            let sentence = format!("{} no longer declares {}", seen.short(), gone.join(", "));
            return state(Behind, ReasonCode::RemovalAsks, sentence, differs);
        }
        if let Some(set_back) = set_back {
            let SetBack { because, not_done, .. } = set_back;
            let rest = if not_done.is_empty() {
                String::new()
            } else {
                format!("; not done: {}", not_done.join(", "))
            };
            let sentence = format!("{} is not tried again: {because}{rest}", seen.short());
            return state(Behind, ReasonCode::SetBack, sentence, differs);
        }
        let by_itself = if newer {
            source.rule.git_newer == GitNewer::Take
        } else {
            source.rule.live_changed == LiveChanged::Restore
        };
        if by_itself {
            let by = format!("source {}", source.target);
            source.catching_up =
                Some(CatchingUp { by_itself: true, ..CatchingUp::begin(seen, &by, false, now) });
            return (On, None, differs);
        }
        if newer {
            let sentence = format!("{} waits to be taken: {}", seen.short(), seen.subject);
            return state(Behind, ReasonCode::GitNewer, sentence, differs);
        }
        let sentence = format!("changed here: {}", differs.join("; "));
        state(Drifted, ReasonCode::LiveChanged, sentence, differs)
    }

    /// The next stage of a commit, where those before it are steady.
    fn go_on(&self, mut source: Source, mut on: CatchingUp) -> Followed {
        let now = self.now;
        let newest = source.seen.clone().filter(|_| source.problems.is_empty());
        let by_itself = on.by_itself && source.rule.git_newer == GitNewer::Take;
        if let Some(newest) = newest.filter(|newest| by_itself && newest.id != on.commit.id) {
            // What the older one began gives way to the newer one.
            let known = self.cluster.observations.declared(&source.target, &newest.id).is_some();
            if known {
                source.applied = source.applied.filter(|applied| applied.id != newest.id);
                return Followed::at(source);
            }
        }
        let Some(declared) = self.cluster.observations.declared(&source.target, &on.commit.id).cloned()
        else {
            source.catching_up = Some(on);
            return Followed::at(source);
        };
        let mut waits = Vec::new();
        for (name, release) in &on.made {
            match self.headway(&Target::new(&source.target.environment, name), *release) {
                Headway::There => {}
                Headway::On(how) => waits.push(how),
                Headway::Back(why) => return Followed::at(self.set_back(source, on, why)),
            }
        }
        if !waits.is_empty() {
            on.waits_for = Some(waits.join(", "));
            return Followed::at(catching_up(source, on, now));
        }
        let ahead = match self.cluster.ahead(&source, &on.commit, on.remove) {
            Ok(ahead) => ahead,
            Err(refusal) => return Followed::at(self.set_back(source, on, refusal.message)),
        };
        let Some(stage) = ahead.stages.into_iter().next() else {
            source.set_back = source.set_back.filter(|it| it.commit != on.commit.id);
            source.applied = Some(on.commit);
            return Followed::at(source);
        };
        let application = declared.application.clone();
        Followed::Stage(Box::new(Stage { source, catching_up: on, application, steps: stage }))
    }

    /// A commit ends half-way: what was not done is said, and it is not tried again by itself.
    fn set_back(&self, mut source: Source, on: CatchingUp, because: String) -> Source {
        let ahead = self.cluster.ahead(&source, &on.commit, on.remove).unwrap_or_default();
        let open =
            |line: &&ChangeLine| !line.workload.as_ref().is_some_and(|name| on.made.contains_key(name));
        let not_done = ahead.lines().filter(open).map(|line| line.object.clone()).collect();
        source.set_back = Some(SetBack { commit: on.commit.id, because, not_done });
        source
    }

    /// A source no longer leaves an object alone once Git agrees with the person's change.
    fn lift_where_git_agrees(&self, source: &mut Source, seen: &Commit) {
        if source.yields.is_empty() {
            return;
        }
        let free = Source { yields: Vec::new(), ..source.clone() };
        let Ok(ahead) = self.cluster.ahead(&free, seen, true) else { return };
        let steps = ahead.stages.iter().flatten().map(|(_, step)| step);
        let touched: BTreeSet<Touched> = steps
            .flat_map(|step| match step {
                // What a person removed would be made again.
                PlanStep::Workload { name, new: true, .. } => vec![Touched::Workload(name.clone())],
                step => touched_by(step),
            })
            .collect();
        source.yields.retain(|it| touched.contains(&it.what));
    }

    fn headway(&self, target: &Target, release: Option<ReleaseNumber>) -> Headway {
        let name = &target.name;
        let Some(workload) = self.cluster.state.workloads.get(target) else { return Headway::There };
        let rollout = release.and_then(|release| self.cluster.state.rollouts.get(&(target.clone(), release)));
        if let Some(rollout) = rollout {
            let why =
                rollout.reason.as_ref().map_or(String::new(), |reason| format!(": {}", reason.sentence));
            match rollout.state {
                RolloutState::GoingBack | RolloutState::WentBack | RolloutState::Cancelled => {
                    return Headway::Back(format!("the rollout of {name} to {} went back{why}", rollout.to));
                }
                RolloutState::Awaiting => {
                    return Headway::On(format!(
                        "a person's decision on the rollout of {name} to {}{why}",
                        rollout.to
                    ));
                }
                RolloutState::Superseded => return Headway::There,
                RolloutState::Done | RolloutState::Untried => {}
                _ => return Headway::On(format!("the rollout of {name} to {}", rollout.to)),
            }
        }
        match workload.state {
            WorkloadState::Steady | WorkloadState::Off | WorkloadState::Asleep => Headway::There,
            state => {
                let why = workload.reason.as_ref();
                let why = why.map_or(String::new(), |reason| format!(": {}", reason.sentence));
                Headway::On(format!("{name}, which is {state}{why}"))
            }
        }
    }
}

/// A source on its way to a commit.
pub(super) fn catching_up(mut source: Source, on: CatchingUp, now: Timestamp) -> Source {
    if source.state != SourceState::CatchingUp {
        (source.state, source.since) = (SourceState::CatchingUp, now);
    }
    source.reason = None;
    source.catching_up = Some(on);
    source
}
