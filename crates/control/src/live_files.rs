//! Files of running replicas, changed without a build: their nodes write them, the record marks the replicas.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use futures_util::future::join_all;
use mainyard_api::{ChangeLiveFiles, LiveChanges, Problem};
use mainyard_core::cluster::live_replicas;
use mainyard_core::commands::NoteLiveChange;
use mainyard_core::link::{LiveFiles, LiveOutcome, NodeOrder};
use mainyard_core::model::{Name, ReplicaId};
use tokio::sync::mpsc;

use crate::operations::Call;
use crate::responses::no_workload;

/// A node tells within this time how it went.
const WITHIN: Duration = Duration::from_secs(30);
/// The most files of one change.
const MOST_FILES: usize = 2_000;

pub(crate) async fn change(call: Call<ChangeLiveFiles>) -> Result<LiveChanges, Problem> {
    let (control, workload) = (&call.control, call.path.target());
    check(&call.body)?;
    let by_node = {
        let published = control.leader.published.read().await;
        let state = &published.0;
        let known = state.workloads.get(&workload).ok_or_else(|| no_workload(state, &workload, ""))?;
        let mut by_node: BTreeMap<Name, Vec<ReplicaId>> = BTreeMap::new();
        for replica in live_replicas(state, known)? {
            let node =
                replica.node.clone().filter(|node| state.nodes.get(node).is_some_and(|it| it.isolates()));
            let node = node.ok_or_else(|| {
                Problem::conflict(format!(
                    "{} is an ordinary process: its files are its image's, which others use as well; build instead",
                    replica.id
                ))
            })?;
            by_node.entry(node).or_default().push(replica.id.clone());
        }
        by_node
    };
    let note = async |replicas| {
        let command = NoteLiveChange { workload: workload.clone(), replicas };
        control.leader.carry_out(command, &call.caller.name, &call.request_id).await
    };
    let short = |id: &ReplicaId| id.short.clone();
    note(by_node.values().flatten().map(|id| (short(id), None)).collect()).await?;
    let asked = by_node.into_iter().map(|(node, replicas)| {
        let files = call.body.clone();
        let answers = control.links.ask_node(node.as_str(), |stream| NodeOrder::ChangeFiles {
            stream,
            replicas: replicas.clone(),
            files,
        });
        outcomes(node, replicas, answers)
    });
    let outcomes: Vec<LiveOutcome> = join_all(asked).await.into_iter().flatten().collect();
    // Of one whose node did not tell, the mark stays as it is.
    let told = outcomes.iter().filter(|it| it.failed.is_none() || it.changed() > 0);
    note(told.map(|it| (short(&it.replica), Some(it.changed()))).collect()).await?;
    Ok(LiveChanges { replicas: outcomes })
}

fn check(files: &LiveFiles) -> Result<(), Problem> {
    let count = files.files.len() + files.remove.len();
    if count == 0 {
        return Err(Problem::invalid("the body changes nothing: give `files` or `remove`"));
    }
    if count > MOST_FILES {
        return Err(Problem::invalid(format!("{count} files are changed; at most {MOST_FILES} are at once")));
    }
    let mut seen = BTreeSet::new();
    for path in files.files.iter().map(|file| &file.path).chain(&files.remove) {
        let words = path.strip_prefix('/').unwrap_or_default().trim_end_matches('/');
        if words.is_empty()
            || path.contains('\0')
            || words.split('/').any(|word| matches!(word, "" | "." | ".."))
        {
            let message =
                format!("{path:?} is no path of a file; expected an absolute one, such as /app/main.py");
            return Err(Problem::invalid(message));
        }
    }
    for file in &files.files {
        if file.name.is_empty() || file.name.contains(['/', '\0']) || matches!(file.name.as_str(), "." | "..")
        {
            return Err(Problem::invalid(format!("{:?} is no name of a file", file.name)));
        }
        if !seen.insert((&file.path, &file.name)) {
            return Err(Problem::invalid(format!("{} is named twice", file.path)));
        }
    }
    Ok(())
}

/// What a node tells of each of its replicas, and that of some it told nothing.
async fn outcomes(
    node: Name,
    replicas: Vec<ReplicaId>,
    answers: Option<mpsc::Receiver<actix_web::web::Bytes>>,
) -> Vec<LiveOutcome> {
    let mut text = Vec::new();
    let silent = match answers {
        None => format!("its node {node} is not linked at the moment"),
        Some(mut answers) => {
            let all = tokio::time::timeout(WITHIN, async {
                while let Some(piece) = answers.recv().await {
                    text.extend_from_slice(&piece);
                }
            });
            match all.await {
                Ok(()) => format!("its node {node} told nothing of it"),
                Err(_) => format!("its node {node} did not tell within {} s how it went", WITHIN.as_secs()),
            }
        }
    };
    let lines = text.split(|byte| *byte == b'\n').filter_map(|line| serde_json::from_slice(line).ok());
    let mut told: Vec<LiveOutcome> =
        lines.filter(|it: &LiveOutcome| replicas.contains(&it.replica)).collect();
    for id in replicas {
        if !told.iter().any(|it| it.replica == id) {
            told.push(LiveOutcome { failed: Some(silent.clone()), ..LiveOutcome::of(id) });
        }
    }
    told
}
