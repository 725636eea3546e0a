//! Answers that gateways keep, forgotten when somebody says so. The record holds none.

use std::time::Duration;

use futures_util::future::join_all;
use mainyard_api::{Problem, PurgeCache, Purged};
use mainyard_core::link::GatewayOrder;
use mainyard_core::suggestions::did_you_mean;

use crate::operations::Call;

/// A gateway tells within this time.
const WITHIN: Duration = Duration::from_secs(5);

pub(crate) async fn purge(call: Call<PurgeCache>) -> Result<Purged, Problem> {
    let (route, path) = (call.path.target(), call.body.path.clone());
    {
        let published = call.control.leader.published.read().await;
        let routes = &published.0.routes;
        let known = routes.get(&route).ok_or_else(|| {
            let here = routes.keys().filter(|it| it.environment == route.environment);
            let hint = did_you_mean(route.name.as_str(), here.map(|it| it.name.as_str()));
            Problem::not_found(format!("there is no route {route}{hint}"))
        })?;
        if known.spec.cache.is_none() {
            let message = format!("the route {route} keeps no answers; a route does with cache = {{}}");
            return Err(Problem::conflict(message));
        }
    }
    if !path.starts_with('/') {
        return Err(Problem::invalid(format!("{path:?} is no path; expected one such as /pictures")));
    }
    let asked = call.control.links.ask_gateways(|stream| GatewayOrder::Purge {
        stream,
        route: route.to_string(),
        path: path.clone(),
    });
    let told = asked.into_iter().map(|mut answer| async move {
        let piece = tokio::time::timeout(WITHIN, answer.recv()).await.ok()??;
        std::str::from_utf8(&piece).ok()?.trim().parse::<u64>().ok()
    });
    let told = join_all(told).await;
    let silent = told.iter().filter(|it| it.is_none()).count() as u32;
    Ok(Purged { answers: told.iter().flatten().sum(), gateways: told.len() as u32 - silent, silent })
}
