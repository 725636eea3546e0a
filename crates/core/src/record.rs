//! The record's objects and the maps they are held in.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{
    Certificate, Environment, Gateway, ImageRecord, Name, Node, Origin, OutsideAuthority, Registry, Release,
    ReleaseNumber, Replica, ReplicaId, Rollout, Route, Secret, Service, Source, StorageRule, Target,
    Workload,
};

macro_rules! objects {
    ($($(#[$doc:meta])* $variant:ident($type:ty) = $word:literal in $map:ident[$index:ty] by |$it:ident| $key:expr, $text:expr;)*) => {
        /// The kinds of objects in the record.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Kind { $($(#[$doc])* $variant,)* }

        impl Kind {
            /// All kinds.
            pub const ALL: &[Kind] = &[$(Kind::$variant,)*];
            /// The word it is stored under.
            pub fn word(self) -> &'static str {
                match self { $(Kind::$variant => $word,)* }
            }
        }

        /// An object of the record.
        #[derive(Debug, Clone, PartialEq)]
        #[allow(clippy::large_enum_variant, reason = "each is moved once, from an act into the record")]
        pub enum Object { $($(#[$doc])* $variant($type),)* }

        impl Object {
            /// Its kind.
            pub fn kind(&self) -> Kind {
                match self { $(Object::$variant(_) => Kind::$variant,)* }
            }
            /// Its key, unique in its kind.
            pub fn key(&self) -> String {
                match self { $(Object::$variant($it) => $text,)* }
            }
            /// Its body as JSON.
            ///
            /// # Errors
            /// Never for what the record holds; the type allows it.
            pub fn body(&self) -> serde_json::Result<serde_json::Value> {
                match self { $(Object::$variant(it) => serde_json::to_value(it),)* }
            }
            /// Reads a body back.
            ///
            /// # Errors
            /// When it is not of this kind.
            pub fn read(kind: Kind, body: serde_json::Value) -> serde_json::Result<Object> {
                match kind { $(Kind::$variant => serde_json::from_value(body).map(Object::$variant),)* }
            }
        }

        /// All objects, by kind.
        #[derive(Debug, Clone, Default, PartialEq)]
        pub struct State { $($(#[$doc])* pub $map: BTreeMap<$index, $type>,)* }

        /// All objects as they travel: by the word of their kind, then by key.
        #[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
        pub struct Objects { $($(#[$doc])* #[serde(default, rename = $word)] pub $map: BTreeMap<String, $type>,)* }

        impl From<Objects> for State {
            fn from(objects: Objects) -> State {
                let mut state = State::default();
                $(for (_, object) in objects.$map { state.put(Object::$variant(object)); })*
                state
            }
        }

        impl State {
            /// Adds an object or replaces the one of its key.
            pub fn put(&mut self, object: Object) {
                match object { $(Object::$variant($it) => { self.$map.insert($key, $it); })* }
            }
            /// Every object, by the word of its kind and its key.
            pub fn objects(&self) -> Objects {
                Objects { $($map: self.$map.values().map(|$it| ($text, $it.clone())).collect(),)* }
            }
            /// An object by its kind and key.
            pub fn object(&self, kind: Kind, key: &str) -> Option<Object> {
                match kind {
                    $(Kind::$variant => self.$map.get(&indexed::<$index>(key)?).cloned().map(Object::$variant),)*
                }
            }
            /// Removes an object.
            pub fn remove(&mut self, kind: Kind, key: &str) {
                match kind {
                    $(Kind::$variant => if let Some(index) = indexed::<$index>(key) { self.$map.remove(&index); },)*
                }
            }
        }
    };
}

/// The entry of a record's key in the map of its kind.
pub(super) trait Index: Sized {
    /// Reads it.
    fn of(key: &str) -> Option<Self>;
}

/// Reads a key; `None` where it is none of this kind.
pub(super) fn indexed<T: Index>(key: &str) -> Option<T> {
    T::of(key)
}

impl Index for String {
    fn of(key: &str) -> Option<String> {
        Some(key.to_owned())
    }
}

impl Index for Name {
    fn of(key: &str) -> Option<Name> {
        key.parse().ok()
    }
}

impl Index for Target {
    fn of(key: &str) -> Option<Target> {
        key.parse().ok()
    }
}

impl Index for ReplicaId {
    fn of(key: &str) -> Option<ReplicaId> {
        key.parse().ok()
    }
}

impl Index for (Target, ReleaseNumber) {
    fn of(key: &str) -> Option<(Target, ReleaseNumber)> {
        let (workload, number) = key.rsplit_once('@')?;
        Some((workload.parse().ok()?, ReleaseNumber(number.parse().ok()?)))
    }
}

objects! {
    /// Environments.
    Environment(Environment) = "environment" in environments[Name] by |it| it.name.clone(), it.name.to_string();
    /// Workloads.
    Workload(Workload) = "workload" in workloads[Target] by |it| it.target.clone(), it.target.to_string();
    /// Releases.
    Release(Release) = "release" in releases[(Target, ReleaseNumber)] by |it| (it.workload.clone(), it.number), format!("{}@{}", it.workload, it.number);
    /// Rollouts, by the release they move to.
    Rollout(Rollout) = "rollout" in rollouts[(Target, ReleaseNumber)] by |it| (it.workload.clone(), it.to), format!("{}@{}", it.workload, it.to);
    /// Replicas.
    Replica(Replica) = "replica" in replicas[ReplicaId] by |it| it.id.clone(), it.id.to_string();
    /// Services.
    Service(Service) = "service" in services[Target] by |it| it.target.clone(), it.target.to_string();
    /// Routes.
    Route(Route) = "route" in routes[Target] by |it| it.target.clone(), it.target.to_string();
    /// Secrets.
    Secret(Secret) = "secret" in secrets[Target] by |it| it.target.clone(), it.target.to_string();
    /// Certificates.
    Certificate(Certificate) = "certificate" in certificates[Target] by |it| it.target.clone(), it.target.to_string();
    /// Certificate authorities outside.
    Authority(OutsideAuthority) = "authority" in authorities[Name] by |it| it.name.clone(), it.name.to_string();
    /// Sources.
    Source(Source) = "source" in sources[Target] by |it| it.target.clone(), it.target.to_string();
    /// Images.
    Image(ImageRecord) = "image" in images[String] by |it| it.image.to_string(), it.image.to_string();
    /// Registries outside.
    Registry(Registry) = "registry" in registries[Name] by |it| it.name.clone(), it.name.to_string();
    /// Rules for what repositories keep.
    StorageRule(StorageRule) = "storage-rule" in storage_rules[String] by |it| it.repository.clone(), it.repository.clone();
    /// Gateways.
    Gateway(Gateway) = "gateway" in gateways[String] by |it| it.name.clone(), it.name.clone();
    /// Nodes.
    Node(Node) = "node" in nodes[Name] by |it| it.name.clone(), it.name.to_string();
}

/// One object changed, appeared or went, and why.
#[derive(Debug, Clone, PartialEq)]
pub struct Change {
    /// Its kind.
    pub kind: Kind,
    /// Its key.
    pub key: String,
    /// Its present value; `None` if it was removed.
    pub object: Option<Object>,
    /// The member or part that caused it.
    pub cause: Origin,
}

impl Kind {
    /// The kind of this word.
    pub fn from_word(word: &str) -> Option<Kind> {
        Kind::ALL.iter().copied().find(|kind| kind.word() == word)
    }

    /// Whether things of this kind come and go by themselves, where others are declared or follow from what is.
    pub fn is_fleeting(self) -> bool {
        matches!(self, Kind::Replica | Kind::Node | Kind::Gateway)
    }
}

impl State {
    /// Whether the replica is kept apart by the kernel; one without a node is not running anywhere.
    pub fn isolates(&self, replica: &Replica) -> bool {
        let node = replica.node.as_ref().and_then(|name| self.nodes.get(name));
        node.is_none_or(Node::isolates)
    }

    /// The names of all that belongs to environments.
    pub fn named(&self) -> impl Iterator<Item = &Target> {
        let declared = self.workloads.keys().chain(self.services.keys()).chain(self.routes.keys());
        declared.chain(self.secrets.keys()).chain(self.certificates.keys()).chain(self.sources.keys())
    }

    /// Why a gateway cannot listen on a port that a route takes; `None` where all can.
    pub fn closed_port(&self, port: u16) -> Option<&str> {
        self.gateways.values().find_map(|gateway| gateway.closed_ports.get(&port)).map(String::as_str)
    }

    /// The newest move of a workload, whether it still goes on or not.
    pub fn newest_rollout(&self, target: &Target) -> Option<&Rollout> {
        self.rollouts_of(target).next_back()
    }

    /// The rollouts of a workload that are kept, the oldest first.
    pub fn rollouts_of(&self, target: &Target) -> impl DoubleEndedIterator<Item = &Rollout> {
        let key = |number| (target.clone(), ReleaseNumber(number));
        self.rollouts.range(key(0)..=key(u32::MAX)).map(|(_, rollout)| rollout)
    }

    /// The rollout of a workload that still moves or waits.
    pub fn open_rollout(&self, target: &Target) -> Option<&Rollout> {
        self.newest_rollout(target).filter(|rollout| rollout.state.is_open())
    }

    /// The address of a service for replicas.
    pub fn inside_address(&self, service: &Service) -> Ipv4Addr {
        // With several nodes each has its own place for it; then the record's stands for all.
        match self.nodes.values().collect::<Vec<_>>()[..] {
            [only] => only.range.place(service.address),
            _ => service.address,
        }
    }
}
