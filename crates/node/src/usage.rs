//! Usage of replicas, by the kernel's figures: read once a second, reported to control every five seconds.
//! Heights are told if they changed. A report that could not be sent is repeated later.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use mainyard_control_client::Control;
use mainyard_core::link::RunOrder;
use mainyard_core::model::ReplicaId;
use mainyard_core::sizing::{Usage, UsedNow};
use mainyard_runtime::Reading;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use crate::Config;

const TELL_EVERY: Duration = Duration::from_secs(5);
/// Also without anything new, so that the time is known over which nothing happened.
const TELL_AT_LEAST_EVERY: Duration = Duration::from_secs(300);

/// One replica, since its usage was told last.
struct Metered {
    usage: Usage,
    /// The heights that were told.
    told: Option<Usage>,
    told_at: Instant,
    read_at: Instant,
    /// The kernel's own sums at the last reading; they begin again with each run.
    held_back: u64,
    kills: u64,
    cpu_time: u64,
    /// Processor time and real time since it was told, in microseconds.
    used: u64,
    passed: u64,
}

/// Gathers what is read.
pub(crate) struct Meter {
    replicas: BTreeMap<ReplicaId, Metered>,
    sent_at: Instant,
    sender: UnboundedSender<Vec<Usage>>,
}

fn nothing(id: &ReplicaId, order: &RunOrder) -> Usage {
    Usage {
        replica: id.clone(),
        release: order.release,
        needed: 0,
        peak: 0,
        limit: order.spec.limits.memory.bytes(),
        kills: 0,
        held_back: 0,
        watched: 0,
        processes: 0,
        disk: 0,
        now: None,
    }
}

impl Meter {
    /// With a task that tells.
    pub(crate) fn start(config: &Config, control: Control) -> Meter {
        let (sender, usage) = unbounded_channel();
        tokio::spawn(tell(format!("/link/nodes/{}/usage", config.name), control, usage));
        Meter { replicas: BTreeMap::new(), sent_at: Instant::now(), sender }
    }

    fn metered(&mut self, id: &ReplicaId, order: &RunOrder) -> &mut Metered {
        let now = Instant::now();
        self.replicas.entry(id.clone()).or_insert_with(|| Metered {
            usage: nothing(id, order),
            told: None,
            told_at: now,
            read_at: now,
            held_back: 0,
            kills: 0,
            cpu_time: 0,
            used: 0,
            passed: 0,
        })
    }

    /// A replica's figures as they are now.
    pub(crate) fn read(&mut self, id: &ReplicaId, order: &RunOrder, reading: Reading) {
        let it = self.metered(id, order);
        let held_back = reading.held_back.checked_sub(it.held_back).unwrap_or(reading.held_back);
        let kills = reading.kills.checked_sub(it.kills).unwrap_or(reading.kills);
        let used = reading.cpu_time.checked_sub(it.cpu_time).unwrap_or(reading.cpu_time);
        (it.held_back, it.kills, it.cpu_time) = (reading.held_back, reading.kills, reading.cpu_time);
        let watched = it.read_at.elapsed().as_micros() as u64;
        (it.used, it.passed) = (it.used + used, it.passed + watched);
        let cpu = it.used * 1000 / it.passed.max(1);
        it.read_at = Instant::now();
        it.usage.add(&Usage {
            needed: reading.needed,
            peak: reading.peak,
            kills,
            held_back,
            watched,
            processes: reading.processes,
            disk: reading.disk,
            now: Some(UsedNow { cpu, memory: reading.needed }),
            ..nothing(id, order)
        });
    }

    /// A run ended, with so many kills for memory in it; its figures begin again.
    pub(crate) fn ended(&mut self, id: &ReplicaId, order: &RunOrder, kills: u64) {
        let limit = order.spec.limits.memory.bytes();
        let it = self.metered(id, order);
        let kills = kills.saturating_sub(it.kills);
        (it.held_back, it.kills, it.cpu_time) = (0, 0, 0);
        let peak = if kills > 0 { limit } else { 0 };
        it.usage.add(&Usage { kills, peak, ..nothing(id, order) });
    }

    /// The replica is gone; what it used is reported at once. One that was gone before it was looked at tells nothing.
    pub(crate) fn forget(&mut self, id: &ReplicaId) {
        if let Some(it) = self.replicas.remove(id)
            && it.usage.peak > 0
        {
            let _ = self.sender.send(vec![it.usage]);
        }
    }

    /// Tells, where it is time.
    pub(crate) fn send_when_due(&mut self) {
        if self.sent_at.elapsed() < TELL_EVERY {
            return;
        }
        self.sent_at = Instant::now();
        let mut list = Vec::new();
        for (id, it) in &mut self.replicas {
            (it.used, it.passed) = (0, 0);
            let now = it.usage.now.take();
            let new = it.told.as_ref().is_none_or(|told| it.usage.tells_more_than(told));
            if it.usage.peak == 0 || !new && it.told_at.elapsed() < TELL_AT_LEAST_EVERY {
                list.extend(now.map(|_| Usage { now, ..it.usage.bare() }));
                continue;
            }
            list.push(Usage { now, ..it.usage.clone() });
            it.told_at = Instant::now();
            // Heights stay; sums begin again.
            it.usage = Usage { kills: 0, held_back: 0, watched: 0, ..it.usage.clone() };
            it.told = Some(it.usage.clone());
            debug_assert_eq!(*id, it.usage.replica);
        }
        if !list.is_empty() {
            let _ = self.sender.send(list);
        }
    }
}

/// Tells control, one list after the other. What it does not take is kept and told with the next.
async fn tell(path: String, control: Control, mut lists: UnboundedReceiver<Vec<Usage>>) {
    let mut waiting: BTreeMap<(ReplicaId, u32), Usage> = BTreeMap::new();
    while let Some(list) = lists.recv().await {
        for usage in list {
            let key = (usage.replica.clone(), usage.release.0);
            waiting.entry(key).and_modify(|known| known.add(&usage)).or_insert(usage);
        }
        let all: Vec<&Usage> = waiting.values().collect();
        match control.report(&path, &all).await {
            Ok(()) => waiting.clear(),
            Err(error) => tracing::debug!(%error, "what replicas used was not taken"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn meter() -> (Meter, UnboundedReceiver<Vec<Usage>>) {
        let (sender, lists) = unbounded_channel();
        let long_ago = Instant::now().checked_sub(TELL_EVERY).expect("the machine runs for longer");
        (Meter { replicas: BTreeMap::new(), sent_at: long_ago, sender }, lists)
    }

    fn order() -> RunOrder {
        serde_json::from_value(serde_json::json!({
            "id": "staging/locker-api/a0", "release": 3, "environment": 1, "digest": "sha256:0",
            "address": "10.118.16.2", "secrets": {}, "spec": {"image": "lockers/locker-api:1.4.0"},
        }))
        .expect("an order")
    }

    fn reading(needed: u64, kills: u64, held_back: u64) -> Reading {
        Reading { needed, peak: needed + 10, kills, held_back, cpu_time: 0, processes: 1, disk: 0 }
    }

    #[test]
    fn sums_are_what_was_added_and_begin_again_with_each_run() {
        let ((mut meter, mut lists), order) = (meter(), order());
        meter.read(&order.id, &order, reading(100, 2, 50));
        meter.read(&order.id, &order, reading(80, 3, 70));
        // Another run: the kernel counts from nothing.
        meter.ended(&order.id, &order, 4);
        meter.read(&order.id, &order, reading(60, 1, 5));
        meter.send_when_due();
        let usage = lists.try_recv().expect("a list").remove(0);
        assert_eq!((usage.needed, usage.kills, usage.held_back), (100, 5, 75));
        assert_eq!(usage.peak, usage.limit, "a kill for memory means that the limit was reached");
    }

    #[test]
    fn what_is_not_new_is_not_sent_again_and_what_is_gone_is_sent_at_once() {
        let ((mut meter, mut lists), order) = (meter(), order());
        meter.read(&order.id, &order, reading(100, 0, 0));
        meter.send_when_due();
        assert_eq!(lists.try_recv().expect("a list").len(), 1);
        meter.send_when_due();
        assert!(lists.try_recv().is_err(), "it is not time yet");
        meter.read(&order.id, &order, reading(200, 0, 0));
        meter.forget(&order.id);
        assert_eq!(lists.try_recv().expect("a last list")[0].needed, 200);
        meter.forget(&order.id);
        assert!(lists.try_recv().is_err(), "nothing is known of it now");
    }
}
