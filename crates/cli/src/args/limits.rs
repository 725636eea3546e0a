//! Options that say how much a replica may use.

use clap::Args;
use mainyard_core::model::{Bytes, Cpu};

/// Other limits of a workload's replicas.
#[derive(Debug, Clone, Args)]
pub(crate) struct LimitOptions {
    /// Another limit of memory for each replica, such as "256 MiB".
    #[arg(long, value_name = "SIZE")]
    pub memory: Option<Bytes>,
    /// Another limit of processors for each replica, such as 0.5.
    #[arg(long, value_name = "NUMBER", value_parser = processors)]
    pub cpu: Option<f64>,
}

impl LimitOptions {
    /// The limit of processors.
    pub(crate) fn cpu(&self) -> Option<Cpu> {
        self.cpu.map(|number| Cpu::from_milli((number * 1000.0).round() as u64))
    }

    /// Whether no limit is to change.
    pub(crate) fn is_empty(&self) -> bool {
        self.memory.is_none() && self.cpu.is_none()
    }
}

fn processors(text: &str) -> Result<f64, &'static str> {
    let number = text.parse().ok().filter(|number| (0.01..=1024.0).contains(number));
    number.ok_or("expected a number from 0.01 to 1024")
}
