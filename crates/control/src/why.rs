//! Why something answers, or does not; and requests as gateways saw them.

use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::web::Bytes;
use futures_util::StreamExt;
use mainyard_api::{ExplainWhy, FollowRequests, Problem, WhyQuery};
use mainyard_core::link::{GatewayOrder, OutgoingAttempt, Served};
use mainyard_core::model::{NameError, Target};
use mainyard_core::record::State;
use mainyard_core::why::{Destination, Facts, Question, Why};
use serde::de::DeserializeOwned;
use tokio::sync::mpsc;

use crate::Control;
use crate::logs::last_lines;
use crate::operations::{Call, Operations, lines};

/// How long gateways are waited for that are asked for a request.
const RECALL: Duration = Duration::from_secs(2);

/// How long a gateway is waited for that tries a destination outside: longer than it tries.
const TRIED: Duration = Duration::from_secs(15);

/// Lines of a program's output that are reported with a cause.
const LINES: usize = 2;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(why).mount(requests);
}

/// The chain of causes, from the outside to the process.
async fn why(call: Call<ExplainWhy>) -> Result<Why, Problem> {
    let control = &call.control;
    if let Some(to) = &call.query.to {
        return way_out(control, call.query.of.as_deref(), to).await;
    }
    let served = match &call.query.request {
        Some(id) => Some(recall(control, id).await?),
        None => None,
    };
    let published = control.leader.published.read().await;
    let facts = facts(control, &published.0);
    let mut why = match (&call.query.url, &call.query.of, &served) {
        (Some(url), None, None) => facts.url(&question(url, &call.query)?),
        (None, Some(of), None) => {
            let (kind, name) =
                of.split_once(':').map_or((None, of.as_str()), |(kind, name)| (Some(kind), name));
            if let Some(kind) = kind.filter(|kind| !["workload", "service", "route"].contains(kind)) {
                return Err(Problem::invalid(format!(
                    "{kind}: is unknown; expected workload:, service: or route:"
                )));
            }
            let target: Target =
                name.parse().map_err(|error: NameError| Problem::invalid(error.to_string()))?;
            facts.target(&target, kind).map_err(Problem::not_found)?
        }
        (None, None, Some(served)) => facts.request(served),
        _ => return Err(Problem::invalid("ask about one thing: `url`, `of` or `request`")),
    };
    drop(published);
    if let Some(of) = &why.output_of {
        why.output = last_lines(control, of, LINES).await;
    }
    Ok(why)
}

/// The way from a workload to the outside. Where the rules allow it, a gateway tries it.
async fn way_out(control: &Control, of: Option<&str>, to: &str) -> Result<Why, Problem> {
    let of = of.ok_or_else(|| Problem::invalid("`to` asks about a workload: `of` names it"))?;
    let name = of.strip_prefix("workload:").unwrap_or(of);
    let workload: Target = name.parse().map_err(|error: NameError| Problem::invalid(error.to_string()))?;
    let to: Destination = to.parse().map_err(Problem::invalid)?;
    let may = {
        let published = control.leader.published.read().await;
        facts(control, &published.0).may_reach(&workload, &to).map_err(Problem::not_found)?
    };
    let attempt = if may { tried(control, &to).await } else { None };
    let published = control.leader.published.read().await;
    facts(control, &published.0).way_out(&workload, &to, attempt.as_ref()).map_err(Problem::not_found)
}

/// What the first gateway that answers finds.
async fn tried(control: &Control, to: &Destination) -> Option<OutgoingAttempt> {
    let order = |stream| GatewayOrder::TryOutgoing { stream, host: to.host.clone(), port: to.port };
    first_of(control.links.ask_gateways(order), TRIED).await
}

/// The first answer that can be read, of those that come in time.
async fn first_of<T: DeserializeOwned>(asked: Vec<mpsc::Receiver<Bytes>>, within: Duration) -> Option<T> {
    let mut answers = futures_util::stream::iter(asked.into_iter().map(gathered)).buffer_unordered(16);
    let found = tokio::time::timeout(within, async {
        while let Some(line) = answers.next().await {
            if let Ok(answer) = serde_json::from_slice(&line) {
                return Some(answer);
            }
        }
        None
    });
    found.await.ok().flatten()
}

fn facts<'s>(control: &Control, state: &'s State) -> Facts<'s> {
    let ports = control.gateway_ports();
    let (http, https) = (ports.http, ports.https);
    Facts { state, http, https, gateways: control.links.gateways(), now: jiff::Timestamp::now() }
}

/// A question about an address.
fn question(url: &str, asked: &WhyQuery) -> Result<Question, Problem> {
    let mut question = Question::parse(url).map_err(Problem::invalid)?;
    question.method = asked.method.clone().unwrap_or(question.method).to_ascii_uppercase();
    for line in asked.headers.iter().flat_map(|lines| lines.lines()) {
        let (name, value) = line.split_once(':').ok_or_else(|| {
            Problem::invalid(format!("{line:?} is not a header; expected a name, a colon and a value"))
        })?;
        question.headers.push((name.trim().to_ascii_lowercase(), value.trim().to_owned()));
    }
    Ok(question)
}

/// Asks every gateway for a request.
async fn recall(control: &Control, id: &str) -> Result<Served, Problem> {
    let asked = control.links.ask_gateways(|stream| GatewayOrder::Recall { stream, id: id.to_owned() });
    let count = asked.len();
    first_of(asked, RECALL).await.ok_or_else(|| {
        let gateways = if count == 1 { "1 gateway".to_owned() } else { format!("{count} gateways") };
        Problem::not_found(format!(
            "{gateways} remember no request {id:?}; each keeps the last 20,000 of every worker, and its id is in X-Request-Id of the answer"
        ))
    })
}

async fn gathered(mut from: mpsc::Receiver<Bytes>) -> Vec<u8> {
    let mut all = Vec::new();
    while let Some(piece) = from.recv().await {
        all.extend_from_slice(&piece);
    }
    all
}

/// Requests as they end, from all gateways.
async fn requests(call: Call<FollowRequests>) -> Result<HttpResponse, Problem> {
    let open = call.control.open_streams.open(&call.caller.name)?;
    let (to, from) = mpsc::channel::<Bytes>(64);
    for mut gateway in call.control.links.ask_gateways(|stream| GatewayOrder::Watch { stream }) {
        let to = to.clone();
        actix_web::rt::spawn(async move {
            // Pieces are whole lines, so that those of several gateways do not mix.
            while let Some(piece) = gateway.recv().await {
                if to.send(piece).await.is_err() {
                    break;
                }
            }
        });
    }
    Ok(lines(futures_util::stream::unfold((from, open), |(mut from, open)| async move {
        Some((from.recv().await?, (from, open)))
    })))
}
