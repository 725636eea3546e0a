//! Log lines: read from the nodes when somebody asks. The record holds none.

use std::collections::BTreeMap;
use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::web::Bytes;
use futures_util::StreamExt;
use mainyard_api::{LogQuery, Problem, ReadLogs};
use mainyard_core::link::LogLine;
use mainyard_core::model::{ReleaseId, ReleaseNumber, Replica, Target};
use mainyard_core::record::State;
use mainyard_core::untrusted_text::for_record;
use mainyard_core::why::OutputOf;
use tokio::sync::mpsc;

use crate::Control;
use crate::links::LogAsked;
use crate::operations::{Call, lines};
use crate::responses::no_workload;

/// Lines that are sent at most of what is there.
const MOST: u32 = 100_000;
/// How long nodes are waited for that are asked for the last lines of something that failed.
const WAIT: Duration = Duration::from_secs(2);
/// Characters of each of those.
const LINE: usize = 500;

/// Log lines as JSON, one a line. Of a release that failed, each replica's last 1,000 lines are kept for as long as the
/// release is.
pub(crate) async fn read(call: Call<ReadLogs>) -> Result<HttpResponse, Problem> {
    let (control, target, query) = (&call.control, call.path.target(), &call.query);
    let asked = asked_of_nodes(&control.leader.published.read().await.0, &target, query)?;
    let asked = with_kept(control, asked, &target, query);
    let mut streams = Vec::new();
    for (node, asked) in asked {
        let lines = control
            .links
            .ask_for_log(&node, asked)
            .ok_or_else(|| Problem::unavailable(format!("the node {node} is not linked at the moment")))?;
        streams.push(pieces(lines).boxed());
    }
    Ok(lines(futures_util::stream::select_all(streams)))
}

fn pieces(lines: mpsc::Receiver<Bytes>) -> impl futures_util::Stream<Item = Bytes> {
    futures_util::stream::unfold(lines, |mut lines| async move { Some((lines.recv().await?, lines)) })
}

/// By node: which replicas that are there it is asked for.
fn asked_of_nodes(
    state: &State,
    target: &Target,
    query: &LogQuery,
) -> Result<BTreeMap<String, LogAsked>, Problem> {
    if !state.workloads.contains_key(target) {
        return Err(no_workload(state, target, ""));
    }
    let release = query.release.map(ReleaseNumber);
    if let Some(number) = release.filter(|number| !state.releases.contains_key(&(target.clone(), *number))) {
        return Err(Problem::not_found(format!("there is no release {target}@{number}, or none is kept")));
    }
    let wanted = |replica: &&Replica| {
        query.replica.as_deref().is_none_or(|only| only == replica.id.short)
            && release.is_none_or(|release| release == replica.release)
    };
    let all: Vec<&Replica> = mainyard_core::routing::all_of(&state.replicas, target).collect();
    let mut by_node: BTreeMap<String, LogAsked> = BTreeMap::new();
    for replica in all.iter().copied().filter(wanted) {
        if let Some(node) = &replica.node {
            let asked = by_node.entry(node.to_string()).or_default();
            asked.replicas.push(replica.id.clone());
        }
    }
    if let Some(only) = query.replica.as_ref().filter(|_| by_node.is_empty() && release.is_none()) {
        let known: Vec<&str> = all.iter().map(|replica| replica.id.short.as_str()).collect();
        let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
        return Err(Problem::not_found(format!("{target} has no replica {only}; it has {known}")));
    }
    for asked in by_node.values_mut() {
        (asked.tail, asked.follow) = (query.tail.min(MOST), query.follow);
    }
    Ok(by_node)
}

/// Where a release is asked for, every node is asked for what it kept: the record does not say where replicas ran that
/// are gone.
fn with_kept(
    control: &Control,
    mut asked: BTreeMap<String, LogAsked>,
    target: &Target,
    query: &LogQuery,
) -> BTreeMap<String, LogAsked> {
    let Some(number) = query.release.map(ReleaseNumber) else { return asked };
    for node in control.links.nodes() {
        let of_node = asked.entry(node).or_default();
        let kept = ReleaseId { workload: target.clone(), number };
        (of_node.kept, of_node.only) = (Some(kept), query.replica.clone());
        (of_node.tail, of_node.follow) = (query.tail.min(MOST), query.follow);
    }
    asked
}

/// The last lines that a replica, or the replicas of a release, wrote themselves, with credentials masked.
pub(crate) async fn last_lines(control: &Control, of: &OutputOf, count: usize) -> Vec<String> {
    let (target, query) = match of {
        OutputOf::Replica(id) => (&id.workload, (Some(id.short.clone()), None)),
        OutputOf::Release(id) => (&id.workload, (None, Some(id.number.0))),
    };
    let query = LogQuery { replica: query.0, release: query.1, tail: 50, follow: false };
    let Ok(asked) = asked_of_nodes(&control.leader.published.read().await.0, target, &query) else {
        return Vec::new();
    };
    let asked = with_kept(control, asked, target, &query);
    let mut missing = Vec::new();
    let streams = asked.into_iter().filter_map(|(node, asked)| {
        let lines = control.links.ask_for_log(&node, asked);
        if lines.is_none() {
            missing.push(format!("(lines on {node} are missing: it is not linked at the moment)"));
        }
        lines
    });
    let mut streams = futures_util::stream::select_all(streams.map(|lines| pieces(lines).boxed()));
    let mut text = Vec::new();
    // What came in time is better than nothing.
    let all = tokio::time::timeout(WAIT, async {
        while let Some(piece) = streams.next().await {
            text.extend_from_slice(&piece);
        }
    });
    let in_time = all.await.is_ok();
    drop(streams);
    if !in_time {
        missing.push(format!("(lines may be missing: a node did not answer within {} s)", WAIT.as_secs()));
    }
    let mut lines: Vec<LogLine> = text
        .split(|byte| *byte == b'\n')
        .filter_map(|line| serde_json::from_slice(line).ok())
        .filter(|line: &LogLine| line.source != 'k' && !line.text.trim().is_empty())
        .collect();
    lines.sort_by_key(|line| line.at);
    let last = lines.split_off(lines.len().saturating_sub(count));
    let last = last.iter().map(|line| for_record(&line.text.chars().take(LINE).collect::<String>()));
    last.chain(missing).collect()
}
