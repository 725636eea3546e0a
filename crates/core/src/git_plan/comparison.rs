//! The three sides: what Git says, what is declared here, and what runs. They are compared field by field.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::difference::{Difference, differences, written_differences};
use crate::manifest::Declared;
use crate::model::{Name, Release, ReplicaState, Target, Workload, encrypted};
use crate::record::State;
use crate::routing::replicas_of;

/// One field in which the sides differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "SourceDifference")]
pub struct Row {
    /// Such as `workload locker-api`.
    pub object: String,
    /// Such as `image`.
    pub field: String,
    /// The value in Git; `None` if it has none.
    pub git: Option<String>,
    /// The value declared here.
    pub here: Option<String>,
    /// The running value; `None` too for objects that do not run, such as a route.
    pub running: Option<String>,
    /// Whether replicas run by it.
    #[serde(default)]
    pub runs: bool,
}

/// Every field in which the sides differ.
pub fn compare(declared: &Declared, environment: &Name, state: &State) -> Vec<Row> {
    let mut rows = Vec::new();
    let application = &declared.application;
    let own = state.workloads.values().filter(|workload| {
        workload.target.environment == *environment && workload.application == *application
    });
    let names: BTreeSet<&Name> =
        own.map(|workload| &workload.target.name).chain(declared.workloads.keys()).collect();
    for name in names {
        let workload = state.workloads.get(&Target::new(environment, name));
        rows.extend(of_workload(name, declared, workload, state));
    }
    for (name, git) in &declared.secrets {
        let here = state.secrets.get(&Target::new(environment, name));
        let newest = here.and_then(|secret| secret.versions.iter().next_back());
        let same = newest.is_some_and(|(_, version)| version.sealed == encrypted(environment, &git.age));
        if !same {
            rows.push(Row {
                object: format!("secret {name}"),
                field: "value".to_owned(),
                git: Some("another".to_owned()),
                here: newest.map(|(number, _)| format!("version {number}")),
                running: None,
                runs: false,
            });
        }
    }
    for (name, git) in &declared.services {
        let here = state.services.get(&Target::new(environment, name)).map(|it| &it.spec);
        rows.extend(of_way(&format!("service {name}"), git, here));
    }
    for (name, git) in &declared.routes {
        let here = state.routes.get(&Target::new(environment, name)).map(|it| &it.spec);
        let mut git = git.clone();
        // The host that the environment gives is no difference.
        if git.host.is_none() && git.port.is_none() {
            git.host = here.and_then(|here| here.host.clone());
        }
        rows.extend(of_way(&format!("route {name}"), &git, here));
    }
    let row = |object: String| Row {
        object,
        field: "it".to_owned(),
        git: None,
        here: Some("declared".to_owned()),
        running: None,
        runs: false,
    };
    let own = |target: &Target, of: &Name| target.environment == *environment && of == application;
    let secrets =
        state.secrets.values().filter(|it| it.application.as_ref().is_some_and(|of| own(&it.target, of)));
    let only_here = secrets.filter(|it| !declared.secrets.contains_key(&it.target.name));
    rows.extend(only_here.map(|it| row(format!("secret {}", it.target.name))));
    let services = state.services.values().filter(|it| own(&it.target, &it.application));
    let only_here = services.filter(|it| !declared.services.contains_key(&it.target.name));
    rows.extend(only_here.map(|it| row(format!("service {}", it.target.name))));
    let routes = state.routes.values().filter(|it| own(&it.target, &it.application));
    let only_here = routes.filter(|it| !declared.routes.contains_key(&it.target.name));
    rows.extend(only_here.map(|it| row(format!("route {}", it.target.name))));
    rows
}

fn of_way<T: Serialize>(object: &str, git: &T, here: Option<&T>) -> Vec<Row> {
    let row = |field: String, git: Option<String>, here: Option<String>| Row {
        object: object.to_owned(),
        field,
        git,
        here,
        running: None,
        runs: false,
    };
    match here {
        None => vec![row("it".to_owned(), Some("declared".to_owned()), None)],
        Some(here) => written_differences("", here, git)
            .into_iter()
            .map(|Difference { field, before, after }| row(field, after, before))
            .collect(),
    }
}

fn of_workload(name: &Name, declared: &Declared, workload: Option<&Workload>, state: &State) -> Vec<Row> {
    let object = format!("workload {name}");
    let git = declared.workloads.get(name);
    let row = |field: &str, git: Option<String>, here: Option<String>, running: Option<String>| Row {
        object: object.clone(),
        field: field.to_owned(),
        git,
        here,
        running,
        runs: true,
    };
    let Some(workload) = workload else {
        let image = git.map(|git| git.spec.image.to_string());
        return vec![row("image", image, None, None)];
    };
    let release = |number| state.releases.get(&(workload.target.clone(), number));
    let (Some(here), running) = (release(workload.release), running(workload, state)) else {
        return Vec::new();
    };
    let Some(git) = git else {
        let image = |release: &Release| release.spec.image.to_string();
        return vec![row("image", None, Some(image(here)), running.map(image))];
    };
    type Sides = (Option<String>, Option<String>, Option<String>);
    let mut fields: BTreeMap<String, Sides> = BTreeMap::new();
    for Difference { field, before, after } in differences(&here.spec, &git.spec) {
        fields.insert(field, (after, before.clone(), before));
    }
    for Difference { field, before, after } in
        running.map_or_else(Vec::new, |running| differences(&running.spec, &here.spec))
    {
        let sides = fields.entry(field).or_insert_with(|| (after.clone(), after, None));
        sides.2 = before;
    }
    let ready = replicas_of(&state.replicas, &workload.target)
        .filter(|replica| replica.state == ReplicaState::Ready)
        .count() as u32;
    let wished = git.replicas.unwrap_or(workload.wanted);
    if wished != workload.wanted || ready != workload.wanted {
        let shown = |count: u32| Some(count.to_string());
        let of_git = git.replicas.map(|count| count.to_string()).or(Some("anyone who scales".to_owned()));
        fields.insert("replicas".to_owned(), (of_git, shown(workload.wanted), shown(ready)));
    }
    fields.into_iter().map(|(field, (git, here, running))| row(&field, git, here, running)).collect()
}

/// The release that most of the replicas that take requests are of.
fn running<'a>(workload: &Workload, state: &'a State) -> Option<&'a Release> {
    let mut counts = BTreeMap::new();
    let replicas = replicas_of(&state.replicas, &workload.target);
    for replica in replicas.filter(|replica| replica.state == ReplicaState::Ready) {
        *counts.entry(replica.release).or_insert(0u32) += 1;
    }
    let (number, _) = counts.into_iter().max_by_key(|(_, count)| *count)?;
    state.releases.get(&(workload.target.clone(), number))
}
