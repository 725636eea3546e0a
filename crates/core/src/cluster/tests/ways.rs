//! Routes and services as they are declared, and replicas that are set aside.

use super::*;
use crate::model::{Certificate, Origin, ReplicaState, Span};

fn refused(yard: &mut Yard, text: &str) -> String {
    let text = format!("application = \"ways\"\n{text}");
    let file = SourceFile { name: "mainyard.toml".into(), text };
    match read(&[file], Some(&name("staging"))) {
        Err(problems) => problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"),
        Ok(declared) => {
            match yard.cluster.transaction("mira", yard.now).declare(&declared, &name("staging"), false) {
                Err(refusal) => refusal.message,
                Ok(_) => "taken".to_owned(),
            }
        }
    }
}

fn running() -> Yard {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    yard
}

#[test]
fn a_route_without_a_host_uses_the_environments_domain() {
    let mut yard = running();
    assert_eq!(refused(&mut yard, "[route.kiosk]\nto = [{ service = \"locker-api\" }]"), "taken");
    let key: Target = "staging/kiosk".parse().expect("a target");
    assert_eq!(yard.cluster.state.routes[&key].spec.host.as_deref(), Some("kiosk.staging.localhost"));
}

#[test]
fn what_goes_against_what_is_there_is_refused_with_who_holds_it() {
    let mut yard = running();
    let to = "to = [{ service = \"locker-api\" }]";
    let host = "host = \"api.lockers.localhost\"";
    let cases = [
        ("the same host", format!("[route.x]\n{host}\n{to}")),
        ("another path of it", format!("[route.y]\n{host}\npath = \"/v1\"\n{to}")),
        ("the same path again", format!("[route.z]\n{host}\npath = \"/v1\"\n{to}")),
        ("another method of it", format!("[route.w]\n{host}\npath = \"/v1\"\nmethods = [\"POST\"]\n{to}")),
        ("a service that is not there", "[route.a]\nto = [{ service = \"locker-apy\" }]".to_owned()),
        ("a port that is not there", "[route.b]\nto = [{ service = \"locker-api\", port = 81 }]".to_owned()),
        ("a secret that is not there", format!("[route.c]\nenter = {{ token = \"door\" }}\n{to}")),
        (
            "a certificate that is not there",
            format!("[route.d]\ntls = {{ certificate = \"lockers\" }}\n{to}"),
        ),
        (
            "open to nowhere",
            "[service.s]\nselect = { tier = \"api\" }\nports = { 80 = \"http\" }\nopen_to = [\"productoin\"]"
                .to_owned(),
        ),
        ("a port and a path", format!("[route.e]\nport = 5432\npath = \"/x\"\n{to}")),
        (
            "untouched and compressed",
            format!("[route.f]\ntls = {{ untouched = true }}\ncompress = true\n{to}"),
        ),
        ("nowhere to go", "[route.g]\nhost = \"g.test\"".to_owned()),
        ("a path with dots", format!("[route.h]\npath = \"/a/../b\"\n{to}")),
        ("two ways to enter", format!("[route.i]\nenter = {{ token = \"a\", basic = \"b\" }}\n{to}")),
        (
            "a header of the gateway's",
            format!("[route.j]\nchange = {{ request = {{ set = {{ Host = \"x\" }} }} }}\n{to}"),
        ),
        ("an odd status", "[route.k]\nredirect = { to = \"https://a.test/\", status = 303 }".to_owned()),
        ("a host with capitals", format!("[route.m]\nhost = \"API.test\"\n{to}")),
    ];
    let told: Vec<String> =
        cases.iter().map(|(what, text)| format!("{what}: {}", refused(&mut yard, text))).collect();
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn a_certificate_must_cover_the_hosts_that_name_it() {
    let mut yard = running();
    let certificate = |host: &str| Certificate {
        target: "staging/lockers".parse().expect("a target"),
        names: vec![host.to_owned()],
        from: yard.now,
        until: yard.now + Span::from_secs(20 * 86_400).signed(),
        issuer: "CN=Larkfield".to_owned(),
        fingerprint: String::new(),
        chain: String::new(),
        sealed: Some("key".to_owned()),
        obtained_from: None,
        origin: Origin::new("mira", "added", yard.now),
    };
    let (fits, other) = (certificate("*.staging.localhost"), certificate("else.test"));
    assert_eq!(fits.signal(yard.now), crate::model::Signal::Caution, "twenty days are left");
    yard.cluster.transaction("mira", yard.now).add_certificate(fits.clone()).expect("added");
    let route = "[route.shop]\ntls = { certificate = \"lockers\" }\nto = [{ service = \"locker-api\" }]";
    assert_eq!(refused(&mut yard, route), "taken");
    let covered = yard.cluster.transaction("mira", yard.now).add_certificate(fits).expect("changed");
    assert_eq!(covered, ["shop.staging.localhost of route staging/shop"]);
    let refusal = yard
        .cluster
        .transaction("mira", yard.now)
        .add_certificate(other)
        .expect_err("it is for another host");
    assert!(
        refusal.message.starts_with("certificate-mismatch: the route staging/shop"),
        "{}",
        refusal.message
    );
    let target = "staging/lockers".parse().expect("a target");
    let refusal =
        yard.cluster.transaction("mira", yard.now).remove_certificate(&target).expect_err("it is in use");
    assert!(refusal.message.contains("used by the route staging/shop"), "{}", refusal.message);
}

#[test]
fn a_replica_that_is_set_aside_is_out_of_the_table_and_another_takes_its_place() {
    let mut yard = running();
    let id = ReplicaId::new(api(), "a1".to_owned());
    let lasts = Span::from_secs(60);
    yard.cluster.transaction("mira", yard.now).set_aside(&id, lasts).expect("set aside");
    yard.settle_down();
    assert_eq!(yard.backends(), ["a0", "a2", "a3"]);
    assert_eq!(yard.state(), WorkloadState::Steady);
    assert_eq!(yard.cluster.state.replicas[&id].state, ReplicaState::SetAside);
    assert!(yard.cluster.whole_orders(&name("node-1")).iter().any(|order| order.id == id), "it runs on");
    assert_eq!(yard.record, yard.cluster.state);
    yard.now += lasts.signed();
    yard.settle_down();
    assert!(!yard.cluster.state.replicas.contains_key(&id), "its time is over");
    assert_eq!(yard.backends(), ["a0", "a2", "a3"]);
    let gone = yard.cluster.transaction("mira", yard.now).set_aside(&id, lasts).expect_err("it is gone");
    assert_eq!(
        gone.message,
        "there is no replica staging/locker-api/a1; did you mean `a0`? (there are: a0, a2, a3)"
    );
    let other = ReplicaId::new(api(), "a0".to_owned());
    yard.cluster.transaction("mira", yard.now).set_aside(&other, lasts).expect("set aside");
    yard.cluster.transaction("mira", yard.now).end_aside(&other).expect("ended");
    yard.settle_down();
    assert!(!yard.cluster.state.replicas.contains_key(&other));
}
