//! Not deciding: the record's changes are followed, so that reading and streaming go on, and anyone who wants
//! something changed is sent to the control that decides.

use std::time::{Duration, Instant};

use mainyard_core::record::Object;
use mainyard_store::Error;
use tokio::sync::mpsc;

use super::config::Leader;
use super::handle::{ActError, Holder, Message};

/// The journal is looked at this often, and the lease every so many times.
const LOOK_EVERY: Duration = Duration::from_millis(200);
const TRY_EVERY: Duration = Duration::from_secs(1);

/// Follows for a while; then it is time to try for the lease.
pub(super) async fn follow(
    leader: &Leader,
    holder: &Holder,
    messages: &mut mpsc::UnboundedReceiver<Message>,
) {
    leader.links.hang_up();
    let until = Instant::now() + TRY_EVERY;
    while Instant::now() < until {
        if let Err(error) = catch_up(leader).await {
            tracing::warn!(%error, "the journal cannot be followed");
        }
        match tokio::time::timeout(LOOK_EVERY, messages.recv()).await {
            Ok(Some(Message::Command(asked))) => {
                let _ = asked.answer.send(Err(ActError::Elsewhere(holder.clone())));
            }
            Ok(Some(_)) | Err(_) => {}
            Ok(None) => return,
        }
    }
}

async fn catch_up(leader: &Leader) -> Result<(), Error> {
    loop {
        let known = *leader.latest.borrow();
        let feed = match leader.store.read_since(known, 1000).await {
            Ok(feed) => feed,
            Err(Error::Reset(_)) => {
                let (state, number) = leader.store.snapshot().await?;
                *leader.published.write().await = (state, number);
                leader.latest.send_replace(number);
                return Ok(());
            }
            Err(error) => return Err(error),
        };
        if feed.cursor == known {
            return Ok(());
        }
        let mut published = leader.published.write().await;
        for entry in feed.entries {
            match entry.body {
                Some(body) => {
                    let object = Object::read(entry.kind, body).map_err(|source| Error::Unreadable {
                        kind: entry.kind.word().to_owned(),
                        key: entry.key,
                        source,
                    })?;
                    published.0.put(object);
                }
                None => published.0.remove(entry.kind, &entry.key),
            }
        }
        published.1 = feed.cursor;
        leader.latest.send_replace(feed.cursor);
    }
}
