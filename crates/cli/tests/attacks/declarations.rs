//! Declarations that were valid and hurt the platform, or that would let an application take what is the platform's.

use std::fmt::Write as _;

use crate::common::Platform;

fn declare(platform: &Platform, text: &str) -> crate::common::Said {
    let file = platform.dir.path().join("mainyard.toml");
    std::fs::write(&file, text).expect("written");
    platform.run(&["declare", &file.display().to_string(), "--in", "staging", "--no-wait"])
}

const SERVICE: &str =
    "application = \"lockers\"\n[service.api]\nselect = { workload = \"api\" }\nports = { 80 = \"http\" }\n";

fn route(name: &str, rest: &str) -> String {
    format!("[route.{name}]\nto = [{{ service = \"api\" }}]\n{rest}\n")
}

/// Links are dropped only where control had to read the record again.
fn links_stayed(platform: &Platform) {
    let log = std::fs::read_to_string(platform.data().join("logs/control.log")).expect("a log");
    assert!(!log.contains("the cluster is read again"), "{log}");
    platform.ok(&["board"]);
}

#[test]
fn what_is_accepted_never_makes_control_drop_its_links() {
    let platform = Platform::start(false);
    platform.ok(&["environment", "add", "staging"]);
    let two = |first: &str, second: &str| {
        let a = route("a", &format!("host = \"{first}.lockers.localhost\"\npath = \"/a\""));
        let b = route("b", &format!("host = \"{second}.lockers.localhost\"\npath = \"/a\""));
        format!("{SERVICE}{a}{b}")
    };
    // Two paths on one host, and the same path by method and by header.
    let mut same_host = SERVICE.to_owned();
    for (name, more) in [
        ("one", "path = \"/one\""),
        ("two", "path = \"/two\""),
        ("exact", "path = \"/two\"\nexact = true"),
        ("get", "path = \"/three\"\nmethods = [\"GET\"]"),
        ("post", "path = \"/three\"\nmethods = [\"POST\"]"),
        ("header", "path = \"/two\"\nheaders = { x-kiosk = \"1\" }"),
    ] {
        let _ = write!(same_host, "{}", route(name, &format!("host = \"api.lockers.localhost\"\n{more}")));
    }
    let declared = declare(&platform, &same_host);
    assert_eq!(declared.code, 0, "{declared:?}");
    // Two routes change hosts in one declaration.
    assert_eq!(declare(&platform, &two("x", "y")).code, 0);
    let swapped = declare(&platform, &two("y", "x"));
    assert_eq!(swapped.code, 0, "{swapped:?}");
    // A path as long as one may be.
    let long = format!(
        "{SERVICE}{}",
        route("long", &format!("host = \"l.localhost\"\npath = \"/{}\"", "x".repeat(3000)))
    );
    let _ = declare(&platform, &long);
    links_stayed(&platform);
}

#[test]
fn what_the_record_cannot_hold_fails_its_own_command_alone() {
    let platform = Platform::start(false);
    platform.ok(&["environment", "add", "staging"]);
    assert_eq!(declare(&platform, SERVICE).code, 0);
    // PostgreSQL's JSON has no U+0000.
    let zero = "[workload.api]\nimage = \"lockers/none:1\"\nsettings = { A = \"before\\u0000after\" }\n";
    let refused = declare(&platform, &format!("{SERVICE}{zero}"));
    assert!(refused.code == 3 && refused.err.contains("mainyard.toml:7:18"), "{refused:?}");
    let asked = platform.call("POST", "/api/v1/environments", r#"{"name": "x", "domain": "a\u0000b"}"#);
    assert_eq!(asked.status, 422, "{asked:?}");
    // The record was not changed, and the next command is carried out.
    assert!(!platform.ok(&["board", "staging"]).contains("lockers/none"));
    platform.ok(&["environment", "add", "production"]);
    links_stayed(&platform);
}

/// Commands that arrive together are written together; one that cannot be written must not take the others with it.
#[test]
fn a_command_that_cannot_be_written_does_not_fail_those_that_came_with_it() {
    let platform = Platform::start(false);
    let constraint = "ALTER TABLE object ADD CONSTRAINT refused CHECK (key NOT LIKE 'refused-%')";
    let altered = crate::accounts::as_control_asks(&platform, constraint);
    assert!(altered.contains("ALTER TABLE"), "{altered}");
    let names: Vec<String> =
        (0..12).flat_map(|number| [format!("good-{number}"), format!("refused-{number}")]).collect();
    let answers: Vec<(String, u16)> = std::thread::scope(|scope| {
        let add = |name: String| {
            let platform = &platform;
            scope.spawn(move || {
                let body = format!(r#"{{"name": "{name}"}}"#);
                let status = platform.call("POST", "/api/v1/environments", &body).status;
                (name, status)
            })
        };
        let asked: Vec<_> = names.into_iter().map(add).collect();
        asked.into_iter().map(|thread| thread.join().expect("an answer")).collect()
    });
    for (name, status) in answers {
        let right = if name.starts_with("good") { status == 200 } else { (400..600).contains(&status) };
        assert!(right, "{name}: {status}");
    }
    let listed = platform.ok(&["environment", "list"]);
    assert!(listed.contains("good-11") && !listed.contains("refused"), "{listed}");
    links_stayed(&platform);
}

#[test]
fn hosts_of_the_platform_itself_belong_to_no_route() {
    let platform = Platform::start(false);
    platform.ok(&["environment", "add", "staging"]);
    for host in ["127.0.0.1", "localhost", "10.118.0.1", "0.0.0.0"] {
        let said = declare(&platform, &format!("{SERVICE}{}", route("taken", &format!("host = \"{host}\""))));
        assert_eq!(said.code, 3, "{host}: {said:?}");
    }
    assert_eq!(declare(&platform, &format!("{SERVICE}{}", route("own", "host = \"api.localhost\""))).code, 0);
}
