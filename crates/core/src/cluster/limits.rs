//! How much each replica of a workload may use, and how many there are.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::commands::{Refusal, RefusalKind, check_count};
use super::{Cluster, DeployRequest};
use crate::model::{Bytes, Cpu, ReleaseNumber, ReleaseSpec, Target};

/// Other limits of a workload's replicas.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct LimitChange {
    /// Memory.
    #[serde(default)]
    pub memory: Option<Bytes>,
    /// Processor time.
    #[serde(default)]
    pub cpu: Option<Cpu>,
}

impl LimitChange {
    /// Whether no limit is to change.
    pub fn is_empty(&self) -> bool {
        *self == LimitChange::default()
    }

    /// Sets the limits, where they fit what is reserved and what a file may declare.
    pub(super) fn apply(self, target: &Target, spec: &mut ReleaseSpec) -> Result<(), Refusal> {
        let invalid = |message: String| Refusal::new(RefusalKind::Invalid, message);
        spec.limits.memory = self.memory.unwrap_or(spec.limits.memory);
        spec.limits.cpu = self.cpu.unwrap_or(spec.limits.cpu);
        let (cpu, memory, reserve) = (spec.limits.cpu, spec.limits.memory, spec.reserve.memory);
        if !CPU_LIMITS.contains(&cpu.milli()) {
            return invalid(format!("a limit of {cpu} processors: expected a number from 0.01 to 1024"));
        }
        if reserve > memory {
            return invalid(format!(
                "{target} reserves {reserve} of memory, more than a limit of {memory}; declare a smaller `reserve` first"
            ));
        }
        Ok(())
    }
}

/// Processor time that may be declared as a limit, in thousandths of a processor.
const CPU_LIMITS: std::ops::RangeInclusive<u64> = 10..=1_024_000;

/// What became of a workload's size.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resized {
    /// How many replicas were wanted before.
    pub before: u32,
    /// The release that other limits take.
    pub release: Option<ReleaseNumber>,
    /// What differs of the limits, in words.
    pub differences: Vec<String>,
}

impl Cluster {
    /// Sets how many replicas a workload has, how much each may use, or both.
    pub fn resize(
        &mut self,
        target: &Target,
        wanted: Option<u32>,
        limits: LimitChange,
        by: &str,
        now: Timestamp,
    ) -> Result<Resized, Refusal> {
        let before = self.workload(target)?.wanted;
        let wanted = wanted.unwrap_or(before);
        check_count(wanted)?;
        let request = DeployRequest { limits, ..DeployRequest::default() };
        let made = if limits.is_empty() { None } else { self.deploy(target, &request, by, now)? };
        self.scale(target, wanted, by, now)?;
        let (release, differences) = made.unzip();
        Ok(Resized { before, release, differences: differences.unwrap_or_default() })
    }
}
