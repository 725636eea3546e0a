//! How many replicas a workload has, and how much each may use.

use mainyard_api::{NewScale, OfTarget, ScaleWorkload};
use mainyard_core::model::Target;

use super::{forecast, releases};
use crate::args::{LimitOptions, Wait};
use crate::client::Client;
use crate::terminal::Failure;
use crate::{progress, times};

/// What is asked for.
pub(super) struct Size {
    /// How many replicas.
    pub replicas: Option<u32>,
    /// As many as the load needs, again.
    pub by_load: bool,
    /// How much each may use.
    pub limits: LimitOptions,
}

pub(super) async fn scale(client: &Client, target: &Target, size: Size, wait: Wait) -> Result<(), Failure> {
    let Size { replicas, by_load, limits } = size;
    let body = NewScale { replicas, memory: limits.memory, cpu: limits.cpu(), by_load };
    let done =
        forecast::act_with::<ScaleWorkload, _, _>(client, OfTarget::from(target), &body, &wait.trial).await?;
    let scaled = &done.outcome;
    if let Some(replicas) = replicas {
        let before = scaled.before;
        // An answer names who set the number before, where it was somebody else.
        let theirs = scaled.set_by.as_ref().filter(|origin| origin.act == "scaled" && before != replicas);
        let theirs =
            theirs.map_or(String::new(), |origin| times::local(&format!(" ({before} was {origin})")));
        println!("{}{target}: replicas {before} → {replicas}{theirs}", forecast::mark(&wait.trial));
    }
    if by_load {
        println!("{}{target}: replicas follow the load again", forecast::mark(&wait.trial));
    }
    if !limits.is_empty() {
        releases::say_deployed(target, scaled.release, &scaled.differences, &wait.trial);
    }
    forecast::print(&done);
    if wait.no_wait || wait.trial.forecast {
        return Ok(());
    }
    releases::follow_to(client, target, scaled.release, &wait).await?;
    if replicas.is_some() || by_load { progress::scaling(client, target).await } else { Ok(()) }
}
