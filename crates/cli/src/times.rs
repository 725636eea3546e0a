//! Moments as a person writes them, and how a view of the past is marked.

use jiff::tz::TimeZone;
use jiff::{Timestamp, civil};
use mainyard_core::model::Signal;

use crate::terminal::{Failure, Paint, shape};

/// Reads a moment. A time of day alone is the last one of that time that has passed.
///
/// # Errors
/// In words, what is expected.
pub(crate) fn read(text: &str) -> Result<Timestamp, Failure> {
    read_at(text, Timestamp::now(), &TimeZone::system())
}

fn read_at(text: &str, now: Timestamp, zone: &TimeZone) -> Result<Timestamp, Failure> {
    let wrong = || {
        Failure::usage(format!(
            "{text:?} is not a time; write 14:00, or \"2026-11-23 14:00\", or 2026-11-23T14:00:00Z"
        ))
    };
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    let local = |at: civil::DateTime| at.to_zoned(zone.clone()).map(|at| at.timestamp()).map_err(|_| wrong());
    // A date has to come first: a time alone is read from a date and time as well.
    if let Ok(at) = text.parse::<civil::DateTime>() {
        return local(at);
    }
    let time = text.parse::<civil::Time>().map_err(|_| wrong())?;
    let today = now.to_zoned(zone.clone()).date();
    let at = local(today.to_datetime(time))?;
    let yesterday = || today.yesterday().map_err(|_| wrong());
    if at > now { local(yesterday()?.to_datetime(time)) } else { Ok(at) }
}

/// A text of the platform with its moments in the person's time zone: it writes each in UTC (RFC 3339).
pub(crate) fn local(text: &str) -> String {
    const LENGTH: usize = "2026-11-23T14:00:00Z".len();
    let mut shown = String::new();
    for piece in text.split_inclusive('Z') {
        let begin = piece.len().checked_sub(LENGTH).filter(|begin| piece.is_char_boundary(*begin));
        match begin.and_then(|begin| Some((begin, piece[begin..].parse().ok()?))) {
            Some((begin, at)) => {
                shown.push_str(&piece[..begin]);
                shown.push_str(&crate::show::moment(at));
            }
            None => shown.push_str(piece),
        }
    }
    shown
}

/// The line over everything that is of the past; nothing where it is of now.
pub(crate) fn mark(as_of: Option<Timestamp>, whole: bool) {
    let Some(at) = as_of else { return };
    let at = at.to_zoned(TimeZone::system()).strftime("%-d %b %Y %H:%M:%S %Z").to_string();
    let paint = Paint::stdout();
    let words = format!("{} as it was on {at}, not as it is now", shape(Signal::Caution));
    println!("{}", paint.signal(Signal::Caution, &words));
    if !whole {
        println!("{}", paint.quiet("  replicas of that time are no longer known; what was declared is"));
    }
    println!();
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_of_day_is_the_last_one_that_has_passed() {
        let now: Timestamp = "2026-11-23T13:30:00Z".parse().expect("a moment");
        let zone = TimeZone::fixed(jiff::tz::offset(1));
        let at = |text: &str| read_at(text, now, &zone).map(|at| at.to_string()).ok();
        assert_eq!(at("14:00").as_deref(), Some("2026-11-23T13:00:00Z"));
        assert_eq!(at("14:45").as_deref(), Some("2026-11-22T13:45:00Z"));
        assert_eq!(at("2026-11-20 09:15").as_deref(), Some("2026-11-20T08:15:00Z"));
        assert_eq!(at("2026-11-20T09:15:00Z").as_deref(), Some("2026-11-20T09:15:00Z"));
        assert_eq!(at("two o'clock"), None);
    }
}
