//! The commit that would make Git agree: shown, and pushed as a branch when that is asked for.

use actix_web::web::Data;
use jiff::Timestamp;
use mainyard_api::{NewPromotionInGit, NewWriteBack, Problem, PromoteInGit, WriteBack, WrittenCommit};
use mainyard_core::cluster::Cluster;
use mainyard_core::git_plan::write_back::{changes, message, promotion};
use mainyard_core::manifest::{Change, SourceFile, write_back};
use mainyard_core::model::{Source, short_commit};
use mainyard_git::{Found, Written, difference, push, write_branch};

use super::commands::declared_by;
use super::lookup::{newest, source_here};
use super::polling::{access, declared_at, files_at};
use crate::Control;
use crate::callers::Member;
use crate::operations::Call;
use crate::problem::elsewhere;

/// Writes the commit that would make Git agree with what is declared here, and pushes it where that is asked for.
pub(crate) async fn write(call: Call<WriteBack>) -> Result<WrittenCommit, Problem> {
    let (control, NewWriteBack { branch, push }) = (&call.control, call.body);
    let source = source_here(control, &call.path.target()).await?;
    let seen = newest(&source)?;
    let declared = declared_by(control, &source, &seen.id).await?;
    let files = files_of(control, &source, &seen.id).await?;
    let (changes, left) = {
        let published = control.leader.published.read().await;
        changes(&declared, &source, &published.0)
    };
    let message = message(&source, &changes);
    let asked =
        WriteBackRequest { source: &source, base: &seen.id, files: &files, changes: &changes, message };
    let written = put_into_git(control, &call.caller, asked, push, branch).await?;
    Ok(WrittenCommit { left, ..written })
}

/// The files of a source's folder in a commit.
async fn files_of(
    control: &Data<Control>,
    source: &Source,
    commit: &str,
) -> Result<Vec<SourceFile>, Problem> {
    files_at(control, source, commit).await.map_err(Problem::conflict)?.map_err(Problem::files)
}

/// A commit that is wanted.
struct WriteBackRequest<'a> {
    source: &'a Source,
    base: &'a str,
    files: &'a [SourceFile],
    changes: &'a [Change],
    message: String,
}

/// Writes a commit with the least that changes in the files, and pushes it where that is asked for.
async fn put_into_git(
    control: &Data<Control>,
    member: &Member,
    asked: WriteBackRequest<'_>,
    wanted: bool,
    branch: Option<String>,
) -> Result<WrittenCommit, Problem> {
    let WriteBackRequest { source, base, files, changes, message } = asked;
    let target = &source.target;
    let written = write_back(files, target.environment.as_str(), changes);
    let written = written.map_err(|problems| Problem::conflict(problems.join("\n")))?;
    if written.is_empty() {
        return Ok(WrittenCommit::default());
    }
    let (fence, name) = (&control.follower.fence, target.to_string());
    let files: Vec<Found> =
        written.into_iter().map(|file| Found { path: file.name, text: file.text }).collect();
    let address = format!("{}@main-yard.localhost", member.name);
    let written =
        Written { name: &name, base, files: &files, message: &message, by: (&member.name, &address) };
    let git = |error: mainyard_git::Error| Problem::conflict(error.to_string());
    let commit = write_branch(fence, &written).await.map_err(git)?;
    let shown = difference(fence, &name, &commit).await.map_err(git)?;
    let branch = branch.unwrap_or_else(|| format!("{}-{}", target.environment, short_commit(&commit)));
    if wanted {
        let access = access(control, source).await.map_err(Problem::conflict)?;
        push(fence, &name, &source.url, &commit, &branch, &access).await.map_err(git)?;
        control.follower.look_soon(target);
    }
    let pushed = wanted.then_some(branch);
    Ok(WrittenCommit {
        source: Some(target.to_string()),
        commit: Some(commit),
        message: Some(message),
        difference: shown,
        pushed,
        ..WrittenCommit::default()
    })
}

/// Writes the commit with which Git declares in another environment what was tested here: the very image by its digest, and
/// its settings.
pub(crate) async fn promote(call: Call<PromoteInGit>) -> Result<WrittenCommit, Problem> {
    let (control, from) = (&call.control, call.path.target());
    let NewPromotionInGit { to, branch, push } = call.body;
    if let Some(holder) = control.leader.elsewhere() {
        return Err(elsewhere(holder));
    }
    let state = control.leader.published.read().await.0.clone();
    let (tested, goes_to) = Cluster::new(state.clone(), 0, Timestamp::now()).promotes(&from, &to)?;
    for source in state.sources.values().filter(|source| source.target.environment == to) {
        let Some(seen) = source.seen.clone() else { continue };
        let Ok(declared) = declared_at(control, source, &seen.id).await.map_err(Problem::conflict)? else {
            continue;
        };
        if !declared.workloads.contains_key(&goes_to.name) {
            continue;
        }
        let files = files_of(control, source, &seen.id).await?;
        let changes: Vec<Change> = promotion(&declared, &goes_to.name, &tested).into_iter().collect();
        let message = format!(
            "{to}: {} as it was tested as {from}@{}\n\n{}\n",
            goes_to.name,
            tested.number,
            tested.digest.as_deref().unwrap_or_default()
        );
        let asked = WriteBackRequest { source, base: &seen.id, files: &files, changes: &changes, message };
        let written = put_into_git(control, &call.caller, asked, push, branch).await?;
        return Ok(WrittenCommit { tested: Some(tested.number), ..written });
    }
    let message = format!("no source of {to} declares {}; promote it without --as-commit", goes_to.name);
    Err(Problem::conflict(message))
}
