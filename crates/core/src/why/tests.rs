//! Questions as people write them, and a workload that is ready between two falls.

use std::collections::BTreeMap;

use super::*;
use crate::model::{Origin, Reason, Workload, WorkloadState};
use crate::record::Object;

#[test]
fn urls_are_taken_as_people_write_them() {
    let parse = |url| Question::parse(url).map(|it| (it.secure, it.host, it.port, it.path));
    let host = "api.lockers.localhost".to_owned();
    assert_eq!(
        parse("http://API.lockers.localhost.:8780/v1?x=1"),
        Ok((Some(false), host.clone(), Some(8780), "/v1".into()))
    );
    assert_eq!(parse("https://api.lockers.localhost"), Ok((Some(true), host.clone(), None, "/".into())));
    assert_eq!(parse("api.lockers.localhost?x"), Ok((None, host, None, "/".into())));
    for wrong in ["ftp://a.test/", "http://", "http://a.test:x/", "http://a b/"] {
        assert!(parse(wrong).is_err(), "{wrong}");
    }
}

#[test]
fn a_certificate_that_is_over_or_for_another_host_is_the_cause_over_https_only() {
    let now: jiff::Timestamp = "2026-11-23T12:00:00Z".parse().expect("a time");
    let origin = Origin::new("mira", "added", now);
    let certificate = |names: &[&str], until: &str| crate::model::Certificate {
        target: "staging/lockers".parse().expect("a target"),
        names: names.iter().map(|name| (*name).to_owned()).collect(),
        from: "2026-01-01T00:00:00Z".parse().expect("a time"),
        until: until.parse().expect("a time"),
        issuer: "CN=Larkfield".into(),
        fingerprint: String::new(),
        chain: String::new(),
        obtained_from: None,
        sealed: Some("key".into()),
        origin: origin.clone(),
    };
    let mut spec = crate::model::RouteSpec::plain(Some("a.test".into()), "api".parse().expect("a name"));
    spec.tls = Some(crate::model::RouteTls {
        certificate: Some("lockers".parse().expect("a name")),
        ..Default::default()
    });
    let route = crate::model::Route {
        stand_in: Vec::new(),
        target: "staging/a".parse().expect("a target"),
        application: "lockers".parse().expect("a name"),
        spec,
        origin: origin.clone(),
    };
    let mut state = State::default();
    state.put(Object::Route(route));
    let mut ask = |given: crate::model::Certificate, url: &str| {
        state.put(Object::Certificate(given));
        let facts = Facts { state: &state, http: 8780, https: 8743, gateways: 1, now };
        let why = facts.url(&Question::parse(url).expect("a URL"));
        format!("{}: {}", why.cause.code, why.cause.sentence)
    };
    let (https, http) = ("https://a.test:8743/", "http://a.test:8780/");
    let over = || certificate(&["a.test"], "2026-11-20T00:00:00Z");
    assert_eq!(
        ask(over(), https),
        "certificate-out-of-date: the certificate staging/lockers ended on 20 Nov 2026"
    );
    assert_eq!(
        ask(certificate(&["b.test"], "2027-11-20T00:00:00Z"), https),
        "certificate-mismatch: the certificate staging/lockers is for b.test, not a.test"
    );
    assert_eq!(
        ask(over(), http),
        "service-missing: there is no service staging/api",
        "without TLS nobody sees it"
    );
}

#[test]
fn a_flapping_workload_is_not_well_while_it_is_briefly_ready() {
    let now: jiff::Timestamp = "2026-11-23T12:00:00Z".parse().expect("a time");
    let origin = Origin::new("mira", "declared", now);
    let target: Target = "staging/label-printer".parse().expect("a target");
    let workload = Workload {
        target: target.clone(),
        application: "lockers".parse().expect("a name"),
        wanted: 1,
        wanted_origin: origin.clone(),
        rule: Default::default(),
        release: crate::model::ReleaseNumber(1),
        settled: None,
        next_replica: 1,
        origin: origin.clone(),
        last_change: origin,
        state: WorkloadState::Failing,
        reason: Some(Reason::new(
            ReasonCode::OutOfMemory,
            "the kernel killed it for memory 2 times; its limit is 64 MiB",
        )),
        since: now,
        after: Default::default(),
        follow_tag: None,
        growing: None,
        held: None,
        unanswered_since: None,
        serves_unready: false,
        leaves: false,
        kept: BTreeMap::new(),
    };
    let replica = serde_json::json!({
        "id": "staging/label-printer/a0", "release": 1, "node": "node-1", "address": "10.118.16.2", "state": "ready",
        "reason": null, "since": now, "created": now, "restarts": 2, "stopping": false,
    });
    let mut state = State::default();
    state.put(Object::Workload(workload));
    state.put(Object::Replica(serde_json::from_value(replica).expect("a replica")));
    let facts = Facts { state: &state, http: 8780, https: 8743, gateways: 1, now };
    let why = facts.target(&target, None).expect("it is there");
    assert_eq!((why.answers, why.cause.code), (false, ReasonCode::OutOfMemory));
    let missing = facts.target(&"staging/label-prnter".parse().expect("a target"), None);
    assert_eq!(
        missing,
        Err("there is no workload, service or route staging/label-prnter; did you mean `label-printer`?"
            .to_owned())
    );
}
