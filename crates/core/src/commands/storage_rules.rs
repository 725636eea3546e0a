//! Commands on rules for what repositories keep.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, PrunedImages, Removed, outcome_of};
use crate::cluster::{Refusal, Transaction};
use crate::model::StorageRule;

/// Declares a rule, or puts one in the place of its predecessor.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SetStorageRule {
    /// The rule.
    pub rule: StorageRule,
}

/// A rule holds now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StorageRuleSet {
    /// The repository.
    pub repository: String,
    /// The rule in words, such as `at most 20.0 GiB`.
    pub says: String,
}

impl CommandKind for SetStorageRule {
    type Outcome = StorageRuleSet;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<StorageRuleSet, Refusal> {
        transaction.set_storage_rule(self.rule.clone())?;
        Ok(StorageRuleSet { repository: self.rule.repository.clone(), says: self.rule.words() })
    }

    outcome_of!(SetStorageRule);
}

/// Takes a rule back.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveStorageRule {
    /// The repository.
    pub repository: String,
}

impl CommandKind for RemoveStorageRule {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        transaction.remove_storage_rule(&self.repository)?;
        Ok(Removed { gone: vec![format!("the storage rule of {}", self.repository)] })
    }

    outcome_of!(RemoveStorageRule);
}

/// Takes images out of the store that may go by a declared rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PruneByRule {
    /// The repository that the rule is declared for.
    pub repository: String,
}

impl CommandKind for PruneByRule {
    type Outcome = PrunedImages;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<PrunedImages, Refusal> {
        Ok(PrunedImages { images: transaction.prune_by_rule(&self.repository)? })
    }

    outcome_of!(PruneByRule);
}
