//! Why builds fail, in words.

use mainyard_builds::recipe::StepLimits;
use mainyard_builds::{Fault, FaultKind};
use mainyard_core::link::StepOutcome;

/// The platform itself could not do its part.
pub(super) fn of_platform(error: impl std::fmt::Display) -> Fault {
    Fault::new(FaultKind::Platform, format!("the platform could not do its part: {error}"), "build again")
}

/// What a command's end means; nothing where it made its layer.
pub(super) fn of_outcome(outcome: &StepOutcome, limits: &StepLimits) -> Option<Fault> {
    let raise = |key: &str| format!("raise `limits.{key}` in the recipe, or let the command need less");
    Some(match outcome {
        StepOutcome::Made { .. } => return None,
        StepOutcome::Ended { too_long: true, .. } => Fault::new(
            FaultKind::TooLong,
            format!("the command took longer than {}", limits.time),
            raise("time"),
        ),
        StepOutcome::Ended { out_of_memory: true, .. } => Fault::new(
            FaultKind::OutOfMemory,
            format!("the command needed more than the {} of memory that a step may use", limits.memory),
            raise("memory"),
        ),
        StepOutcome::Ended { disk_full: true, .. } => Fault::new(
            FaultKind::DiskFull,
            format!("the command wrote more than the {} that a step may write", limits.disk),
            raise("disk"),
        ),
        StepOutcome::Ended { code: Some(127), .. } => Fault::new(
            FaultKind::CommandFailed,
            "the command ended with status 127: a program was not found",
            "name a base that has the program, or take it from another part",
        ),
        StepOutcome::Ended { code: Some(code), .. } => {
            Fault::new(FaultKind::CommandFailed, format!("the command ended with status {code}"), "")
        }
        StepOutcome::Ended { signal: Some(signal), .. } => {
            Fault::new(FaultKind::CommandFailed, format!("the command was ended by signal {signal}"), "")
        }
        StepOutcome::Ended { .. } => Fault::new(
            FaultKind::CommandFailed,
            "nobody saw how the command ended: its node was started again",
            "build again",
        ),
        StepOutcome::CannotStart(why) => Fault::new(
            FaultKind::CannotStart,
            format!("the command could not be started: {why}"),
            "a command needs a base with /bin/sh, and the user that the step names",
        ),
        StepOutcome::BadLayer(why) => {
            Fault::new(FaultKind::BadLayer, format!("what the command wrote cannot be a layer: {why}"), "")
        }
        StepOutcome::NotHere(why) => Fault::new(FaultKind::NoNode, why.clone(), "add a node with isolation"),
    })
}
