//! States, and the signal each one shows.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A state's meaning at a glance: the same colour and shape wherever it is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Signal {
    /// All is well.
    Good,
    /// On its way.
    Moving,
    /// Someone may want to look.
    Caution,
    /// Someone must look.
    Fault,
    /// At rest on purpose.
    Rest,
}

impl Signal {
    /// Its shape, in terminals.
    pub fn shape(self) -> &'static str {
        match self {
            Signal::Good => "●",
            Signal::Moving => "»",
            Signal::Caution => "▲",
            Signal::Fault => "■",
            Signal::Rest => "○",
        }
    }
}

macro_rules! states {
    ($(#[$about:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal => $signal:ident,)* }) => {
        $(#[$about])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        pub enum $name {
            $($(#[$doc])* #[serde(rename = $word)] $variant,)*
        }
        impl $name {
            /// Every state there is.
            pub const ALL: &[$name] = &[$($name::$variant,)*];
            /// The word that is shown and stored.
            pub fn word(self) -> &'static str {
                match self { $($name::$variant => $word,)* }
            }
            /// The state's signal.
            pub fn signal(self) -> Signal {
                match self { $($name::$variant => Signal::$signal,)* }
            }
            /// The state of this word.
            pub fn from_word(word: &str) -> Option<$name> {
                $name::ALL.iter().copied().find(|state| state.word() == word)
            }
        }
        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.word())
            }
        }
    };
}

states! {
    /// How a workload is.
    WorkloadState {
        /// As many replicas ready as wanted, of the release that is wanted.
        Steady = "steady" => Good,
        /// On the way to what is wanted.
        Moving = "moving" => Moving,
        /// Fewer ready than wanted.
        TooFew = "too-few" => Caution,
        /// It does not become ready, or keeps crashing.
        Failing = "failing" => Fault,
        /// No replica, on purpose.
        Off = "off" => Rest,
        /// No replica, because nobody asks; the next request wakes it.
        Asleep = "asleep" => Rest,
    }
}

states! {
    /// How a replica is.
    ReplicaState {
        /// Not started yet.
        Waiting = "waiting" => Moving,
        /// Its image is on the way to the node.
        Fetching = "fetching" => Moving,
        /// Started, never ready so far.
        Starting = "starting" => Moving,
        /// Takes requests.
        Ready = "ready" => Good,
        /// Was ready, and its check fails.
        Unready = "unready" => Caution,
        /// Takes no new requests; its open ones end.
        Draining = "draining" => Moving,
        /// Out of service for study; another is in its place.
        SetAside = "set-aside" => Caution,
        /// Its process ended as asked.
        Ended = "ended" => Rest,
        /// Does not run, and the reason says why.
        Failed = "failed" => Fault,
        /// Its node is silent.
        Lost = "lost" => Fault,
    }
}

states! {
    /// How a rollout is, and so what became of a release.
    RolloutState {
        /// Its first replica is not ready yet.
        Starting = "starting" => Moving,
        /// Replicas of the new release take over.
        Shifting = "shifting" => Moving,
        /// All are there and prove themselves.
        Settling = "settling" => Moving,
        /// It does not go on by itself; a person decides.
        Awaiting = "awaiting" => Caution,
        /// The one before takes over again.
        GoingBack = "going-back" => Moving,
        /// The release runs.
        Done = "done" => Good,
        /// It is there, and no replica ever ran it: 0 were wanted.
        Untried = "untried" => Rest,
        /// The one before took over again.
        WentBack = "went-back" => Caution,
        /// Taken back by a person before it was done.
        Cancelled = "cancelled" => Rest,
        /// A newer release took its place before it was done.
        Superseded = "superseded" => Rest,
    }
}

states! {
    /// How a source is.
    SourceState {
        /// The environment is as the newest commit says.
        InStep = "in-step" => Good,
        /// The newest commit is not taken yet.
        Behind = "behind" => Caution,
        /// It is on its way.
        CatchingUp = "catching-up" => Moving,
        /// Something that it declares was changed here.
        Drifted = "drifted" => Caution,
        /// The newest commit cannot be taken.
        Refused = "refused" => Fault,
        /// The repository does not answer.
        Unreachable = "unreachable" => Fault,
    }
}

impl RolloutState {
    /// Whether the rollout still moves or waits.
    pub fn is_open(self) -> bool {
        matches!(self, Self::Starting | Self::Shifting | Self::Settling | Self::Awaiting | Self::GoingBack)
    }
}

impl ReplicaState {
    /// Whether the replica counts towards what is wanted: it is there to stay.
    pub fn is_staying(self) -> bool {
        !matches!(self, Self::Draining | Self::SetAside | Self::Ended | Self::Lost)
    }
}
