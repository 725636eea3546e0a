//! The plan of a source's commit.

use std::collections::BTreeSet;

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::git_plan::{Ahead, ahead};
use crate::model::{Commit, Source, Target, Touched};
use crate::record::Object;

impl Cluster {
    /// Commits whose declaration is needed and not known yet.
    pub fn unknown_commits(&self, target: &Target) -> BTreeSet<String> {
        let Some(source) = self.state.sources.get(target) else { return BTreeSet::new() };
        let seen = source.seen.as_ref().map(|seen| &seen.id);
        let wrong = |commit: &&Commit| !source.problems.is_empty() && Some(&commit.id) == seen;
        let known = |commit: &&Commit| self.observations.declared(target, &commit.id).is_some();
        let unknown = source.concerned().filter(|commit| !known(commit) && !wrong(commit));
        unknown.map(|commit| commit.id.clone()).collect()
    }

    /// The plan of a commit now.
    ///
    /// # Errors
    /// The owner of an object that it wants, or the missing object.
    pub fn ahead(&self, source: &Source, commit: &Commit, remove: bool) -> Result<Ahead, Refusal> {
        let Some(declared) = self.observations.declared(&source.target, &commit.id) else {
            let message = format!("the files of {} are not read yet; try again in a moment", commit.short());
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

    /// Objects that a source does not touch: those that people touched, and workloads that they hold.
    pub(super) fn left_alone(&self, source: &Source) -> BTreeSet<Touched> {
        let held = self.state.workloads.values().filter(|workload| {
            workload.target.environment == source.target.environment && workload.held.is_some()
        });
        let held = held.flat_map(|workload| {
            let name = &workload.target.name;
            [Touched::Release(name.clone()), Touched::Replicas(name.clone())]
        });
        source.yields.iter().map(|it| it.what.clone()).chain(held).collect()
    }
}

impl Transaction<'_> {
    pub(super) fn put_source(&mut self, source: Source) {
        if self.state.sources.get(&source.target) != Some(&source) {
            self.put(Object::Source(source));
        }
    }
}
