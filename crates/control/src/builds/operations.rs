//! Builds over the API.

use actix_web::dev::Payload;
use futures_util::StreamExt;
use jiff::Timestamp;
use mainyard_api::{CancelBuild, ListBuilds, Problem, ShowBuild, StartBuild, StartedBuild};
use mainyard_builds::{Build, BuildState, BuildView, Commit, Way};
use mainyard_core::model::{ImageRef, Name, NameError};
use mainyard_images::Digest;
use tokio::io::AsyncWriteExt;

use super::tree::{self, Times, Tree, TreeError};
use super::{events, known, read, save};
use crate::Control;
use crate::body_limits::of_payload;
use crate::images::no_room;
use crate::operations::{Call, Operations};
use crate::problem::{of_blobs, of_record};

/// Builds that wait or go on, at most.
const OPEN: usize = 200;
/// Digits of a commit or a digest in a tag.
const TAG: usize = 12;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(start).mount(show).mount(events::follow).mount(cancel);
}

fn unavailable(error: impl std::fmt::Display) -> Problem {
    Problem::unavailable(error.to_string())
}

async fn list(call: Call<ListBuilds>) -> Result<Vec<BuildView>, Problem> {
    let builds = &call.control.builds;
    let kept = call.control.store.newest_builds(call.query.repository.as_deref(), call.query.limit).await;
    let kept = kept.map_err(of_record)?.into_iter().filter_map(read);
    let present = kept.map(|build| builds.change(build.number, |_| {}).unwrap_or(build));
    Ok(present.map(|build| builds.view(build)).collect())
}

async fn show(call: Call<ShowBuild>) -> Result<BuildView, Problem> {
    let build = known(&call.control, call.path.build).await?;
    Ok(call.control.builds.view(build))
}

async fn cancel(call: Call<CancelBuild>) -> Result<BuildView, Problem> {
    crate::agent_api::decides(&call.control)?;
    let cancelled = cancel_build(&call.control, call.path.build).await?;
    Ok(call.control.builds.view(cancelled))
}

/// Ends a build that has not ended.
pub(crate) async fn cancel_build(control: &Control, number: u64) -> Result<Build, Problem> {
    let build = known(control, number).await?;
    if build.state.has_ended() {
        return Err(Problem::conflict(format!(
            "build {number} has ended already: it is {}",
            build.state.word()
        )));
    }
    let (token, waits) = {
        let all = control.builds.lock();
        let open = all.get(&number);
        (open.map(|open| open.cancel.clone()), open.is_some_and(|open| open.task.is_none()))
    };
    if let Some(token) = token {
        token.cancel();
    }
    let cancelled = control.builds.change(number, |build| build.cancel(Timestamp::now())).unwrap_or(build);
    save(&control.store, &cancelled).await.map_err(of_record)?;
    if waits {
        control.builds.remove(number);
    }
    control.builds.tell_change();
    Ok(cancelled)
}

/// A build that is asked for.
#[derive(Debug, Clone, Default)]
pub(crate) struct NewBuild {
    pub way: Option<Way>,
    pub by: String,
    pub commit: Option<Commit>,
    /// The folder of the tree that has the recipe.
    pub folder: String,
    pub tag: Option<String>,
    pub secrets_from: Option<Name>,
    /// Nothing of builds before is used.
    pub from_scratch: bool,
}

async fn start(mut call: Call<StartBuild>) -> Result<StartedBuild, Problem> {
    crate::agent_api::decides(&call.control)?;
    let folder = call.query.folder.clone().unwrap_or_default();
    if folder.split('/').any(|word| word == "..") {
        return Err(Problem::invalid(format!(
            "folder is {folder:?}; a path in the tree without .. is expected"
        )));
    }
    has_room(&call.control)?;
    let taken = take_in(&call.control, &mut call.body, folder.clone()).await?;
    let query = call.query;
    let commit = query.commit.map(|id| Commit {
        id,
        repository: query.repository.unwrap_or_default(),
        changed: query.changed,
    });
    let asked = NewBuild {
        way: Some(Way::Sent),
        by: call.caller.name,
        commit,
        folder,
        tag: query.tag,
        secrets_from: query.secrets_from,
        from_scratch: query.from_scratch,
    };
    let image = image_of(&taken.1, &asked)?;
    let kept = call.control.store.build_times(&image.repository).await.map_err(of_record)?;
    let is_first = kept.is_none();
    let before: Times = kept.and_then(|files| serde_json::from_value(files).ok()).unwrap_or_default();
    let changed = taken.1.changes_since(&before);
    let build = if query.forecast {
        let build = build_of(0, image, asked, taken);
        BuildView { says: format!("{} steps", build.steps.len()), ..call.control.builds.view(build) }
    } else {
        call.control.builds.view(start_build(&call.control, asked, taken).await?)
    };
    Ok(StartedBuild { build, changed, is_first })
}

/// Whether one more build may wait.
fn has_room(control: &Control) -> Result<(), Problem> {
    if control.builds.lock().len() >= OPEN {
        return Err(Problem::conflict(format!("{OPEN} builds wait or go on already; try again later")));
    }
    Ok(())
}

/// Begins a build of code that was taken in, as soon as it is its turn.
pub(crate) async fn start_build(
    control: &Control,
    asked: NewBuild,
    taken: TakenTree,
) -> Result<Build, Problem> {
    has_room(control)?;
    let image = image_of(&taken.1, &asked)?;
    let number = control.store.next_build().await.map_err(of_record)?;
    let build = build_of(number, image, asked, taken);
    save(&control.store, &build).await.map_err(of_record)?;
    control.builds.add(build.clone());
    Ok(build)
}

/// A build that waits.
fn build_of(number: u64, image: ImageRef, asked: NewBuild, (digest, tree): TakenTree) -> Build {
    Build {
        number,
        image,
        by: asked.by,
        way: asked.way.unwrap_or(Way::Sent),
        commit: asked.commit,
        tree: digest.to_string(),
        folder: asked.folder,
        files: tree.files,
        size: tree.size,
        secrets_from: asked.secrets_from,
        from_scratch: asked.from_scratch,
        steps: Build::steps_of(&tree.recipe),
        recipe: tree.recipe,
        state: BuildState::Queued,
        asked: Timestamp::now(),
        began: None,
        ended: None,
        fault: None,
        digest: None,
    }
}

/// Code that was taken in: the digest of its archive, and what is in it.
pub(crate) type TakenTree = (Digest, Tree);

/// Takes an archive of code in, and looks at it.
async fn take_in(control: &Control, body: &mut Payload, folder: String) -> Result<TakenTree, Problem> {
    let incoming = control.blobs.local().root().join("incoming");
    if let Some(refused) = no_room(&incoming, 0) {
        return Err(refused);
    }
    let part = tempfile::NamedTempFile::new_in(&incoming).map_err(unavailable)?.into_temp_path();
    let mut file = tokio::fs::File::create(&part).await.map_err(unavailable)?;
    while let Some(piece) = body.next().await {
        file.write_all(&piece.map_err(|error| of_payload(&error))?).await.map_err(unavailable)?;
    }
    file.flush().await.map_err(unavailable)?;
    take_tree(control, part, folder).await
}

/// Keeps an archive of code as a blob, and looks at it.
pub(crate) async fn take_tree(
    control: &Control,
    part: tempfile::TempPath,
    folder: String,
) -> Result<TakenTree, Problem> {
    let local = control.blobs.local().clone();
    let looked = tokio::task::spawn_blocking(move || -> Result<TakenTree, TreeError> {
        let tree = tree::look_at(&part, &folder)?;
        let opened = std::fs::File::open(&part).map_err(|error| TreeError::Archive(error.to_string()))?;
        let (digest, _) = local.put(opened, None)?;
        Ok((digest, tree))
    });
    let (digest, tree) = looked.await.map_err(unavailable)?.map_err(|error| match error {
        TreeError::Recipe(problems) => Problem::files(problems),
        TreeError::Archive(words) => Problem::invalid(words),
    })?;
    control.blobs.publish(std::slice::from_ref(&digest)).await.map_err(of_blobs)?;
    Ok((digest, tree))
}

/// The image's name: the recipe's repository, and a tag that says what it was made of.
fn image_of(tree: &Tree, asked: &NewBuild) -> Result<ImageRef, Problem> {
    let repository = &tree.recipe.image.name;
    let short = |text: &str| text.chars().take(TAG).collect::<String>();
    let commit = asked.commit.as_ref().filter(|commit| !commit.changed);
    let tag = match (&asked.tag, commit) {
        (Some(tag), _) => tag.clone(),
        (None, Some(commit)) => short(&commit.id),
        _ => short(tree.content.hex()),
    };
    format!("{repository}:{tag}").parse().map_err(|error: NameError| Problem::invalid(error.to_string()))
}
