//! A clock of its own moves the certificates of one host.

use super::*;
use crate::model::{CertificateOrder, ChallengeKind, Origin};
use crate::record::Object;

const DAY: i64 = 86_400;

fn at(seconds: i64) -> Timestamp {
    Timestamp::from_second(1_700_000_000 + seconds).expect("in range")
}

fn state() -> State {
    let mut state = State::default();
    let origin = Origin::new("mira", "added", at(0));
    let authority = OutsideAuthority {
        name: "public".parse().expect("a name"),
        directory: "https://acme.example/directory".to_owned(),
        contact: None,
        trust: None,
        challenge: ChallengeKind::Http01,
        account: None,
        orders: Default::default(),
        origin: origin.clone(),
    };
    state.put(Object::Authority(authority));
    let route = serde_json::json!({
        "target": {"environment": "staging", "name": "kiosk"}, "application": "lockers", "host": "kiosk.lockers.example", "to": [["kiosk", 100]],
        "tls": {"obtain_from": "public"}, "origin": origin,
    });
    state.put(Object::Route(serde_json::from_value(route).expect("a route")));
    state
}

fn certificate(from: i64, until: i64) -> Certificate {
    Certificate {
        target: "staging/kiosk".parse().expect("a target"),
        names: vec!["kiosk.lockers.example".to_owned()],
        from: at(from),
        until: at(until),
        issuer: "a test".to_owned(),
        fingerprint: String::new(),
        chain: String::new(),
        sealed: Some("it".to_owned()),
        obtained_from: Some("public".parse().expect("a name")),
        origin: Origin::new("platform", "obtained", at(from)),
    }
}

#[test]
fn a_certificate_is_obtained_once_and_renewed_two_thirds_into_its_life() {
    let mut state = state();
    let hosts = |state: &State, now| due(state, at(now)).into_iter().map(|due| due.host).collect::<Vec<_>>();
    assert_eq!(hosts(&state, 0), ["kiosk.lockers.example"]);
    state.put(Object::Certificate(certificate(0, 90 * DAY)));
    for day in [0, 1, 30, 59] {
        assert_eq!(hosts(&state, day * DAY), [""; 0], "day {day}");
    }
    let due_on = (60..70).find(|day| !hosts(&state, day * DAY).is_empty()).expect("it is renewed");
    assert!(due_on <= 65, "at most a twentieth of its life later: day {due_on}");
    state.put(Object::Certificate(certificate(due_on * DAY, (due_on + 90) * DAY)));
    assert_eq!(hosts(&state, due_on * DAY), [""; 0]);
}

#[test]
fn one_that_a_person_gave_does_not_stand_for_one_that_is_to_be_obtained() {
    let mut state = state();
    state.put(Object::Certificate(Certificate { obtained_from: None, ..certificate(0, 90 * DAY) }));
    let due = due(&state, at(1));
    assert_eq!(due.len(), 1);
    assert!(
        taken(&state, &due[0]).is_some_and(|why| why.contains("was given by platform")),
        "nor is it replaced"
    );
    state.put(Object::Certificate(certificate(0, 1)));
    assert_eq!(taken(&state, &due[0]), None);
}

#[test]
fn what_failed_waits_longer_each_time_and_as_long_as_the_authority_says() {
    let wait = |failures, says: Option<u64>| {
        tried_again_at(failures, says.map(Span::from_secs), at(0)).duration_since(at(0)).as_secs()
    };
    assert_eq!([wait(1, None), wait(2, None), wait(3, None)], [30, 60, 120]);
    assert_eq!((wait(40, None), wait(1, Some(7200))), (6 * 3600, 7200));
    let mut state = state();
    let order = CertificateOrder {
        certificate: "staging/kiosk".parse().expect("a target"),
        answer: None,
        failures: 1,
        again: Some(at(30)),
        problem: None,
    };
    let mut authority = state.authorities.values().next().expect("it").clone();
    authority.orders.insert("kiosk.lockers.example".to_owned(), order);
    state.put(Object::Authority(authority));
    assert!(due(&state, at(29)).is_empty() && due(&state, at(30)).len() == 1);
}

#[test]
fn hosts_are_renewed_at_moments_of_their_own() {
    let certificate = certificate(0, 90 * DAY);
    let mut moments: Vec<Timestamp> =
        (0..50).map(|number| renewed_at(&certificate, &format!("host-{number}.example"))).collect();
    moments.sort();
    moments.dedup();
    assert!(moments.len() > 20 && moments[0] >= at(60 * DAY), "{}", moments.len());
}
