//! Pulling without being asked: images that a release waits for, and tags that a workload follows.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::web::Data;
use mainyard_api::{PullProgress, PullState};
use mainyard_core::cluster::DeployRequest;
use mainyard_core::commands::{Deploy, NotePull};
use mainyard_core::model::{ImageRef, Reason, Target};
use tokio::sync::watch;

use super::{begin, pull};
use crate::Control;

/// What waits is looked for this often.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// One that could not be pulled is tried again after this time, and then after twice as long each time.
const AGAIN: Duration = Duration::from_secs(5);
const AGAIN_AT_MOST: Duration = Duration::from_secs(600);
/// Troubles that may pass are told only after so many tries.
const PATIENT: u32 = 3;
/// The member who does it.
const PLATFORM: &str = "platform";

/// One image that is waited for.
struct Awaited {
    progress: Option<watch::Receiver<PullProgress>>,
    tries: u32,
    again: Instant,
}

/// Pulls what releases wait for, and follows tags, forever. Only the control that decides does it.
pub(crate) async fn pull_awaited(control: Data<Control>) {
    let control = control.into_inner();
    let mut awaited: BTreeMap<String, Awaited> = BTreeMap::new();
    let mut looked: BTreeMap<Target, Instant> = BTreeMap::new();
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        if control.leader.elsewhere().is_some() {
            awaited.clear();
            continue;
        }
        pull_all(&control, &mut awaited).await;
        follow_tags(&control, &mut looked).await;
    }
}

async fn pull_all(control: &Arc<Control>, awaited: &mut BTreeMap<String, Awaited>) {
    let wanted: Vec<(ImageRef, String, bool)> = {
        let published = control.leader.published.read().await;
        let state = &published.0;
        let images = state.awaited_images().into_iter();
        let found = images.filter_map(|image| {
            let registry = state.registry_of(&image)?;
            let told = registry.problems.contains_key(&image.to_string());
            Some((image, registry.host.clone(), told))
        });
        found.collect()
    };
    awaited.retain(|key, _| wanted.iter().any(|(image, ..)| image.to_string() == *key));
    for (image, host, told) in wanted {
        let fresh = || Awaited { progress: None, tries: 0, again: Instant::now() };
        let it = awaited.entry(image.to_string()).or_insert_with(fresh);
        // A registry that was added again has no problems: its images are tried at once.
        if !told && it.tries >= PATIENT {
            *it = fresh();
        }
        let state = it.progress.as_ref().map(|progress| progress.borrow().clone());
        match state {
            None if Instant::now() >= it.again => it.progress = Some(begin(control, &image, &host, PLATFORM)),
            Some(PullProgress { state: PullState::Failed, reason: Some(reason), .. }) => {
                it.progress = None;
                it.tries += 1;
                it.again = Instant::now() + (AGAIN * 2u32.pow(it.tries.min(8) - 1)).min(AGAIN_AT_MOST);
                if !may_pass(&reason) || it.tries >= PATIENT {
                    it.tries = it.tries.max(PATIENT);
                    let command = NotePull { image, problem: Some(reason) };
                    if let Err(error) = control.leader.carry_out(command, PLATFORM, "").await {
                        tracing::warn!(%error, "why an image is not pulled cannot be written down");
                    }
                }
            }
            _ => {}
        }
    }
}

fn may_pass(reason: &Reason) -> bool {
    use mainyard_core::model::ReasonCode::{RegistryLimits, RegistrySilent};
    matches!(reason.code, RegistryLimits | RegistrySilent)
}

/// Looks what the tags name that workloads follow, and deploys what is new.
async fn follow_tags(control: &Arc<Control>, looked: &mut BTreeMap<Target, Instant>) {
    let due: Vec<(Target, ImageRef, Option<String>)> = {
        let published = control.leader.published.read().await;
        let state = &published.0;
        looked.retain(|target, _| state.workloads.contains_key(target));
        let followers = state.workloads.values().filter_map(|workload| {
            let every = workload.follow_tag?.duration();
            let release = state.releases.get(&(workload.target.clone(), workload.release))?;
            let image = &release.spec.image;
            let idle = workload.held.is_none() && state.open_rollout(&workload.target).is_none();
            let known = state.images.get(&image.to_string());
            let due = looked.get(&workload.target).is_none_or(|at| at.elapsed() >= every);
            (idle && due && release.spec.digest.is_none() && state.registry_of(image).is_some()).then(|| {
                (workload.target.clone(), image.clone(), known.and_then(|known| known.named.clone()))
            })
        });
        followers.collect()
    };
    for (target, image, known) in due {
        looked.insert(target.clone(), Instant::now());
        let control = Arc::clone(control);
        tokio::spawn(async move { follow(&control, target, image, known).await });
    }
}

async fn follow(control: &Arc<Control>, target: Target, image: ImageRef, known: Option<String>) {
    let named = match pull::named_now(control, &image).await {
        Ok(named) => named.to_string(),
        Err(trouble) => {
            let reason = trouble.reason();
            return tracing::warn!(%target, %image, %reason, "the tag that a workload follows cannot be looked at");
        }
    };
    if known.as_deref() != Some(named.as_str()) {
        let Ok((registry, _)) = pull::registry_of(control, &image).await else { return };
        let mut progress = begin(control, &image, &registry.host, PLATFORM);
        let ended = progress.wait_for(|progress| progress.state.has_ended()).await;
        match ended.map(|progress| (progress.state, progress.reason.clone())) {
            Ok((PullState::Done, _)) => {}
            Ok((_, reason)) => {
                return tracing::warn!(%target, %image, ?reason, "what a tag names now cannot be pulled");
            }
            Err(_) => return,
        }
    }
    deploy_moved(control, target, image).await;
}

/// Deploys the image again where its tag stands for another one than the workload runs.
pub(crate) async fn deploy_moved(control: &Control, target: Target, image: ImageRef) {
    let moved = {
        let published = control.leader.published.read().await;
        let state = &published.0;
        let workload = state.workloads.get(&target);
        let release = workload.and_then(|it| state.releases.get(&(target.clone(), it.release)));
        let known = state.images.get(&image.to_string());
        release.zip(known).is_some_and(|(release, known)| {
            release.spec.image == image && release.digest.as_ref().is_some_and(|it| *it != known.digest)
        })
    };
    if !moved {
        return;
    }
    let request = DeployRequest { image: Some(image.clone()), ..DeployRequest::default() };
    let command = Deploy { workload: target.clone(), request };
    match control.leader.carry_out(command, PLATFORM, "").await {
        Ok(_) => tracing::info!(%target, %image, "the tag that a workload follows moved: it is deployed"),
        Err(error) => tracing::warn!(%target, %image, %error, "what a tag names now cannot be deployed"),
    }
}
