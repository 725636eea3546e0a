//! Images that nodes fetch now, as they tell; in memory only.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use mainyard_api::{ListFetches, NodeFetch, Problem};
use mainyard_core::link::ImageFetch;
use mainyard_core::model::Name;

use crate::operations::{Call, Operations};

/// A node tells every second while it fetches: what it told longer ago than this says nothing now.
const TOLD_FOR: Duration = Duration::from_secs(10);

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list);
}

/// What each node told last.
#[derive(Debug, Default)]
pub(crate) struct Fetches(Mutex<BTreeMap<Name, (Instant, Vec<ImageFetch>)>>);

impl Fetches {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<Name, (Instant, Vec<ImageFetch>)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A node told.
    pub(crate) fn set(&self, node: Name, list: Vec<ImageFetch>) {
        self.lock().insert(node, (Instant::now(), list));
    }

    fn all(&self) -> Vec<NodeFetch> {
        let mut all = self.lock();
        all.retain(|_, (told, list)| told.elapsed() < TOLD_FOR && !list.is_empty());
        let of_node = |(node, (_, list)): (&Name, &(Instant, Vec<ImageFetch>))| {
            let fetch = |fetch: &ImageFetch| NodeFetch {
                node: node.clone(),
                fetch: fetch.clone(),
                says: fetch.words(),
            };
            list.iter().map(fetch).collect::<Vec<_>>()
        };
        all.iter().flat_map(of_node).collect()
    }
}

async fn list(call: Call<ListFetches>) -> Result<Vec<NodeFetch>, Problem> {
    Ok(call.control.fetches.all())
}
