//! Leaving: files that declare what runs, so that declaring them elsewhere gives the same.

use std::collections::BTreeMap;

use serde::Serialize;
use serde_json::{Map, Value, json};

use crate::manifest::{SourceFile, Written, write};
use crate::model::{BuiltFrom, Checks, Limits, Name, Reserve, RolloutRule, Service, Stop, Target, Workload};
use crate::record::State;

/// A file for each application of an environment, or for one workload with the services and routes that lead to it alone.
pub fn export(state: &State, environment: &Name, only: Option<&Name>) -> Vec<SourceFile> {
    let mut applications: BTreeMap<&Name, Vec<(&'static str, &Name, Value)>> = BTreeMap::new();
    let here = |target: &Target| target.environment == *environment;
    let workloads = state.workloads.values().filter(|it| here(&it.target));
    for workload in workloads.filter(|it| only.is_none_or(|only| it.target.name == *only)) {
        let Some(body) = workload_body(state, workload) else { continue };
        applications.entry(&workload.application).or_default().push((
            "workload",
            &workload.target.name,
            body,
        ));
    }
    let leads = |service: &Service| {
        only.is_none_or(|only| service.spec.select.get("workload").map(String::as_str) == Some(only.as_str()))
    };
    let services: Vec<&Service> =
        state.services.values().filter(|it| here(&it.target) && leads(it)).collect();
    for service in &services {
        let body = json!(service.spec);
        applications.entry(&service.application).or_default().push(("service", &service.target.name, body));
    }
    for route in state.routes.values().filter(|it| here(&it.target)) {
        let known = |name: &Name| services.iter().any(|service| service.target.name == *name);
        if only.is_none()
            || (!route.spec.to.is_empty() && route.spec.to.iter().all(|leg| known(&leg.service)))
        {
            let body = json!(route.spec);
            applications.entry(&route.application).or_default().push(("route", &route.target.name, body));
        }
    }
    let file = |(application, objects): (&Name, Vec<(&'static str, &Name, Value)>)| {
        let objects: Vec<Written<'_>> =
            objects.into_iter().map(|(kind, name, body)| (kind, name.as_str(), body)).collect();
        SourceFile { name: format!("{application}.toml"), text: write(application.as_str(), &objects) }
    };
    applications.into_iter().map(file).collect()
}

fn workload_body(state: &State, workload: &Workload) -> Option<Value> {
    let release = state.releases.get(&(workload.target.clone(), workload.release))?;
    let mut body = json!(release.spec);
    body["replicas"] = match &workload.growing {
        Some(growing) => json!(growing.rule),
        None => json!(workload.wanted),
    };
    let defaults = [
        ("limits", told(&Limits::default())),
        ("reserve", told(&Reserve::default())),
        ("stop", told(&Stop::default())),
    ];
    for (key, default) in defaults.into_iter().chain([("checks", told(&Checks::default()))]) {
        body[key] = without(&body[key], &default);
    }
    body["rollout"] = without(&told(&workload.rule), &told(&RolloutRule::default()));
    if !workload.after.is_empty() {
        body["after"] = json!(workload.after);
    }
    let image = body["image"].as_str().and_then(|image| image.parse().ok());
    if let Some(BuiltFrom { source, folder }) = image.as_ref().and_then(BuiltFrom::of) {
        body["image"] = json!({"source": source.name, "folder": folder});
    }
    if let Some(every) = workload.follow_tag {
        body["follow_tag"] = json!(every);
    }
    let keys = body.as_object_mut()?;
    keys.retain(|_, value| {
        let nothing = value.is_null() || value.as_object().is_some_and(Map::is_empty);
        !nothing
    });
    Some(body)
}

fn told<T: Serialize>(value: &T) -> Value {
    json!(value)
}

/// The keys that differ from what they are by default.
fn without(value: &Value, default: &Value) -> Value {
    match (value.as_object(), default.as_object()) {
        (Some(keys), Some(defaults)) => {
            let differing =
                keys.iter().filter(|(key, value)| defaults.get(*key) != Some(*value) && !value.is_null());
            Value::Object(differing.map(|(key, value)| (key.clone(), value.clone())).collect())
        }
        _ => value.clone(),
    }
}
