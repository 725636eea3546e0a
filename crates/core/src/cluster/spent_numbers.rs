//! Numbers that were given to what went, so that they never come again.

use super::{Cluster, Transaction};
use crate::model::{Name, SpentNumbers, Target};
use crate::record::Object;

impl Cluster {
    /// Numbers that were given to what was of this name.
    pub(super) fn spent<'t>(&self, target: &'t Target) -> Option<(&SpentNumbers, &'t Name)> {
        Some((&self.state.environments.get(&target.environment)?.spent, &target.name))
    }
}

impl Transaction<'_> {
    /// Notes numbers that were given to what goes.
    pub(super) fn spend(&mut self, target: &Target, note: impl FnOnce(&mut SpentNumbers, Name)) {
        let Some(mut environment) = self.state.environments.get(&target.environment).cloned() else { return };
        note(&mut environment.spent, target.name.clone());
        self.put(Object::Environment(environment));
    }
}
