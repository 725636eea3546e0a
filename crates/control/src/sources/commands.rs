//! Commands that people give about sources.

use std::sync::Arc;

use actix_web::web::Data;
use mainyard_api::{
    AddSource, CatchUpWithSource, ChangeSource, CompareSource, HoldSource, ListSources, LookAtSource,
    LookOutcome, NewCatchUp, Problem, RemoveSource, ResumeSource, ShowSource, SourceDifferences,
    SourceFollowed,
};
use mainyard_core::commands::{
    self, CatchUp, CaughtUp, SourceChanged, SourceHeld, SourceRemoved, SourceResumed,
};
use mainyard_core::git_plan::comparison;
use mainyard_core::manifest::Declared;
use mainyard_core::model::{Source, Target};

use super::lookup::{newest, source, source_here, source_of};
use super::polling::{declared_at, look_at};
use crate::Control;
use crate::forecast::Acted;
use crate::history::view;
use crate::operations::Call;

/// All sources.
pub(crate) async fn list(call: Call<ListSources>) -> Result<Vec<Source>, Problem> {
    let view = view(&call.control, call.query.as_of).await?;
    Ok(view.state().sources.values().cloned().collect())
}

/// One source.
pub(crate) async fn show(call: Call<ShowSource>) -> Result<Source, Problem> {
    let view = view(&call.control, call.query.as_of).await?;
    source_of(view.state(), &call.path.target()).cloned()
}

/// Follows a folder of a repository from now on, and looks at it at once.
pub(crate) async fn add(call: Call<AddSource>) -> Acted<SourceFollowed> {
    let (source, new) = (call.path.target(), call.body.clone());
    let allowed = call.control.follower.fence.may_follow(&new.url).await;
    allowed.map_err(|error| Problem::forbidden(error.to_string()))?;
    let done = call.act(commands::AddSource { source: source.clone(), new }).await?;
    let looked = if call.query.forecast { None } else { Some(looked(&call.control, &source).await) };
    Ok(done.map(|added| SourceFollowed { added, looked }))
}

/// The result of a look that is made now.
async fn looked(control: &Data<Control>, target: &Target) -> LookOutcome {
    match look_at(control, target).await {
        Ok(commit) => LookOutcome::Commit(commit),
        Err(sentence) => LookOutcome::Failed(sentence),
    }
}

/// Changes how a source is followed: the keys that are given.
pub(crate) async fn change(call: Call<ChangeSource>) -> Acted<SourceChanged> {
    let target = call.path.target();
    let rule = source(&call.control, &target).await?.rule.with(&call.body);
    let done = call.act(commands::ChangeSource { source: target.clone(), rule }).await?;
    if !call.query.forecast {
        // The time of the next look was reckoned by the rule before.
        call.control.follower.look_soon(&target);
    }
    Ok(done)
}

/// Follows it no longer; what it declared stays.
pub(crate) async fn remove(call: Call<RemoveSource>) -> Acted<SourceRemoved> {
    let source = call.path.target();
    let done = call.act(commands::RemoveSource { source: source.clone() }).await?;
    if !call.query.forecast {
        call.control.follower.forget(&source).await;
    }
    Ok(done)
}

/// Looks at the repository now.
pub(crate) async fn look(call: Call<LookAtSource>) -> Result<LookOutcome, Problem> {
    let target = call.path.target();
    source_here(&call.control, &target).await?;
    Ok(looked(&call.control, &target).await)
}

/// The declaration of a commit.
///
/// # Errors
/// When it cannot be read here, or is not valid.
pub(crate) async fn declared_by(
    control: &Data<Control>,
    source: &Source,
    commit: &str,
) -> Result<Arc<Declared>, Problem> {
    declared_at(control, source, commit).await.map_err(Problem::conflict)?.map_err(Problem::files)
}

/// Differences between Git, the declared state and the running state.
pub(crate) async fn compare(call: Call<CompareSource>) -> Result<SourceDifferences, Problem> {
    let target = call.path.target();
    let source = source_here(&call.control, &target).await?;
    let commit = newest(&source)?;
    let declared = declared_by(&call.control, &source, &commit.id).await?;
    let published = call.control.leader.published.read().await;
    let rows = comparison::compare(&declared, &target.environment, &published.0);
    Ok(SourceDifferences { commit, rows })
}

/// Makes the environment like a commit.
pub(crate) async fn catch_up(call: Call<CatchUpWithSource>) -> Acted<CaughtUp> {
    let NewCatchUp { to, remove } = call.body.clone();
    let source = source_here(&call.control, &call.path.target()).await?;
    let commit = match &to {
        None => newest(&source)?,
        Some(to) => source.commit(to).map_err(Problem::not_found)?.clone(),
    };
    let declared = declared_by(&call.control, &source, &commit.id).await?;
    call.act(CatchUp { source: source.target, commit, declared, remove }).await
}

/// Holds a source: it changes nothing until it is resumed.
pub(crate) async fn hold(call: Call<HoldSource>) -> Acted<SourceHeld> {
    call.act(commands::HoldSource { source: call.path.target(), because: call.body.because.clone() }).await
}

/// Ends a hold: what was left alone follows Git again.
pub(crate) async fn resume(call: Call<ResumeSource>) -> Acted<SourceResumed> {
    call.act(commands::ResumeSource { source: call.path.target() }).await
}
