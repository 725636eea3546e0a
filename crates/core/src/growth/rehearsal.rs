//! What a rule would have done with the traffic of the last day.

use jiff::Timestamp;

use super::{Grower, Load, Look, Resize};
use crate::model::Growth;

/// How much was asked of a workload in one minute, on average.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Minute {
    /// When it began.
    pub at: Timestamp,
    /// Requests that were open at once.
    pub open: f64,
    /// Requests a second.
    pub rate: f64,
}

/// The outcome of a rehearsal.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rehearsal {
    /// The fewest replicas at any time.
    pub fewest: u32,
    /// The most.
    pub most: u32,
    /// Replicas, times the hours that each ran.
    pub replica_hours: f64,
    /// Hours whose traffic is known.
    pub hours: f64,
}

/// Less traffic than that says nothing of a day.
const LEAST_MINUTES: usize = 10;

/// Follows the traffic of these minutes, in their order. `None` where too few are known, or where the rule follows what is
/// not kept for a day.
pub fn rehearse(growth: &Growth, minutes: &[Minute]) -> Option<Rehearsal> {
    let follows_traffic = growth.each.open.or(growth.each.rate).is_some() || growth.may_sleep();
    if minutes.len() < LEAST_MINUTES || !follows_traffic {
        return None;
    }
    let mut grower = Grower::default();
    let first = minutes.first()?.at;
    let mut wanted = growth.least(first).max(1);
    let mut done = Rehearsal { fewest: u32::MAX, most: 0, replica_hours: 0.0, hours: 0.0 };
    for minute in minutes {
        let begins = minute.at.duration_since(first).as_millis().max(0) as u64;
        let load = Load { open: minute.open, answered: minute.rate, ..Load::default() };
        for second in 0..60 {
            let look = Look {
                at: begins + second * 1000,
                least: growth.least(minute.at),
                wanted,
                ready: wanted,
                load: Some(load),
                is_moving: false,
            };
            if let Some(Resize { to, .. }) = grower.look(growth, look) {
                wanted = to;
            }
            (done.fewest, done.most) = (done.fewest.min(wanted), done.most.max(wanted));
            done.replica_hours += f64::from(wanted) / 3600.0;
        }
        done.hours += 1.0 / 60.0;
    }
    Some(done)
}

impl std::fmt::Display for Rehearsal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Rehearsal { fewest, most, replica_hours, hours } = self;
        let time = if *hours < 1.5 { format!("{:.0} min", hours * 60.0) } else { format!("{hours:.0} h") };
        write!(f, "as of the last {time} of traffic: {fewest} to {most} replicas")?;
        let all_the_time = f64::from(*most) * hours;
        let saved = (1.0 - replica_hours / all_the_time.max(f64::MIN_POSITIVE)) * 100.0;
        if saved >= 1.0 {
            write!(f, ", {saved:.0} % fewer replica hours than {most} all the time")
        } else {
            Ok(())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Each;

    fn day(open: impl Fn(usize) -> f64, minutes: usize) -> Vec<Minute> {
        let at = |minute: usize| Timestamp::from_second(1_000_000 + minute as i64 * 60).expect("in range");
        (0..minutes).map(|minute| Minute { at: at(minute), open: open(minute), rate: open(minute) }).collect()
    }

    fn growth(min: u32) -> Growth {
        Growth { min, max: 20, each: Each { open: Some(10), ..Each::default() }, ..Growth::default() }
    }

    #[test]
    fn a_day_is_told_in_one_sentence() {
        let busy = |minute: usize| if (480..1080).contains(&minute) { 75.0 } else { 12.0 };
        let told = rehearse(&growth(1), &day(busy, 1440)).expect("a day").to_string();
        assert_eq!(
            told,
            "as of the last 24 h of traffic: 1 to 8 replicas, 43 % fewer replica hours than 8 all the time"
        );
        let quiet = |minute: usize| if minute < 60 { 5.0 } else { 0.0 };
        let told = rehearse(&growth(0), &day(quiet, 600)).expect("hours").to_string();
        assert_eq!(
            told,
            "as of the last 10 h of traffic: 0 to 1 replicas, 88 % fewer replica hours than 1 all the time"
        );
        let told = rehearse(&growth(2), &day(|_| 15.0, 30)).expect("half an hour").to_string();
        assert_eq!(told, "as of the last 30 min of traffic: 2 to 2 replicas");
    }

    #[test]
    fn what_is_not_known_is_not_told() {
        assert_eq!(rehearse(&growth(1), &day(|_| 5.0, 9)), None);
        let by_cpu =
            Growth { min: 1, max: 5, each: Each { cpu: Some(50), ..Each::default() }, ..Growth::default() };
        assert_eq!(rehearse(&by_cpu, &day(|_| 5.0, 1440)), None);
    }

    #[test]
    fn a_gap_takes_nothing_away() {
        let mut minutes = day(|_| 75.0, 30);
        let mut later = day(|_| 75.0, 60);
        minutes.extend(later.drain(50..));
        let rehearsal = rehearse(&growth(1), &minutes).expect("enough");
        assert!(rehearsal.most == 8 && rehearsal.fewest >= 1);
    }
}
