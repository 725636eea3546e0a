//! Commands on environments and applications, and declarations.

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, changed_workloads, outcome_of};
use crate::cluster::{Cluster, Refusal};
use crate::declare::{ChangeLine, Plan};
use crate::manifest::Declared;
use crate::model::{Name, Target};

/// Makes an environment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddEnvironment {
    /// Its name.
    pub name: Name,
    /// What hosts of routes are under that are not named in full.
    pub domain: Option<String>,
}

/// An environment was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct EnvironmentAdded {
    /// Its name.
    pub name: Name,
}

impl CommandKind for AddEnvironment {
    type Outcome = EnvironmentAdded;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<EnvironmentAdded, Refusal> {
        cluster.add_environment(&self.name, self.domain.clone(), by, now)?;
        Ok(EnvironmentAdded { name: self.name.clone() })
    }

    outcome_of!(AddEnvironment);
}

/// Removes an environment that holds nothing any more.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveEnvironment {
    /// Its name.
    pub name: Name,
}

impl CommandKind for RemoveEnvironment {
    type Outcome = Removed;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<Removed, Refusal> {
        cluster.remove_environment(&self.name, by, now)?;
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

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<Removed, Refusal> {
        Ok(Removed { gone: cluster.remove_application(&self.application, by, now)? })
    }

    outcome_of!(RemoveApplication);
}

/// Makes an environment as it is declared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Declare {
    /// The environment.
    pub environment: Name,
    /// What should be there.
    pub declared: Arc<Declared>,
    /// Also remove what the application no longer declares.
    pub exact: bool,
}

/// What a declaration changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DeclareOutcome {
    /// What changed, or would.
    pub changes: Vec<ChangeLine>,
    /// What is as declared and still worth knowing: tags that stand for another image by now.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

impl CommandKind for Declare {
    type Outcome = DeclareOutcome;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<DeclareOutcome, Refusal> {
        let Plan { lines, notes, .. } =
            cluster.declare(&self.declared, &self.environment, self.exact, by, now)?;
        Ok(DeclareOutcome { changes: lines, notes })
    }

    fn moved(&self, outcome: &DeclareOutcome) -> BTreeSet<Target> {
        changed_workloads(&outcome.changes, &self.environment)
    }

    outcome_of!(Declare);
}
