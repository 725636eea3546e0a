//! Forecasts: how a change would go, and how memory limits would fit.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Name, Reason, Signal, Target};
use crate::sizing::Fit;

/// The rehearsal of one workload.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Rehearsed {
    /// Which workload.
    pub workload: Target,
    /// How many replicas are wanted after the change.
    pub wanted: u32,
    /// How many took requests when the change began.
    pub ready_before: u32,
    /// The fewest that took requests on the way, counted from when the change began.
    pub lowest_ready: u32,
    /// The most that were there at once, leaving ones not counted.
    pub most: u32,
    /// How long until it came to rest, in milliseconds; absent where it did not.
    pub took_millis: Option<u64>,
    /// How often a person is asked on the way; the waiting is not counted.
    pub asks: u32,
    /// The obstacle.
    pub reason: Option<Reason>,
    /// How good that is.
    pub signal: Signal,
    /// The same in words.
    pub words: String,
}

impl Rehearsed {
    /// The same, with its words.
    pub fn in_words(mut self) -> Rehearsed {
        (self.signal, self.words) = self.judged();
        self
    }

    fn judged(&self) -> (Signal, String) {
        let Rehearsed {
            workload, wanted, ready_before, lowest_ready, most, took_millis, asks, reason, ..
        } = self;
        let replicas = if *most == 1 { "replica" } else { "replicas" };
        let ready = format!("never fewer than {lowest_ready} ready, at most {most} {replicas} at once");
        let asks = match asks {
            0 => String::new(),
            1 => ", a person is asked once".to_owned(),
            asks => format!(", a person is asked {asks} times"),
        };
        match (reason, took_millis) {
            (Some(reason), _) => (Signal::Fault, format!("{workload} does not become ready: {reason}")),
            (None, Some(took)) => {
                let seconds = *took as f64 / 1000.0;
                let less = lowest_ready < wanted.min(ready_before);
                let signal = if less { Signal::Caution } else { Signal::Good };
                (signal, format!("{workload} is ready after {seconds:.1} s{asks}; {wanted} wanted, {ready}"))
            }
            (None, None) => (Signal::Caution, format!("{workload} has not settled within a day; {ready}")),
        }
    }
}

/// The result of a rehearsal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Rehearsal {
    /// Each workload that moved.
    pub workloads: Vec<Rehearsed>,
    /// Hosts that answer before and would not answer after.
    pub dark: Vec<String>,
    /// The node that was lost half-way, where one was.
    pub lost: Option<Name>,
}

/// The prediction for a memory limit: where it changes, or would not suffice.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct LimitForecast {
    /// Which workload.
    pub workload: Target,
    /// The limit held against what was measured.
    pub fit: Fit,
    /// The same in words, with the line to write.
    pub words: String,
}
