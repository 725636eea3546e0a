//! Amounts with units, written the way a person writes them: `"128 MiB"`, `"500ms"`, `0.5`.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// An amount of memory or storage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Hash)]
pub struct Bytes(u64);

const UNITS: [(&str, u64); 4] = [("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10), ("B", 1)];

impl Bytes {
    /// This many bytes.
    pub const fn new(bytes: u64) -> Bytes {
        Bytes(bytes)
    }
    /// This many mebibytes.
    pub const fn mib(count: u64) -> Bytes {
        Bytes(count << 20)
    }
    /// As a plain number of bytes.
    pub const fn bytes(self) -> u64 {
        self.0
    }
}

impl fmt::Display for Bytes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (unit, size) = UNITS.into_iter().find(|(_, size)| self.0 >= *size).unwrap_or(("B", 1));
        if self.0.is_multiple_of(size) {
            write!(f, "{} {unit}", self.0 / size)
        } else if let Some((unit, size)) =
            UNITS.into_iter().find(|(_, size)| self.0.is_multiple_of(*size) && self.0 / size < 10_000)
        {
            write!(f, "{} {unit}", self.0 / size)
        } else {
            write!(f, "{:.1} {unit}", self.0 as f64 / size as f64)
        }
    }
}

impl FromStr for Bytes {
    type Err = String;
    fn from_str(text: &str) -> Result<Bytes, String> {
        let (number, unit) = split(text);
        let size = UNITS.into_iter().find(|(name, _)| name.eq_ignore_ascii_case(unit)).map(|(_, size)| size);
        let amount = number.parse::<f64>().ok().zip(size).map(|(number, size)| number * size as f64);
        match amount {
            Some(amount) if (1.0..1e18).contains(&amount) => Ok(Bytes(amount as u64)),
            _ => Err("a size such as \"128 MiB\" (KiB, MiB or GiB)".to_owned()),
        }
    }
}

/// A share of processors, in thousandths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Hash)]
pub struct Cpu(u64);

impl Cpu {
    /// This many thousandths of a processor.
    pub const fn from_milli(milli: u64) -> Cpu {
        Cpu(milli)
    }
    /// In thousandths of a processor.
    pub const fn milli(self) -> u64 {
        self.0
    }
}

impl fmt::Display for Cpu {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0 as f64 / 1000.0)
    }
}

impl Serialize for Cpu {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_f64(self.0 as f64 / 1000.0)
    }
}

impl<'de> Deserialize<'de> for Cpu {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Cpu, D::Error> {
        let processors = f64::deserialize(from)?;
        Ok(Cpu((processors * 1000.0).round().max(1.0) as u64))
    }
}

/// A length of time, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Hash)]
pub struct Span(u64);

const SPANS: [(&str, u64); 4] = [("h", 3_600_000), ("m", 60_000), ("s", 1000), ("ms", 1)];

impl Span {
    /// This many milliseconds.
    pub const fn from_millis(millis: u64) -> Span {
        Span(millis)
    }
    /// This many seconds.
    pub const fn from_secs(seconds: u64) -> Span {
        Span(seconds * 1000)
    }
    /// In milliseconds.
    pub const fn millis(self) -> u64 {
        self.0
    }
    /// As the standard library's duration.
    pub const fn duration(self) -> Duration {
        Duration::from_millis(self.0)
    }
    /// As a duration to add to a moment.
    pub const fn signed(self) -> jiff::SignedDuration {
        jiff::SignedDuration::from_millis(self.0 as i64)
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let fits = SPANS.into_iter().find(|(_, size)| self.0 >= *size && self.0.is_multiple_of(*size));
        let (unit, size) = fits.unwrap_or(("ms", 1));
        write!(f, "{}{unit}", self.0 / size)
    }
}

impl FromStr for Span {
    type Err = String;
    fn from_str(text: &str) -> Result<Span, String> {
        let (number, unit) = split(text);
        let size = SPANS.into_iter().find(|(name, _)| *name == unit).map(|(_, size)| size);
        // Days are read and shown as hours: a day may have 23 or 25 of them only on a clock that is set.
        let size = size.or((unit == "d").then_some(24 * 3_600_000));
        match number.parse::<f64>().ok().zip(size).map(|(number, size)| number * size as f64) {
            Some(millis) if (0.0..1e12).contains(&millis) => Ok(Span(millis.round() as u64)),
            _ => Err("a time such as \"500ms\", \"5s\", \"2m\" or \"1h\"".to_owned()),
        }
    }
}

/// `12.5 MiB` into its number and its unit.
fn split(text: &str) -> (&str, &str) {
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    (&text[..end], text[end..].trim_start())
}

macro_rules! as_text {
    ($type:ty) => {
        impl Serialize for $type {
            fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }
        impl<'de> Deserialize<'de> for $type {
            fn deserialize<D: Deserializer<'de>>(from: D) -> Result<$type, D::Error> {
                let text = String::deserialize(from)?;
                text.parse()
                    .map_err(|expected| serde::de::Error::custom(format!("{text:?} is not {expected}")))
            }
        }
    };
}
as_text!(Bytes);
as_text!(Span);

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn reads_what_people_write() {
        assert_eq!("128 MiB".parse(), Ok(Bytes::mib(128)));
        assert_eq!("1.5GiB".parse(), Ok(Bytes::mib(1536)));
        assert!("128".parse::<Bytes>().is_err());
        assert!("12 MB".parse::<Bytes>().is_err());
        assert_eq!("500ms".parse(), Ok(Span::from_millis(500)));
        assert_eq!("2m".parse(), Ok(Span::from_secs(120)));
        assert!("2 minutes".parse::<Span>().is_err());
        assert_eq!(Bytes::mib(1536).to_string(), "1536 MiB");
        assert_eq!(Bytes::new(24_684_096_000).to_string(), "23.0 GiB");
    }

    proptest! {
        #[test]
        fn a_span_round_trips_through_its_text(millis in 0u64..1_000_000_000) {
            prop_assert_eq!(Span::from_millis(millis).to_string().parse(), Ok(Span::from_millis(millis)));
        }
        #[test]
        fn whole_mebibytes_are_read_back_as_they_were_shown(count in 1u64..9000) {
            prop_assert_eq!(Bytes::mib(count).to_string().parse(), Ok(Bytes::mib(count)));
        }
    }
}
