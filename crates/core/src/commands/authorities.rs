//! Commands on certificate authorities outside. Keys are sealed before they come here; a command holds none.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, outcome_of};
use crate::cluster::{Refusal, Transaction};
use crate::model::{CertificateOrder, Name, OutsideAuthority};

/// Adds an authority, or puts one in the place of its predecessor.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddAuthority {
    /// The authority.
    pub authority: OutsideAuthority,
}

/// An authority was added.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AuthorityAdded {
    /// Its name.
    pub name: Name,
}

impl CommandKind for AddAuthority {
    type Outcome = AuthorityAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<AuthorityAdded, Refusal> {
        transaction.add_authority(self.authority.clone())?;
        Ok(AuthorityAdded { name: self.authority.name.clone() })
    }

    outcome_of!(AddAuthority);
}

/// Removes an authority; certificates that it signed stay.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveAuthority {
    /// Its name.
    pub name: Name,
}

impl CommandKind for RemoveAuthority {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        Ok(Removed { gone: transaction.remove_authority(&self.name)? })
    }

    outcome_of!(RemoveAuthority);
}

/// Remembers the account that the platform has at an authority.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoteAccount {
    /// The authority.
    pub authority: Name,
    /// The name that the account's sealed key is kept under.
    pub sealed: String,
}

/// Remembers how the order of a certificate stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoteOrder {
    /// The authority.
    pub authority: Name,
    /// The host.
    pub host: String,
    /// The order; none where it is done.
    pub order: Option<CertificateOrder>,
}

/// It is remembered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderNoted {}

impl CommandKind for NoteAccount {
    type Outcome = OrderNoted;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<OrderNoted, Refusal> {
        transaction.note_account(&self.authority, self.sealed.clone())?;
        Ok(OrderNoted {})
    }

    outcome_of!(NoteAccount);
}

impl CommandKind for NoteOrder {
    type Outcome = OrderNoted;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<OrderNoted, Refusal> {
        transaction.note_order(&self.authority, &self.host, self.order.clone())?;
        Ok(OrderNoted {})
    }

    outcome_of!(NoteOrder);
}
