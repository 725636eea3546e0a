//! The difference between two tables: it is sent to gateways, so that the work grows with what changed.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{OutgoingEntry, RouteEntry, ServiceEntry, Table, TableVersion};

/// From one table to the next.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct TableChange {
    /// The table that it changes.
    pub base: TableVersion,
    /// The table that it gives.
    pub version: TableVersion,
    /// Services that are new or differ; `None` for those that are gone.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub services: BTreeMap<String, Option<ServiceEntry>>,
    /// The same of routes.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub routes: BTreeMap<String, Option<RouteEntry>>,
    /// The same of what replicas may reach outside.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub outgoing: BTreeMap<String, Option<OutgoingEntry>>,
}

impl Table {
    /// The changes that turn `before` into this table.
    pub fn change_from(&self, before: &Table) -> TableChange {
        TableChange {
            base: before.version,
            version: self.version,
            services: differing(&before.services, &self.services),
            routes: differing(&before.routes, &self.routes),
            outgoing: differing(&before.outgoing, &self.outgoing),
        }
    }

    /// Makes the change, where it is one of this very table; tells whether it was.
    pub fn apply(&mut self, change: &TableChange) -> bool {
        if change.base != self.version || change.version <= self.version {
            return false;
        }
        self.version = change.version;
        overlay(&mut self.services, &change.services);
        overlay(&mut self.routes, &change.routes);
        overlay(&mut self.outgoing, &change.outgoing);
        true
    }
}

fn differing<T: Clone + PartialEq>(
    before: &BTreeMap<String, T>,
    after: &BTreeMap<String, T>,
) -> BTreeMap<String, Option<T>> {
    let gone = before.keys().filter(|key| !after.contains_key(*key)).map(|key| (key.clone(), None));
    let new = after.iter().filter(|(key, value)| before.get(*key) != Some(value));
    gone.chain(new.map(|(key, value)| (key.clone(), Some(value.clone())))).collect()
}

fn overlay<T: Clone>(map: &mut BTreeMap<String, T>, changes: &BTreeMap<String, Option<T>>) {
    for (key, value) in changes {
        match value {
            Some(value) => map.insert(key.clone(), value.clone()),
            None => map.remove(key),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::RouteSpec;
    use proptest::prelude::*;

    fn table(counter: u64, hosts: &BTreeMap<String, u8>) -> Table {
        let entry = |(name, host): (&String, &u8)| {
            let spec = RouteSpec::plain(Some(format!("h{host}.test")), "api".parse().expect("a name"));
            (name.clone(), RouteEntry { spec, to: vec![] })
        };
        let version = TableVersion { epoch: 1, counter };
        Table { version, routes: hosts.iter().map(entry).collect(), ..Table::default() }
    }

    proptest! {
        #[test]
        fn a_change_leads_from_one_table_to_the_other(
            before in proptest::collection::btree_map("[a-d]", 0u8..3, 0..5),
            after in proptest::collection::btree_map("[a-d]", 0u8..3, 0..5),
        ) {
            let (mut from, to) = (table(1, &before), table(2, &after));
            let change = to.change_from(&from);
            prop_assert!(change.routes.len() <= 4 && from.apply(&change));
            prop_assert_eq!(&from, &to);
            prop_assert!(!from.apply(&change), "once only");
        }
    }
}
