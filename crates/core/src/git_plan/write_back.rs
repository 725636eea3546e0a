//! The change that would make Git agree with the state declared here.

use serde_json::{Value, json};

use crate::cluster::promoted;
use crate::manifest::{Change, Declared, as_in_files};
use crate::model::{Name, Release, Source, Target, Touched};
use crate::record::State;

/// The differences between a commit's declaration and the state declared here, object by object; and what cannot be put into
/// files by itself, in words.
pub fn changes(declared: &Declared, source: &Source, state: &State) -> (Vec<Change>, Vec<String>) {
    let environment = &source.target.environment;
    let (mut found, mut left) = (Vec::new(), Vec::new());
    let mut add = |kind: &'static str, name: &Name, git: Value, is: Value| {
        if git != is {
            let name = declared.called.get(name).unwrap_or(name).to_string();
            found.push(Change {
                kind,
                name,
                declared: as_in_files(declared, git),
                is: as_in_files(declared, is),
            });
        }
    };
    let touched = |name: &&Name| source.yields.iter().any(|it| it.what == Touched::Secret((*name).clone()));
    for name in declared.secrets.keys().filter(touched) {
        left.push(if state.secrets.contains_key(&Target::new(environment, name)) {
            format!(
                "the value of the secret {name} is another here: encrypt it with mainyard secret encrypt {environment}/{name}, and put it into the files by hand"
            )
        } else {
            format!("secret {name} is not here: take its table out of the files by hand")
        });
    }
    for (name, git) in &declared.workloads {
        let target = Target::new(environment, name);
        let Some(workload) = state.workloads.get(&target) else {
            left.push(format!("workload {name} is not here: take its table out of the files by hand"));
            continue;
        };
        let Some(release) = state.releases.get(&(target, workload.release)) else { continue };
        let (mut before, mut is) = (json!(git.spec), json!(release.spec));
        let by_load = workload.grows_by();
        match (git.replicas, &git.growth) {
            (Some(count), _) => (before["replicas"], is["replicas"]) = (json!(count), json!(workload.wanted)),
            (None, Some(growth)) if by_load != Some(growth) => {
                (before["replicas"], is["replicas"]) =
                    (json!(growth), by_load.map_or(json!(workload.wanted), |rule| json!(rule)));
            }
            _ => {}
        }
        if git.rule != workload.rule {
            (before["rollout"], is["rollout"]) = (json!(git.rule), json!(workload.rule));
        }
        add("workload", name, before, is);
    }
    for (name, git) in &declared.services {
        let Some(here) = state.services.get(&Target::new(environment, name)) else { continue };
        add("service", name, json!(git), json!(here.spec));
    }
    for (name, git) in &declared.routes {
        let Some(here) = state.routes.get(&Target::new(environment, name)) else { continue };
        let mut git = git.clone();
        if git.host.is_none() && git.port.is_none() {
            git.host.clone_from(&here.spec.host);
        }
        add("route", name, json!(git), json!(here.spec));
    }
    (found, left)
}

/// The change to a commit so that Git declares what was tested; `None` if it does already.
pub fn promotion(declared: &Declared, name: &Name, tested: &Release) -> Option<Change> {
    let git = declared.workloads.get(name)?;
    let (before, is) = (json!(git.spec), json!(promoted(tested, &git.spec)));
    let called = declared.called.get(name).unwrap_or(name).to_string();
    let (before, is) = (as_in_files(declared, before), as_in_files(declared, is));
    (before != is).then_some(Change { kind: "workload", name: called, declared: before, is })
}

/// The first line of the commit's message, and why.
pub fn message(source: &Source, changes: &[Change]) -> String {
    let objects: Vec<String> =
        changes.iter().map(|change| format!("{} {}", change.kind, change.name)).collect();
    let mut text = format!("{}: {} as it is here\n", source.target.environment, objects.join(", "));
    let why = source.yields.iter().filter(|it| {
        let name = match &it.what {
            Touched::Release(name) | Touched::Replicas(name) | Touched::Workload(name) => name,
            Touched::Service(name) | Touched::Route(name) | Touched::Secret(name) => name,
        };
        changes.iter().any(|change| change.name == name.as_str())
    });
    let why: Vec<String> = why.map(|it| format!("{}: {}\n", it.what, it.origin)).collect();
    if !why.is_empty() {
        text.push_str(&format!("\n{}", why.concat()));
    }
    text
}
