//! The event stream: every change of the record in its order, and figures beside it.
//!
//! Server-Sent Events. A change is an event `change` whose id is its number in the journal; a client that comes
//! back with `Last-Event-ID` goes on exactly there. `reset` says that the journal no longer reaches back so far.
//! Figures are events `figures` without an id: they are of the moment. So are [`views`], for a client that asks for them.

mod views;

use std::collections::VecDeque;
use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::web::{Bytes, Data};
use mainyard_api::{ChangeEvent, FollowChanges, Problem};
use mainyard_store::{Entry, Error};
use tokio::time::Instant;

use crate::Control;
use crate::open_streams::OpenStream;
use crate::operations::Call;
use views::SentViews;

const FIGURES_EVERY: Duration = Duration::from_secs(1);
/// Changes read at once.
const PIECE: u32 = 500;

struct Reader {
    control: Data<Control>,
    cursor: u64,
    latest: tokio::sync::watch::Receiver<u64>,
    ready: VecDeque<Bytes>,
    figures_at: Instant,
    views: Option<SentViews>,
    ended: bool,
    _open: OpenStream,
}

/// Every change after a number, as it comes.
pub(crate) async fn follow(call: Call<FollowChanges>) -> Result<HttpResponse, Problem> {
    let control = call.control;
    let open = control.open_streams.open(&call.caller.name)?;
    let last = call.request.headers().get("last-event-id");
    let last = last.and_then(|value| value.to_str().ok()?.parse().ok());
    let cursor = last.or(call.query.after).unwrap_or_else(|| *control.leader.latest.borrow());
    let latest = control.leader.latest.clone();
    // Views have no number: a reader that comes back may have missed rows of changes that it has.
    let comes_back = last.is_some();
    let views = if call.query.views { Some(sent_views(&control, cursor, comes_back).await) } else { None };
    let ready = VecDeque::new();
    let reader = Reader {
        control,
        cursor,
        latest,
        ready,
        figures_at: Instant::now(),
        views,
        ended: false,
        _open: open,
    };
    let events = futures_util::stream::unfold(reader, |mut reader| async move {
        let next = reader.next().await?;
        Some((Ok::<_, std::convert::Infallible>(next), reader))
    });
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("cache-control", "no-store"))
        .insert_header(("x-accel-buffering", "no"))
        .streaming(events))
}

/// The views a reader has after its snapshot at this change. If more changed since, or it comes back, all rows
/// are sent.
async fn sent_views(control: &Control, cursor: u64, comes_back: bool) -> SentViews {
    let published = control.leader.published.read().await;
    let same = published.1 == cursor && !comes_back;
    SentViews::new(control.gateway_ports(), same.then_some(&published.0))
}

impl Reader {
    async fn next(&mut self) -> Option<Bytes> {
        loop {
            if let Some(event) = self.ready.pop_front() {
                return Some(event);
            }
            if self.ended {
                return None;
            }
            if *self.latest.borrow_and_update() > self.cursor {
                self.read().await;
                continue;
            }
            if Instant::now() >= self.figures_at {
                self.figures_at = Instant::now() + FIGURES_EVERY;
                let figures = self.control.traffic.recent();
                self.ready.push_back(event("figures", None, &figures));
                continue;
            }
            if self.views.as_ref().is_some_and(|views| Instant::now() >= views.due()) {
                self.push_views().await;
                continue;
            }
            let views_due = self.views.as_ref().map(SentViews::due);
            let wake = views_due.map_or(self.figures_at, |due| due.min(self.figures_at));
            let _ = tokio::time::timeout_at(wake, self.latest.changed()).await;
        }
    }

    async fn push_views(&mut self) {
        let Some(views) = &mut self.views else { return };
        let changes = views.pass(&self.control.leader.published.read().await.0);
        if !changes.is_empty() {
            self.ready.push_back(event("views", None, &changes));
        }
    }

    async fn read(&mut self) {
        match self.control.store.read_since(self.cursor, PIECE).await {
            Ok(feed) => {
                if let Some(views) = &mut self.views {
                    views.note(&feed.entries);
                }
                let changes = feed.entries.into_iter().map(change);
                let events = changes.map(|change| event("change", Some(change.number), &change));
                self.ready.extend(events);
                self.cursor = feed.cursor;
            }
            Err(Error::Reset(_)) => {
                self.ready.push_back(event("reset", None, &()));
                self.ended = true;
            }
            Err(error) => {
                tracing::warn!(%error, "a stream ends: the journal cannot be read");
                self.ended = true;
            }
        }
    }
}

fn change(entry: Entry) -> ChangeEvent {
    let Entry { number, kind, key, body, cause, at } = entry;
    ChangeEvent { number, kind, key, body, cause, at }
}

fn event(kind: &str, id: Option<u64>, data: &impl serde::Serialize) -> Bytes {
    let id = id.map_or(String::new(), |id| format!("id: {id}\n"));
    // Events are plain structs with string keys: writing one as JSON can't fail.
    let data = serde_json::to_string(data).expect("an event is plain data");
    Bytes::from(format!("event: {kind}\n{id}data: {data}\n\n"))
}
