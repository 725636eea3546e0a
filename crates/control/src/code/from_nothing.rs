//! Code to begin with: shown, and made as a repository whose first commit is on its way.

use mainyard_api::{CodeView, MakeCode, PreviewCode, Problem, Skeleton, SkeletonFile};
use mainyard_builds::skeletons::{KINDS, NewFile, bases, skeleton};
use mainyard_core::model::Name;
use mainyard_core::record::State;
use mainyard_core::suggestions::did_you_mean;
use mainyard_git::hosting::{self, NONE, RefUpdate, Repository};

use super::follow::Output;
use super::push::{Pusher, take_first};
use super::repositories;
use super::view::view;
use crate::agent_api::decides;
use crate::operations::Call;
use crate::problem::of_record;
use crate::responses::known_environment;

/// The files of a kind, under a name.
fn files_of(like: &str, name: &Name) -> Result<Vec<NewFile>, Problem> {
    skeleton(like, name, &format!("{name}/{name}")).ok_or_else(|| {
        let near = did_you_mean(like, KINDS);
        Problem::not_found(format!("there is no code like {like}{near}; there are {}", KINDS.join(", ")))
    })
}

/// The command that makes a base that the store does not have.
fn base_missing(state: &State, files: &[NewFile]) -> Option<String> {
    let missing = bases(files).into_iter().find(|base| !state.images.contains_key(base.name))?;
    Some(missing.command())
}

/// Shows the files.
pub(super) async fn preview(call: Call<PreviewCode>) -> Result<Skeleton, Problem> {
    let files = files_of(call.path.like.as_str(), &call.query.name)?;
    let base_missing = base_missing(&call.control.leader.published.read().await.0, &files);
    let shown = |file: NewFile| SkeletonFile { path: file.path.to_owned(), text: file.text };
    Ok(Skeleton {
        kinds: KINDS.map(str::to_owned).to_vec(),
        files: files.into_iter().map(shown).collect(),
        base_missing,
    })
}

/// Makes the repository, as a first push of these files would.
pub(super) async fn make(call: Call<MakeCode>) -> Result<CodeView, Problem> {
    decides(&call.control)?;
    let target = call.path.target();
    let files = files_of(&call.body.like, &target.name)?;
    {
        let published = call.control.leader.published.read().await;
        known_environment(&published.0, &target.environment)?;
        if let Some(command) = base_missing(&published.0, &files) {
            let words = format!(
                "the base of its recipe is not in the store; make it on the platform's machine: {command}"
            );
            return Err(Problem::conflict(words));
        }
    }
    if repositories::find(&call.control.store, &target).await.map_err(of_record)?.is_some() {
        return Err(Problem::conflict(format!(
            "there is code at {target} already; clone it, and change that"
        )));
    }
    let unavailable = |error: mainyard_git::Error| Problem::unavailable(error.to_string());
    let repository = Repository::open(&call.control.code.fence, &target.to_string()).await;
    let written =
        files.iter().map(|file| hosting::NewFile { path: file.path, text: &file.text, runs: file.runs });
    let written: Vec<_> = written.collect();
    let message = format!("{} to begin with", call.body.like);
    let made = repository.map_err(unavailable)?.first_commit(&written, &message, &call.caller.name).await;
    let (incoming, commit) = made.map_err(unavailable)?;
    let pusher = Pusher { member: call.caller.name.clone(), target: target.clone() };
    let update = RefUpdate { name: "refs/heads/main".to_owned(), old: NONE.to_owned(), new: commit };
    let (output, _) = Output::new();
    let control = call.control.clone().into_inner();
    take_first(&control, &pusher, update, incoming, output).await?;
    let kept = repositories::known(&control.store, &target).await?;
    Ok(view(&control, kept.code).await)
}
