use proptest::prelude::*;

use super::*;

fn file(text: &str) -> Vec<SourceFile> {
    vec![SourceFile { name: "mainyard.toml".into(), text: text.into() }]
}

fn problems(text: &str) -> String {
    match read(&file(text), Some(&"staging".parse().expect("a name"))) {
        Ok(_) => "nothing is wrong".to_owned(),
        Err(list) => list.iter().map(Problem::to_string).collect::<Vec<_>>().join("\n"),
    }
}

const WHOLE: &str = r#"
application = "lockers"

[workload.locker-api]
image    = "lockers/locker-api:1.4.0"
replicas = 3
ports    = { http = 8080 }
labels   = { tier = "api" }
settings = { LOG_LEVEL = "info" }
limits   = { cpu = 0.5, memory = "128 MiB", processes = 64 }
checks.ready = { path = "/ready", port = "http", every = "1s", within = "500ms" }

[route.api]
host = "api.lockers.localhost"
to   = [{ service = "locker-api", share = 100 }]

[in.staging.route.api]
host = "api.staging.lockers.localhost"

[in.production.workload.locker-api]
replicas = 6
limits = { memory = "256 MiB" }
"#;

#[test]
fn an_environment_changes_only_what_it_names() {
    let name = |text: &str| text.parse::<Name>().expect("a name");
    let staging = read(&file(WHOLE), Some(&name("staging"))).expect("valid");
    let production = read(&file(WHOLE), Some(&name("production"))).expect("valid");
    let api = name("locker-api");
    assert_eq!(staging.workloads[&api].replicas, Some(3));
    assert_eq!(production.workloads[&api].replicas, Some(6));
    let limits = production.workloads[&api].spec.limits;
    assert_eq!(
        (limits.memory.to_string(), limits.cpu.milli(), limits.processes),
        ("256 MiB".into(), 500, 64)
    );
    assert_eq!(staging.routes[&name("api")].host.as_deref(), Some("api.staging.lockers.localhost"));
    assert_eq!(production.routes[&name("api")].host.as_deref(), Some("api.lockers.localhost"));
    assert_eq!(staging.services[&api].ports, BTreeMap::from([(80, name("http").into())]));
    let named: Vec<String> = environments(&file(WHOLE)).into_iter().map(String::from).collect();
    assert_eq!(named, ["production", "staging"]);
}

#[test]
fn mistakes_are_reported_with_place_expectation_and_suggestion() {
    insta::assert_snapshot!(problems(
        r#"
application = "Lockers"
aplication = "lockers"
[workload.locker-api]
imgae = "lockers/locker-api:1.4.0"
replicas = -1
ports = { http = 80800 }
limits = { memory = "128", cpu = "half" }
settings = { LOG_LEVEL = 3, "A-B" = "x" }
checks.ready = "/ready"
rollout = { style = "roling" }
[workload.Bad_Name]
image = "lockers"
[in.staging.workload.locker-api]
replica = 2
"#
    ));
}

#[test]
fn contradictions_in_a_file_are_reported_with_their_place() {
    insta::assert_snapshot!(problems(
        r#"
application = "lockers"
[workload.locker-api]
image = "lockers/locker-api:1.4.0"
ports = { http = 8080 }
limits = { memory = "16 MiB" }
checks.ready = { path = "/ready", port = "htp" }
checks.alive = { path = "/alive", connect = "http" }
[service.api]
select = { workload = "locker-apl" }
ports = { 80 = "http" }
[service.own]
select = { workload = "locker-api" }
ports = { 80 = "https" }
[route.api]
host = "api.lockers.localhost"
to = [{ service = "locker-apy" }]
[route.again]
host = "api.lockers.localhost"
to = []
"#
    ));
}

#[test]
fn broken_toml_is_told_with_line_and_column() {
    insta::assert_snapshot!(problems("application = \"lockers\"\n[workload.locker-api\nimage = 1\n"));
}

#[test]
fn an_object_may_stand_in_one_file_only() {
    let mut files = file(WHOLE);
    files.push(SourceFile { name: "second.toml".into(), text: WHOLE.replace("lockers\"\n", "lockers2\"\n") });
    let list = read(&files, None).expect_err("declared twice");
    insta::assert_snapshot!(list.iter().map(Problem::to_string).collect::<Vec<_>>().join("\n"));
}

#[test]
fn the_schema_names_every_key() {
    let schema = super::super::schema::schema();
    let workload = &schema["properties"]["workload"]["additionalProperties"];
    assert_eq!(workload["required"], serde_json::json!(["image"]));
    assert_eq!(workload["properties"]["limits"]["properties"]["memory"]["type"], "string");
    let overlay = &schema["properties"]["in"]["additionalProperties"]["properties"]["workload"];
    assert_eq!(overlay["additionalProperties"]["required"], serde_json::json!([]));
}

proptest! {
    #[test]
    fn every_problem_has_a_place_in_the_text(text in "[a-z\\[\\]=\\.\"{}0-9 \n-]{0,200}") {
        if let Err(list) = read(&file(&text), None) {
            let lines = text.matches('\n').count() + 1;
            for problem in list {
                prop_assert!((1..=lines).contains(&problem.place.line), "{problem}");
            }
        }
    }
}

#[test]
fn a_rule_that_follows_the_load_says_when_and_how_far() {
    let wrong = |replicas: &str| {
        problems(&format!(
            "application = \"lockers\"\n[workload.api]\nimage = \"lockers/api:1\"\nports = {{ http = 8080 }}\nreplicas = {replicas}\n"
        ))
    };
    let all = [
        "{ min = 2, max = 20, each = { open = 10 }, hours = [{ days = \"mon-fri\", from = \"07:00\", until = \"19:00\", min = 4 }] }",
        "{ min = 0, max = 1 }",
        "{ min = 2, max = 20 }",
        "{ min = 5, max = 3, each = { open = 10 } }",
        "{ max = 3, each = { open = 10 } }",
        "{ min = 1, max = 3, each = { opne = 10 } }",
        "{ min = 1, max = 3, each = { open = 0 } }",
        "{ min = 1, max = 3, each = { open = 10 }, up = \"10m\" }",
        "{ min = 1, max = 3, each = { open = 10 }, up = \"10ms\" }",
        "{ min = 1, max = 3, each = { open = 10 }, while_waking = \"pages\" }",
        "{ min = 1, max = 3, each = { open = 10 }, hours = [{ days = \"monday\", from = \"07:00\", until = \"19:00\", min = 2 }] }",
        "{ min = 1, max = 3, each = { open = 10 }, hours = [{ from = \"7\", until = \"19:00\", min = 2 }] }",
        "{ min = 1, max = 3, each = { open = 10 }, hours = [{ from = \"07:00\", until = \"19:00\", min = 4 }] }",
        "\"many\"",
    ];
    let told: Vec<String> = all.iter().map(|replicas| format!("{replicas}\n{}", wrong(replicas))).collect();
    insta::assert_snapshot!(told.join("\n\n"));
    let silent = "application = \"lockers\"\n[workload.worker]\nimage = \"lockers/worker:1\"\nreplicas = { min = 0, max = 1 }\n";
    insta::assert_snapshot!(problems(silent), @"mainyard.toml:4:12: `worker` has no port, so no request reaches it: nothing would tell how many replicas it needs");
}

#[test]
fn a_rule_of_a_route_that_cannot_hold_is_told_with_its_place() {
    let route = |host: &str, rules: &str| {
        let text = format!(
            "application = \"lockers\"\n[route.door]\nhost = \"{host}\"\nredirect = {{ to = \"/\" }}\n{rules}\n"
        );
        problems(&text)
    };
    let told = [
        route("a.test", "visitors = { only = [\"10.0.0.1/8\"], never = [\"nobody\"] }"),
        route("a.test", "cors = { origins = [\"app.test\", \"https://app.test/x\"] }"),
        route("a.test", "cors = { origins = [\"*\"], credentials = true }"),
        route("a.test", "cors = { origins = [] }"),
        route("a.test", "drill = { share = 0 }"),
        route("a.test", "drill = { share = 5 }"),
        route("a.test", "drill = { share = 5, wait = \"5m\", stauts = 503 }"),
        route("a.test", "cache = { size = \"2 GiB\" }"),
        route("a.test", "cache = { size = \"1 MiB\", largest = \"2 MiB\" }"),
        route("a.test", "tls = { least = \"1.1\" }"),
        route("a.test", "tls = { ciphers = [\"TLS_RSA_WITH_RC4_128_SHA\"] }"),
        route("a.test", "tls = { least = \"1.3\", ciphers = [\"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256\"] }"),
        route("a.test", "tls = { http = \"answer\", client_certificates = { authority = \"partners\" } }"),
        route("*.test", "tls = { obtain_from = \"public\" }"),
        route("a.test", "tls = { obtain_from = \"public\", certificate = \"lockers\" }"),
        route("a.test", "tls = { hsts = { subdomains = true } }"),
        route("a.test", "proxy_protocol = \"v2\""),
        route("a.test", "change = { answer = { add = { Content-Length = \"7\" } } }"),
    ];
    insta::assert_snapshot!(told.join("\n\n"));
    let passed_on = "application = \"lockers\"\n[service.db]\nselect = { workload = \"db\" }\nports = { 80 = \"db\" }\n\
                     [route.db]\nport = 5432\nto = [{ service = \"db\" }]\nproxy_protocol = \"v1\"\n\
                     visitors = { only = [\"10.0.0.0/8\"] }\ncache = {}\n";
    insta::assert_snapshot!(problems(passed_on), @"mainyard.toml:10:9: route `db` takes a port, so `cache` is not possible: the gateway does not look inside");
}
