//! Images from registries outside: registries that are known, images that are pulled, by hand or because a release waits for
//! one, and tags that are followed.

mod automatic;
mod client;
mod operations;
mod pull;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use mainyard_api::{PullProgress, PullState};
use mainyard_core::model::{ImageRef, Reason, ReasonCode};
use mainyard_images::Turns;
use tokio::sync::watch;

pub(crate) use automatic::{deploy_moved, pull_awaited};
pub(crate) use operations::operations;

use crate::Control;

/// Pulls that are remembered after they ended.
const REMEMBERED: usize = 50;

/// Why an image could not be pulled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Trouble {
    /// The registry does not let us in.
    Refused(String),
    /// It has no such image, or none for this machine.
    Lacks(String),
    /// It wants to be asked less often.
    Limits(String),
    /// Its certificate is not trusted.
    Untrusted(String),
    /// It does not answer, or breaks off.
    Silent(String),
    /// What it sent cannot be used.
    Unusable(String),
    /// There is no room here, or the record is away.
    Here(String),
}

impl Trouble {
    /// Whether trying again soon may help.
    pub(crate) fn may_pass(&self) -> bool {
        matches!(self, Trouble::Limits(_) | Trouble::Silent(_) | Trouble::Here(_))
    }

    /// As a reason.
    pub(crate) fn reason(&self) -> Reason {
        let (code, says) = match self {
            Trouble::Refused(says) => (ReasonCode::RegistryRefuses, says),
            Trouble::Lacks(says) => (ReasonCode::RegistryLacks, says),
            Trouble::Limits(says) => (ReasonCode::RegistryLimits, says),
            Trouble::Untrusted(says) => (ReasonCode::RegistryUntrusted, says),
            Trouble::Silent(says) => (ReasonCode::RegistrySilent, says),
            Trouble::Unusable(says) | Trouble::Here(says) => (ReasonCode::ImageUnusable, says),
        };
        Reason::new(code, says.clone())
    }
}

/// The pulls that go on, and those that ended not long ago.
#[derive(Debug, Default)]
pub(crate) struct Pulls {
    known: Mutex<BTreeMap<String, watch::Receiver<PullProgress>>>,
    /// Blobs that are being fetched: several images may need one, and two that write it would spoil it.
    turns: Turns,
}

impl Pulls {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<String, watch::Receiver<PullProgress>>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Joins the pull of an image that goes on, or begins one: then its progress is to be told through what is given.
    fn join(
        &self,
        image: &ImageRef,
        from: &str,
    ) -> (watch::Receiver<PullProgress>, Option<watch::Sender<PullProgress>>) {
        let mut all = self.lock();
        let key = image.to_string();
        let present = all.get(&key).filter(|it| !it.borrow().state.has_ended() && it.has_changed().is_ok());
        if let Some(present) = present {
            return (present.clone(), None);
        }
        let (to, from) = watch::channel(PullProgress::new(image.clone(), from.to_owned()));
        all.insert(key, from.clone());
        let ended: Vec<String> =
            all.iter().filter(|(_, it)| it.borrow().state.has_ended()).map(|(key, _)| key.clone()).collect();
        for old in ended.iter().take(all.len().saturating_sub(REMEMBERED)) {
            all.remove(old);
        }
        (from, Some(to))
    }

    /// How all of them stand.
    fn all(&self) -> Vec<PullProgress> {
        self.lock().values().map(|it| it.borrow().clone()).collect()
    }
}

/// Pulls an image that something waits for.
pub(crate) async fn pull_now(control: &Arc<Control>, image: &ImageRef, by: &str) -> Result<(), Reason> {
    let (registry, _) = pull::registry_of(control, image).await.map_err(|trouble| trouble.reason())?;
    let mut progress = begin(control, image, &registry.host, by);
    let ended = progress.wait_for(|progress| progress.state.has_ended()).await;
    match ended.map(|progress| (progress.state, progress.reason.clone())) {
        Ok((PullState::Done, _)) => Ok(()),
        Ok((_, Some(reason))) => Err(reason),
        _ => Err(Reason::new(ReasonCode::ImageUnusable, format!("the pull of {image} was broken off"))),
    }
}

/// Begins to pull an image, or joins the one that goes on; it goes on when nobody follows it.
fn begin(control: &Arc<Control>, image: &ImageRef, host: &str, by: &str) -> watch::Receiver<PullProgress> {
    let (progress, begun) = control.pulls.join(image, host);
    if let Some(to) = begun {
        let (control, image, by) = (Arc::clone(control), image.clone(), by.to_owned());
        tokio::spawn(async move {
            let ended = pull::pull_and_record(&control, &image, &by, &to).await;
            to.send_modify(|progress| match ended {
                Ok(digest) => (progress.state, progress.digest) = (PullState::Done, Some(digest)),
                Err(trouble) => {
                    (progress.state, progress.reason) = (PullState::Failed, Some(trouble.reason()));
                }
            });
        });
    }
    progress
}
