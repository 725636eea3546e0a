//! Views on the stream: after changes, the rows that are no longer what the reader has.
//!
//! A view spans several objects, so it is computed again for each environment that changed and compared with what was
//! sent before; only rows that differ travel. Computing takes time that grows with the environment. So the next pass
//! waits ten times as long as the last one took: a reader costs a tenth of a processor at most, however much changes.

use std::collections::BTreeMap;
use std::time::Duration;

use jiff::Timestamp;
use mainyard_api::{ViewChange, ViewPart};
use mainyard_core::model::Name;
use mainyard_core::record::{Kind, State};
use mainyard_core::views::{EnvironmentView, GatewayPorts, Views};
use mainyard_store::Entry;
use serde::Serialize;
use tokio::time::Instant;

/// The shortest time between two passes: a burst of changes is looked at once.
const SHORTEST: Duration = Duration::from_millis(50);
/// Part of a view changes with time alone, such as the days until a certificate ends.
const EVERYTHING_EVERY: Duration = Duration::from_secs(60);

/// The views that a reader of the stream has received.
pub(super) struct SentViews {
    gateway: GatewayPorts,
    /// The last views sent; `None` until the first pass.
    sent: Option<Views>,
    /// Environments that changed since the last pass.
    changed: Changed,
    /// The next pass is not before this.
    due: Instant,
    everything_at: Instant,
}

/// Which environments changed.
#[derive(Debug, Default)]
enum Changed {
    #[default]
    None,
    Some(std::collections::BTreeSet<Name>),
    All,
}

impl SentViews {
    /// A reader that has the views of this state, or none.
    pub(super) fn new(gateway: GatewayPorts, has: Option<&State>) -> SentViews {
        let now = Instant::now();
        let sent = has.map(|state| Views::of(state, gateway, Timestamp::now()));
        let changed = if sent.is_some() { Changed::None } else { Changed::All };
        SentViews { gateway, sent, changed, due: now, everything_at: now + EVERYTHING_EVERY }
    }

    /// Notes what these changes may have changed.
    pub(super) fn note(&mut self, entries: &[Entry]) {
        for entry in entries {
            let environment = match entry.kind {
                // These show in views of every environment: nodes, closed ports, and which environments stand at a commit.
                Kind::Environment | Kind::Node | Kind::Gateway | Kind::Source => None,
                Kind::Image => continue,
                _ => entry.key.split('/').next().and_then(|name| name.parse::<Name>().ok()),
            };
            match (environment, &mut self.changed) {
                (_, Changed::All) => {}
                (None, changed) => *changed = Changed::All,
                (Some(name), Changed::Some(names)) => {
                    names.insert(name);
                }
                (Some(name), changed) => *changed = Changed::Some([name].into()),
            }
        }
    }

    /// When the next pass is to be made; `None` while nothing changed.
    pub(super) fn due(&self) -> Instant {
        match self.changed {
            Changed::None => self.everything_at,
            _ => self.due.min(self.everything_at),
        }
    }

    /// Computes what changed and gives the rows that differ from what was sent before.
    pub(super) fn pass(&mut self, state: &State) -> Vec<ViewChange> {
        let began = Instant::now();
        let mut changed = std::mem::take(&mut self.changed);
        if began >= self.everything_at {
            self.everything_at = began + EVERYTHING_EVERY;
            changed = Changed::All;
        }
        let first = self.sent.is_none();
        let before = self.sent.take().unwrap_or_default();
        let now = match &changed {
            Changed::All => Views::of(state, self.gateway, Timestamp::now()),
            Changed::None => before.clone(),
            Changed::Some(names) => {
                let mut now = before.clone();
                for name in names.iter().filter(|name| state.environments.contains_key(*name)) {
                    let view = EnvironmentView::of(state, name, self.gateway, Timestamp::now());
                    now.environments.insert(name.clone(), view);
                }
                now
            }
        };
        let changes = differences(&before, &now, first);
        self.sent = Some(now);
        self.due = Instant::now() + SHORTEST.max(began.elapsed() * 10);
        changes
    }
}

/// The rows of `now` that are not in `before`, and those that went. The first time `before` is not what the reader has: then
/// an empty list of needs is sent as well, in the place of an old one.
fn differences(before: &Views, now: &Views, first: bool) -> Vec<ViewChange> {
    let mut changes = Vec::new();
    rows(&mut changes, None, ViewPart::Nodes, &before.nodes, &now.nodes);
    let nothing = EnvironmentView::default();
    let gone = before.environments.keys().filter(|name| !now.environments.contains_key(*name));
    for name in now.environments.keys().chain(gone) {
        let old = before.environments.get(name).unwrap_or(&nothing);
        let new = now.environments.get(name).unwrap_or(&nothing);
        if first || old.needs != new.needs {
            changes.push(change(Some(name), ViewPart::Needs, "", Some(&new.needs)));
        }
        rows(&mut changes, Some(name), ViewPart::Workloads, &old.workloads, &new.workloads);
        rows(&mut changes, Some(name), ViewPart::Services, &old.services, &new.services);
        rows(&mut changes, Some(name), ViewPart::Routes, &old.routes, &new.routes);
        rows(&mut changes, Some(name), ViewPart::Sources, &old.sources, &new.sources);
        rows(&mut changes, Some(name), ViewPart::Certificates, &old.certificates, &new.certificates);
    }
    changes
}

fn rows<T: PartialEq + Serialize>(
    changes: &mut Vec<ViewChange>,
    environment: Option<&Name>,
    part: ViewPart,
    before: &BTreeMap<Name, T>,
    now: &BTreeMap<Name, T>,
) {
    for (name, row) in now.iter().filter(|(name, row)| before.get(*name) != Some(row)) {
        changes.push(change(environment, part, name.as_str(), Some(row)));
    }
    for name in before.keys().filter(|name| !now.contains_key(*name)) {
        changes.push(change::<T>(environment, part, name.as_str(), None));
    }
}

fn change<T: Serialize>(
    environment: Option<&Name>,
    part: ViewPart,
    name: &str,
    row: Option<&T>,
) -> ViewChange {
    // Views are plain structs with string keys: writing one as JSON can't fail.
    let row = row.map(|row| serde_json::to_value(row).expect("a view is plain data"));
    ViewChange { environment: environment.cloned(), part, name: name.to_owned(), row }
}
