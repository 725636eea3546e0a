//! Looking at repositories when it is time, and at once when somebody tells of a push.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use actix_web::web::Data;
use mainyard_core::cluster::{Declarations, Looked};
use mainyard_core::commands::{NoteDeclared, NoteLook};
use mainyard_core::manifest::{Declared, Place, Problem as FileProblem, SourceFile, read_as};
use mainyard_core::model::{Commit, Source, SourceCredential, Target};
use mainyard_core::record::State;
use mainyard_git::{Access, Credential, Fence, Look};
use tokio::sync::{Notify, Semaphore};

use super::PLATFORM;
use super::code::build_newest;
use super::lookup::source;
use tracing::Instrument;

use crate::Control;

/// Repositories that are looked at at the same time.
const AT_ONCE: usize = 4;
/// How often it is seen what is due.
const TICK: Duration = Duration::from_millis(200);

/// Deliveries that are remembered.
const DELIVERIES: usize = 2_000;

/// State of repositories, and the sources to look at.
pub(crate) struct Follower {
    /// Surroundings of `git`.
    pub fence: Fence,
    inner: Mutex<Inner>,
    wake: Notify,
    room: Semaphore,
}

#[derive(Default)]
struct Inner {
    due: BTreeMap<Target, Instant>,
    under_way: BTreeSet<Target>,
    /// Told of a push while it was looked at.
    again: BTreeSet<Target>,
    declared: Declarations,
    /// Deliveries that told of a push, the newest last: one that comes again is known.
    deliveries: VecDeque<(Target, String)>,
    /// Of one source there is one look at a time.
    turns: BTreeMap<Target, Arc<tokio::sync::Mutex<()>>>,
}

/// The result of a look, for anyone who waits for it.
pub(super) type Outcome = Result<Commit, String>;

impl Follower {
    /// With these surroundings.
    pub(crate) fn new(fence: Fence) -> Follower {
        Follower { fence, inner: Mutex::default(), wake: Notify::new(), room: Semaphore::new(AT_ONCE) }
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Looks at a source as soon as there is room.
    pub(crate) fn look_soon(&self, target: &Target) {
        let mut inner = self.inner();
        if inner.under_way.contains(target) {
            inner.again.insert(target.clone());
        }
        inner.due.insert(target.clone(), Instant::now());
        drop(inner);
        self.wake.notify_one();
    }

    fn turn(&self, target: &Target) -> Arc<tokio::sync::Mutex<()>> {
        Arc::clone(self.inner().turns.entry(target.clone()).or_default())
    }

    /// Keeps nothing of a source that is no longer followed.
    pub(crate) async fn forget(&self, target: &Target) {
        let turn = self.turn(target);
        let _turn = turn.lock().await;
        if let Err(error) = mainyard_git::remove(&self.fence.repository(&target.to_string())) {
            tracing::warn!(%target, %error, "a repository that is no longer followed is kept");
        }
        self.inner().declared.retain(|(of, _), _| of != target);
    }

    /// Whether a delivery for a source did not come before.
    pub(crate) fn is_new(&self, target: &Target, delivery: String) -> bool {
        let mut inner = self.inner();
        let key = (target.clone(), delivery);
        if inner.deliveries.contains(&key) {
            return false;
        }
        if inner.deliveries.len() == DELIVERIES {
            inner.deliveries.pop_front();
        }
        inner.deliveries.push_back(key);
        true
    }

    /// The declaration of a commit, if it was read.
    pub(crate) fn declared(&self, target: &Target, commit: &str) -> Option<Arc<Declared>> {
        self.inner().declared.get(&(target.clone(), commit.to_owned())).cloned()
    }

    /// The declarations of all commits that were read.
    pub(crate) fn all_declared(&self) -> Declarations {
        self.inner().declared.clone()
    }

    /// Sources that are due now, each marked as under way.
    fn take_due(&self, state: &State) -> Vec<Target> {
        let now = Instant::now();
        let mut guard = self.inner();
        let inner = &mut *guard;
        inner.due.retain(|target, _| state.sources.contains_key(target));
        inner.declared.retain(|(target, commit), _| {
            let source = state.sources.get(target);
            source.is_some_and(|source| source.concerned().any(|it| it.id == *commit))
        });
        for target in state.sources.keys() {
            inner.due.entry(target.clone()).or_insert(now);
        }
        let due = inner.due.iter().filter(|(target, at)| **at <= now && !inner.under_way.contains(*target));
        let due: Vec<Target> = due.map(|(target, _)| target.clone()).collect();
        inner.under_way.extend(due.iter().cloned());
        due
    }

    fn done(&self, target: &Target, every: Duration) {
        let mut inner = self.inner();
        inner.under_way.remove(target);
        let again = inner.again.remove(target);
        let next = if again { Instant::now() } else { Instant::now() + every };
        inner.due.insert(target.clone(), next);
        drop(inner);
        if again {
            self.wake.notify_one();
        }
    }
}

/// Looks at every source when it is time, for as long as this control decides.
pub(crate) async fn follow_all(control: Data<Control>) {
    let mut epoch = None;
    loop {
        let _ = tokio::time::timeout(TICK, control.follower.wake.notified()).await;
        let holds = control.leader.holder.borrow().epoch;
        if holds != epoch {
            epoch = holds;
            // The leader knows of no commit any more: all are looked at.
            control.follower.inner().due.clear();
        }
        if epoch.is_none() {
            continue;
        }
        let due = {
            let published = control.leader.published.read().await;
            let due = control.follower.take_due(&published.0);
            let every =
                |target: &Target| published.0.sources.get(target).map(|it| it.rule.look_every.duration());
            due.into_iter().filter_map(|target| Some((every(&target)?, target))).collect::<Vec<_>>()
        };
        for (every, target) in due {
            let control = control.clone();
            actix_web::rt::spawn(async move {
                // A room is always there again: it is never closed.
                if let Ok(_room) = control.follower.room.acquire().await
                    && let Err(error) = look_at(&control, &target).await
                {
                    tracing::debug!(%target, error, "a look at a repository failed");
                }
                control.follower.done(&target, every);
            });
        }
    }
}

/// Looks at one source, and tells the leader where something is new, or not known to it.
pub(super) async fn look_at(control: &Data<Control>, target: &Target) -> Outcome {
    let span = tracing::info_span!("look", source = %target);
    let outcome = look(control, target).instrument(span.clone()).await;
    let _entered = span.enter();
    match &outcome {
        Ok(commit) => tracing::debug!(commit = commit.short(), "looked"),
        Err(because) => tracing::debug!(because, "could not look"),
    }
    outcome
}

async fn look(control: &Data<Control>, target: &Target) -> Outcome {
    let turn = control.follower.turn(target);
    let _turn = turn.lock().await;
    let source = source(control, target).await.map_err(|problem| problem.detail)?;
    if source.code.is_some() {
        return look_at_code(control, &source).await;
    }
    let (looked, outcome) = match read_newest(control, &source).await {
        Err(sentence) => (Looked::Failed(sentence.clone()), Err(sentence)),
        Ok((commits, commit, declared)) => {
            (Looked::Read { commit: commit.clone(), commits, declared }, Ok(commit))
        }
    };
    let unknown = tell(control, target, looked).await?;
    for id in unknown {
        // The commits of what is kept are there also while the repository does not answer.
        let declared = declared_at(control, &source, &id).await?;
        let Ok(declared) = declared else { continue };
        let note = NoteDeclared { source: target.clone(), commit: id, declared };
        control.leader.carry_out(note, PLATFORM, "").await.map_err(|error| error.to_string())?;
    }
    outcome
}

/// Looks at a source that holds code, and begins the builds of what is new.
async fn look_at_code(control: &Data<Control>, known: &Source) -> Outcome {
    let newest = fetch(control, known).await.and_then(|commits| {
        let commit = commits.first().cloned().ok_or("the repository has no commit")?;
        Ok((commits, commit))
    });
    let (looked, outcome) = match newest {
        Err(sentence) => (Looked::Failed(sentence.clone()), Err(sentence)),
        Ok((commits, commit)) => (Looked::Code { commit: commit.clone(), commits }, Ok(commit)),
    };
    tell(control, &known.target, looked).await?;
    if outcome.is_ok() {
        let present = source(control, &known.target).await.map_err(|problem| problem.detail)?;
        build_newest(control, &present).await?;
    }
    outcome
}

/// Tells the leader. Returns the commits whose declarations the leader has not read yet.
async fn tell(control: &Data<Control>, target: &Target, looked: Looked) -> Result<BTreeSet<String>, String> {
    let note = NoteLook { source: target.clone(), looked };
    let noted = control.leader.carry_out(note, PLATFORM, "").await;
    noted.map(|noted| noted.commits).map_err(|error| error.to_string())
}

type Newest = (Vec<Commit>, Commit, Result<Arc<Declared>, Vec<FileProblem>>);

/// The newest commits, the newest of them, and what it declares.
async fn read_newest(control: &Data<Control>, source: &Source) -> Result<Newest, String> {
    let commits = fetch(control, source).await?;
    let commit = commits.first().cloned().ok_or("the repository has no commit")?;
    let declared = declared_at(control, source, &commit.id).await?;
    Ok((commits, commit, declared))
}

/// Fetches what a source follows.
async fn fetch(control: &Data<Control>, source: &Source) -> Result<Vec<Commit>, String> {
    let access = access(control, source).await?;
    let name = source.target.to_string();
    let look = Look { name: &name, url: &source.url, at: &source.at };
    let commits = mainyard_git::look(&control.follower.fence, &look, &access).await;
    let commits = commits.map_err(|error| error.to_string())?;
    let told = commits.into_iter().map(|it| Commit { id: it.id, by: it.by, at: it.at, subject: it.subject });
    Ok(told.collect())
}

/// By what a source's repository lets the platform in.
pub(super) async fn access(control: &Data<Control>, source: &Source) -> Result<Access, String> {
    let environment = &source.target.environment;
    let published = control.leader.published.read().await;
    let secret = source.let_in.as_ref().map(SourceCredential::secret);
    let sealed = secret.and_then(|secret| {
        let secret = published.0.secrets.get(&Target::new(environment, secret))?;
        Some(secret.versions.values().next_back()?.sealed.clone())
    });
    let authority = source
        .authority
        .as_ref()
        .and_then(|name| Some(published.0.certificates.get(&Target::new(environment, name))?.chain.clone()));
    drop(published);
    let Some(let_in) = &source.let_in else { return Ok(Access { let_in: None, authority }) };
    let gone = || format!("secret-missing: the secret {environment}/{} can't be read", let_in.secret());
    let sealed = sealed.ok_or_else(gone)?;
    let mut opened = control.vault.open(vec![sealed.clone()]).await.map_err(|error| error.to_string())?;
    let value = opened.remove(&sealed).ok_or_else(gone)?;
    let let_in = match let_in {
        SourceCredential::Token { user, .. } => {
            let token = value.text().ok_or("the secret with the token is not text")?.trim().to_owned();
            Credential::Token { user: user.clone(), token }
        }
        SourceCredential::Key { known_hosts, .. } => {
            Credential::Key { key: value.0, known_hosts: known_hosts.clone() }
        }
    };
    Ok(Access { let_in: Some(let_in), authority })
}

/// The declaration of a commit, or everything that is wrong with it.
///
/// # Errors
/// When it cannot be read here.
pub(super) async fn declared_at(
    control: &Data<Control>,
    source: &Source,
    commit: &str,
) -> Result<Result<Arc<Declared>, Vec<FileProblem>>, String> {
    if let Some(declared) = control.follower.declared(&source.target, commit) {
        return Ok(Ok(declared));
    }
    let files = files_at(control, source, commit).await?;
    let files = match files {
        Ok(files) => files,
        Err(problems) => return Ok(Err(problems)),
    };
    let (environment, named) = (source.target.environment.clone(), source.named.clone());
    let declared = actix_web::web::block(move || read_as(&files, Some(&environment), named.as_ref()));
    let mut declared = declared.await.map_err(|error| error.to_string())?;
    if let Ok(read) = &mut declared {
        let closed = control.vault.look_into(&source.target.environment, read).await;
        let closed = closed.map_err(|error| error.to_string())?;
        if !closed.is_empty() {
            declared = Err(closed);
        }
    }
    let declared = declared.map(Arc::new);
    if let Ok(declared) = &declared {
        let key = (source.target.clone(), commit.to_owned());
        control.follower.inner().declared.insert(key, Arc::clone(declared));
    }
    Ok(declared)
}

/// The files of a source's folder in a commit.
///
/// # Errors
/// When it cannot be read here.
pub(super) async fn files_at(
    control: &Data<Control>,
    source: &Source,
    commit: &str,
) -> Result<Result<Vec<SourceFile>, Vec<FileProblem>>, String> {
    let name = source.target.to_string();
    let found = mainyard_git::read(&control.follower.fence, &name, commit, &source.folder).await;
    let found = found.map_err(|error| error.to_string())?;
    let files = found.map(|files| {
        files.into_iter().map(|file| SourceFile { name: file.path, text: file.text }).collect::<Vec<_>>()
    });
    Ok(files.map_err(|faults| {
        let problem = |fault: mainyard_git::Fault| FileProblem {
            place: Place { file: fault.path, line: 1, column: 1 },
            message: fault.message,
        };
        faults.into_iter().map(problem).collect()
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_delivery_that_comes_again_is_known_for_each_source() {
        let dir = tempfile::tempdir().expect("a folder");
        let follower = Follower::new(Fence::new(dir.path()).expect("a fence"));
        let source = |name: &str| -> Target { format!("staging/{name}").parse().expect("a target") };
        assert!(follower.is_new(&source("lockers"), "d1".into()));
        assert!(!follower.is_new(&source("lockers"), "d1".into()));
        assert!(follower.is_new(&source("kiosk"), "d1".into()));
        assert!(follower.is_new(&source("lockers"), "d2".into()));
    }
}
