//! How far the images are that this node fetches now.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use mainyard_control_client::Control;
use mainyard_core::link::ImageFetch;
use tokio::sync::watch;

/// Counts the bytes of one layer.
#[derive(Debug, Clone, Default)]
pub(crate) struct Counter {
    fetched: Arc<AtomicU64>,
    /// What an earlier try had fetched.
    there: Arc<AtomicU64>,
}

impl Counter {
    /// A try begins with so many bytes there already.
    pub(super) fn begin(&self, there: u64) {
        self.fetched.store(there, Ordering::Relaxed);
        self.there.store(there, Ordering::Relaxed);
    }

    pub(super) fn add(&self, bytes: u64) {
        self.fetched.fetch_add(bytes, Ordering::Relaxed);
    }
}

struct Fetch {
    began: Instant,
    total: u64,
    layers: BTreeMap<String, Counter>,
}

/// All images that are on their way.
#[derive(Clone, Default)]
pub(crate) struct Progress(Arc<Mutex<BTreeMap<String, Fetch>>>);

impl Progress {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<String, Fetch>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// An image of which so many bytes are missing. One that goes on keeps its time.
    pub(super) fn begin(&self, image: &str, total: u64) {
        let fresh = || Fetch { began: Instant::now(), total, layers: BTreeMap::new() };
        self.lock().entry(image.to_owned()).or_insert_with(fresh).total = total;
    }

    /// The counter of one of its layers.
    pub(super) fn of_layer(&self, image: &str, layer: &str) -> Counter {
        let mut all = self.lock();
        let Some(fetch) = all.get_mut(image) else { return Counter::default() };
        fetch.layers.entry(layer.to_owned()).or_default().clone()
    }

    pub(super) fn end(&self, image: &str) {
        self.lock().remove(image);
    }

    /// How far each image is.
    pub(crate) fn all(&self) -> Vec<ImageFetch> {
        let all = self.lock();
        let fetches = all.iter().map(|(image, fetch)| {
            let sum = |of: fn(&Counter) -> &AtomicU64| -> u64 {
                fetch.layers.values().map(|layer| of(layer).load(Ordering::Relaxed)).sum()
            };
            let (fetched, there) = (sum(|layer| &layer.fetched), sum(|layer| &layer.there));
            let seconds = fetch.began.elapsed().as_secs_f64().max(0.001);
            let rate = (fetched.saturating_sub(there) as f64 / seconds) as u64;
            ImageFetch { image: image.clone(), fetched, total: fetch.total, rate }
        });
        fetches.collect()
    }
}

/// Tells control how far images are, whenever that changes.
pub(crate) async fn tell_progress(
    path: String,
    control: Control,
    mut fetches: watch::Receiver<Vec<ImageFetch>>,
) {
    while fetches.changed().await.is_ok() {
        let list = fetches.borrow_and_update().clone();
        if let Err(error) = control.report(&path, &list).await {
            tracing::debug!(%error, "how far images are was not taken");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_of_all_layers_count_once_also_when_a_layer_is_gone_on_with() {
        let progress = Progress::default();
        progress.begin("sha256:a", 100);
        let (one, other) = (progress.of_layer("sha256:a", "one"), progress.of_layer("sha256:a", "other"));
        one.begin(0);
        one.add(30);
        other.begin(20);
        other.add(5);
        let fetched = |progress: &Progress| progress.all().first().map(|it| (it.fetched, it.total));
        assert_eq!(fetched(&progress), Some((55, 100)));
        // It broke off; the next try finds what is on disk.
        progress.begin("sha256:a", 100);
        let again = progress.of_layer("sha256:a", "one");
        again.begin(30);
        again.add(10);
        assert_eq!(fetched(&progress), Some((65, 100)));
        progress.end("sha256:a");
        assert!(progress.all().is_empty());
    }
}
