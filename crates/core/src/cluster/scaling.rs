//! How many replicas a workload has, and how much each may use.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{DeployRequest, Refusal, RefusalKind, Transaction};
use crate::model::{Bytes, Cpu, ReleaseNumber, ReleaseSpec, Target, Touched};
use crate::record::Object;

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

/// The new size of a workload.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resized {
    /// How many replicas were wanted before.
    pub before: u32,
    /// The release that other limits take.
    pub release: Option<ReleaseNumber>,
    /// The differences of the limits, in words.
    pub differences: Vec<String>,
}

/// So many replicas may be wanted of one workload.
fn check_count(replicas: u32) -> Result<(), Refusal> {
    match replicas {
        0..=10_000 => Ok(()),
        more => Refusal::new(RefusalKind::Invalid, format!("{more} replicas: at most 10000 are allowed")),
    }
}

impl Transaction<'_> {
    /// Sets how many replicas a workload has, how much each may use, or both.
    pub fn resize(
        &mut self,
        target: &Target,
        wanted: Option<u32>,
        limits: LimitChange,
    ) -> Result<Resized, Refusal> {
        let before = self.workload(target)?.wanted;
        check_count(wanted.unwrap_or(before))?;
        let request = DeployRequest { limits, ..DeployRequest::default() };
        let made = if limits.is_empty() { None } else { self.deploy(target, &request)? };
        if let Some(wanted) = wanted {
            self.scale(target, wanted)?;
        }
        let (release, differences) = made.unzip();
        Ok(Resized { before, release, differences: differences.unwrap_or_default() })
    }

    /// Sets how many replicas are wanted; gives how many were.
    pub fn scale(&mut self, target: &Target, wanted: u32) -> Result<u32, Refusal> {
        let mut workload = self.workload(target)?.clone();
        check_count(wanted)?;
        let before = workload.wanted;
        let grows = workload.grows_by().is_some();
        if before != wanted || grows {
            self.act("scaled");
            workload.wanted = wanted;
            if let Some(growing) = workload.growing.as_mut().filter(|_| grows) {
                growing.by_hand = Some(self.cause.clone());
            }
            workload.wanted_origin = self.cause.clone();
            self.try_untried(&workload);
            workload.last_change = self.cause.clone();
            let application = workload.application.clone();
            self.put(Object::Workload(workload));
            self.touch(target);
            let touched = Touched::Replicas(target.name.clone());
            self.yield_to_person(&target.environment, &application, [touched]);
        }
        Ok(before)
    }
}
