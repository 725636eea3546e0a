//! Commands on environments and applications, and declarations.

use std::collections::BTreeSet;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, changed_workloads, outcome_of};
use crate::cluster::{Refusal, Transaction};
use crate::declare::{ChangeLine, Plan};
use crate::manifest::Declared;
use crate::model::{ImageRule, Name, OutgoingMode, Target};

/// Makes an environment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddEnvironment {
    /// Its name.
    pub name: Name,
    /// The domain of routes that name no host in full.
    pub domain: Option<String>,
    /// What its replicas may reach outside, where it is not the usual.
    #[serde(default)]
    pub outgoing: OutgoingMode,
}

/// An environment was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct EnvironmentAdded {
    /// Its name.
    pub name: Name,
}

impl CommandKind for AddEnvironment {
    type Outcome = EnvironmentAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<EnvironmentAdded, Refusal> {
        transaction.add_environment(&self.name, self.domain.clone())?;
        transaction.set_outgoing(&self.name, self.outgoing)?;
        Ok(EnvironmentAdded { name: self.name.clone() })
    }

    outcome_of!(AddEnvironment);
}

/// Says what the replicas of an environment may reach outside, what images run there, or both.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChangeEnvironment {
    /// The environment.
    pub name: Name,
    /// What they may reach, where that changes.
    #[serde(default)]
    pub outgoing: Option<OutgoingMode>,
    /// What images run there, where that changes; any, where no key is named.
    #[serde(default)]
    pub image_rule: Option<ImageRule>,
    /// Whether files of running replicas may be changed there, where that changes.
    #[serde(default)]
    pub live_changes: Option<bool>,
}

/// An environment was changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct EnvironmentChanged {
    /// What its replicas could reach before.
    pub before: OutgoingMode,
    /// What they may reach now.
    pub outgoing: OutgoingMode,
    /// Workloads that list destinations outside, with how many.
    pub lists: Vec<OutgoingCount>,
    /// What images run there now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image_rule: Option<ImageRule>,
    /// Workloads whose image the rule would not let in; they stay until their next release.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unsigned: Vec<Name>,
    /// Whether files of running replicas may be changed there now.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub live_changes: bool,
}

/// How many destinations a workload lists.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingCount {
    /// The workload.
    pub workload: Name,
    /// The destinations.
    pub destinations: u32,
}

impl CommandKind for ChangeEnvironment {
    type Outcome = EnvironmentChanged;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<EnvironmentChanged, Refusal> {
        let before = transaction.environment(&self.name)?.outgoing;
        if let Some(outgoing) = self.outgoing {
            transaction.set_outgoing(&self.name, outgoing)?;
        }
        if let Some(rule) = &self.image_rule {
            transaction.set_image_rule(&self.name, Some(rule.clone()))?;
        }
        if let Some(allowed) = self.live_changes {
            transaction.allow_live_changes(&self.name, allowed)?;
        }
        let lists = transaction.outgoing_lists(&self.name);
        let count = |(workload, destinations)| OutgoingCount { workload, destinations };
        let unsigned = transaction.unsigned_workloads(&self.name);
        let now = transaction.environment(&self.name)?;
        Ok(EnvironmentChanged {
            before,
            outgoing: now.outgoing,
            lists: lists.into_iter().map(count).collect(),
            image_rule: now.image_rule.clone(),
            unsigned,
            live_changes: now.live_changes,
        })
    }

    outcome_of!(ChangeEnvironment);
}

/// Removes an environment that holds nothing any more.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveEnvironment {
    /// Its name.
    pub name: Name,
}

impl CommandKind for RemoveEnvironment {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        transaction.remove_environment(&self.name)?;
        Ok(Removed { gone: vec![format!("environment {}", self.name)] })
    }

    outcome_of!(RemoveEnvironment);
}

/// Removes all that an application declared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveApplication {
    /// The environment and the application's name.
    pub application: Target,
}

impl CommandKind for RemoveApplication {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        Ok(Removed { gone: transaction.remove_application(&self.application)? })
    }

    outcome_of!(RemoveApplication);
}

/// Makes an environment as it is declared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Declare {
    /// The environment.
    pub environment: Name,
    /// The declared objects.
    pub declared: Arc<Declared>,
    /// Also remove what the application no longer declares.
    pub exact: bool,
}

/// The changes of a declaration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DeclareOutcome {
    /// The changes that were made, or would be.
    pub changes: Vec<ChangeLine>,
    /// Notes: tags that stand for another image by now, and what a rule that follows the load would have done in the last day.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

impl CommandKind for Declare {
    type Outcome = DeclareOutcome;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<DeclareOutcome, Refusal> {
        let Plan { lines, notes, .. } = transaction.declare(&self.declared, &self.environment, self.exact)?;
        Ok(DeclareOutcome { changes: lines, notes })
    }

    fn moved(&self, outcome: &DeclareOutcome) -> BTreeSet<Target> {
        changed_workloads(&outcome.changes, &self.environment)
    }

    outcome_of!(Declare);
}
