//! Keys of a number of replicas that follows the load.

use super::{Key, Shape, key, required};

/// How the number of replicas follows the load.
pub(super) static GROWTH: &[Key] = &[
    required(
        "min",
        &Shape::Integer(0, 10_000),
        "Never fewer. With 0 it sleeps while nobody asks, and the first request wakes it.",
    ),
    required("max", &Shape::Integer(1, 10_000), "Never more."),
    key("each", &EACH, "What each replica is to have at most; the one that needs most replicas decides."),
    key("spare", &Shape::Integer(0, 10_000), "Replicas above those that the load needs; 0 by default."),
    key("up", &Shape::Time, "The load is averaged over this time before replicas are added; 5s by default."),
    key("down", &Shape::Time, "As many replicas stay as were needed in this time; 5m by default."),
    key("sleep_after", &Shape::Time, "With min = 0: how long nobody asks before it sleeps; 15m by default."),
    key("wake_within", &Shape::Time, "How long a request waits for one that wakes, at most; 30s by default."),
    key(
        "while_waking",
        &Shape::Word(&["wait", "page"]),
        "wait: a browser waits for its answer; page: it gets a page at once that comes back by itself. wait by default.",
    ),
    key("hours", &Shape::List(&HOURS), "Times of the week with a min of their own."),
];

static EACH: Shape = Shape::Table(&[
    key("open", &Shape::Integer(1, 1_000_000), "Requests that are open at once."),
    key("rate", &Shape::Integer(1, 10_000_000), "Requests a second."),
    key("cpu", &Shape::Integer(1, 100), "Percent of its processor limit."),
    key("memory", &Shape::Integer(1, 100), "Percent of its memory limit."),
]);

static HOURS: Shape = Shape::Table(&[
    key("days", &Shape::Text, "One day or from one to another, such as \"mon-fri\"; every day by default."),
    required("from", &Shape::Text, "From this time on, such as \"07:00\"."),
    required("until", &Shape::Text, "Until this time; where it is not later than `from`, of the next day."),
    key("zone", &Shape::Text, "The time zone, such as \"Europe/Berlin\"; UTC by default."),
    required("min", &Shape::Integer(0, 10_000), "Never fewer than this then."),
]);
