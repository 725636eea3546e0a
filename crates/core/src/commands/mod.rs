//! The commands of the cluster, as data, each with its outcome.
//!
//! A [`Command`] can be logged, sent and carried out again on another copy of the cluster. [`Cluster::carry_out`] is the
//! one place where it meets the cluster; a command is done whole, or refused whole with a [`Refusal`]. To add one, write
//! its struct in a file of this folder, implement [`CommandKind`], and name it in the table below.

mod authorities;
mod environments;
mod images;
mod registries;
mod releases;
mod secrets;
mod sources;
mod storage_rules;
mod workloads;

use std::collections::BTreeSet;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cluster::{Cluster, MadeRelease, Refusal, Transaction};
use crate::declare::ChangeLine;
use crate::model::Target;

pub use authorities::{AddAuthority, AuthorityAdded, NoteAccount, NoteOrder, OrderNoted, RemoveAuthority};
pub use environments::{
    AddEnvironment, ChangeEnvironment, Declare, DeclareOutcome, EnvironmentAdded, EnvironmentChanged,
    OutgoingCount, RemoveApplication, RemoveEnvironment,
};
pub use images::{
    AddImages, ImagesAdded, NoteSignature, PruneImages, PrunedImages, RemoveImage, SignatureNoted,
};
pub use registries::{AddRegistry, NotePull, PullNoted, RegistryAdded, RemoveRegistry};
pub use releases::{
    Cancel, Cancelled, Deploy, Deployed, KeepRelease, Promote, PromoteOutcome, ReleaseKept, Restart,
    Restarted, Rollback, RolledBack,
};
pub use secrets::{
    AddCertificate, AddSecret, AddSecrets, CertificateAdded, RemoveCertificate, RemoveSecret, SecretsAdded,
};
pub use sources::{
    AddSource, BuildsNoted, CatchUp, CaughtUp, ChangeSource, HoldSource, NoteBuilds, NoteDeclared, NoteLook,
    RemoveSource, ResumeSource, SourceAdded, SourceChanged, SourceHeld, SourceRemoved, SourceResumed,
    UnknownCommits,
};
pub use storage_rules::{PruneByRule, RemoveStorageRule, SetStorageRule, StorageRuleSet};
pub use workloads::{
    Advance, Advanced, Hold, HoldOutcome, LiveChangeNoted, NoteLiveChange, RemoveWorkload, Resume, Resumed,
    Scale, Scaled, SetAside, SetAsideOutcome,
};

/// One kind of command: what it takes, what it does, and what it answers.
pub trait CommandKind: Into<Command> {
    /// Its outcome.
    type Outcome;

    /// Changes the cluster, or refuses without a change.
    ///
    /// # Errors
    /// Why it cannot be done, in words that help.
    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Self::Outcome, Refusal>;

    /// The workloads that move because of it: a forecast watches them.
    fn moved(&self, _: &Self::Outcome) -> BTreeSet<Target> {
        BTreeSet::new()
    }

    /// This kind's part of an [`Outcome`]; `None` for the outcome of another kind.
    fn outcome_of(outcome: Outcome) -> Option<Self::Outcome>;
}

impl Cluster {
    /// Does what a command says, or refuses it without a change.
    ///
    /// # Errors
    /// Why it cannot be done, in words that help.
    pub fn carry_out(&mut self, command: &Command, by: &str, now: Timestamp) -> Result<Outcome, Refusal> {
        self.attempt(by, now, |transaction| command.run_in(transaction))
    }
}

macro_rules! commands {
    ($($kind:ident($outcome:ty) = $word:literal)*) => {
        /// Everything that may be asked of the cluster.
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
        #[serde(tag = "command", content = "of", rename_all = "kebab-case")]
        #[allow(clippy::large_enum_variant, reason = "a command is moved a few times, from a caller to the cluster")]
        pub enum Command {
            $(#[doc = concat!("See [`", stringify!($kind), "`].")] $kind($kind),)*
        }

        /// The outcome of a command.
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
        #[serde(tag = "command", content = "came-to", rename_all = "kebab-case")]
        pub enum Outcome {
            $(#[doc = concat!("Of [`", stringify!($kind), "`].")] $kind($outcome),)*
        }

        impl Command {
            /// Its name in logs.
            pub fn word(&self) -> &'static str {
                match self { $(Command::$kind(_) => $word,)* }
            }

            /// Does what it says in a transaction, or refuses it.
            fn run_in(&self, transaction: &mut Transaction<'_>) -> Result<Outcome, Refusal> {
                match self { $(Command::$kind(it) => it.run(transaction).map(Outcome::$kind),)* }
            }
        }


        $(
            impl From<$kind> for Command {
                fn from(command: $kind) -> Command {
                    Command::$kind(command)
                }
            }
        )*
    };
}

/// Takes the outcome of one kind out of an [`Outcome`].
macro_rules! outcome_of {
    ($kind:ident) => {
        fn outcome_of(outcome: $crate::commands::Outcome) -> Option<Self::Outcome> {
            match outcome {
                $crate::commands::Outcome::$kind(outcome) => Some(outcome),
                _ => None,
            }
        }
    };
}
use outcome_of;

commands! {
    AddEnvironment(EnvironmentAdded) = "add-environment"
    ChangeEnvironment(EnvironmentChanged) = "change-environment"
    RemoveEnvironment(Removed) = "remove-environment"
    RemoveApplication(Removed) = "remove-application"
    Declare(DeclareOutcome) = "declare"
    RemoveWorkload(Removed) = "remove-workload"
    Scale(Scaled) = "scale"
    SetAside(SetAsideOutcome) = "set-aside"
    NoteLiveChange(LiveChangeNoted) = "note-live-change"
    Hold(HoldOutcome) = "hold"
    Resume(Resumed) = "resume"
    Advance(Advanced) = "advance"
    Deploy(Deployed) = "deploy"
    Promote(PromoteOutcome) = "promote"
    Rollback(RolledBack) = "rollback"
    Restart(Restarted) = "restart"
    Cancel(Cancelled) = "cancel"
    KeepRelease(ReleaseKept) = "keep-release"
    AddImages(ImagesAdded) = "add-images"
    RemoveImage(Removed) = "remove-image"
    NoteSignature(SignatureNoted) = "note-signature"
    PruneImages(PrunedImages) = "prune-images"
    PruneByRule(PrunedImages) = "prune-by-rule"
    SetStorageRule(StorageRuleSet) = "set-storage-rule"
    RemoveStorageRule(Removed) = "remove-storage-rule"
    AddRegistry(RegistryAdded) = "add-registry"
    RemoveRegistry(Removed) = "remove-registry"
    NotePull(PullNoted) = "note-pull"
    AddAuthority(AuthorityAdded) = "add-authority"
    RemoveAuthority(Removed) = "remove-authority"
    NoteAccount(OrderNoted) = "note-account"
    NoteOrder(OrderNoted) = "note-order"
    NoteBuilds(BuildsNoted) = "note-builds"
    AddSecret(SecretsAdded) = "add-secret"
    AddSecrets(SecretsAdded) = "add-secrets"
    RemoveSecret(Removed) = "remove-secret"
    AddCertificate(CertificateAdded) = "add-certificate"
    RemoveCertificate(Removed) = "remove-certificate"
    AddSource(SourceAdded) = "add-source"
    ChangeSource(SourceChanged) = "change-source"
    RemoveSource(SourceRemoved) = "remove-source"
    CatchUp(CaughtUp) = "catch-up"
    HoldSource(SourceHeld) = "hold-source"
    ResumeSource(SourceResumed) = "resume-source"
    NoteLook(UnknownCommits) = "note-look"
    NoteDeclared(UnknownCommits) = "note-declared"
}

/// The removed objects.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Removed {
    /// Each thing that went, with what that means, in words.
    pub gone: Vec<String>,
}

/// The workloads that lines about changes name.
fn changed_workloads(changes: &[ChangeLine], environment: &crate::model::Name) -> BTreeSet<Target> {
    changes
        .iter()
        .filter_map(|line| line.workload.as_ref())
        .map(|name| Target::new(environment, name))
        .collect()
}

/// The workloads that releases were made of.
fn released(made: &[MadeRelease]) -> BTreeSet<Target> {
    made.iter().map(|made| made.workload.clone()).collect()
}

#[cfg(test)]
mod tests;
