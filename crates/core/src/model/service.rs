//! The declaration of a service: which workloads stand behind it, at which ports, and who may call it.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Name;

/// A port of a service: where it leads on a replica.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(from = "WrittenPort", into = "WrittenPort")]
pub struct ServicePort {
    /// The port's name on the workload.
    pub port: Name,
    /// The protocol there.
    pub speaks: Speaks,
}

/// The protocol of a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Speaks {
    /// HTTP: spread by request.
    #[default]
    Http,
    /// HTTP/2 towards the replicas, as gRPC asks for: spread by request.
    H2,
    /// Anything over TCP: spread by connection.
    Tcp,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
enum WrittenPort {
    Name(Name),
    Table {
        port: Name,
        #[serde(default)]
        speaks: Speaks,
    },
}

impl From<WrittenPort> for ServicePort {
    fn from(written: WrittenPort) -> ServicePort {
        match written {
            WrittenPort::Name(port) => ServicePort { port, speaks: Speaks::Http },
            WrittenPort::Table { port, speaks } => ServicePort { port, speaks },
        }
    }
}

impl From<ServicePort> for WrittenPort {
    fn from(port: ServicePort) -> WrittenPort {
        match port {
            ServicePort { port, speaks: Speaks::Http } => WrittenPort::Name(port),
            ServicePort { port, speaks } => WrittenPort::Table { port, speaks },
        }
    }
}

impl From<Name> for ServicePort {
    fn from(port: Name) -> ServicePort {
        ServicePort { port, speaks: Speaks::Http }
    }
}

impl fmt::Display for ServicePort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.speaks {
            Speaks::Http => write!(f, "{}", self.port),
            Speaks::H2 => write!(f, "{}, h2", self.port),
            Speaks::Tcp => write!(f, "{}, tcp", self.port),
        }
    }
}

/// Everything that is declared of a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ServiceSpec {
    /// Labels a workload must carry; `workload` stands for its name.
    pub select: BTreeMap<String, String>,
    /// Service port to where it leads on the workload.
    #[serde(with = "by_number")]
    #[schemars(with = "BTreeMap<u16, ServicePort>")]
    pub ports: BTreeMap<u16, ServicePort>,
    /// Other environments whose replicas may call it.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub open_to: BTreeSet<Name>,
}

/// Numbers as keys of a table, also where the table is read together with others.
mod by_number {
    use std::collections::BTreeMap;

    use serde::{Deserialize, Deserializer, Serializer};

    use super::ServicePort;

    pub(super) fn serialize<S: Serializer>(
        ports: &BTreeMap<u16, ServicePort>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        serializer.collect_map(ports.iter().map(|(number, port)| (number.to_string(), port)))
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(
        deserializer: D,
    ) -> Result<BTreeMap<u16, ServicePort>, D::Error> {
        let written: BTreeMap<String, ServicePort> = BTreeMap::deserialize(deserializer)?;
        let number = |(number, port): (String, ServicePort)| {
            number.parse().map(|number| (number, port)).map_err(serde::de::Error::custom)
        };
        written.into_iter().map(number).collect()
    }
}
