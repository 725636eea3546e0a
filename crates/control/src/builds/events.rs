//! Following a build: how it stands and the lines of its steps, from the first on.

use actix_web::HttpResponse;
use actix_web::web::Bytes;
use mainyard_api::{FollowBuild, Problem};
use mainyard_builds::{Build, BuildEvent};
use mainyard_core::link::StepLine;
use tokio::sync::watch;

use super::{Shared, known};
use crate::open_streams::OpenStream;
use crate::operations::{Call, lines};

/// Lines that are read at once.
const AT_ONCE: u32 = 500;
/// It is looked at again after this time, even if nothing was told.
const LOOK_EVERY: std::time::Duration = std::time::Duration::from_secs(2);

struct Following {
    control: Shared,
    number: u64,
    /// Lines up to this place were sent.
    place: i64,
    /// As it was sent last.
    sent: Option<Build>,
    changes: watch::Receiver<u64>,
    ended: bool,
    _open: OpenStream,
}

pub(super) async fn follow(call: Call<FollowBuild>) -> Result<HttpResponse, Problem> {
    known(&call.control, call.path.build).await?;
    let following = Following {
        number: call.path.build,
        place: 0,
        sent: None,
        changes: call.control.builds.changes.subscribe(),
        ended: false,
        _open: call.control.open_streams.open(&call.caller.name)?,
        control: call.control.into_inner(),
    };
    Ok(lines(futures_util::stream::unfold(following, |mut following| async move {
        let piece = following.next().await?;
        Some((piece, following))
    })))
}

impl Following {
    /// The next events; none once the end was sent.
    async fn next(&mut self) -> Option<Bytes> {
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
            if is_all && self.sent.as_ref() != Some(&build) {
                self.ended = build.state.has_ended();
                self.sent = Some(build.clone());
                events.push(BuildEvent::Build(Box::new(self.control.builds.view(build))));
            }
            if !events.is_empty() {
                return Some(written(&events));
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
