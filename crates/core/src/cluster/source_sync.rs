//! Sources: what was seen of a repository goes in, and the environment becomes what it says.

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::Timestamp;

use super::observations::{Declarations, Looked};
use super::{Cluster, Refusal, RefusalKind, platform};
use crate::declare::{ChangeLine, Step};
use crate::git_plan::{Ahead, ahead, touched_by};
use crate::manifest::Declared;
use crate::model::{
    CatchingUp, Commit, GitNewer, LiveChanged, Name, Reason, ReasonCode, ReleaseNumber, RolloutState,
    SetBack, Source, SourceState, Target, Touched, WorkloadState,
};
use crate::record::{Kind, Object};

/// How a workload that a commit changed gets on.
enum Gets {
    There,
    On(String),
    Back(String),
}

impl Cluster {
    /// Takes what a commit declares, where it has to be known again: after a control took over.
    pub fn hear_declared(&mut self, source: &Target, commit: &str, declared: Arc<Declared>) {
        self.declared.insert((source.clone(), commit.to_owned()), declared);
        self.to_follow.insert(source.clone());
    }

    /// The same of several; a copy of a cluster is told so.
    pub fn hear_all_declared(&mut self, declared: Declarations) {
        self.to_follow.extend(declared.keys().map(|(source, _)| source.clone()));
        self.declared.extend(declared);
    }

    /// Commits of which it must be known what they declare, and is not.
    pub fn unknown_commits(&self, target: &Target) -> BTreeSet<String> {
        let Some(source) = self.state.sources.get(target) else { return BTreeSet::new() };
        let seen = source.seen.as_ref().map(|seen| &seen.id);
        let wrong = |commit: &&Commit| !source.problems.is_empty() && Some(&commit.id) == seen;
        let known = |commit: &&Commit| self.declared.contains_key(&(target.clone(), commit.id.clone()));
        let unknown = source.concerned().filter(|commit| !known(commit) && !wrong(commit));
        unknown.map(|commit| commit.id.clone()).collect()
    }

    /// Takes what came of looking at a source's repository.
    pub fn hear_source(&mut self, target: &Target, looked: Looked, now: Timestamp) {
        let Some(mut source) = self.state.sources.get(target).cloned() else { return };
        self.cause = platform(now);
        let mut new = false;
        match looked {
            Looked::Failed(sentence) => {
                source.unreachable = Some(Reason::new(ReasonCode::GitUnreachable, sentence));
            }
            Looked::Read { commit, commits, declared } => {
                source.unreachable = None;
                source.commits = commits;
                match declared {
                    Ok(declared) => {
                        source.problems = Vec::new();
                        source.application = Some(declared.application.clone());
                        let key = (target.clone(), commit.id.clone());
                        new = self.declared.insert(key, declared).is_none();
                    }
                    Err(problems) => source.problems = problems,
                }
                source.seen = Some(commit);
            }
        }
        let needed: BTreeSet<&String> = source.concerned().map(|commit| &commit.id).collect();
        self.declared.retain(|(of, commit), _| of != target || needed.contains(commit));
        // Most looks find nothing new.
        if new || self.state.sources.get(target) != Some(&source) {
            self.put_source(source);
            self.to_follow.insert(target.clone());
        }
    }

    /// What a commit comes to now.
    ///
    /// # Errors
    /// Who holds what it wants, or what lacks.
    pub fn ahead(&self, source: &Source, commit: &Commit, remove: bool) -> Result<Ahead, Refusal> {
        let key = (source.target.clone(), commit.id.clone());
        let Some(declared) = self.declared.get(&key) else {
            let message = format!("what {} declares is not known yet; ask again in a moment", commit.short());
            return Refusal::new(RefusalKind::Conflict, message);
        };
        let environment = &source.target.environment;
        let twin = self.state.sources.values().find(|other| {
            other.target.environment == *environment
                && other.target != source.target
                && other.application.as_ref() == Some(&declared.application)
                && other.origin.at <= source.origin.at
        });
        if let Some(twin) = twin {
            let message = format!(
                "the application {} of {environment} is followed by the source {} already, added by {}",
                declared.application, twin.target, twin.origin.by
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let mut present = self.present(environment);
        present.left_alone = self.left_alone(source);
        let ahead = ahead(declared, &present, &source.rule, remove).map_err(super::declarations::refused)?;
        self.check_declared(declared, environment)?;
        Ok(ahead)
    }

    /// What a source does not touch: what people touched, and workloads that they hold.
    fn left_alone(&self, source: &Source) -> BTreeSet<Touched> {
        let held = self.state.workloads.values().filter(|workload| {
            workload.target.environment == source.target.environment && workload.held.is_some()
        });
        let held = held.flat_map(|workload| {
            let name = &workload.target.name;
            [Touched::Release(name.clone()), Touched::Replicas(name.clone())]
        });
        source.yields.iter().map(|it| it.what.clone()).chain(held).collect()
    }

    pub(super) fn put_source(&mut self, source: Source) {
        if self.state.sources.get(&source.target) != Some(&source) {
            self.put(Object::Source(source));
        }
    }

    /// Follows Git wherever something changed that may matter to a source.
    pub(super) fn follow(&mut self, now: Timestamp) {
        let touched: BTreeSet<(Name, Option<Name>)> = self
            .pending
            .values()
            .filter_map(|change| self.application_of(change.kind, &change.key))
            .collect();
        let concerned = self.state.sources.values().filter(|source| {
            let environment = &source.target.environment;
            source.application.is_some()
                && (touched.contains(&(environment.clone(), source.application.clone()))
                    || touched.contains(&(environment.clone(), None)))
        });
        let mut due: BTreeSet<Target> = concerned.map(|source| source.target.clone()).collect();
        due.extend(std::mem::take(&mut self.to_follow));
        for target in due {
            // One commit may be done and the next begun.
            for _ in 0..4 {
                let Some(source) = self.state.sources.get(&target).cloned() else { break };
                let next = self.follow_one(source.clone(), now);
                if next == source {
                    break;
                }
                self.cause = platform(now);
                self.put_source(next);
            }
        }
        self.cause = platform(now);
    }

    /// The environment and application that a changed object belongs to; of one that is gone it is not known whose it was.
    fn application_of(&self, kind: Kind, key: &str) -> Option<(Name, Option<Name>)> {
        let target: Target = match kind {
            Kind::Workload | Kind::Service | Kind::Route => key.parse().ok()?,
            Kind::Rollout => key.rsplit_once('@')?.0.parse().ok()?,
            _ => return None,
        };
        let application = match kind {
            Kind::Service => self.state.services.get(&target).map(|it| &it.application),
            Kind::Route => self.state.routes.get(&target).map(|it| &it.application),
            _ => self.state.workloads.get(&target).map(|it| &it.application),
        };
        Some((target.environment, application.cloned()))
    }

    fn follow_one(&mut self, mut source: Source, now: Timestamp) -> Source {
        if source.held.is_some() {
            return source;
        }
        if let Some(catching_up) = source.catching_up.take() {
            return self.go_on(source, catching_up, now);
        }
        let (state, reason, differs) = self.evaluate(&mut source, now);
        if source.state != state {
            source.since = now;
        }
        (source.state, source.reason, source.differs) = (state, reason, differs);
        source
    }

    /// How a source is that is not catching up; what it does by itself begins here.
    fn evaluate(
        &mut self,
        source: &mut Source,
        now: Timestamp,
    ) -> (SourceState, Option<Reason>, Vec<String>) {
        use SourceState::{Behind, CatchingUp as On, Drifted, InStep, Refused, Unreachable};
        let as_it_was = (source.state, source.reason.clone(), source.differs.clone());
        let state =
            |state, code, sentence: String, differs| (state, Some(Reason::new(code, sentence)), differs);
        if let Some(reason) = &source.unreachable {
            return (Unreachable, Some(reason.clone()), source.differs.clone());
        }
        let Some(seen) = source.seen.clone() else { return as_it_was };
        if let Some(first) = source.problems.first() {
            let more = match source.problems.len() {
                1 => String::new(),
                count => format!(", and {} more", count - 1),
            };
            let sentence = format!("{} is not valid: {first}{more}", seen.short());
            return state(Refused, ReasonCode::FilesInvalid, sentence, Vec::new());
        }
        if !self.declared.contains_key(&(source.target.clone(), seen.id.clone())) {
            return as_it_was;
        }
        let ahead = match self.ahead(source, &seen, false) {
            Ok(ahead) => ahead,
            Err(refusal) => {
                let sentence = format!("{} cannot be taken: {}", seen.short(), refusal.message);
                return state(Refused, ReasonCode::CannotBeTaken, sentence, Vec::new());
            }
        };
        self.lift_where_git_agrees(source, &seen);
        let kept =
            ahead.kept.iter().map(|line| format!("{}: stays, though Git declares it no longer", line.object));
        let differs: Vec<String> = ahead.lines().chain(&ahead.asks).map(told).chain(kept).collect();
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
            source.catching_up = Some(CatchingUp::begin(seen, &by, false, now));
            return (On, None, differs);
        }
        if newer {
            let sentence = format!("{} waits to be taken: {}", seen.short(), seen.subject);
            return state(Behind, ReasonCode::GitNewer, sentence, differs);
        }
        let sentence = format!("changed here: {}", differs.join("; "));
        state(Drifted, ReasonCode::LiveChanged, sentence, differs)
    }

    /// What a person touched is left alone no longer once Git says the same.
    fn lift_where_git_agrees(&self, source: &mut Source, seen: &Commit) {
        if source.yields.is_empty() {
            return;
        }
        let free = Source { yields: Vec::new(), ..source.clone() };
        let Ok(ahead) = self.ahead(&free, seen, true) else { return };
        let steps = ahead.stages.iter().flatten().map(|(_, step)| step);
        let touched: BTreeSet<Touched> = steps
            .flat_map(|step| match step {
                // What a person removed would be made again.
                Step::Workload { name, new: true, .. } => vec![Touched::Workload(name.clone())],
                step => touched_by(step),
            })
            .collect();
        source.yields.retain(|it| touched.contains(&it.what));
    }

    /// The next stage of a commit, where those before it are steady.
    fn go_on(&mut self, mut source: Source, mut on: CatchingUp, now: Timestamp) -> Source {
        let newest = source.seen.clone().filter(|_| source.problems.is_empty());
        let by_itself = on.origin.by.starts_with("source ") && source.rule.git_newer == GitNewer::Take;
        if let Some(newest) = newest.filter(|newest| by_itself && newest.id != on.commit.id) {
            // What the older one began gives way to the newer one.
            let known = self.declared.contains_key(&(source.target.clone(), newest.id.clone()));
            if known {
                source.applied = source.applied.filter(|applied| applied.id != newest.id);
                return source;
            }
        }
        if !self.declared.contains_key(&(source.target.clone(), on.commit.id.clone())) {
            source.catching_up = Some(on);
            return source;
        }
        let mut waits = Vec::new();
        for (name, release) in &on.made {
            match self.gets(&Target::new(&source.target.environment, name), *release) {
                Gets::There => {}
                Gets::On(how) => waits.push(how),
                Gets::Back(why) => return self.set_back(source, on, why),
            }
        }
        if !waits.is_empty() {
            on.waits_for = Some(waits.join(", "));
            return catching_up(source, on, now);
        }
        let ahead = match self.ahead(&source, &on.commit, on.remove) {
            Ok(ahead) => ahead,
            Err(refusal) => return self.set_back(source, on, refusal.message),
        };
        let Some(stage) = ahead.stages.into_iter().next() else {
            source.set_back = source.set_back.filter(|it| it.commit != on.commit.id);
            source.applied = Some(on.commit);
            return source;
        };
        for (line, step) in &stage {
            if let Step::Workload { name, .. } = step {
                on.made.insert(name.clone(), line.release);
            }
        }
        self.cause = on.origin.clone();
        let declared = Arc::clone(&self.declared[&(source.target.clone(), on.commit.id.clone())]);
        let environment = source.target.environment.clone();
        let new: Vec<Name> = stage.iter().filter_map(|(_, step)| new_workload(step)).collect();
        stage.into_iter().for_each(|(_, step)| self.apply(step, &declared.application, &environment, now));
        self.table_stale = true;
        for name in new {
            let made = self.state.workloads.get(&Target::new(&environment, &name)).map(|it| it.release);
            on.made.insert(name, made);
        }
        on.waits_for = None;
        catching_up(source, on, now)
    }

    fn gets(&self, target: &Target, release: Option<ReleaseNumber>) -> Gets {
        let name = &target.name;
        let Some(workload) = self.state.workloads.get(target) else { return Gets::There };
        let rollout = release.and_then(|release| self.state.rollouts.get(&(target.clone(), release)));
        if let Some(rollout) = rollout {
            let why =
                rollout.reason.as_ref().map_or(String::new(), |reason| format!(": {}", reason.sentence));
            match rollout.state {
                RolloutState::GoingBack | RolloutState::WentBack | RolloutState::Cancelled => {
                    return Gets::Back(format!("the rollout of {name} to {} went back{why}", rollout.to));
                }
                RolloutState::Awaiting => {
                    return Gets::On(format!(
                        "a person's word on the rollout of {name} to {}{why}",
                        rollout.to
                    ));
                }
                RolloutState::Superseded => return Gets::There,
                RolloutState::Done | RolloutState::Untried => {}
                _ => return Gets::On(format!("the rollout of {name} to {}", rollout.to)),
            }
        }
        match workload.state {
            WorkloadState::Steady | WorkloadState::Off => Gets::There,
            state => {
                let why = workload.reason.as_ref();
                let why = why.map_or(String::new(), |reason| format!(": {}", reason.sentence));
                Gets::On(format!("{name}, which is {state}{why}"))
            }
        }
    }

    /// A commit ends half-way: what was not done is said, and it is not tried again by itself.
    fn set_back(&mut self, mut source: Source, on: CatchingUp, because: String) -> Source {
        let ahead = self.ahead(&source, &on.commit, on.remove).unwrap_or_default();
        let made = |line: &&ChangeLine| {
            !line
                .object
                .strip_prefix("workload ")
                .is_some_and(|name| on.made.keys().any(|made| made.as_str() == name))
        };
        let not_done = ahead.lines().filter(made).map(|line| line.object.clone()).collect();
        source.set_back = Some(SetBack { commit: on.commit.id, because, not_done });
        source
    }
}

fn catching_up(mut source: Source, on: CatchingUp, now: Timestamp) -> Source {
    if source.state != SourceState::CatchingUp {
        (source.state, source.since) = (SourceState::CatchingUp, now);
    }
    source.reason = None;
    source.catching_up = Some(on);
    source
}

fn new_workload(step: &Step) -> Option<Name> {
    match step {
        Step::Workload { name, new: true, .. } => Some(name.clone()),
        _ => None,
    }
}

/// A change in words, with its object.
pub(super) fn told(line: &ChangeLine) -> String {
    format!("{}: {}", line.object, line.words)
}
