//! Which workloads come before which.

use super::{Declared, Reader};
use crate::model::Name;
use crate::suggestions::did_you_mean;

impl Reader<'_> {
    /// Every workload that another comes after is declared, and none comes after itself, by however many steps.
    pub(super) fn check_order(&mut self, declared: &Declared) {
        for (name, workload) in &declared.workloads {
            for before in workload.after.iter().filter(|before| !declared.workloads.contains_key(*before)) {
                let others = declared.workloads.keys().filter(|other| *other != name).map(Name::as_str);
                let meant = did_you_mean(before.as_str(), others);
                let message = format!("`{name}` comes after `{before}`, which is not declared{meant}");
                self.say(&["workload", name.as_str(), "after"], message);
            }
            if let Some(way) = way_round(declared, name) {
                let way: Vec<String> = way.iter().map(|name| format!("`{name}`")).collect();
                let message = format!("each waits for the next: {}", way.join(" after "));
                self.say(&["workload", name.as_str(), "after"], message);
            }
        }
    }
}

/// The way from a workload over what it comes after back to itself; told once, at the first of its names.
fn way_round(declared: &Declared, from: &Name) -> Option<Vec<Name>> {
    let mut ways = vec![vec![from.clone()]];
    let mut seen = std::collections::BTreeSet::new();
    while let Some(way) = ways.pop() {
        for before in declared.workloads.get(way.last()?).into_iter().flat_map(|workload| &workload.after) {
            let next: Vec<Name> = way.iter().chain([before]).cloned().collect();
            if before == from {
                return way.iter().all(|name| name >= from).then_some(next);
            }
            if seen.insert(before.clone()) {
                ways.push(next);
            }
        }
    }
    None
}
