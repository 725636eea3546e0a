//! A source leaves alone what a person changed by hand, until they give it back.

use super::source_commands::take_again;
use super::{Cluster, Transaction};
use crate::git_plan::Ahead;
use crate::model::{GitNewer, Name, Source, Touched, Yield};

impl Transaction<'_> {
    /// A person touched something by hand: a source that would undo it leaves exactly that alone.
    pub(super) fn yield_to_person(
        &mut self,
        environment: &Name,
        application: &Name,
        touched: impl IntoIterator<Item = Touched>,
    ) {
        let takes = |source: &&Source| {
            source.target.environment == *environment
                && source.application.as_ref() == Some(application)
                && source.rule.git_newer == GitNewer::Take
        };
        let Some(mut source) = self.state.sources.values().find(takes).cloned() else { return };
        for what in touched {
            let origin = self.cause.clone();
            match source.yields.iter_mut().find(|it| it.what == what) {
                Some(known) => known.origin = origin,
                None => source.yields.push(Yield { what, origin }),
            }
        }
        self.observations.follow(&source.target);
        self.put_source(source);
    }

    /// A source takes into its hands again what it left alone. Gives what that was, and what it does now, in words.
    pub fn follow_again(&mut self, environment: &Name, which: impl Fn(&Touched) -> bool) -> Vec<String> {
        let by = self.by.clone();
        let now = self.now;
        let lifts = |source: &&Source| {
            source.target.environment == *environment && source.yields.iter().any(|it| which(&it.what))
        };
        let sources: Vec<Source> = self.state.sources.values().filter(lifts).cloned().collect();
        let mut words = Vec::new();
        for mut source in sources {
            self.act("resumed");
            let commit = source.seen.clone();
            let lines = |cluster: &Cluster, source: &Source| -> Vec<String> {
                let ahead = commit.as_ref().and_then(|commit| cluster.ahead(source, commit, false).ok());
                ahead.iter().flat_map(Ahead::lines).map(ToString::to_string).collect()
            };
            let before = lines(self, &source);
            source.yields.retain(|it| !which(&it.what));
            let new: Vec<String> =
                lines(self, &source).into_iter().filter(|line| !before.contains(line)).collect();
            let follows =
                if new.is_empty() { "which changes nothing now".to_owned() } else { new.join("; ") };
            words.push(format!("the source {} follows Git there again: {follows}", source.target));
            take_again(&mut source, &by, now);
            self.observations.follow(&source.target);
            self.put_source(source);
        }
        words
    }
}
