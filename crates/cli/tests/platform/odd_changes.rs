//! Changes of less usual kinds on a running service, under visitors who count: what answered goes on answering, or the
//! change is refused beforehand, or the board says what is wrong. `make torture` makes many more of them, at random.

use std::collections::BTreeMap;

use crate::common::{Chance, Platform, Said, Visitors, until};

pub(crate) const HOST: &str = "odd.localhost";
pub(crate) const TARGET: &str = "staging/odd";

/// The declaration: the names by which workload, service and route find each other, and the release.
#[derive(Clone)]
pub(crate) struct Declared {
    pub port: &'static str,
    pub tier: &'static str,
    pub by_label: bool,
    pub route: &'static str,
    pub image: &'static str,
    pub settings: String,
    pub more: String,
}

impl Default for Declared {
    fn default() -> Declared {
        Declared {
            port: "http",
            tier: "a",
            by_label: true,
            route: "odd",
            image: "1.4.0",
            settings: String::new(),
            more: String::new(),
        }
    }
}

impl Declared {
    fn text(&self) -> String {
        let Declared { port, tier, by_label, route, image, settings, more } = self;
        let select = if *by_label { format!("tier = \"{tier}\"") } else { "workload = \"odd\"".to_owned() };
        format!(
            "application = \"odd\"\n[workload.odd]\nimage = \"lockers/locker-api:{image}\"\nreplicas = 2\n\
             ports = {{ {port} = 5000 }}\nlabels = {{ tier = \"{tier}\" }}\nsettings = {{ PORT = \"5000\"{settings} }}\n\
             stop = {{ drain = \"20s\", grace = \"2s\" }}\nreserve = {{ cpu = 0.005, memory = \"8 MiB\" }}\n{more}\
             [workload.odd.checks]\nready = {{ path = \"/ready\", every = \"300ms\", within = \"500ms\" }}\n\
             [workload.odd.rollout]\nsettle = \"300ms\"\ndeadline = \"15s\"\n\
             [service.odd]\nselect = {{ {select} }}\nports = {{ 80 = \"{port}\" }}\n\
             [route.{route}]\nhost = \"{HOST}\"\nto = [{{ service = \"odd\" }}]\n"
        )
    }

    pub(crate) fn declare(&self, platform: &Platform, environment: &str, more: &[&str]) -> Said {
        let file = platform.dir.path().join("odd.toml");
        std::fs::write(&file, self.text()).expect("a file");
        platform.run(&[&["declare", &file.display().to_string(), "--in", environment][..], more].concat())
    }
}

fn failures(seen: &BTreeMap<String, usize>) -> Vec<(&String, &usize)> {
    seen.iter().filter(|(kind, _)| kind.starts_with("failed")).collect()
}

/// Makes a change under visitors, of whom none sees anything but answers.
pub(crate) fn unnoticed(platform: &Platform, what: &str, change: impl FnOnce() -> Said) -> Said {
    let visitors = Visitors::start(platform.http, HOST, 2);
    let said = change();
    // What comes after the verdict counts as well.
    until("visitors have asked on", || (platform.get(HOST, "/who").status == 200).then_some(()));
    let seen = visitors.finish();
    assert!(failures(&seen).is_empty(), "{what}: {seen:?}\n{said:?}");
    said
}

pub(crate) fn serving(platform: &Platform) -> Declared {
    let first = Declared::default();
    let said = first.declare(platform, "staging", &[]);
    assert_eq!(said.code, 0, "{said:?}");
    until("it answers", || (platform.get(HOST, "/who").status == 200).then_some(()));
    first
}

#[test]
fn renamed_ports_labels_selectors_and_routes_cost_no_request() {
    let platform = Platform::start(true);
    let first = serving(&platform);
    let renamed = Declared { port: "web", tier: "b", image: "1.5.0", ..first.clone() };
    let said = unnoticed(&platform, "port and label", || renamed.declare(&platform, "staging", &[]));
    assert_eq!(said.code, 0, "{said:?}");
    let failing = Declared { port: "api", tier: "c", image: "1.6.0", ..first.clone() };
    let said = unnoticed(&platform, "a release that fails", || failing.declare(&platform, "staging", &[]));
    assert!(said.code == 1 && said.err.contains("went back"), "{said:?}");
    let said = unnoticed(&platform, "back", || platform.run(&["rollback", TARGET]));
    assert_eq!(said.code, 0, "{said:?}");
    // A second time it goes further back, where there is something, and says what it passes over.
    let said = platform.run(&["rollback", TARGET]);
    assert!(said.code == 3 && said.err.contains("was left: rolled back by mira"), "{said:?}");
    let by_name = Declared { port: "web", by_label: false, route: "front", image: "1.5.0", ..first.clone() };
    let said =
        unnoticed(&platform, "selector and route", || by_name.declare(&platform, "staging", &["--exact"]));
    assert_eq!(said.code, 0, "{said:?}");
    // In one place only it is refused, and in the forecast too.
    let file = platform.dir.path().join("alone.toml");
    let by_label = Declared { by_label: true, ..by_name.clone() }.text();
    std::fs::write(&file, by_label.replace("labels = { tier = \"a\" }", "labels = { tier = \"z\" }"))
        .expect("a file");
    let path = file.display().to_string();
    for more in [&["--forecast"][..], &[]] {
        let words = [&["declare", &path, "--in", "staging"][..], more].concat();
        let said = platform.run(&words);
        assert!(said.code == 3 && said.err.contains("selector-empty"), "{said:?}");
    }
    // Another environment's service has the old name: what is promoted there would not be found.
    let there = Declared { port: "http", ..first.clone() };
    let text = there.text().replace(HOST, "odd.production.localhost");
    std::fs::write(&file, text).expect("a file");
    platform.ok(&["declare", &file.display().to_string(), "--in", "production"]);
    let said = platform.run(&["promote", TARGET, "--to", "production"]);
    assert!(said.code == 3 && said.err.contains("port-missing"), "{said:?}");
}

#[test]
fn a_renamed_workload_goes_once_the_new_one_answers() {
    let platform = Platform::start(true);
    let first = serving(&platform);
    let slow = Declared { settings: ", START_MILLIS = \"2000\"".to_owned(), by_label: false, ..first };
    let renamed =
        slow.text().replace("workload.odd", "workload.strange").replace("service.odd", "service.strange");
    let renamed = renamed.replace("workload = \"odd\"", "workload = \"strange\"");
    let renamed = renamed.replace("service = \"odd\"", "service = \"strange\"");
    let file = platform.dir.path().join("renamed.toml");
    std::fs::write(&file, renamed).expect("a file");
    let file = file.display().to_string();
    let words = ["declare", &file, "--in", "staging", "--exact"];
    let forecast = platform.run(&[&words[..], &["--forecast"]].concat());
    assert!(forecast.out.contains("where another takes its place, once that answers"), "{forecast:?}");
    let said = unnoticed(&platform, "a workload by another name", || {
        let said = platform.run(&words);
        until("the first one is gone", || {
            (!platform.ok(&["board", "staging"]).contains("odd ")).then_some(())
        });
        said
    });
    assert_eq!(said.code, 0, "{said:?}");
    assert!(platform.ok(&["board", "staging"]).contains("strange"));
}

#[test]
fn slow_starters_have_until_the_deadline() {
    let platform = Platform::start(true);
    let first = serving(&platform);
    let slow = Declared { settings: ", START_MILLIS = \"6000\"".to_owned(), ..first };
    let said = unnoticed(&platform, "a slow start", || slow.declare(&platform, "staging", &[]));
    assert_eq!(said.code, 0, "{said:?}");
    assert!(platform.ok(&["releases", TARGET]).contains("● done"), "not sent back");
}

#[test]
fn removed_and_declared_again_it_answers_at_once_with_new_replicas() {
    let platform = Platform::start(true);
    let first = serving(&platform);
    // An open request keeps the old replicas from leaving.
    let http = platform.http;
    let slow = std::thread::spawn(move || {
        let head = format!("GET /slow/15000 HTTP/1.1\r\nhost: {HOST}\r\n\r\n");
        crate::common::request(http, HOST, &head, b"")
    });
    until("the request is open", || {
        let figures = platform.call("GET", "/api/v1/traffic?by=service&of=staging%2Fodd", "").text();
        figures.contains("\"open\":1").then_some(())
    });
    platform.ok(&["remove", TARGET, "--yes"]);
    assert_eq!(first.declare(&platform, "staging", &["--no-wait"]).code, 0);
    until("it answers again", || (platform.get(HOST, "/who").status == 200).then_some(()));
    assert!(!slow.is_finished(), "the new replicas waited for the old ones to leave");
    let shown = platform.ok(&["show", TARGET]);
    assert!(shown.contains("a2") && shown.contains("a3"), "{shown}");
    assert_eq!(slow.join().expect("an answer").status, 200);
}

#[test]
fn a_release_that_was_deployed_at_zero_is_untried_and_is_tried_beside_the_one_before() {
    let platform = Platform::start(true);
    serving(&platform);
    platform.ok(&["scale", TARGET, "0"]);
    let failing = platform.run(&["deploy", TARGET, "--image", "lockers/locker-api:1.6.0"]);
    assert!(platform.ok(&["releases", TARGET]).contains("untried"), "{failing:?}");
    let said = platform.run(&["promote", TARGET, "--to", "production"]);
    assert!(said.code == 3 && said.err.contains("is untried"), "{said:?}");
    // What nobody had tried is rolled out like any new release, beside the one that is known to be good.
    let scaled = std::thread::scope(|scope| {
        let scaled = scope.spawn(|| platform.run(&["scale", TARGET, "1"]));
        until("it answers", || (platform.get(HOST, "/who").status == 200).then_some(()));
        scaled.join().expect("it ends")
    });
    assert_eq!(scaled.code, 0, "the replicas are ready, of the release before: {scaled:?}");
    platform.workload(TARGET, |w| w["state"] == "steady");
    assert_eq!(platform.get(HOST, "/who").json()["version"], "1.4.0");
    assert!(platform.ok(&["releases", TARGET]).contains("went-back"));
}

#[test]
fn a_hung_run_first_is_ended_by_its_limit_and_by_what_takes_its_place() {
    let platform = Platform::start(true);
    let first = serving(&platform);
    let hung = Declared {
        settings: ", MIGRATION_MILLIS = \"600000\"".to_owned(),
        more: "run_first = [\"/app/locker-api\", \"migrate\"]\nrun_first_within = \"2s\"\n".to_owned(),
        ..first.clone()
    };
    let said = unnoticed(&platform, "a limit", || hung.declare(&platform, "staging", &[]));
    assert!(said.code == 1 && said.err.contains("did not end within 2s, and was ended"), "{said:?}");
    let patient = Declared { more: hung.more.replace("2s", "10m"), ..hung.clone() };
    assert_eq!(patient.declare(&platform, "staging", &["--no-wait"]).code, 0);
    until("it runs", || {
        platform.ok(&["show", &format!("{TARGET}@3")]).contains("run_first runs").then_some(())
    });
    let next = Declared { image: "1.5.0", ..first };
    let said = unnoticed(&platform, "another release", || next.declare(&platform, "staging", &[]));
    assert!(said.code == 0, "{said:?}");
}

/// Many changes at random: `MAINYARD_TORTURE` says for how many.
#[test]
fn many_odd_changes_in_a_row_cost_no_request() {
    let count = std::env::var("MAINYARD_TORTURE").ok().and_then(|text| text.parse().ok()).unwrap_or(4);
    let platform = Platform::start(true);
    let mut declared = serving(&platform);
    let mut chance = Chance::of("MAINYARD_SEED");
    for number in 0..count {
        let mut next = Declared {
            port: ["http", "web"][chance.below(2) as usize],
            tier: ["a", "b", "c"][chance.below(3) as usize],
            by_label: chance.below(2) == 0,
            route: ["odd", "front"][chance.below(2) as usize],
            image: ["1.4.0", "1.5.0", "1.5.0", "1.6.0"][chance.below(4) as usize],
            ..Declared::default()
        };
        if chance.below(4) == 0 {
            next.settings = ", START_MILLIS = \"3000\"".to_owned();
        }
        let said = unnoticed(&platform, &format!("change {number}"), || match chance.below(5) {
            0 => platform.run(&["rollback", TARGET]),
            1 => platform.run(&["restart", TARGET]),
            _ => next.declare(&platform, "staging", &["--exact"]),
        });
        assert!([0, 1, 3].contains(&said.code), "{said:?}");
        if said.code == 0 {
            declared = next;
        }
    }
    println!("{count} changes; the last that was taken leads by {} to {}", declared.tier, declared.port);
}
