//! Declarations: files in, what changed in words out.

use actix_web::web::{Data, Json, Query};
use mainyard_core::cluster::Cluster;
use mainyard_core::declare::{ChangeLine, Plan};
use mainyard_core::manifest::{SourceFile, read_as};
use mainyard_core::model::Name;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::callers::Member;
use crate::forecast::{self, Ask};
use crate::problem::Problem;
use crate::responses::Answer;
use crate::{Control, JSON_LIMIT};

/// Files of one declaration.
const MOST_FILES: usize = 1000;

#[derive(Deserialize, ToSchema)]
pub struct Declare {
    /// For which environment.
    #[schema(value_type = String)]
    environment: Name,
    /// The files.
    #[schema(value_type = Vec<Object>, max_items = 1000)]
    files: Vec<SourceFile>,
    /// Also remove what the application no longer declares.
    #[serde(default)]
    exact: bool,
    /// The name that the application has here, where it is not its own.
    #[serde(default, rename = "as")]
    #[schema(value_type = Option<String>)]
    named: Option<Name>,
}

#[derive(Serialize, ToSchema)]
pub struct Declared {
    /// What changed, or would.
    #[schema(value_type = Vec<Object>)]
    changes: Vec<ChangeLine>,
    /// What is as declared and still worth knowing: tags that stand for another image by now.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    notes: Vec<String>,
}

#[utoipa::path(post, path = "/api/v1/declare", params(Ask), request_body = Declare, responses((status = 200, body = Declared), (status = 422, body = Problem)))]
pub async fn declare(member: Member, control: Data<Control>, ask: Query<Ask>, body: Json<Declare>) -> Answer {
    let Declare { environment, files, exact, named } = body.into_inner();
    if files.len() > MOST_FILES {
        return Err(Problem::too_large(format!(
            "{} files are declared at once; at most {MOST_FILES} are taken",
            files.len()
        )));
    }
    if files.iter().map(|file| file.text.len()).sum::<usize>() > JSON_LIMIT {
        return Err(Problem::too_large("the files are longer than 8 MiB together"));
    }
    let mut declared = read_as(&files, Some(&environment), named.as_ref()).map_err(Problem::files)?;
    let closed = control.vault.look_into(&environment, &mut declared).await?;
    if !closed.is_empty() {
        return Err(Problem::files(closed));
    }
    let watched = forecast::changed(environment.clone());
    let act = move |cluster: &mut Cluster, by: &str, now| {
        let Plan { lines, notes, .. } = cluster.declare(&declared, &environment, exact, by, now)?;
        Ok(json!(Declared { changes: lines, notes }))
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), watched, act).await?))
}
