//! The commit that would make Git agree: shown, and pushed as a branch when that is asked for.

use actix_web::web::{Data, Json, Path};
use mainyard_core::follow::back::{changes, message};
use mainyard_core::manifest::write_back;
use mainyard_core::model::short_commit;
use mainyard_git::{Found, Written, difference, push, write_branch};
use serde::Deserialize;
use serde_json::json;
use utoipa::ToSchema;

use super::found::source;
use super::looking::{access, declared_at, files_at};
use crate::Control;
use crate::access::Member;
use crate::answers::{Answer, target};
use crate::problem::Problem;

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
    control: Data<Control>,
    member: Member,
    path: Path<(String, String)>,
    body: Json<WriteBack>,
) -> Answer {
    let (target, WriteBack { branch, push: wanted }) = (target(path)?, body.into_inner());
    let source = source(&control, &target).await?;
    let Some(seen) = source.seen.clone() else {
        return Err(Problem::conflict(format!("no commit of {target} was read yet")));
    };
    let declared = declared_at(&control, &source, &seen.id).await.map_err(Problem::conflict)?;
    let declared = declared.map_err(Problem::files)?;
    let files =
        files_at(&control, &source, &seen.id).await.map_err(Problem::conflict)?.map_err(Problem::files)?;
    let (changes, left) = {
        let published = control.steward.published.read().await;
        changes(&declared, &source, &published.0)
    };
    let written = write_back(&files, target.environment.as_str(), &changes);
    let written = written.map_err(|problems| Problem::conflict(problems.join("\n")))?;
    if written.is_empty() {
        return Ok(Json(json!({"commit": null, "difference": "", "left": left, "pushed": null})));
    }
    let (fence, name) = (&control.follower.fence, target.to_string());
    let files: Vec<Found> =
        written.into_iter().map(|file| Found { path: file.name, text: file.text }).collect();
    let address = format!("{}@main-yard.localhost", member.0);
    let message = message(&source, &changes);
    let written =
        Written { name: &name, base: &seen.id, files: &files, message: &message, by: (&member.0, &address) };
    let git = |error: mainyard_git::Error| Problem::conflict(error.to_string());
    let commit = write_branch(fence, &written).await.map_err(git)?;
    let shown = difference(fence, &name, &commit).await.map_err(git)?;
    let branch = branch.unwrap_or_else(|| format!("{}-{}", target.environment, short_commit(&commit)));
    if wanted {
        let access = access(&control, &source).await.map_err(Problem::conflict)?;
        push(fence, &name, &source.url, &commit, &branch, &access).await.map_err(git)?;
        control.follower.look_soon(&target);
    }
    let pushed = wanted.then_some(branch);
    Ok(Json(
        json!({"commit": commit, "message": message, "difference": shown, "left": left, "pushed": pushed}),
    ))
}
