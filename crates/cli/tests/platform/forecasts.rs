//! A forecast on the running demo is what then happens: each act is looked at first, then done, then compared.

use serde_json::{Value, json};

use crate::common::{Platform, until};
use crate::ways::{authority, issue};

/// An act, as words of the client; the first target that it names is the workload that is compared.
const ACTS: &[&[&str]] = &[
    &["scale", "staging/locker-api", "5"],
    &["scale", "staging/locker-api", "2"],
    &["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"],
    &["restart", "staging/locker-api"],
    &["rollback", "staging/locker-api"],
    &["deploy", "staging/courier-web", "--set", "GREETING=hello"],
    &["promote", "staging/courier-web", "--to", "production"],
    &["deploy", "staging/locker-api", "--memory", "96MiB"],
    &["hold", "staging/locker-api", "--because", "counting parcels"],
    &["resume", "staging/locker-api"],
];

fn forecast(platform: &Platform, act: &[&str]) -> Value {
    let said = platform.run(&[act, &["--forecast", "--json"]].concat());
    assert_eq!(said.code, 0, "{act:?}: {said:?}");
    serde_json::from_str(&said.out).unwrap_or_else(|error| panic!("{act:?}: {error} in {said:?}"))
}

/// The forecast for a workload; empty if the act moves none.
fn of(foretold: &Value, workload: &str) -> Option<Value> {
    let rehearsed = foretold["forecast"]["workloads"].as_array()?;
    let is_of = |it: &&Value| {
        format!("{}/{}", it["workload"]["environment"], it["workload"]["name"]).replace('"', "") == workload
    };
    rehearsed.iter().find(is_of).cloned()
}

#[test]
fn every_act_of_the_demo_goes_as_its_forecast_said() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform.workload("staging/courier-web", |w| w["state"] == "steady");
    for act in ACTS {
        let workload = match act {
            ["promote", target, "--to", environment] => {
                format!("{environment}/{}", target.split('/').nth(1).expect("a name"))
            }
            _ => act[1].to_owned(),
        };
        let before = platform.call("GET", "/api/v1/health", "").json()["change"].clone();
        let foretold = forecast(&platform, act);
        let after = platform.call("GET", "/api/v1/health", "").json()["change"].clone();
        assert!(before.is_u64() && after.is_u64());
        let said = platform.run(act);
        assert_eq!(said.code, 0, "{act:?} was foretold {foretold:#}, and came to {said:?}");
        let Some(foretold) = of(&foretold, &workload) else { continue };
        assert!(foretold["reason"].is_null(), "{act:?} succeeded and was foretold {foretold:#}");
        let there = platform.workload(&workload, |w| w["state"] == "steady");
        assert_eq!(there["wanted"], foretold["wanted"], "{act:?}: {foretold:#}");
    }
}

const FILE: &str = r#"{"environment": "trial", "files": [{"name": "mainyard.toml", "text":
    "application = \"kiosks\"\n[workload.kiosk]\nimage = \"lockers/courier-web:2.3.0\"\nports = { http = 8080 }\n[service.kiosk]\nselect = { workload = \"kiosk\" }\nports = { 80 = \"http\" }\n[route.kiosk]\nto = [{ service = \"kiosk\" }]\n"}]}"#;

/// The same with steps that wait for a person.
const STEPPED: &str = r#"{"environment": "trial", "files": [{"name": "mainyard.toml", "text":
    "application = \"kiosks\"\n[workload.kiosk]\nimage = \"lockers/courier-web:2.3.0\"\nreplicas = 2\nports = { http = 8080 }\n[workload.kiosk.rollout]\nstyle = \"stepped\"\nsettle = \"100ms\"\nsteps = [{ share = 50, then = \"ask\" }]\n[service.kiosk]\nselect = { workload = \"kiosk\" }\nports = { 80 = \"http\" }\n[route.kiosk]\nto = [{ service = \"kiosk\" }]\n"}]}"#;

/// The state to wait for after an operation, before the next one.
enum Then {
    Next,
    /// The workload of the trial is steady.
    Steady,
    /// Its rollout waits for a person.
    Asks,
}

use Then::{Asks, Next, Steady};

const KIOSK: &str = "/environments/trial/workloads/kiosk";
const SOURCE: &str = "/environments/staging/sources/lockers";

/// Operations that make, change and remove everything else, in an order in which each can be done: method, path (`KIOSK`
/// and `SOURCE` stand for theirs), body, and what to wait for.
const OPERATIONS: &[(&str, &str, &str, Then)] = &[
    ("POST", "/environments", r#"{"name": "trial"}"#, Next),
    ("POST", "/declare", FILE, Steady),
    ("POST", "KIOSK/deploy", r#"{"settings": {"GREETING": "hello"}}"#, Steady),
    ("POST", "KIOSK/keep", r#"{"release": 1, "keep": true}"#, Next),
    ("POST", "KIOSK/scale", r#"{"replicas": 3}"#, Steady),
    ("POST", "KIOSK/rollback", "{}", Steady),
    ("POST", "KIOSK/set-aside", r#"{"replica": "REPLICA", "lasts": "1h"}"#, Steady),
    ("POST", "KIOSK/hold", r#"{"because": "stocktaking"}"#, Next),
    ("POST", "KIOSK/resume", "", Steady),
    ("PUT", "/environments/trial/secrets/greeting", "hello", Next),
    ("PUT", "/environments/trial/secrets/greeting", "good morning", Next),
    ("DELETE", "/environments/trial/secrets/greeting", "", Next),
    ("POST", "/secrets/rotate-key", "", Next),
    ("PUT", "/environments/trial/certificates/kiosk", "CERTIFICATE", Next),
    ("DELETE", "/environments/trial/certificates/kiosk", "", Next),
    ("POST", "/environments/trial/services/kiosk/certificate", "", Next),
    ("POST", "/declare", STEPPED, Steady),
    ("POST", "KIOSK/deploy", r#"{"settings": {"GREETING": "hello again"}}"#, Asks),
    ("POST", "KIOSK/advance", "", Steady),
    ("POST", "KIOSK/deploy", r#"{"settings": {"GREETING": "good night"}}"#, Asks),
    ("POST", "KIOSK/cancel", "", Steady),
    ("PUT", "SOURCE", r#"{"url": "file://REPOSITORY", "folder": "deploy"}"#, Next),
    ("PATCH", "SOURCE", r#"{"look_every": "1h"}"#, Next),
    ("POST", "SOURCE/hold", r#"{"because": "stocktaking"}"#, Next),
    ("POST", "SOURCE/resume", "", Next),
    ("DELETE", "SOURCE", "", Next),
    ("DELETE", "KIOSK", "", Next),
    ("DELETE", "/images?image=lockers/locker-api:1.6.1", "", Next),
];

#[test]
fn every_operation_answers_as_its_forecast_said() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let repository = platform.data().join("demo/lockers.git").display().to_string();
    let certificate = certificate(&platform).to_string();
    for (method, path, body, then) in OPERATIONS {
        let body = body.replace("REPOSITORY", &repository).replace("CERTIFICATE", &certificate);
        let body = if body.contains("REPLICA") { body.replace("REPLICA", &replica(&platform)) } else { body };
        let path = format!("/api/v1{}", path.replace("KIOSK", KIOSK).replace("SOURCE", SOURCE));
        let asks = if path.contains('?') { '&' } else { '?' };
        let foretold = platform.call(method, &format!("{path}{asks}forecast=true"), &body);
        let done = platform.call(method, &path, &body);
        let (foretold, done) = (without_forecast(&foretold), without_forecast(&done));
        assert!(done.0 < 300, "{method} {path}: {done:?}");
        assert_eq!(foretold, done, "{method} {path}");
        match then {
            Next => {}
            Steady => drop(platform.workload("trial/kiosk", |w| w["state"] == "steady")),
            Asks => until("the rollout waits for a person", || {
                let objects = platform.call("GET", "/api/v1/snapshot", "").json();
                let rollouts = objects["objects"]["rollout"].as_object()?.clone();
                let ours = rollouts.iter().filter(|(key, _)| key.starts_with("trial/kiosk@"));
                ours.map(|(_, rollout)| rollout).any(|it| it["state"] == "awaiting").then_some(())
            }),
        }
    }
}

/// A chain and its key, as the operation takes them.
fn certificate(platform: &Platform) -> Value {
    let files = issue(&authority(), "kiosk.trial.localhost", platform.dir.path(), "kiosk");
    let [chain, key] = files.map(|file| std::fs::read_to_string(file).expect("PEM"));
    json!({"chain": chain, "key": key})
}

/// The short name of a replica of the trial.
fn replica(platform: &Platform) -> String {
    let shown: Value = serde_json::from_str(&platform.ok(&["show", "trial/kiosk", "--json"])).expect("JSON");
    let id = shown["replicas"][0]["id"].as_str().expect("a replica");
    id.rsplit('/').next().expect("a short name").to_owned()
}

/// The status and the answer, without what only a rehearsal has, or only the deed (a repository is read after a source was
/// added), and without the moment of each.
fn without_forecast(answer: &crate::common::Answer) -> (u16, Value) {
    let mut body = if answer.body.is_empty() { Value::Null } else { answer.json() };
    if let Some(body) = body.as_object_mut() {
        for only_of_one in ["forecast", "sizes", "change", "looked", "until", "key"] {
            body.remove(only_of_one);
        }
    }
    forget_moments(&mut body);
    (answer.status, body)
}

/// Takes out when each thing was done: the forecast was a moment earlier.
fn forget_moments(of: &mut Value) {
    match of {
        Value::Object(fields) => {
            fields.remove("at");
            fields.values_mut().for_each(forget_moments);
        }
        Value::Array(items) => items.iter_mut().for_each(forget_moments),
        _ => {}
    }
}

#[test]
fn what_cannot_succeed_is_refused_in_the_forecast_too() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let refused: &[&[&str]] = &[
        &["deploy", "staging/locker-api", "--image", "lockers/locker-api:9.9.9"],
        &["rollback", "staging/locker-api", "--to", "staging/locker-api@77"],
        &["scale", "staging/lokcer-api", "3"],
        &["resume", "staging/locker-api"],
    ];
    for act in refused {
        let foretold = platform.run(&[*act, &["--forecast"]].concat());
        let said = platform.run(act);
        assert_eq!((foretold.code, foretold.err), (said.code, said.err), "{act:?}");
        assert_ne!(said.code, 0, "{act:?}");
    }
}
