//! Steps of builds on this node: which ones run, and what earlier agents left of them.
//!
//! Control names all steps that should run here. A step that is named and does not run is begun, or gone on with where an
//! earlier agent had begun it; one that runs and is not named any more is ended.

mod caches;
mod lines;
mod step;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use mainyard_control_client::Control;
use mainyard_core::link::{StepId, StepOrder};
use mainyard_core::model::Name;
use mainyard_images::Turns;
use mainyard_runtime::Driver;
use tokio_util::sync::CancellationToken;

use crate::Config;
use crate::images::Images;
use caches::Caches;

/// Scratch of steps and their caches begins so.
pub(crate) const SCRATCH_NAMES: [&str; 2] = ["build.", caches::PREFIX];

/// What every step needs.
struct Shared {
    /// A folder for each step.
    dir: PathBuf,
    driver: Arc<Driver>,
    images: Images,
    control: Control,
    /// The node's name.
    node: Name,
    caches: Caches,
    /// Two steps of one repository take turns at its caches.
    cache_turns: Turns,
}

/// The steps that this agent knows.
pub(crate) struct Builds {
    shared: Arc<Shared>,
    known: BTreeMap<StepId, Known>,
}

struct Known {
    key: String,
    cancel: CancellationToken,
}

impl Builds {
    /// With the steps' folders in the node's own.
    pub(crate) fn new(config: &Config, driver: Arc<Driver>, images: Images, control: Control) -> Builds {
        let dir = config.dir.join("builds");
        let caches = Caches::at(dir.join("caches"));
        let (node, cache_turns) = (config.name.clone(), Turns::default());
        let shared = Shared { dir: dir.join("steps"), driver, images, control, node, caches, cache_turns };
        Builds { shared: Arc::new(shared), known: BTreeMap::new() }
    }

    /// Control named the steps that should run.
    pub(crate) fn take(&mut self, orders: Vec<StepOrder>) {
        let wanted = |id: &StepId, key: &str| orders.iter().any(|order| order.id == *id && order.key == key);
        self.known.retain(|id, known| {
            let stays = wanted(id, &known.key);
            if !stays {
                known.cancel.cancel();
            }
            stays
        });
        self.end_others(&orders);
        for order in orders {
            if self.known.contains_key(&order.id) {
                continue;
            }
            let cancel = CancellationToken::new();
            self.known.insert(order.id, Known { key: order.key.clone(), cancel: cancel.clone() });
            tokio::spawn(step::carry_out(Arc::clone(&self.shared), order, cancel));
        }
    }

    /// Ends what an earlier agent began and nobody wants now.
    fn end_others(&self, orders: &[StepOrder]) {
        let wanted: Vec<String> = orders.iter().map(|order| order.id.to_string()).collect();
        for entry in std::fs::read_dir(&self.shared.dir).into_iter().flatten().flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            // What this agent began is ended by its own task.
            let is_own = self.known.keys().any(|id| id.to_string() == name) || step::is_ending(&entry.path());
            if !wanted.contains(&name) && !is_own {
                let shared = Arc::clone(&self.shared);
                tokio::spawn(async move { step::end_leftover(&shared, &name).await });
            }
        }
    }
}
