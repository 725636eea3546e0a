//! Commands on registries outside. Passwords are sealed before they come here; a command holds none.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, outcome_of};
use crate::cluster::{Refusal, Transaction};
use crate::model::{ImageRef, Name, Reason, Registry};

/// Adds a registry, or puts one in the place of its predecessor.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddRegistry {
    /// The registry.
    pub registry: Registry,
}

/// A registry was added.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RegistryAdded {
    /// Its name.
    pub name: Name,
}

impl CommandKind for AddRegistry {
    type Outcome = RegistryAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<RegistryAdded, Refusal> {
        transaction.add_registry(self.registry.clone())?;
        Ok(RegistryAdded { name: self.registry.name.clone() })
    }

    outcome_of!(AddRegistry);
}

/// Removes a registry; images that were pulled stay.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveRegistry {
    /// Its name.
    pub name: Name,
}

impl CommandKind for RemoveRegistry {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        Ok(Removed { gone: transaction.remove_registry(&self.name)? })
    }

    outcome_of!(RemoveRegistry);
}

/// Notes that an image could not be pulled, or is tried again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NotePull {
    /// The image.
    pub image: ImageRef,
    /// Why not.
    pub problem: Option<Reason>,
}

/// It was noted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PullNoted {}

impl CommandKind for NotePull {
    type Outcome = PullNoted;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<PullNoted, Refusal> {
        transaction.note_pull(&self.image, self.problem.clone());
        Ok(PullNoted {})
    }

    outcome_of!(NotePull);
}
