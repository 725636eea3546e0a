//! Sources: looks at repositories go in, and the environment becomes what their files declare.
//!
//! [`SourceFollower`] decides what is next; this file writes it.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::observations::{Declarations, Looked};
use super::source_follower::{Followed, SourceFollower, Stage, catching_up};
use super::{Cluster, Refusal, Transaction};
use crate::declare::PlanStep;
use crate::manifest::Declared;
use crate::model::{Name, Reason, ReasonCode, Source, SourceBuilds, Target};
use crate::record::Kind;

impl Cluster {
    /// Takes what a commit declares, where it has to be known again: after a control took over.
    pub fn declaration_read(&mut self, source: &Target, commit: &str, declared: Arc<Declared>) {
        self.observations.note(source, commit, declared);
        self.observations.follow(source);
    }

    /// The same for several, for a copy of a cluster.
    pub fn declarations_read(&mut self, declared: Declarations) {
        for ((source, commit), declared) in declared {
            self.declaration_read(&source, &commit, declared);
        }
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
}

impl Transaction<'_> {
    /// Takes what came of looking at a source's repository.
    pub fn repository_read(&mut self, target: &Target, looked: Looked) {
        let Some(mut source) = self.state.sources.get(target).cloned() else { return };
        self.act_by_itself();
        let mut new = false;
        match looked {
            Looked::Failed(sentence) => {
                source.unreachable = Some(Reason::new(ReasonCode::GitUnreachable, sentence));
            }
            Looked::Code { commit, commits } => {
                source.unreachable = None;
                source.commits = commits;
                source.seen = Some(commit);
            }
            Looked::Read { commit, commits, declared } => {
                source.unreachable = None;
                source.commits = commits;
                match declared {
                    Ok(declared) => {
                        source.problems = Vec::new();
                        source.application = Some(declared.application.clone());
                        new = self.observations.note(target, &commit.id, declared);
                    }
                    Err(problems) => source.problems = problems,
                }
                source.seen = Some(commit);
            }
        }
        let needed: BTreeSet<&String> = source.concerned().map(|commit| &commit.id).collect();
        self.observations.keep_only(target, &needed);
        // Most looks find nothing new.
        if new || self.state.sources.get(target) != Some(&source) {
            self.put_source(source);
            self.observations.follow(target);
        }
    }

    /// The builds of a source's commit have come so far.
    ///
    /// # Errors
    /// When there is no such source.
    pub fn note_builds(&mut self, target: &Target, builds: SourceBuilds) -> Result<(), Refusal> {
        let mut source = self.source(target)?.clone();
        self.act_by_itself();
        source.builds = Some(builds);
        if self.state.sources.get(target) != Some(&source) {
            self.put_source(source);
            self.observations.follow(target);
        }
        Ok(())
    }

    /// Follows Git wherever something changed that may matter to a source.
    pub(super) fn follow(&mut self) {
        let touched: BTreeSet<(Name, Option<Name>)> =
            self.changes.objects().filter_map(|(kind, key)| self.application_of(*kind, key)).collect();
        let concerned = self.state.sources.values().filter(|source| {
            let environment = &source.target.environment;
            source.application.is_some()
                && (touched.contains(&(environment.clone(), source.application.clone()))
                    || touched.contains(&(environment.clone(), None)))
        });
        let mut due: BTreeSet<Target> = concerned.map(|source| source.target.clone()).collect();
        due.extend(self.observations.take());
        for target in due {
            // One commit may be done and the next begun.
            for _ in 0..4 {
                let Some(source) = self.state.sources.get(&target).cloned() else { break };
                let next = self.follow_one(source.clone());
                if next == source {
                    break;
                }
                self.act_by_itself();
                self.put_source(next);
            }
        }
        self.act_by_itself();
    }

    /// One step of a source: what its files call for now.
    fn follow_one(&mut self, source: Source) -> Source {
        match SourceFollower::new(self, self.now).next(source) {
            Followed::At(source) => *source,
            Followed::Stage(stage) => self.apply_stage(*stage),
        }
    }

    /// Makes the changes of a commit's stage, in the name of the person who had it taken.
    fn apply_stage(&mut self, stage: Stage) -> Source {
        let Stage { source, catching_up: mut on, application, steps } = stage;
        for (line, step) in &steps {
            if let PlanStep::Workload { name, .. } = step {
                on.made.insert(name.clone(), line.release);
            }
        }
        self.cause = on.origin.clone();
        let environment = source.target.environment.clone();
        let new: Vec<Name> = steps.iter().filter_map(|(_, step)| new_workload(step)).collect();
        steps.into_iter().for_each(|(_, step)| self.apply(step, &application, &environment));
        self.table.touch();
        // The number of a new workload's first release is known only now.
        for name in new {
            let made = self.state.workloads.get(&Target::new(&environment, &name)).map(|it| it.release);
            on.made.insert(name, made);
        }
        on.waits_for = None;
        catching_up(source, on, self.now)
    }
}

fn new_workload(step: &PlanStep) -> Option<Name> {
    match step {
        PlanStep::Workload { name, new: true, .. } => Some(name.clone()),
        _ => None,
    }
}
