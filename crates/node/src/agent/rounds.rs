//! What the agent does from time to time: it measures, and looks after the images on its disk.

use std::collections::BTreeSet;

use mainyard_core::model::ReplicaId;
use mainyard_core::replica_lifecycle::DiskFull;

use super::Agent;

impl Agent {
    /// Replicas that may have a layer mounted.
    pub(super) fn running(&self) -> BTreeSet<String> {
        self.held.iter().filter(|(_, held)| held.keeper.is_some()).map(|(id, _)| id.to_string()).collect()
    }

    pub(super) fn sweep_images(&self) {
        let in_use = self.node_state.replicas().map(|(_, run)| run.order.digest.clone()).collect();
        let (images, running) = (self.images.clone(), self.running());
        tokio::spawn(async move { images.sweep(in_use, running).await });
    }

    pub(super) fn verify_images(&self) {
        let (images, running) = (self.images.clone(), self.running());
        tokio::spawn(async move { images.verify(running).await });
    }

    pub(super) fn measure(&mut self) {
        let fetches = self.images.progress.all();
        self.fetches.send_if_modified(|told| {
            let is_new = *told != fetches;
            *told = fetches;
            is_new
        });
        let running = self.held.iter().filter(|(_, held)| held.keeper.is_some()).map(|(id, _)| id);
        for id in running {
            let Some(run) = self.node_state.replica(id) else { continue };
            if let Some(reading) = self.driver.reading(&id.dotted()) {
                self.meter.read(id, &run.order, reading);
            }
        }
        self.meter.send_when_due();
    }

    /// Whether a replica has written as much as it may, and where most of it is.
    pub(super) fn full_disk(&self, id: &ReplicaId) -> Option<DiskFull> {
        let limit = self.node_state.replica(id)?.order.spec.limits.disk;
        let scratch = self.driver.scratch()?;
        let written = scratch.written(&id.dotted())?;
        let full = DiskFull::counts(written, limit);
        full.then(|| DiskFull { written, most_in: scratch.most_in(&id.dotted()) })
    }
}
