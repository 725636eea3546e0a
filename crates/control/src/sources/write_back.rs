//! The commit that would make Git agree: shown, and pushed as a branch when that is asked for.

use actix_web::web::{Data, Json, Path};
use mainyard_core::git_plan::write_back::{changes, message, promotion};
use mainyard_core::manifest::{Change, SourceFile, write_back};
use mainyard_core::model::{Name, Release, Source, Target, short_commit};
use mainyard_git::{Found, Written, difference, push, write_branch};
use serde::Deserialize;
use serde_json::{Value, json};
use utoipa::ToSchema;

use super::lookup::source_here;
use super::polling::{access, declared_at, files_at};
use crate::Control;
use crate::callers::Member;
use crate::problem::Problem;
use crate::responses::{Answer, target};

/// Whether to push it, and as which branch.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WriteBack {
    /// The branch; by default named after the environment and the commit.
    #[serde(default)]
    branch: Option<String>,
    /// Push it.
    #[serde(default)]
    push: bool,
}

/// Writes the commit that would make Git agree with what is declared here, and pushes it where that is asked for.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/sources/{name}/write-back", request_body = WriteBack, responses((status = 200), (status = 409, body = Problem)))]
pub async fn write(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    body: Json<WriteBack>,
) -> Answer {
    let (target, WriteBack { branch, push: wanted }) = (target(path)?, body.into_inner());
    let source = source_here(&control, &target).await?;
    let Some(seen) = source.seen.clone() else {
        return Err(Problem::conflict(format!("no commit of {target} was read yet")));
    };
    let declared = declared_at(&control, &source, &seen.id).await.map_err(Problem::conflict)?;
    let declared = declared.map_err(Problem::files)?;
    let files =
        files_at(&control, &source, &seen.id).await.map_err(Problem::conflict)?.map_err(Problem::files)?;
    let (changes, left) = {
        let published = control.leader.published.read().await;
        changes(&declared, &source, &published.0)
    };
    let message = message(&source, &changes);
    let asked = Asked { source: &source, base: &seen.id, files: &files, changes: &changes, message };
    let mut answer = put_into_git(&control, &member, asked, wanted, branch).await?;
    answer["left"] = json!(left);
    Ok(Json(answer))
}

/// A commit that is wanted.
struct Asked<'a> {
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
    asked: Asked<'_>,
    wanted: bool,
    branch: Option<String>,
) -> Result<Value, Problem> {
    let Asked { source, base, files, changes, message } = asked;
    let target = &source.target;
    let written = write_back(files, target.environment.as_str(), changes);
    let written = written.map_err(|problems| Problem::conflict(problems.join("\n")))?;
    if written.is_empty() {
        return Ok(json!({"commit": null, "difference": "", "left": [], "pushed": null}));
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
    Ok(
        json!({"source": target.to_string(), "commit": commit, "message": message, "difference": shown, "left": [], "pushed": pushed}),
    )
}

/// What is promoted as a commit.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PromoteInGit {
    /// The environment that it goes to.
    #[schema(value_type = String)]
    to: Name,
    /// The branch; by default named after the environment and the commit.
    #[serde(default)]
    branch: Option<String>,
    /// Push it.
    #[serde(default)]
    push: bool,
}

/// Writes the commit with which Git declares in another environment what was tested here: the very image by its digest, and
/// its settings.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/promote-in-git", request_body = PromoteInGit, responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn promote(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    body: Json<PromoteInGit>,
) -> Answer {
    let (from, PromoteInGit { to, branch, push: wanted }) = (target(path)?, body.into_inner());
    if let Some(elsewhere) = control.leader.elsewhere() {
        return Err(Problem::elsewhere(elsewhere));
    }
    let (key, environment) = (from.clone(), to.clone());
    let asked = control.leader.act(move |cluster| Ok(json!(cluster.promotes(&key, &environment)?))).await?;
    let (tested, goes_to): (Release, Target) =
        serde_json::from_value(asked).map_err(|error| Problem::unavailable(error.to_string()))?;
    let sources: Vec<Source> = {
        let published = control.leader.published.read().await;
        let there = published.0.sources.values().filter(|source| source.target.environment == to);
        there.cloned().collect()
    };
    for source in sources {
        let Some(seen) = source.seen.clone() else { continue };
        let Ok(declared) = declared_at(&control, &source, &seen.id).await.map_err(Problem::conflict)? else {
            continue;
        };
        if !declared.workloads.contains_key(&goes_to.name) {
            continue;
        }
        let files = files_at(&control, &source, &seen.id).await.map_err(Problem::conflict)?;
        let files = files.map_err(Problem::files)?;
        let changes: Vec<Change> = promotion(&declared, &goes_to.name, &tested).into_iter().collect();
        let message = format!(
            "{to}: {} as it was tested as {from}@{}\n\n{}\n",
            goes_to.name,
            tested.number,
            tested.digest.as_deref().unwrap_or_default()
        );
        let asked = Asked { source: &source, base: &seen.id, files: &files, changes: &changes, message };
        let mut answer = put_into_git(&control, &member, asked, wanted, branch).await?;
        answer["tested"] = json!(tested.number);
        return Ok(Json(answer));
    }
    let message = format!("no source of {to} declares {}; promote it without --as-commit", goes_to.name);
    Err(Problem::conflict(message))
}
