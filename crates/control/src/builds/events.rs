//! Following a build: how it stands and the lines of its steps, from the first on.

use actix_web::HttpResponse;
use actix_web::web::Bytes;
use mainyard_api::{FollowBuild, Problem};
use mainyard_builds::{Build, BuildEvent};
use mainyard_core::link::StepLine;
use tokio::sync::watch;

use super::{Shared, known};
use crate::operations::{Call, lines};

/// Lines that are read at once.
const AT_ONCE: u32 = 500;
/// It is looked at again after this time, even if nothing was told.
const LOOK_EVERY: std::time::Duration = std::time::Duration::from_secs(2);

/// Reads along with a build.
pub(crate) struct Following {
    control: Shared,
    number: u64,
    /// Lines up to this place were read.
    place: i64,
    /// As it was told last.
    told: Option<Build>,
    changes: watch::Receiver<u64>,
    ended: bool,
}

pub(super) async fn follow(call: Call<FollowBuild>) -> Result<HttpResponse, Problem> {
    known(&call.control, call.path.build).await?;
    let open = call.control.open_streams.open(&call.caller.name)?;
    let following = Following::new(call.control.into_inner(), call.path.build);
    Ok(lines(futures_util::stream::unfold((following, open), |(mut following, open)| async move {
        let piece = written(&following.next().await?);
        Some((piece, (following, open)))
    })))
}

impl Following {
    /// From its first line on.
    pub(crate) fn new(control: Shared, number: u64) -> Following {
        let changes = control.builds.changes.subscribe();
        Following { control, number, place: 0, told: None, changes, ended: false }
    }

    /// The next events; none once the end was told.
    pub(crate) async fn next(&mut self) -> Option<Vec<BuildEvent>> {
        while !self.ended {
            self.changes.mark_unchanged();
            // As it is before its lines are read: all lines of a step that has ended are there.
            let build = known(&self.control, self.number).await.ok()?;
            let rows = self.control.store.build_lines(self.number, self.place, AT_ONCE).await.ok()?;
            let mut events = Vec::new();
            let is_all = rows.len() < AT_ONCE as usize;
            for row in rows {
                self.place = row.place;
                let line = StepLine { ..row.line };
                events.push(BuildEvent::Line { step: row.step, line });
            }
            if is_all && self.told.as_ref() != Some(&build) {
                self.ended = build.state.has_ended();
                self.told = Some(build.clone());
                events.push(BuildEvent::Build(Box::new(self.control.builds.view(build))));
            }
            if !events.is_empty() {
                return Some(events);
            }
            let _ = tokio::time::timeout(LOOK_EVERY, self.changes.changed()).await;
        }
        None
    }
}

fn written(events: &[BuildEvent]) -> Bytes {
    let lines = events.iter().filter_map(|event| serde_json::to_string(event).ok());
    lines.map(|line| line + "\n").collect::<String>().into()
}
