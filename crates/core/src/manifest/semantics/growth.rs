//! Rules by which a workload follows its load, and that could never do what they say.

use super::{DeclaredWorkload, Reader};
use crate::model::{Name, Span};

/// The load is looked at once a second: less is no time to average over.
const SHORTEST_UP: Span = Span::from_secs(1);

impl Reader<'_> {
    pub(super) fn check_growth(&mut self, name: &Name, workload: &DeclaredWorkload) {
        let Some(growth) = &workload.growth else { return };
        let mut say = |key: &str, message: String| {
            let path = ["workload", name.as_str(), "replicas", key];
            self.say(&path[..if key.is_empty() { 3 } else { 4 }], message);
        };
        let (min, max) = (growth.min, growth.max);
        if max == 0 {
            say("max", format!("`max` of `{name}` is 0: expected the most replicas that it may have"));
        } else if min > max {
            say("min", format!("`min` of `{name}` ({min}) is more than its `max` ({max})"));
        } else if growth.each.is_empty() && max > min.max(1) {
            say(
                "",
                format!(
                    "`{name}` may have {} to {max} replicas, and nothing says when: add what each is to have at most, such as \
                     each = {{ open = 10 }}",
                    min.max(1)
                ),
            );
        }
        let ports = &workload.spec.ports;
        if (min == 0 || growth.each.open.or(growth.each.rate).is_some()) && ports.is_empty() {
            say(
                "",
                format!(
                    "`{name}` has no port, so no request reaches it: nothing would tell how many replicas it needs"
                ),
            );
        }
        if growth.up < SHORTEST_UP {
            say("up", format!("`up` of `{name}` ({}) is shorter than {SHORTEST_UP}", growth.up));
        }
        if growth.down < growth.up {
            say("down", format!("`down` of `{name}` ({}) is shorter than `up` ({})", growth.down, growth.up));
        }
        for (number, hours) in growth.hours.iter().enumerate() {
            let place = format!("time {} of `{name}`", number + 1);
            if let Some(wrong) = hours.wrong() {
                say("hours", format!("{place}: {wrong}"));
            } else if hours.min > max {
                say("hours", format!("{place} has a `min` of {}, more than `max` ({max})", hours.min));
            }
        }
    }
}
