//! The way out of each workload, as gateways tell of it; in memory only.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use jiff::Timestamp;
use mainyard_api::{OutgoingDestination, OutgoingName, OutgoingTraffic, Problem, ShowOutgoing};
use mainyard_core::link::{ConnectionFigure, NameFigure, OutgoingFigures};
use mainyard_core::model::Target;
use mainyard_core::routing::outgoing_policy;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};

use crate::operations::{Call, Operations};

/// Destinations, and names, that are remembered of one workload; past that the oldest go.
const OF_ONE: usize = 200;
/// Seconds that a gateway's word on what is open counts: it is told every second.
const OPEN_FOR: i64 = 3;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(show);
}

/// One destination of a workload.
#[derive(Debug)]
struct Destination {
    /// Connections that are open, by gateway, and the second that it said so.
    open: BTreeMap<String, (i64, u32)>,
    sums: OutgoingDestination,
}

#[derive(Debug, Default)]
struct WayOut {
    destinations: BTreeMap<String, Destination>,
    names: BTreeMap<String, OutgoingName>,
}

/// What was reached, by workload.
#[derive(Debug, Default)]
pub(crate) struct Outgoing(Mutex<BTreeMap<Target, WayOut>>);

impl WayOut {
    fn add_connection(&mut self, gateway: &str, figure: &ConnectionFigure, now: Timestamp) {
        let known = self.destinations.entry(figure.destination.clone()).or_insert_with(|| Destination {
            open: BTreeMap::new(),
            sums: OutgoingDestination {
                destination: figure.destination.clone(),
                rule: None,
                open: 0,
                made: 0,
                refused: 0,
                failed: 0,
                sent: 0,
                received: 0,
                says: None,
                at: now,
            },
        });
        known.open.insert(gateway.to_owned(), (now.as_second(), figure.open));
        let sums = &mut known.sums;
        sums.rule = figure.rule.clone().or(sums.rule.take());
        sums.made += figure.made;
        sums.refused += figure.refused;
        sums.failed += figure.failed;
        sums.sent += figure.sent;
        sums.received += figure.received;
        sums.says = figure.says.clone().or_else(|| sums.says.take().filter(|_| figure.made == 0));
        sums.at = now;
        make_room(&mut self.destinations, |it| it.sums.at);
    }

    fn add_name(&mut self, figure: &NameFigure, now: Timestamp) {
        let asked = self.names.get(&figure.name).map_or(0, |known| known.asked) + figure.asked;
        let (name, outcome) = (figure.name.clone(), figure.outcome);
        let row = OutgoingName { name, asked, outcome, addresses: figure.addresses.clone(), at: now };
        self.names.insert(figure.name.clone(), row);
        make_room(&mut self.names, |it| it.at);
    }
}

fn make_room<T>(map: &mut BTreeMap<String, T>, at: impl Fn(&T) -> Timestamp) {
    if map.len() <= OF_ONE {
        return;
    }
    let oldest = map.iter().min_by_key(|(_, it)| at(it)).map(|(key, _)| key.clone());
    oldest.and_then(|key| map.remove(&key));
}

impl Destination {
    fn row(&self, now: i64) -> OutgoingDestination {
        let present = self.open.values().filter(|(at, _)| *at > now - OPEN_FOR);
        OutgoingDestination { open: present.map(|(_, open)| open).sum(), ..self.sums.clone() }
    }
}

impl Outgoing {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<Target, WayOut>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds what a gateway tells.
    pub(crate) fn add(&self, gateway: &str, figures: &OutgoingFigures) {
        if figures.is_empty() {
            return;
        }
        let now = Timestamp::now();
        let mut all = self.lock();
        for figure in &figures.connections {
            all.entry(figure.workload.clone()).or_default().add_connection(gateway, figure, now);
        }
        for figure in &figures.names {
            all.entry(figure.workload.clone()).or_default().add_name(figure, now);
        }
    }

    /// Forgets workloads that are gone.
    pub(crate) fn keep_only(&self, present: impl Fn(&Target) -> bool) {
        self.lock().retain(|workload, _| present(workload));
    }

    fn of(&self, workload: &Target) -> (Vec<OutgoingDestination>, Vec<OutgoingName>) {
        let now = Timestamp::now().as_second();
        let all = self.lock();
        let Some(known) = all.get(workload) else { return Default::default() };
        let mut destinations: Vec<_> = known.destinations.values().map(|it| it.row(now)).collect();
        let mut names: Vec<_> = known.names.values().cloned().collect();
        destinations.sort_by_key(|row| std::cmp::Reverse(row.at));
        names.sort_by_key(|row| std::cmp::Reverse(row.at));
        (destinations, names)
    }

    /// Adds everything since control started.
    pub(crate) fn register(&self, registry: &mut Registry) {
        let now = Timestamp::now().as_second();
        let all = self.lock();
        let rows = || {
            all.iter().flat_map(|(workload, known)| {
                known.destinations.values().map(move |it| (workload, it.row(now)))
            })
        };
        let labels = |workload: &Target, row: &OutgoingDestination, outcome| Labels {
            workload: workload.to_string(),
            destination: row.destination.clone(),
            outcome,
        };
        let connections = Family::<Labels, Counter>::default();
        let (sent, received, open) = (
            Family::<DestinationLabels, Counter>::default(),
            Family::<DestinationLabels, Counter>::default(),
            Family::<DestinationLabels, Gauge>::default(),
        );
        for (workload, row) in rows() {
            for (outcome, count) in [("made", row.made), ("refused", row.refused), ("failed", row.failed)] {
                connections.get_or_create(&labels(workload, &row, outcome)).inc_by(count);
            }
            let plain =
                DestinationLabels { workload: workload.to_string(), destination: row.destination.clone() };
            sent.get_or_create(&plain).inc_by(row.sent);
            received.get_or_create(&plain).inc_by(row.received);
            open.get_or_create(&plain).set(i64::from(row.open));
        }
        registry.register("mainyard_outgoing_connections", "Connections to the outside", connections);
        registry.register("mainyard_outgoing_open", "Connections to the outside that are open now", open);
        registry.register_with_unit("mainyard_outgoing_sent", "To the outside", Unit::Bytes, sent);
        registry.register_with_unit("mainyard_outgoing_received", "From the outside", Unit::Bytes, received);
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Labels {
    workload: String,
    destination: String,
    outcome: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct DestinationLabels {
    workload: String,
    destination: String,
}

async fn show(call: Call<ShowOutgoing>) -> Result<OutgoingTraffic, Problem> {
    let target = call.path.target();
    let published = call.control.leader.published.read().await;
    let state = &published.0;
    let workload = state
        .workloads
        .get(&target)
        .ok_or_else(|| Problem::not_found(format!("there is no workload {target}")))?;
    let policy = outgoing_policy(state, &target, workload.release);
    let enforced = state.nodes.values().all(|node| node.range.is_private());
    drop(published);
    let (destinations, names) = call.control.outgoing.of(&target);
    Ok(OutgoingTraffic { mode: policy.mode, rules: policy.rules, enforced, destinations, names })
}

#[cfg(test)]
mod tests {
    use super::*;
    use mainyard_core::link::NameOutcome;

    fn connection(destination: &str, open: u32, made: u64, says: Option<&str>) -> ConnectionFigure {
        ConnectionFigure {
            workload: "staging/locker-api".parse().expect("a target"),
            destination: destination.to_owned(),
            rule: None,
            open,
            made,
            refused: 0,
            failed: u64::from(says.is_some()),
            sent: 10,
            received: 20,
            says: says.map(str::to_owned),
        }
    }

    #[test]
    fn what_two_gateways_tell_is_added_up_and_the_latest_reason_stays_until_one_is_made() {
        let outgoing = Outgoing::default();
        let tell = |gateway: &str, figure: ConnectionFigure| {
            let figures = OutgoingFigures { connections: vec![figure], names: Vec::new() };
            outgoing.add(gateway, &figures);
        };
        tell("gateway-1", connection("mail.example:25", 2, 3, None));
        tell("gateway-2", connection("mail.example:25", 1, 0, Some("connection refused")));
        let target = "staging/locker-api".parse().expect("a target");
        let row = outgoing.of(&target).0.remove(0);
        assert_eq!((row.open, row.made, row.failed, row.sent, row.received), (3, 3, 1, 20, 40));
        assert_eq!(row.says.as_deref(), Some("connection refused"));
        tell("gateway-1", connection("mail.example:25", 0, 1, None));
        let row = outgoing.of(&target).0.remove(0);
        assert_eq!((row.open, row.says), (1, None));
        outgoing.keep_only(|_| false);
        assert!(outgoing.of(&target).0.is_empty());
    }

    #[test]
    fn a_workload_that_asks_for_ever_new_names_takes_no_more_room() {
        let outgoing = Outgoing::default();
        let target: Target = "staging/locker-api".parse().expect("a target");
        for number in 0..3 * OF_ONE {
            let name = NameFigure {
                workload: target.clone(),
                name: format!("host-{number}.example"),
                asked: 1,
                outcome: NameOutcome::Unknown,
                addresses: Vec::new(),
            };
            outgoing.add("gateway-1", &OutgoingFigures { connections: Vec::new(), names: vec![name] });
        }
        assert_eq!(outgoing.of(&target).1.len(), OF_ONE);
    }
}
