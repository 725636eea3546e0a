//! A forecast on the running demo is what then happens: each act is looked at first, then done, then compared.

use serde_json::Value;

use crate::common::Platform;

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

/// What was foretold of a workload; nothing where the act moves none.
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
