//! How many replicas a load needs.
//!
//! Once a second the load of a workload is looked at. From the looks of the last seconds follows how many replicas it needs,
//! by each measure that is declared; the highest counts. The number goes up to what is needed now, and down to the most that
//! was needed in a longer time. So noise makes it no smaller, and each way down is gone once.
//!
//! While requests wait or are refused, what is open at the replicas says how much they were given and not how much is asked.
//! Then the replicas are as busy as they can be: what they answer is what they can, and the load needs so many times more of
//! them as more is asked than answered.
//!
//! Without figures nothing changes: a gateway that is gone is no sign of a quiet hour.

mod rehearsal;

use std::collections::VecDeque;

use crate::model::Growth;

pub use rehearsal::{Minute, Rehearsal, rehearse};

/// The load of a workload at one time.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Load {
    /// Requests and connections that are open at its replicas.
    pub open: f64,
    /// Requests that wait for a replica.
    pub waiting: f64,
    /// Requests a second that were answered.
    pub answered: f64,
    /// Requests a second that got no replica.
    pub refused: f64,
    /// Processors that its replicas use together, and may use each.
    pub cpu: Option<Share>,
    /// Bytes of memory that they use together, and may use each.
    pub memory: Option<Share>,
}

/// What all replicas use of something, and what each of them may.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Share {
    /// All of them together.
    pub used: f64,
    /// Each of them.
    pub limit: f64,
}

/// A look at a workload.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Look {
    /// When, in milliseconds of any clock.
    pub at: u64,
    /// Never fewer than this now.
    pub least: u32,
    /// How many replicas are wanted.
    pub wanted: u32,
    /// How many are ready.
    pub ready: u32,
    /// `None` where nobody told it.
    pub load: Option<Load>,
    /// A rollout moves, or not all replicas are as they should be: it does not sleep now.
    pub is_moving: bool,
}

/// Another number of replicas.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resize {
    /// How many.
    pub to: u32,
    /// Why, with the numbers.
    pub because: String,
}

/// So many times shorter than `down` is the least time between two ways down.
const DOWN_STEPS: u64 = 5;
/// Where requests wait all the time, there are so many times more replicas at least.
const WAITING_STEP: f64 = 1.2;
/// A queue that becomes shorter by less than such a part of what is answered stays too long.
const SHRINKING_PART: f64 = 0.1;
/// Replicas that answer just as much as is asked would have a queue for ever.
const ROOM: f64 = 1.1;
/// Where nothing is answered at all, it is taken for so many times more.
const MOST_PART: f64 = 2.0;
/// Rates are averages of so long, in milliseconds.
pub const RATE_LAGS: u64 = 3000;
/// More of the requests than this are refused: the replicas are busy.
const REFUSED_PART: f64 = 0.01;

/// What a load needs, and which measure says so.
#[derive(Debug, Clone, PartialEq)]
struct Need {
    replicas: u32,
    because: String,
}

/// One workload whose number follows its load, over time.
#[derive(Debug, Clone, Default)]
pub struct Grower {
    looks: VecDeque<Seen>,
    /// What was needed, when: only those that are higher than all after them.
    needs: VecDeque<(u64, Need)>,
    /// Since when figures have come without a gap.
    since: Option<u64>,
    /// When it was last asked for anything.
    busy_at: u64,
    changed_at: u64,
    /// It had no replica at the last look.
    was_asleep: bool,
}

impl Grower {
    /// Takes a look; tells another number where one is due.
    pub fn look(&mut self, growth: &Growth, look: Look) -> Option<Resize> {
        if look.wanted > growth.max {
            return self.resize(look.at, growth.max, format!("at most {} are declared", growth.max));
        }
        if look.wanted < look.least {
            return self.resize(look.at, look.least, format!("at least {} are declared for now", look.least));
        }
        let Some(load) = look.load else {
            (self.since, self.looks) = (None, VecDeque::new());
            return None;
        };
        let since = *self.since.get_or_insert(look.at);
        // What woke it may be answered before anybody tells of it.
        let was_woken = std::mem::replace(&mut self.was_asleep, look.wanted == 0) && look.wanted > 0;
        if since == look.at || was_woken || load.open + load.waiting + load.answered + load.refused > 0.0 {
            self.busy_at = look.at;
        }
        self.keep(growth, look, load);
        if look.wanted == 0 {
            let asks = load.open + load.waiting > 0.0 && growth.max > 0;
            return asks.then(|| self.resize(look.at, 1, "a request came".to_owned())).flatten();
        }
        if look.at - since < growth.up.millis() {
            return None;
        }
        let need = self.need(growth, look);
        while self.needs.back().is_some_and(|(_, known)| known.replicas <= need.replicas) {
            self.needs.pop_back();
        }
        self.needs.push_back((look.at, need.clone()));
        if need.replicas > look.wanted && look.at - self.changed_at >= growth.up.millis() / 2 {
            return self.resize(look.at, need.replicas, need.because);
        }
        self.down(growth, look, since)
    }

    fn resize(&mut self, at: u64, to: u32, because: String) -> Option<Resize> {
        self.changed_at = at;
        Some(Resize { to, because })
    }

    fn keep(&mut self, growth: &Growth, look: Look, load: Load) {
        let at = look.at;
        let queue_growth = self.looks.back().map_or(0.0, |before| {
            let seconds = (at - before.at).max(1) as f64 / 1000.0;
            (load.waiting - before.load.waiting) / seconds
        });
        let is_busy = load.waiting > 0.0 || queue_growth < 0.0 || load.refused > load.answered * REFUSED_PART;
        // Rates are averages of the last seconds: replicas that just came had no part in them, nor had a load that just came.
        let lately = || self.looks.iter().rev().take_while(|seen| seen.at + RATE_LAGS > at);
        let ready = lately().map(|seen| seen.ready_then).chain([look.ready]).min().unwrap_or(look.ready);
        let growths: Vec<f64> = lately().map(|seen| seen.queue_grew).chain([queue_growth]).collect();
        self.looks.push_back(Seen {
            at,
            ready_then: look.ready,
            ready,
            load,
            queue_grew: queue_growth,
            queue_growth: growths.iter().sum::<f64>() / growths.len() as f64,
            is_busy,
            was_busy: is_busy && lately().all(|seen| seen.is_busy) && growths.len() > 1,
        });
        while self.looks.front().is_some_and(|seen| seen.at + growth.up.millis() <= at) {
            self.looks.pop_front();
        }
        while self.needs.front().is_some_and(|(seen, _)| seen + growth.down.millis() < at) {
            self.needs.pop_front();
        }
    }

    /// Fewer, or none.
    fn down(&mut self, growth: &Growth, look: Look, since: u64) -> Option<Resize> {
        let quiet = look.at - self.busy_at;
        if look.least == 0 && !look.is_moving && quiet >= growth.sleep_after.millis() {
            return self.resize(look.at, 0, format!("nobody asked for {}", growth.sleep_after));
        }
        let window = growth.down.millis();
        let (_, most) = self.needs.front()?;
        let waits = look.at - since < window || look.at - self.changed_at < window / DOWN_STEPS;
        // A rollout works with the number that it began with.
        if most.replicas >= look.wanted || waits || look.is_moving {
            return None;
        }
        let because = format!("in the last {} at most {}", growth.down, most.because);
        let to = most.replicas;
        self.resize(look.at, to, because)
    }

    /// The highest of what the measures say of the last looks.
    fn need(&self, growth: &Growth, look: Look) -> Need {
        let each = growth.each;
        let mut needs = vec![self.by_waiting(look.wanted)];
        if let Some(declared) = each.open.map(f64::from) {
            let open = |seen: &Seen| (!seen.is_busy).then_some(seen.load.open);
            let words =
                |open: f64| format!("{open:.0} requests were open at once, {declared} for each replica");
            needs.push(self.by(open, declared, words));
        }
        if let Some(declared) = each.rate.map(f64::from) {
            let words =
                |asked: f64| format!("{asked:.0} requests a second came, {declared} for each replica");
            needs.push(self.by(|seen| Some(seen.load.answered + seen.load.refused), declared, words));
        }
        let used = |share: Option<Share>| share.map(|share| share.used / share.limit * 100.0);
        for (name, declared, of) in [
            ("processor", each.cpu, (|load| load.cpu) as fn(&Load) -> Option<Share>),
            ("memory", each.memory, |load| load.memory),
        ] {
            let Some(declared) = declared else { continue };
            let words = |used: f64| {
                let part = used / f64::from(look.ready.max(1));
                format!("{part:.0} % of the {name} limit were used, {declared} % of each")
            };
            needs.push(self.by(|seen| used(of(&seen.load)), f64::from(declared), words));
        }
        let most = needs.into_iter().flatten().max_by_key(|need| need.replicas);
        let mut need = most.unwrap_or(Need { replicas: 0, because: "nothing was measured".to_owned() });
        need.replicas = need.replicas.saturating_add(growth.spare);
        // It goes to sleep by its own rule.
        need.replicas = need.replicas.clamp(look.least.max(1).min(growth.max), growth.max);
        need
    }

    /// By one measure, where each replica is to have so much; nothing where no look knows it.
    fn by(
        &self,
        measure: impl Fn(&Seen) -> Option<f64>,
        each: f64,
        words: impl Fn(f64) -> String,
    ) -> Option<Need> {
        let known: Vec<f64> = self.looks.iter().filter_map(measure).collect();
        let average = known.iter().sum::<f64>() / known.len() as f64;
        (!known.is_empty()).then(|| Need { replicas: whole(average / each), because: words(average) })
    }

    /// By what was asked and answered while requests waited or were refused: in each such look, the replicas did what they
    /// can. The load needs so many times more of them as more was asked than answered.
    fn by_waiting(&self, wanted: u32) -> Option<Need> {
        let busy: Vec<&Seen> = self.looks.iter().filter(|seen| seen.was_busy && seen.ready > 0).collect();
        let last = busy.last()?;
        let count = busy.len() as f64;
        let of = |measure: &dyn Fn(&Seen) -> f64| busy.iter().map(|seen| measure(seen)).sum::<f64>() / count;
        let enough = of(&|seen| f64::from(seen.ready) * seen.asked_part()) * ROOM;
        // Where as much is asked as can be answered, the queue stays; so it does where those who wait for an answer ask again
        // only after that.
        let is_stuck = self.looks.iter().all(|seen| {
            let shrinks = -seen.queue_growth > seen.load.answered * SHRINKING_PART;
            seen.load.waiting > 0.0 && seen.ready == wanted && !shrinks
        });
        let enough = if is_stuck { enough.max(f64::from(last.ready) * WAITING_STEP) } else { enough };
        let because = format!(
            "{:.0} requests a second came and {:.0} were answered by {}, {:.0} waited",
            of(&Seen::asked),
            of(&|seen| seen.load.answered),
            last.ready,
            of(&|seen| seen.load.waiting)
        );
        Some(Need { replicas: whole(enough), because })
    }
}

/// So many whole replicas; what is over by less than can be measured takes no other one.
fn whole(replicas: f64) -> u32 {
    (replicas - 1e-6).ceil().max(0.0) as u32
}

/// A look that is remembered.
#[derive(Debug, Clone, Copy)]
struct Seen {
    at: u64,
    /// How many were ready then, and how many were all the time that its rates are of.
    ready_then: u32,
    ready: u32,
    load: Load,
    /// How much longer the queue became in a second since the look before, and in the time that its rates are of.
    queue_grew: f64,
    queue_growth: f64,
    /// Whether requests waited or were refused, or those that waited are just served; then, and all the time that its rates
    /// are of.
    is_busy: bool,
    was_busy: bool,
}

impl Seen {
    /// Requests a second that came.
    fn asked(&self) -> f64 {
        (self.load.answered + self.load.refused + self.queue_growth).max(0.0)
    }

    /// What came, as a part of what was answered.
    fn asked_part(&self) -> f64 {
        if self.load.answered > 0.0 { self.asked() / self.load.answered } else { MOST_PART }
    }
}

#[cfg(test)]
mod tests;
