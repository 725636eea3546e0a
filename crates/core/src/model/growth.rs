//! How many replicas a workload has where that follows from its load.

use jiff::Timestamp;
use jiff::civil::{Time, Weekday};
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Origin, Span};

/// The bounds, and what each replica is to have at most.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Growth {
    /// Never fewer; with 0 it sleeps while nobody asks.
    pub min: u32,
    /// Never more.
    pub max: u32,
    /// What each replica is to have at most.
    #[serde(skip_serializing_if = "Each::is_empty")]
    pub each: Each,
    /// Replicas above those that the load needs, for what comes at once.
    #[serde(skip_serializing_if = "is_zero")]
    pub spare: u32,
    /// The load is averaged over this time before replicas are added.
    #[serde(skip_serializing_if = "is_usual_up")]
    pub up: Span,
    /// As many stay as were needed in this time.
    #[serde(skip_serializing_if = "is_usual_down")]
    pub down: Span,
    /// With a `min` of 0: how long nobody asks before it sleeps.
    #[serde(skip_serializing_if = "is_usual_sleep")]
    pub sleep_after: Span,
    /// How long a request waits for one that wakes, at most.
    #[serde(skip_serializing_if = "is_usual_wake")]
    pub wake_within: Span,
    /// What a browser gets meanwhile.
    #[serde(skip_serializing_if = "WhileWaking::is_usual")]
    pub while_waking: WhileWaking,
    /// Times of the week with a `min` of their own.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub hours: Vec<Hours>,
}

const UP: Span = Span::from_secs(5);
const DOWN: Span = Span::from_secs(300);
const SLEEP_AFTER: Span = Span::from_secs(900);
const WAKE_WITHIN: Span = Span::from_secs(30);

fn is_zero(count: &u32) -> bool {
    *count == 0
}

fn is_usual_up(span: &Span) -> bool {
    *span == UP
}

fn is_usual_down(span: &Span) -> bool {
    *span == DOWN
}

fn is_usual_sleep(span: &Span) -> bool {
    *span == SLEEP_AFTER
}

fn is_usual_wake(span: &Span) -> bool {
    *span == WAKE_WITHIN
}

impl Default for Growth {
    fn default() -> Growth {
        Growth {
            min: 1,
            max: 1,
            each: Each::default(),
            spare: 0,
            up: UP,
            down: DOWN,
            sleep_after: SLEEP_AFTER,
            wake_within: WAKE_WITHIN,
            while_waking: WhileWaking::Wait,
            hours: Vec::new(),
        }
    }
}

impl Growth {
    /// Never fewer than this now.
    pub fn least(&self, now: Timestamp) -> u32 {
        let declared = self.hours.iter().filter(|hours| hours.hold(now)).map(|hours| hours.min);
        declared.max().unwrap_or(self.min).min(self.max)
    }

    /// Whether it may sleep at all.
    pub fn may_sleep(&self) -> bool {
        self.min == 0
    }
}

/// What each replica is to have at most; the one that needs most replicas decides.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Each {
    /// Requests that are open at once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub open: Option<u32>,
    /// Requests a second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate: Option<u32>,
    /// Percent of its processor limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cpu: Option<u32>,
    /// Percent of its memory limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory: Option<u32>,
}

impl Each {
    /// Whether nothing is said.
    pub fn is_empty(&self) -> bool {
        *self == Each::default()
    }
}

/// What a browser gets while a workload wakes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhileWaking {
    /// Its answer, as soon as there is one.
    #[default]
    Wait,
    /// A page at once that comes back by itself.
    Page,
}

impl WhileWaking {
    fn is_usual(&self) -> bool {
        *self == WhileWaking::Wait
    }
}

/// A time of the week with a `min` of its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Hours {
    /// One day, or from one to another: `mon-fri`. Every day where it is left out.
    #[serde(default = "every_day")]
    pub days: String,
    /// From this time on, such as `07:00`.
    pub from: String,
    /// Until this time; where it is not later than `from`, of the next day.
    pub until: String,
    /// The time zone, by its name in the IANA database.
    #[serde(default = "utc")]
    pub zone: String,
    /// Never fewer than this.
    pub min: u32,
}

fn every_day() -> String {
    "mon-sun".to_owned()
}

fn utc() -> String {
    "UTC".to_owned()
}

const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

/// Hours as they are compared with.
struct ReadHours {
    first: i64,
    last: i64,
    from: Time,
    until: Time,
    zone: TimeZone,
}

impl Hours {
    fn read(&self) -> Result<ReadHours, String> {
        let day = |text: &str| {
            let found = DAYS.iter().position(|(name, _)| *name == text.trim());
            found.map(|place| place as i64).ok_or_else(|| {
                format!("{text:?} is no day: expected mon, tue, wed, thu, fri, sat, sun, or two of them as mon-fri")
            })
        };
        let (first, last) = self.days.split_once('-').unwrap_or((&self.days, &self.days));
        let time = |text: &str| {
            Time::strptime("%H:%M", text)
                .map_err(|_| format!("{text:?} is no time: expected one such as 07:30"))
        };
        let zone = TimeZone::get(&self.zone).map_err(|_| {
            format!("there is no time zone {:?}: expected one such as Europe/Berlin", self.zone)
        })?;
        Ok(ReadHours {
            first: day(first)?,
            last: day(last)?,
            from: time(&self.from)?,
            until: time(&self.until)?,
            zone,
        })
    }

    /// Why it cannot be read.
    pub fn wrong(&self) -> Option<String> {
        self.read().err()
    }

    /// Whether it is such a time now.
    pub fn hold(&self, now: Timestamp) -> bool {
        let Ok(read) = self.read() else { return false };
        let here = now.to_zoned(read.zone.clone());
        let (today, time) = (i64::from(here.weekday().to_monday_zero_offset()), here.time());
        let is_day = |day: i64| (day - read.first).rem_euclid(7) <= (read.last - read.first).rem_euclid(7);
        if read.from < read.until {
            return is_day(today) && (read.from..read.until).contains(&time);
        }
        is_day(today) && time >= read.from || is_day(today - 1) && time < read.until
    }
}

/// How a workload whose number follows its load stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Growing {
    /// As declared.
    pub rule: Growth,
    /// The person who set a number, which holds instead until the load is followed again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by_hand: Option<Origin>,
    /// The last change that followed from the load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<Grown>,
}

impl Growing {
    /// As it is declared for the first time.
    pub fn new(rule: Growth) -> Growing {
        Growing { rule, by_hand: None, last: None }
    }
}

impl std::fmt::Display for Growing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} to {} replicas as the load needs", self.rule.min, self.rule.max)?;
        match (&self.by_hand, &self.last) {
            (Some(by_hand), _) => write!(f, ", but not now: {by_hand}"),
            (None, Some(last)) => write!(f, "; {last} ({:.0})", last.at),
            (None, None) => Ok(()),
        }
    }
}

/// A number of replicas that followed from the load.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Grown {
    /// How many were wanted before.
    pub from: u32,
    /// How many are wanted since.
    pub to: u32,
    /// When.
    pub at: Timestamp,
    /// Why, with the numbers.
    pub because: String,
}

impl std::fmt::Display for Grown {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Grown { from, to, because, .. } = self;
        match (*from, *to) {
            (_, 0) => write!(f, "asleep: {because}"),
            (0, _) => write!(f, "woken: {because}"),
            _ if to > from => write!(f, "grown from {from} to {to}: {because}"),
            _ => write!(f, "shrunk from {from} to {to}: {because}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hours(days: &str, from: &str, until: &str, zone: &str) -> Hours {
        let [days, from, until, zone] = [days, from, until, zone].map(str::to_owned);
        Hours { days, from, until, zone, min: 4 }
    }

    fn at(text: &str) -> Timestamp {
        text.parse().expect("a time")
    }

    #[test]
    fn hours_hold_on_their_days_and_in_their_zone() {
        let office = hours("mon-fri", "07:00", "19:00", "UTC");
        // 2026-11-30 is a Monday.
        assert!(office.hold(at("2026-11-30T07:00:00Z")) && office.hold(at("2026-12-04T18:59:59Z")));
        assert!(!office.hold(at("2026-11-30T19:00:00Z")) && !office.hold(at("2026-12-05T12:00:00Z")));
        let berlin = hours("mon", "07:00", "19:00", "Europe/Berlin");
        assert!(berlin.hold(at("2026-11-30T06:30:00Z")) && !berlin.hold(at("2026-11-30T18:30:00Z")));
    }

    #[test]
    fn hours_may_go_over_midnight_and_over_the_end_of_the_week() {
        let night = hours("sat-mon", "22:00", "02:00", "UTC");
        assert!(night.hold(at("2026-11-30T23:00:00Z")), "Monday's");
        assert!(night.hold(at("2026-12-01T01:00:00Z")), "still Monday's");
        assert!(!night.hold(at("2026-12-01T23:00:00Z")) && !night.hold(at("2026-12-02T01:00:00Z")));
        assert!(night.hold(at("2026-12-06T23:00:00Z")), "Sunday's");
    }

    #[test]
    fn what_cannot_be_read_is_told() {
        let wrong = |hours: Hours| hours.wrong().unwrap_or_default();
        assert!(wrong(hours("mon-frei", "07:00", "19:00", "UTC")).contains("expected mon, tue"));
        assert!(wrong(hours("mon", "7 am", "19:00", "UTC")).contains("such as 07:30"));
        assert!(wrong(hours("mon", "07:00", "19:00", "Larkfield")).contains("such as Europe/Berlin"));
        assert_eq!(wrong(hours("mon", "07:00", "19:00", "UTC")), "");
    }

    #[test]
    fn the_highest_of_the_hours_that_hold_is_the_least() {
        let mut growth = Growth { min: 1, max: 3, ..Growth::default() };
        growth.hours = vec![hours("mon-fri", "07:00", "19:00", "UTC")];
        assert_eq!(growth.least(at("2026-11-30T12:00:00Z")), 3, "never more than max");
        assert_eq!(growth.least(at("2026-11-30T20:00:00Z")), 1);
    }
}
