//! One push, from its first byte to its report. The way it came does not matter here.

use mainyard_api::Problem;
use mainyard_builds::{Build, BuildState, Commit, Delivery, DeliveryState, NextAct, Way};
use mainyard_core::model::Target;
use mainyard_git::hosting::{Incoming, PushError, PushRequest, RefUpdate, Repository, read_request, report};
use tokio::io::{AsyncRead, AsyncReadExt};

use super::follow::{Output, header, tell_build, tell_delivery};
use super::plan::of_commit;
use super::repositories::{self, Kept, opened, publish};
use crate::builds::{CommitTree, NewBuild, Shared, cancel_build, words_of};

/// The member who pushes, and where to.
#[derive(Debug, Clone)]
pub(super) struct Pusher {
    pub member: String,
    pub target: Target,
}

/// A push whose objects were taken in; nothing of it is part of the repository yet.
pub(super) struct TakenPush {
    request: PushRequest,
    /// Its objects, or what is wrong with them.
    incoming: Result<Incoming, String>,
}

/// Why a push cannot even be answered in its own form.
#[derive(Debug)]
pub(super) enum Refused {
    /// It is no push, or asks for what is not done.
    Push(PushError),
    /// The platform cannot.
    Platform(Problem),
}

impl From<Problem> for Refused {
    fn from(problem: Problem) -> Refused {
        Refused::Platform(problem)
    }
}

/// Reads a push, and takes its objects in. Where its client reads an answer only when all was sent, the rest is read too.
pub(super) async fn take(
    control: &Shared,
    pusher: &Pusher,
    from: &mut (impl AsyncRead + Unpin),
    reads_all: bool,
) -> Result<TakenPush, Refused> {
    let request = read_request(from).await.map_err(Refused::Push)?;
    let incoming = if request.updates.is_empty() {
        Err(String::new())
    } else {
        let repository = {
            let turn = control.code.turn(&pusher.target);
            let _turn = turn.lock().await;
            let kept = repositories::find(&control.store, &pusher.target).await;
            let kept = kept.map_err(crate::problem::of_record)?;
            opened(control, &kept.unwrap_or_else(|| repositories::new(&pusher.target, &pusher.member)))
                .await?
        };
        let taken = repository.take_in(from, &request.updates).await;
        if taken.is_err() && reads_all {
            let _ = tokio::io::copy(&mut from.take(super::LARGEST << 20), &mut tokio::io::sink()).await;
        }
        taken.map_err(|error| error.to_string())
    };
    Ok(TakenPush { request, incoming })
}

/// What comes of each ref of a push, and the report when it is known.
struct Outcome {
    refs: Vec<(String, Result<(), String>)>,
    has_bands: bool,
    output: Output,
    /// The builds were read along with already.
    told_builds: bool,
}

impl Outcome {
    fn refuse_all(&mut self, because: &str) {
        for (_, outcome) in &mut self.refs {
            *outcome = Err(because.to_owned());
        }
    }

    async fn send(&self, unpacked: Result<(), &str>) {
        self.output.send(report(unpacked, &self.refs, self.has_bands)).await;
    }
}

/// Decides about a push, reports, and lets its member read along until its commit is rolled out. It goes on when nobody
/// reads.
pub(super) async fn finish(control: Shared, pusher: Pusher, taken: TakenPush, output: Output) {
    let TakenPush { request, incoming } = taken;
    if request.updates.is_empty() {
        return;
    }
    output.shows_progress(request.has_bands);
    let refs = request.updates.iter().map(|update| (update.name.clone(), Ok(()))).collect();
    let (has_bands, told_builds) = (request.has_bands, false);
    let mut outcome = Outcome { refs, has_bands, output: output.clone(), told_builds };
    let incoming = match incoming {
        Ok(incoming) => incoming,
        Err(words) => {
            outcome.refuse_all("its objects were not taken");
            outcome.send(Err(&words)).await;
            output.end().await;
            return;
        }
    };
    match decide(&control, &pusher, &request.updates, incoming, &mut outcome).await {
        Ok(delivery) => {
            outcome.send(Ok(())).await;
            if let Some(commit) = delivery {
                tell_delivery(&control, &pusher.target, &commit, outcome.told_builds, &output).await;
            }
        }
        Err(problem) => {
            outcome.refuse_all(&problem.detail);
            outcome.send(Ok(())).await;
        }
    }
    output.end().await;
}

/// Takes a commit that was made here, as a first push would bring it.
pub(super) async fn take_first(
    control: &Shared,
    pusher: &Pusher,
    update: RefUpdate,
    incoming: Incoming,
    output: Output,
) -> Result<(), Problem> {
    let refs = vec![(update.name.clone(), Ok(()))];
    let mut outcome = Outcome { refs, has_bands: false, output, told_builds: false };
    decide(control, pusher, &[update], incoming, &mut outcome).await?;
    match outcome.refs.pop() {
        Some((_, Err(because))) => Err(Problem::conflict(because)),
        _ => Ok(()),
    }
}

/// Makes a push part of the repository, as far as it can be. Returns the commit that is on its way then.
async fn decide(
    control: &Shared,
    pusher: &Pusher,
    updates: &[RefUpdate],
    incoming: Incoming,
    outcome: &mut Outcome,
) -> Result<Option<String>, Problem> {
    let turn = control.code.turn(&pusher.target);
    let _turn = turn.lock().await;
    let found =
        repositories::find(&control.store, &pusher.target).await.map_err(crate::problem::of_record)?;
    let mut kept = found.unwrap_or_else(|| repositories::new(&pusher.target, &pusher.member));
    let repository = opened(control, &kept).await?;
    if kept.code.refs.is_empty() {
        kept.code.branch = first_branch(updates).unwrap_or(kept.code.branch);
    }
    let rolled_out = format!("refs/heads/{}", kept.code.branch);
    for (update, (_, outcome)) in updates.iter().zip(&mut outcome.refs) {
        *outcome = repository.check(&kept.code.refs, update);
        if update.removes() && update.name == rolled_out {
            *outcome = Err("this branch is rolled out; it stays".to_owned());
        }
    }
    let accepted = |outcome: &Outcome| {
        let both = updates.iter().zip(&outcome.refs);
        both.filter(|(_, (_, outcome))| outcome.is_ok()).map(|(update, _)| update.clone()).collect::<Vec<_>>()
    };
    let moved = accepted(outcome).into_iter().find(|it| it.name == rolled_out);
    let mut delivery = None;
    if let Some(moved) = &moved {
        delivery = Some(begin_delivery(control, pusher, &repository, &incoming, &moved.new, outcome).await?);
    } else if !accepted(outcome).is_empty() {
        outcome.output.say(&format!("kept; {} is the branch that is rolled out", kept.code.branch)).await;
    }
    let accepted = accepted(outcome);
    if accepted.is_empty() {
        return Ok(None);
    }
    for update in &accepted {
        match update.removes() {
            true => kept.code.refs.remove(&update.name),
            false => kept.code.refs.insert(update.name.clone(), update.new.clone()),
        };
    }
    repository.keep(incoming).map_err(|error| Problem::unavailable(error.to_string()))?;
    let git = |error: mainyard_git::Error| Problem::unavailable(error.to_string());
    repository.set_refs(&kept.code.refs, &kept.code.branch).await.map_err(git)?;
    replace(control, &mut kept, delivery).await;
    kept.bundle = match kept.code.refs.is_empty() {
        true => None,
        false => Some(publish(control, &repository).await?.to_string()),
    };
    kept.code.by.clone_from(&pusher.member);
    kept.code.pushed = jiff::Timestamp::now();
    // From here on it is true, whichever process ends.
    repositories::save(&control.store, &kept).await?;
    tracing::info!(repository = %pusher.target, member = pusher.member, "pushed");
    if let Err(error) = repository.tidy().await {
        tracing::warn!(repository = %pusher.target, %error, "its packs could not be made one");
    }
    control.code.tell_change();
    Ok(moved.map(|moved| moved.new))
}

/// The branch that a first push makes the one that is rolled out.
fn first_branch(updates: &[RefUpdate]) -> Option<String> {
    let branches = updates.iter().filter(|update| !update.removes());
    let mut branches: Vec<&str> =
        branches.filter_map(|update| update.name.strip_prefix("refs/heads/")).collect();
    branches.sort_by_key(|branch| *branch != mainyard_builds::USUAL_BRANCH);
    branches.first().map(|branch| (*branch).to_owned())
}

/// A new commit takes the place of the one that is on its way: its builds end.
async fn replace(control: &Shared, kept: &mut Kept, delivery: Option<Delivery>) {
    let Some(delivery) = delivery else { return };
    if let Some(before) = kept.code.delivery.take().filter(|before| !before.state.has_ended()) {
        for build in before.builds {
            // It may have ended by itself.
            let _ = cancel_build(control, build).await;
        }
    }
    kept.code.delivery = Some(delivery);
}

/// Begins the builds of a commit. Where its recipe asks for it, waits for them, and refuses the push when one fails.
async fn begin_delivery(
    control: &Shared,
    pusher: &Pusher,
    repository: &Repository<'_>,
    incoming: &Incoming,
    commit: &str,
    outcome: &mut Outcome,
) -> Result<Delivery, Problem> {
    let git = |error: mainyard_git::Error| Problem::unavailable(error.to_string());
    let (subject, _) = repository.about(Some(incoming), commit).await.map_err(git)?;
    let mut delivery = Delivery {
        commit: commit.to_owned(),
        subject,
        by: pusher.member.clone(),
        at: jiff::Timestamp::now(),
        builds: Vec::new(),
        declaration: None,
        state: DeliveryState::Building,
        says: String::new(),
        changes: Vec::new(),
    };
    let tree = CommitTree::open(repository, Some(incoming), commit).await?;
    let plan = match of_commit(&tree, &pusher.target).await? {
        Ok(plan) => plan,
        Err(words) => {
            delivery.end(DeliveryState::Failed, words);
            return Ok(delivery);
        }
    };
    for note in &plan.notes {
        outcome.output.say(note).await;
    }
    let asked = NewBuild {
        way: Some(Way::Pushed),
        by: pusher.member.clone(),
        commit: Some(Commit {
            id: commit.to_owned(),
            repository: super::path_of(&pusher.target),
            changed: false,
        }),
        secrets_from: Some(pusher.target.environment.clone()),
        ..NewBuild::default()
    };
    let folders = plan.recipes.iter().map(|(folder, _)| folder.as_str());
    let builds = match tree.start_builds(control, folders, &asked).await {
        Ok(builds) => builds,
        // What is wrong with the code is told; that the platform cannot is no fault of it.
        Err(problem) if problem.status < 500 => {
            delivery.end(DeliveryState::Failed, words_of(&problem));
            return Ok(delivery);
        }
        Err(problem) => return Err(problem),
    };
    delivery.builds = builds.iter().map(|build| build.number).collect();
    delivery.declaration.clone_from(&plan.declaration);
    if plan.must_build() {
        outcome.told_builds = true;
        outcome.output.say(&header(&pusher.target, &delivery)).await;
        let mut ended = Vec::new();
        for build in &builds {
            ended.push(tell_build(control, build.number, &outcome.output).await);
        }
        // One that could not be followed to its end is not known to be well.
        let is_done = |build: &Build| build.state == BuildState::Done;
        let has_failed = !ended.iter().all(|build| build.as_ref().is_some_and(is_done));
        if has_failed {
            let words = match delivery.next(&ended) {
                NextAct::Fail(words) => words,
                _ => format!("{} did not end here; push again", delivery.builds_words()),
            };
            outcome.refuse_all(&words);
        }
    }
    Ok(delivery)
}
