//! Counting what is reached outside, by workload and destination.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use mainyard_core::link::{ConnectionFigure, NameFigure, NameOutcome, OutgoingFigures};
use mainyard_core::model::Target;
use mainyard_core::routing::Policy;

/// Destinations, and names, that are counted apart between two reports; the rest of a workload's are counted together.
const APART: usize = 2_000;
/// The name for those.
const OTHERS: &str = "others";

/// One destination of one workload.
#[derive(Debug, Default)]
pub(crate) struct DestinationCount {
    open: AtomicU32,
    made: AtomicU64,
    refused: AtomicU64,
    failed: AtomicU64,
    /// Bytes to the outside.
    pub sent: AtomicU64,
    /// Bytes from the outside.
    pub received: AtomicU64,
    rule: Mutex<Option<String>>,
    says: Mutex<Option<String>>,
}

/// A connection that is counted as open for as long as this is held.
#[derive(Debug)]
pub(crate) struct OpenConnection(Arc<DestinationCount>);

impl Drop for OpenConnection {
    fn drop(&mut self) {
        self.0.open.fetch_sub(1, Ordering::Relaxed);
    }
}

impl DestinationCount {
    /// A connection was made.
    pub(crate) fn made(self: &Arc<Self>, rule: Option<String>) -> OpenConnection {
        self.made.fetch_add(1, Ordering::Relaxed);
        self.open.fetch_add(1, Ordering::Relaxed);
        *lock(&self.rule) = rule;
        OpenConnection(Arc::clone(self))
    }

    /// No rule allows one.
    pub(crate) fn refused(&self, says: &str) {
        self.refused.fetch_add(1, Ordering::Relaxed);
        *lock(&self.says) = Some(says.to_owned());
    }

    /// One could not be made.
    pub(crate) fn failed(&self, says: &str) {
        self.failed.fetch_add(1, Ordering::Relaxed);
        *lock(&self.says) = Some(says.to_owned());
    }

    fn take(&self, workload: &Target, destination: &str) -> Option<ConnectionFigure> {
        let figure = ConnectionFigure {
            workload: workload.clone(),
            destination: destination.to_owned(),
            rule: lock(&self.rule).clone(),
            open: self.open.load(Ordering::Relaxed),
            made: self.made.swap(0, Ordering::Relaxed),
            refused: self.refused.swap(0, Ordering::Relaxed),
            failed: self.failed.swap(0, Ordering::Relaxed),
            sent: self.sent.swap(0, Ordering::Relaxed),
            received: self.received.swap(0, Ordering::Relaxed),
            says: lock(&self.says).take(),
        };
        let happened = figure.made + figure.refused + figure.failed + figure.sent + figure.received;
        (happened > 0 || figure.open > 0).then_some(figure)
    }
}

fn lock<T>(it: &Mutex<T>) -> MutexGuard<'_, T> {
    it.lock().unwrap_or_else(PoisonError::into_inner)
}

type Destinations = HashMap<(Target, String), Arc<DestinationCount>>;

/// All of them.
#[derive(Debug, Default)]
pub(crate) struct OutgoingCounts {
    destinations: Mutex<Destinations>,
    names: Mutex<HashMap<(Target, String), NameFigure>>,
}

impl OutgoingCounts {
    /// The count of a destination.
    pub(crate) fn of(&self, workload: &Target, destination: String) -> Arc<DestinationCount> {
        let mut all = lock(&self.destinations);
        let apart = all.len() < APART || all.contains_key(&(workload.clone(), destination.clone()));
        let destination = if apart { destination } else { OTHERS.to_owned() };
        Arc::clone(all.entry((workload.clone(), destination)).or_default())
    }

    /// A name was looked up.
    pub(crate) fn looked_up(
        &self,
        workload: &Target,
        name: &str,
        outcome: NameOutcome,
        addresses: Vec<IpAddr>,
    ) {
        let mut all = lock(&self.names);
        let key = (workload.clone(), name.to_owned());
        let key = if all.len() < APART || all.contains_key(&key) { key } else { (key.0, OTHERS.to_owned()) };
        let asked = all.get(&key).map_or(0, |known| known.asked) + 1;
        let (workload, name) = key.clone();
        all.insert(key, NameFigure { workload, name, asked, outcome, addresses });
    }

    /// Takes what was counted since the last call, with what is open now.
    pub(crate) fn take(&self) -> OutgoingFigures {
        let mut destinations = lock(&self.destinations);
        let told = destinations.iter().filter_map(|((workload, to), count)| count.take(workload, to));
        let connections = told.collect();
        // What nothing holds is counted from zero when it comes again.
        destinations.retain(|_, count| Arc::strong_count(count) > 1);
        drop(destinations);
        let names = std::mem::take(&mut *lock(&self.names)).into_values().collect();
        OutgoingFigures { connections, names }
    }
}

/// Why a policy refuses a destination, in words.
pub(crate) fn refusal(policy: &Policy) -> String {
    let rules: Vec<String> = policy.rules.iter().map(ToString::to_string).collect();
    match (policy.mode.word(), rules.is_empty()) {
        ("listed", true) => "the workload lists nothing outside".to_owned(),
        ("listed", false) => format!("the workload lists {}", rules.join(", ")),
        (mode, _) => format!("its environment has outgoing = {mode}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_open_is_told_until_it_ends() {
        let counts = OutgoingCounts::default();
        let target: Target = "staging/locker-api".parse().expect("a target");
        let count = counts.of(&target, "mail.example:25".to_owned());
        let open = count.made(Some("mail.example:25".to_owned()));
        count.sent.fetch_add(10, Ordering::Relaxed);
        let told = counts.take().connections.remove(0);
        assert_eq!((told.open, told.made, told.sent), (1, 1, 10));
        let told = counts.take().connections.remove(0);
        assert_eq!((told.open, told.made, told.sent), (1, 0, 0));
        drop(open);
        assert!(counts.take().is_empty());
        counts.of(&target, "mail.example:26".to_owned()).refused("the workload lists mail.example:25");
        assert_eq!(counts.take().connections[0].refused, 1);
        assert!(counts.take().is_empty());
    }

    #[test]
    fn ever_new_destinations_and_names_take_no_more_room() {
        let counts = OutgoingCounts::default();
        let target: Target = "staging/locker-api".parse().expect("a target");
        for number in 0..2 * APART {
            counts.of(&target, format!("192.0.2.1:{number}")).refused("no");
            counts.looked_up(&target, &format!("host-{number}.example"), NameOutcome::Unknown, Vec::new());
        }
        let told = counts.take();
        assert_eq!((told.connections.len(), told.names.len()), (APART + 1, APART + 1));
        let others = told.connections.iter().find(|figure| figure.destination == OTHERS).expect("there");
        assert_eq!(others.refused, APART as u64);
    }
}
