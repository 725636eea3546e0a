//! Builds of images from code. The control that decides carries them out: files are taken here, commands run on nodes.
//!
//! A build is in the record whenever it changes, and what a step made is remembered under its key: a control that takes over
//! carries an open build out from its beginning, and finds all that was done.

mod automatic;
mod carry_out;
mod events;
mod faults;
mod finish;
mod layers;
mod of_commit;
mod operations;
mod steps;
mod tree;

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jiff::Timestamp;
use mainyard_api::Problem;
use mainyard_builds::{Build, BuildView, place_in_queue};
use mainyard_core::model::Name;
use mainyard_store::{BuildRow, Store};
use tokio::sync::{Notify, watch};
use tokio::task::AbortHandle;
use tokio_util::sync::CancellationToken;

pub(crate) use automatic::{carry_out_builds, sweep_builds};
pub(crate) use events::Following;
pub(crate) use of_commit::{CommitTree, file_in, words_of};
pub(crate) use operations::{NewBuild, cancel_build, operations};
pub(crate) use steps::{StepsOfNodes, operations as part_operations};

use crate::Control;
use crate::links::Links;
use crate::problem::of_record;
use layers::Outlines;

/// A build that has not ended.
struct OpenBuild {
    build: Build,
    /// A person ends it.
    cancel: CancellationToken,
    /// The task that carries it out.
    task: Option<AbortHandle>,
}

/// The builds that have not ended, where this control decides.
#[derive(Default)]
pub(crate) struct Builds {
    open: Mutex<BTreeMap<u64, OpenBuild>>,
    pub steps: StepsOfNodes,
    outlines: Outlines,
    /// Counts up with every change, for those who follow.
    changes: watch::Sender<u64>,
    /// There may be something to begin.
    wake: Notify,
    /// How many go on at once.
    at_once: usize,
    /// The open builds were read from the record.
    has_read: AtomicBool,
}

impl Builds {
    /// None yet; so many will go on at once.
    pub(crate) fn new(at_once: usize) -> Builds {
        Builds { at_once, ..Builds::default() }
    }

    /// A node called. It is told what it should run, unless this control does not know that yet: a step of the control
    /// before this one would be ended.
    pub(crate) fn greet(&self, links: &Links, node: &Name) {
        let knows_all = self.has_read.load(Ordering::Relaxed) && self.lock().is_empty();
        if knows_all || self.steps.count(node.as_str()) > 0 {
            self.steps.tell(links, node);
        }
    }

    /// Tells of every change of a build.
    pub(crate) fn subscribe(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    fn lock(&self) -> MutexGuard<'_, BTreeMap<u64, OpenBuild>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Those who follow look again.
    fn tell_change(&self) {
        self.changes.send_modify(|count| *count = count.wrapping_add(1));
    }

    fn add(&self, build: Build) {
        let open = OpenBuild { build, cancel: CancellationToken::new(), task: None };
        self.lock().insert(open.build.number, open);
        self.wake.notify_one();
    }

    /// Changes an open build, and gives it as it is then.
    fn change(&self, number: u64, change: impl FnOnce(&mut Build)) -> Option<Build> {
        let mut all = self.lock();
        let open = all.get_mut(&number)?;
        change(&mut open.build);
        Some(open.build.clone())
    }

    /// A build that has ended is in the record alone.
    fn remove(&self, number: u64) {
        self.lock().remove(&number);
    }

    /// A build as it is shown.
    pub(crate) fn view(&self, build: Build) -> BuildView {
        let place = place_in_queue(self.lock().values().map(|open| &open.build), build.number);
        BuildView::of(build, place, Timestamp::now())
    }
}

/// Keeps a build as it is.
async fn save(store: &Store, build: &Build) -> Result<(), mainyard_store::Error> {
    let body = serde_json::to_value(build).unwrap_or_default();
    let (repository, state) = (build.image.repository.clone(), build.state.word().to_owned());
    store
        .put_build(&BuildRow { number: build.number, repository, state, digest: build.digest.clone(), body })
        .await
}

/// A build as it was kept; one that this version cannot read is told in the log.
fn read(body: serde_json::Value) -> Option<Build> {
    serde_json::from_value(body)
        .inspect_err(|error| tracing::error!(%error, "a build of the record cannot be read"))
        .ok()
}

/// A build by its number: as it is, where it has not ended here, otherwise as it was kept.
pub(crate) async fn known(control: &Control, number: u64) -> Result<Build, Problem> {
    if let Some(build) = control.builds.change(number, |_| {}) {
        return Ok(build);
    }
    let kept = control.store.build(number).await.map_err(of_record)?;
    kept.and_then(read).ok_or_else(|| {
        Problem::not_found(format!(
            "there is no build {number}; `mainyard build list` shows those that there are"
        ))
    })
}

/// All that a task needs that carries a build out.
pub(crate) type Shared = Arc<Control>;
