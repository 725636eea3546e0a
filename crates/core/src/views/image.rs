//! Who runs an image, and who keeps it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{ReleaseNumber, ReplicaState, Target};
use crate::record::State;

/// A workload whose present release was made with an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ImageUse {
    /// The workload.
    pub workload: Target,
    /// Its present release.
    pub release: ReleaseNumber,
    /// How many of its replicas are ready.
    pub ready: u32,
}

/// The workloads that run the image of this digest.
pub fn uses_of(state: &State, digest: &str) -> Vec<ImageUse> {
    let present = state.workloads.values().filter_map(|workload| {
        let release = state.releases.get(&(workload.target.clone(), workload.release))?;
        (release.digest.as_deref() == Some(digest)).then_some((workload, release.number))
    });
    let uses = present.map(|(workload, release)| {
        let replicas = crate::routing::all_of(&state.replicas, &workload.target);
        let ready = replicas.filter(|it| it.release == release && it.state == ReplicaState::Ready).count();
        ImageUse {
            workload: workload.target.clone(),
            release,
            ready: u32::try_from(ready).unwrap_or(u32::MAX),
        }
    });
    uses.collect()
}

/// The releases that keep the content of this digest, as `environment/workload@number`.
pub fn kept_by(state: &State, digest: &str) -> Vec<String> {
    let having = state.releases.values().filter(|release| release.digest.as_deref() == Some(digest));
    having.map(|release| format!("{}@{}", release.workload, release.number)).collect()
}
