//! What goes on without being asked: builds that wait begin, and old ones go.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use actix_web::web::Data;
use mainyard_builds::{BuildState, next_to_begin};

use super::{carry_out, read};
use crate::Control;

/// What waits is looked for this often, if nobody says that there is something.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// Ended builds that are remembered, with their lines.
const BUILDS: u32 = 200;
/// Layers of steps that were not used for so many days go, and those that are more than so many bytes.
const LAYER_DAYS: u32 = 14;
const LAYER_BYTES: u64 = 20 << 30;

/// Carries builds out, forever. Only the control that decides does it.
pub(crate) async fn carry_out_builds(control: Data<Control>) {
    let control = control.into_inner();
    let has_read = &control.builds.has_read;
    let mut knew_all = false;
    loop {
        tokio::select! {
            () = tokio::time::sleep(LOOK_EVERY) => {}
            () = control.builds.wake.notified() => {}
        }
        if control.leader.elsewhere().is_some() {
            give_up(&control);
            has_read.store(false, Ordering::Relaxed);
            knew_all = false;
            continue;
        }
        if !has_read.load(Ordering::Relaxed) {
            match control.store.open_builds().await {
                Ok(open) => open.into_iter().filter_map(read).for_each(|build| control.builds.add(build)),
                Err(error) => {
                    tracing::debug!(%error, "the open builds cannot be read yet");
                    continue;
                }
            }
            has_read.store(true, Ordering::Relaxed);
        }
        // Nodes that called before are told now that nothing of an earlier build is wanted.
        if !knew_all && control.builds.lock().is_empty() {
            knew_all = true;
            let nodes = control.links.nodes().into_iter().filter_map(|node| node.parse().ok());
            nodes.for_each(|node| control.builds.greet(&control.links, &node));
        }
        begin(&control);
    }
}

/// Another control decides: it carries on.
fn give_up(control: &Control) {
    let mut open = control.builds.lock();
    for build in std::mem::take(&mut *open).into_values() {
        if let Some(task) = build.task {
            task.abort();
        }
    }
    control.builds.steps.clear();
}

fn begin(control: &Arc<Control>) {
    let mut open = control.builds.lock();
    let next = next_to_begin(open.values().map(|open| &open.build), control.builds.at_once);
    for open in open.values_mut() {
        // One that runs without a task was begun by the control before this one.
        let goes_on = open.build.state == BuildState::Running;
        if open.task.is_none() && (goes_on || next.contains(&open.build.number)) {
            open.build.begin(jiff::Timestamp::now());
            let work = carry_out::carry_out(Arc::clone(control), open.build.clone(), open.cancel.clone());
            open.task = Some(tokio::spawn(work).abort_handle());
        }
    }
}

/// Removes old builds, and layers of steps by rule.
pub(crate) async fn sweep_builds(control: &Control) {
    match control.store.sweep_builds(BUILDS).await {
        Ok(0) => {}
        Ok(gone) => tracing::info!(gone, "old builds were removed"),
        Err(error) => tracing::warn!(%error, "old builds could not be removed"),
    }
    match control.store.sweep_build_layers(LAYER_DAYS, LAYER_BYTES).await {
        Ok(0) => {}
        Ok(gone) => tracing::info!(gone, "layers of builds that nothing used were forgotten"),
        Err(error) => tracing::warn!(%error, "layers of builds could not be forgotten"),
    }
}
