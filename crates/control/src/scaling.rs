//! How many replicas a workload has, and how much each may use.

use std::collections::BTreeSet;

use actix_web::web::{Data, Json, Path, Query};
use mainyard_core::cluster::{Cluster, LimitChange, Resized};
use mainyard_core::model::{Bytes, Cpu, Origin};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::Control;
use crate::callers::Member;
use crate::forecast::{self, Ask};
use crate::problem::Problem;
use crate::responses::{Answer, target};

#[derive(Deserialize, ToSchema)]
pub struct Scale {
    /// How many replicas are wanted; as many as before where it is left out.
    replicas: Option<u32>,
    /// Another limit of memory for each, such as `256 MiB`.
    #[schema(value_type = Option<String>)]
    memory: Option<Bytes>,
    /// Another limit of processors for each, from 0.01 to 1024.
    #[schema(value_type = Option<f64>)]
    cpu: Option<Cpu>,
}

#[derive(Serialize, ToSchema)]
pub struct Scaled {
    /// How many were wanted before.
    before: u32,
    /// How many are wanted now.
    replicas: u32,
    /// Who had set the number before, where it was somebody else.
    #[schema(value_type = Object)]
    set_by: Option<Origin>,
    /// The new release, where limits differ.
    release: Option<u32>,
    /// What differs of the limits, in words.
    differences: Vec<String>,
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/scale", params(Ask), request_body = Scale, responses((status = 200, body = Scaled), (status = 404, body = Problem)))]
pub async fn scale(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Scale>,
) -> Answer {
    let (target, Scale { replicas, memory, cpu }) = (target(path)?, body.into_inner());
    if replicas.is_none() && memory.is_none() && cpu.is_none() {
        return Err(Problem::invalid("say what to change: `replicas`, `memory` or `cpu`"));
    }
    let limits = LimitChange { memory, cpu };
    let watched = BTreeSet::from([target.clone()]);
    let act = move |cluster: &mut Cluster, by: &str, now| {
        let set_by = Some(cluster.workload(&target)?.wanted_origin.clone()).filter(|origin| origin.by != by);
        let Resized { before, release, differences } = cluster.resize(&target, replicas, limits, by, now)?;
        let (replicas, release) = (replicas.unwrap_or(before), release.map(|number| number.0));
        Ok(json!(Scaled { before, replicas, set_by, release, differences }))
    };
    let done = forecast::act(&control, member, ask.into_inner(), move |_| watched.clone(), act);
    Ok(Json(done.await?))
}
