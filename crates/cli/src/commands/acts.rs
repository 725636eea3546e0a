//! Removing a workload; setting a replica aside; forgetting kept answers.

use mainyard_api::{NewPurge, NewSetAside, NoQuery, OfTarget, PurgeCache, RemoveWorkload, SetReplicaAside};
use mainyard_core::model::{NameError, ReplicaId, Span, Target};

use super::forecast;
use crate::args::Trial;
use crate::client::Client;
use crate::terminal::{Failure, count};

pub(super) async fn remove(
    client: &Client,
    target: &Target,
    yes: bool,
    trial: &Trial,
) -> Result<(), Failure> {
    if !yes && !trial.forecast {
        forecast::confirm_removal::<RemoveWorkload>(client, OfTarget::from(target), &target.to_string())
            .await?;
    }
    let done = forecast::act::<RemoveWorkload, _>(client, OfTarget::from(target), trial).await?;
    forecast::print_gone(&done.outcome, trial);
    forecast::print(&done);
    Ok(())
}

/// Takes a replica out of service, or ends one that is.
pub(super) async fn set_aside(
    client: &Client,
    replica: &str,
    lasts: &str,
    trial: &Trial,
) -> Result<(), Failure> {
    let id: ReplicaId = replica.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
    let lasts: Span =
        lasts.parse().map_err(|expected| Failure::usage(format!("--lasts {lasts}: expected {expected}")))?;
    let body = NewSetAside { replica: id.short.clone(), lasts };
    let done =
        forecast::act_with::<SetReplicaAside, _, _>(client, OfTarget::from(&id.workload), &body, trial)
            .await?;
    if done.outcome.ended {
        println!("{}{id} ends now", forecast::mark(trial));
    } else {
        println!(
            "{}{id} is out of service and stays for {lasts}; a new one replaces it",
            forecast::mark(trial)
        );
        println!("read it with: mainyard logs {} --replica {}", id.workload, id.short);
    }
    forecast::print(&done);
    Ok(())
}

/// Has gateways forget the answers that they keep of a route.
pub(super) async fn purge(client: &Client, route: &Target, path: String) -> Result<(), Failure> {
    let body = NewPurge { path: path.clone() };
    let done = client.ask_with::<PurgeCache, _>(OfTarget::from(route), NoQuery {}, &body).await?;
    let below = if path == "/" { String::new() } else { format!(" at {path} and below") };
    println!(
        "{route}: {} forgotten{below}, at {}",
        count(done.answers as usize, "answer"),
        count(done.gateways as usize, "gateway")
    );
    match done.silent {
        0 => Ok(()),
        silent => Err(Failure::failed(format!("{} did not tell in time", count(silent as usize, "gateway")))),
    }
}
