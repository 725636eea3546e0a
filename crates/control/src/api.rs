//! What people and programs ask, under `/api/v1`.

use std::collections::BTreeMap;

use actix_web::http::Method;
use actix_web::web::{Data, Json, Path, Query};
use jiff::Timestamp;
use mainyard_core::cluster::Cluster;
use mainyard_core::model::{Name, ReplicaState, RolloutState, SourceState, WorkloadState};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::{OpenApi, ToSchema};

use crate::callers::{Anyone, Member, Who};
use crate::forecast::{self, Ask};
use crate::history::{self, AsOf, view};
use crate::operations::{Limits, Operation, Operations};
use crate::problem::Problem;
use crate::responses::{Answer, target};
use crate::traffic::{self, Facet, Point, TrafficRow, WayFigures};
use crate::{
    Control, JSON_LIMIT, agent_api, certificates, declare, images, logs, metrics, releases, scaling, secrets,
    sessions, sources, stats, stream, tokens, why,
};

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Main Yard",
        description = "The API that the client and the console use. Errors are problem documents (RFC 9457)."
    ),
    paths(
        health,
        document,
        sessions::sign_in_keys,
        sessions::sign_out,
        sessions::end_sessions,
        tokens::list,
        tokens::add,
        tokens::remove,
        snapshot,
        stream::stream,
        list_environments,
        add_environment,
        remove_environment,
        board,
        export,
        remove_application,
        show_workload,
        scaling::scale,
        releases::deploy,
        releases::rollback,
        releases::promote,
        releases::restart,
        releases::set_aside,
        releases::hold,
        releases::resume,
        releases::advance,
        releases::cancel,
        releases::keep,
        releases::compare,
        remove,
        secrets::list,
        secrets::add,
        secrets::remove,
        secrets::rotate_key,
        secrets::public_key,
        stats::of_one,
        stats::of_all,
        why::why,
        why::requests,
        metrics::metrics,
        traffic::responses::list_traffic,
        sources::commands::list,
        sources::commands::show,
        sources::commands::add,
        sources::commands::change,
        sources::commands::remove,
        sources::commands::look,
        sources::commands::compare,
        sources::commands::catch_up,
        sources::commands::hold,
        sources::commands::resume,
        sources::write_back::write,
        sources::write_back::promote,
        sources::webhooks::pushed,
        certificates::list,
        certificates::authority,
        certificates::add,
        certificates::remove,
        certificates::issue,
        logs::logs,
        declare::declare,
        images::list_images,
        images::add_image,
        images::remove_image,
        images::image_config,
        history::trail,
        history::became
    ),
    components(schemas(
        Problem,
        Snapshot,
        WayFigures,
        Point,
        Facet,
        TrafficRow,
        NewEnvironment,
        scaling::Scale,
        scaling::Scaled,
        releases::Deploy,
        releases::Deployed,
        releases::Rollback,
        releases::Promote,
        releases::Hold,
        releases::SetAside,
        releases::Keep,
        certificates::Given,
        sources::commands::CatchUp,
        sources::write_back::WriteBack,
        sources::write_back::PromoteInGit,
        sources::commands::HoldSource,
        secrets::Listed,
        stats::Stats,
        stats::OfRelease,
        declare::Declare,
        declare::Declared,
        tokens::AddToken,
        tokens::TokenEntry
    ))
)]
struct Document;

/// The OpenAPI document. Who may call each operation, and what it takes at most, comes from where it is mounted.
pub fn openapi() -> Value {
    let mut document = serde_json::to_value(Document::openapi()).unwrap_or_default();
    for Operation { method, path, who, limits } in operations().list() {
        let described = &mut document["paths"][&path][method.as_str().to_ascii_lowercase()];
        if described.is_null() {
            // What parts and browsers call by themselves is named, and not described further.
            let summary =
                if who == Who::Anyone { "Opened by a browser." } else { "Called by parts of the platform." };
            *described = json!({"summary": summary, "responses": {"default": {"description": summary}}});
        }
        let Some(described) = described.as_object_mut() else { continue };
        described.insert("x-mainyard-caller".to_owned(), json!(who));
        described.insert("x-mainyard-limits".to_owned(), json!(limits));
        let security = match who {
            Who::Anyone => json!([]),
            Who::Person => json!([{"token": []}, {"session": []}]),
            Who::Node | Who::Gateway | Who::Part => json!([{"part": []}]),
        };
        described.insert("security".to_owned(), security);
    }
    document["components"]["securitySchemes"] = json!({
        "token": {"type": "http", "scheme": "bearer", "description": "A client's token: `mainyard token add`."},
        "session": {"type": "apiKey", "in": "cookie", "name": "mainyard-session-INSTANCE",
            "description": "The console's session. What changes something also needs the console's Origin."},
        "part": {"type": "http", "scheme": "bearer", "description": "A node agent's or gateway's own token."},
    });
    document
}

/// Every operation of the API, and the page that a sign-in link opens.
pub fn operations() -> Operations {
    const WORKLOAD: &str = "/environments/{environment}/workloads/{name}";
    let mut all = Operations::default();
    all.get("/health", health)
        .get("/openapi.json", document)
        .at(Method::GET, "/sign-in".to_owned(), Limits::NONE, sessions::sign_in)
        .add(Method::POST, "/sign-in-keys", Limits::NONE, sessions::sign_in_keys)
        .add(Method::POST, "/sign-out", Limits::NONE, sessions::sign_out)
        .delete("/sessions", sessions::end_sessions)
        .get("/snapshot", snapshot)
        .get("/stream", stream::stream)
        .get("/environments", list_environments)
        .post("/environments", add_environment)
        .delete("/environments/{environment}", remove_environment)
        .get("/environments/{environment}/board", board)
        .delete("/environments/{environment}/applications/{name}", remove_application)
        .get("/environments/{environment}/export", export)
        .get(WORKLOAD, show_workload)
        .delete(WORKLOAD, remove)
        .post(&format!("{WORKLOAD}/scale"), scaling::scale)
        .get(&format!("{WORKLOAD}/logs"), logs::logs)
        .add(Method::POST, "/declare", Limits::bytes(2 * JSON_LIMIT as u64), declare::declare)
        .get("/images", images::list_images)
        .add(Method::POST, "/images", Limits::streamed(images::IMAGE_LIMIT), images::add_image)
        .delete("/images", images::remove_image)
        .get("/images/config", images::image_config);
    tokens::operations(&mut all);
    releases::operations(&mut all);
    secrets::operations(&mut all);
    stats::operations(&mut all);
    why::operations(&mut all);
    metrics::operations(&mut all);
    traffic::operations(&mut all);
    sources::operations(&mut all);
    certificates::operations(&mut all);
    history::operations(&mut all);
    agent_api::operations(&mut all);
    all
}

/// The OpenAPI document itself.
#[utoipa::path(get, path = "/api/v1/openapi.json", responses((status = 200)))]
async fn document(_: Anyone) -> Json<Value> {
    Json(openapi())
}

#[utoipa::path(get, path = "/api/v1/health", responses((status = 200)))]
async fn health(_: Anyone, control: Data<Control>) -> Json<Value> {
    Json(json!({"ok": true, "version": env!("CARGO_PKG_VERSION"), "change": *control.leader.latest.borrow()}))
}

/// Everything the record holds, and the number to follow the stream from.
#[derive(Serialize, ToSchema)]
struct Snapshot {
    /// The number of the last change.
    cursor: u64,
    /// The moment, where it is one of the past.
    #[schema(value_type = Option<String>)]
    as_of: Option<Timestamp>,
    /// Whether replicas, nodes and gateways of that moment are known.
    whole: bool,
    /// Who asks.
    member: String,
    /// Where the gateway is reached.
    gateway: String,
    /// Where it is reached over TLS.
    gateway_tls: String,
    /// By kind, then by key.
    #[schema(value_type = Object)]
    objects: BTreeMap<&'static str, BTreeMap<String, Value>>,
    /// The signal of each state, by kind.
    #[schema(value_type = Object)]
    signals: Value,
    /// The last ten seconds.
    figures: Vec<WayFigures>,
    /// The last quarter of an hour, by service.
    #[schema(value_type = Object)]
    series: BTreeMap<String, Vec<Point>>,
}

#[utoipa::path(get, path = "/api/v1/snapshot", params(AsOf), responses((status = 200, body = Snapshot), (status = 404, body = Problem)))]
async fn snapshot(
    member: Member,
    control: Data<Control>,
    moment: Query<AsOf>,
) -> Result<Json<Snapshot>, Problem> {
    let view = view(&control, moment.into_inner()).await?;
    // What was served then is not kept.
    let now = view.as_of().is_none();
    Ok(Json(Snapshot {
        cursor: view.cursor(),
        as_of: view.as_of(),
        whole: view.whole(),
        member: member.name,
        gateway: control.gateway_http.clone(),
        gateway_tls: control.gateway_https.clone(),
        objects: view.state().bodies().map_err(|error| Problem::unavailable(error.to_string()))?,
        signals: signals(),
        figures: if now { control.traffic.recent() } else { Vec::new() },
        series: if now { control.traffic.series() } else { BTreeMap::new() },
    }))
}

fn signals() -> Value {
    let workload: BTreeMap<_, _> =
        WorkloadState::ALL.iter().map(|state| (state.word(), state.signal())).collect();
    let replica: BTreeMap<_, _> =
        ReplicaState::ALL.iter().map(|state| (state.word(), state.signal())).collect();
    let rollout: BTreeMap<_, _> =
        RolloutState::ALL.iter().map(|state| (state.word(), state.signal())).collect();
    let source: BTreeMap<_, _> =
        SourceState::ALL.iter().map(|state| (state.word(), state.signal())).collect();
    json!({"workload": workload, "replica": replica, "rollout": rollout, "source": source})
}

#[utoipa::path(get, path = "/api/v1/environments", params(AsOf), responses((status = 200)))]
async fn list_environments(_: Member, control: Data<Control>, moment: Query<AsOf>) -> Answer {
    let view = view(&control, moment.into_inner()).await?;
    Ok(Json(json!(view.state().environments.values().collect::<Vec<_>>())))
}

#[derive(Deserialize, ToSchema)]
struct NewEnvironment {
    /// Its name.
    #[schema(value_type = String)]
    name: Name,
    /// What hosts of routes are under that are not named in full; `NAME.localhost` by default.
    #[serde(default)]
    domain: Option<String>,
}

#[utoipa::path(post, path = "/api/v1/environments", params(Ask), request_body = NewEnvironment, responses((status = 200), (status = 409, body = Problem)))]
async fn add_environment(
    member: Member,
    control: Data<Control>,
    ask: Query<Ask>,
    body: Json<NewEnvironment>,
) -> Answer {
    let NewEnvironment { name, domain } = body.into_inner();
    let act = move |cluster: &mut Cluster, by: &str, now| {
        cluster.add_environment(&name, domain.clone(), by, now)?;
        Ok(json!({"name": name}))
    };
    forecast::plain(&control, member, ask, act).await
}

/// Removes an environment that holds nothing any more.
#[utoipa::path(delete, path = "/api/v1/environments/{environment}", params(Ask), responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
async fn remove_environment(
    member: Member,
    control: Data<Control>,
    environment: Path<Name>,
    ask: Query<Ask>,
) -> Answer {
    let name = environment.into_inner();
    let act = move |cluster: &mut Cluster, by: &str, now| {
        cluster.remove_environment(&name, by, now)?;
        Ok(json!({"gone": [format!("environment {name}")]}))
    };
    forecast::plain(&control, member, ask, act).await
}

#[utoipa::path(get, path = "/api/v1/environments/{environment}/board", params(AsOf), responses((status = 200), (status = 404, body = Problem)))]
async fn board(
    _: Member,
    control: Data<Control>,
    environment: Path<String>,
    moment: Query<AsOf>,
) -> Result<Json<mainyard_core::board::Board>, Problem> {
    let view = view(&control, moment.into_inner()).await?;
    let mut rates: BTreeMap<String, f64> = BTreeMap::new();
    // What was served then is not kept.
    for figure in control.traffic.recent().into_iter().filter(|_| view.as_of().is_none()) {
        *rates.entry(figure.workload).or_default() += figure.rate;
    }
    let state = view.state();
    let names = state.environments.keys().map(Name::as_str);
    let known = state.environments.keys().find(|name| name.as_str() == environment.as_str());
    let name = known.ok_or_else(|| {
        let hint = mainyard_core::suggestions::did_you_mean(&environment, names);
        Problem::not_found(format!("there is no environment {environment}{hint}"))
    })?;
    let mut board = mainyard_core::board::board(state, name, &rates, view.at());
    board.as_of = view.as_of();
    board.whole = view.whole();
    Ok(Json(board))
}

/// Removes all that an application declared.
#[utoipa::path(delete, path = "/api/v1/environments/{environment}/applications/{name}", params(Ask), responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
async fn remove_application(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let application = target(path)?;
    let act = move |cluster: &mut Cluster, by: &str, now| {
        Ok(json!({"gone": cluster.remove_application(&application, by, now)?}))
    };
    forecast::plain(&control, member, ask, act).await
}

/// What is exported.
#[derive(Deserialize, utoipa::IntoParams)]
struct ExportOf {
    /// One workload only, with the services and routes that lead there alone.
    #[serde(default)]
    #[param(value_type = Option<String>)]
    of: Option<Name>,
}

/// Files that declare what is here, one for each application.
#[utoipa::path(get, path = "/api/v1/environments/{environment}/export", params(ExportOf), responses((status = 200), (status = 404, body = Problem)))]
async fn export(
    _: Member,
    control: Data<Control>,
    environment: Path<String>,
    query: Query<ExportOf>,
) -> Answer {
    let published = control.leader.published.read().await;
    let state = &published.0;
    let known = || state.environments.keys();
    let name = known().find(|name| name.as_str() == environment.as_str()).ok_or_else(|| {
        let hint = mainyard_core::suggestions::did_you_mean(&environment, known().map(Name::as_str));
        Problem::not_found(format!("there is no environment {environment}{hint}"))
    })?;
    let files = mainyard_core::export::export(state, name, query.of.as_ref());
    if let Some(of) = query.of.as_ref().filter(|_| files.is_empty()) {
        let here = state.workloads.keys().filter(|target| target.environment == *name);
        let hint =
            mainyard_core::suggestions::did_you_mean(of.as_str(), here.map(|target| target.name.as_str()));
        return Err(Problem::not_found(format!("there is no workload {name}/{of}{hint}")));
    }
    Ok(Json(json!({"files": files})))
}

#[utoipa::path(get, path = "/api/v1/environments/{environment}/workloads/{name}", params(AsOf), responses((status = 200), (status = 404, body = Problem)))]
async fn show_workload(
    _: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    moment: Query<AsOf>,
) -> Answer {
    let target = target(path)?;
    let view = view(&control, moment.into_inner()).await?;
    let state = view.state();
    let workload = state.workloads.get(&target).ok_or_else(|| {
        let known: Vec<String> = state.workloads.keys().map(ToString::to_string).collect();
        let text = target.to_string();
        let hint = mainyard_core::suggestions::did_you_mean(&text, known.iter().map(String::as_str));
        let then = view.as_of().map_or_else(String::new, |at| format!(" at {at:.0}"));
        Problem::not_found(format!("there is no workload {target}{then}{hint}"))
    })?;
    let releases: Vec<_> = state.releases.values().filter(|release| release.workload == target).collect();
    let rollouts: Vec<_> = state.rollouts.values().filter(|rollout| rollout.workload == target).collect();
    let replicas = mainyard_core::routing::replicas_of(&state.replicas, &target).map(|replica| {
        let mut body = json!(replica);
        body["isolated"] = json!(state.isolates(replica));
        body
    });
    let replicas: Vec<_> = replicas.collect();
    Ok(Json(
        json!({"cursor": view.cursor(), "as_of": view.as_of(), "workload": workload, "releases": releases, "rollouts": rollouts, "replicas": replicas}),
    ))
}

#[utoipa::path(delete, path = "/api/v1/environments/{environment}/workloads/{name}", params(Ask), responses((status = 200), (status = 404, body = Problem)))]
async fn remove(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let target = target(path)?;
    let act = move |cluster: &mut Cluster, by: &str, now| {
        Ok(json!({"gone": cluster.remove_target(&target, by, now)?}))
    };
    forecast::plain(&control, member, ask, act).await
}
