//! An export can be declared again, and gives the same.

use proptest::prelude::*;

use super::*;
use crate::export::export;

/// Declares a file, exports it, and declares the export on the same and on an empty record.
fn there_and_back(text: &str) -> Result<(), TestCaseError> {
    let mut yard = Yard::new();
    let fail = |what: &str| TestCaseError::fail(format!("{what}\n{text}"));
    let files = [SourceFile { name: "mainyard.toml".into(), text: text.into() }];
    let declared = read(&files, Some(&name("staging"))).map_err(|problems| fail(&format!("{problems:?}")))?;
    let environment = name("staging");
    yard.cluster
        .transaction("mira", yard.now)
        .declare(&declared, &environment, false)
        .map_err(|it| fail(&it.message))?;
    let written = export(&yard.cluster.state, &environment, None);
    let again =
        read(&written, Some(&environment)).map_err(|it| fail(&format!("{it:?}\n{}", written[0].text)))?;
    let plan = yard.cluster.plan(&again, &environment, true).map_err(|it| fail(&it.message))?;
    prop_assert!(plan.lines.is_empty(), "{:?}\n{}", plan.lines, written[0].text);
    let mut other = Yard::new();
    other
        .cluster
        .transaction("mira", other.now)
        .declare(&again, &environment, true)
        .map_err(|it| fail(&it.message))?;
    prop_assert_eq!(export(&other.cluster.state, &environment, None), written);
    Ok(())
}

proptest! {
    #[test]
    fn any_declaration_round_trips(
        replicas in 0u32..9,
        style in prop_oneof![Just(""), Just("style = \"swap\"\nkeep_old = \"1m\""), Just("style = \"stepped\"\nsteps = [{ share = 10, watch = \"2m\" }, { share = 50, then = \"ask\" }]")],
        lack in 0u32..3,
        memory in 1u32..500,
        value in "[ -~]{0,12}",
        path in "/[a-z]{0,6}",
        share in 0u32..100,
    ) {
        let value = value.replace(['"', '\\'], "'").replace("${", "$${");
        let text = format!(r#"
application = "lockers"
[workload.lockers-db]
image = "lockers/locker-api:1.4.0"
command = ["/app/db", "{value}"]
[workload.locker-api]
image = "lockers/locker-api:1.5.0"
replicas = {replicas}
ports = {{ http = 8080, admin = 9000 }}
labels = {{ tier = "{value}" }}
settings = {{ LEVEL = "{value}" }}
limits = {{ memory = "{memory} MiB" }}
reserve = {{ memory = "1 MiB" }}
after = ["lockers-db"]
checks = {{ ready = {{ path = "{path}", port = "admin" }} }}
[workload.locker-api.rollout]
may_lack = {lack}
{style}
[service.both]
select = {{ workload = "locker-api" }}
ports = {{ 80 = "http", 7000 = {{ port = "admin", speaks = "tcp" }} }}
[route.api]
host = "api.lockers.localhost"
path = "{path}"
to = [{{ service = "locker-api", share = {share} }}, {{ service = "both", port = 80 }}]
limits = {{ body = "3 MiB" }}
sticky = {{ cookie = "seat" }}
"#);
        there_and_back(&text)?;
    }
}

#[test]
fn one_workload_is_exported_with_the_ways_that_lead_there_alone() {
    let mut yard = Yard::new();
    let other = "[workload.printer]\nimage = \"lockers/locker-api:1.4.0\"\n[route.both]\nhost = \"both.test\"\nto = [{ service = \"locker-api\" }]";
    yard.declare(&format!("{MANIFEST}{other}"), false);
    let files = export(&yard.cluster.state, &name("staging"), Some(&name("locker-api")));
    insta::assert_snapshot!(files[0].text);
}

#[test]
fn an_application_is_removed_as_one_and_others_stay() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.declare(
        "application = \"others\"\n[workload.printer]\nimage = \"lockers/locker-api:1.4.0\"\n",
        false,
    );
    yard.settle_down();
    let application = |text: &str| -> Target { text.parse().expect("a target") };
    let unknown =
        yard.cluster.transaction("mira", yard.now).remove_application(&application("staging/locker"));
    assert_eq!(
        unknown.expect_err("unknown").message,
        "there is no application staging/locker; did you mean `lockers`?"
    );
    let gone = yard
        .cluster
        .transaction("mira", yard.now)
        .remove_application(&application("staging/lockers"))
        .expect("gone");
    assert_eq!(
        gone,
        [
            "route staging/api: api.lockers.localhost no longer leads anywhere",
            "service staging/locker-api: its name no longer answers",
            "workload staging/locker-api: 3 replicas end",
        ]
    );
    yard.settle_down();
    let state = &yard.cluster.state;
    assert_eq!(
        (state.workloads.len(), state.services.len(), state.routes.len(), yard.running.len()),
        (1, 0, 0, 1)
    );
}
