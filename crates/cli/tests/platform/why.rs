//! Broken set-ups on a real platform, and what `why` says of each: word for word as `docs/reasons.md` has it.

use std::io::Write;

use crate::common::{Platform, until};

/// A set-up that does not answer.
struct Broken {
    /// The fault, in words.
    title: &'static str,
    /// The declaration, without its application.
    declared: &'static str,
    /// A request to the gateway that is repeated until it answers with this status: a request's head without its
    /// end.
    before: Option<(&'static str, u16)>,
    /// The subject of `why`; the last request if there is none. HTTP and TLS stand for the gateway's ports.
    asked: &'static [&'static str],
    /// The cause that comes first.
    cause: &'static str,
}

const API: &str = "image = \"lockers/locker-api:1.4.0\"\nports = { http = 8080 }";

#[expect(clippy::too_many_lines, reason = "a table: one entry for each fault")]
fn setups() -> Vec<Broken> {
    let ask = |title, declared, asked, cause| Broken { title, declared, before: None, asked, cause };
    let after =
        |title, declared, before, cause| Broken { title, declared, before: Some(before), asked: &[], cause };
    vec![
        ask("The host is misspelt", "", &["http://good.trial.localhst:HTTP/who"], "no-such-host"),
        ask(
            "The URL names a port where nobody listens",
            "",
            &["http://good.trial.localhost:1/"],
            "port-not-taken",
        ),
        ask(
            "https is asked at the port for http",
            "",
            &["https://good.trial.localhost:HTTP/"],
            "tls-where-plain",
        ),
        ask(
            "http is asked at the port for https",
            "",
            &["http://good.trial.localhost:TLS/"],
            "plain-where-tls",
        ),
        ask(
            "The route takes another path",
            "[route.desk]\nhost = \"desk.trial.localhost\"\npath = \"/v1\"\nto = [{ service = \"good\" }]",
            &["http://desk.trial.localhost:HTTP/v2/parcels"],
            "path-not-matched",
        ),
        ask(
            "The route takes other methods",
            "[route.read]\nhost = \"read.trial.localhost\"\nmethods = [\"GET\", \"HEAD\"]\nto = [{ service = \"good\" }]",
            &["http://read.trial.localhost:HTTP/", "--method", "DELETE"],
            "method-not-taken",
        ),
        ask(
            "The route asks for a header",
            "[route.early]\nhost = \"early.trial.localhost\"\nheaders = { X-Ring = \"early\" }\nto = [{ service = \"good\" }]",
            &["http://early.trial.localhost:HTTP/"],
            "header-not-matched",
        ),
        ask(
            "Every share is zero",
            "[route.silenced]\nhost = \"silenced.trial.localhost\"\nto = [{ service = \"good\", share = 0 }]",
            &["http://silenced.trial.localhost:HTTP/"],
            "all-shares-zero",
        ),
        ask(
            "A letter is wrong in the selector",
            "[service.desks]\nselect = { tier = \"apl\" }\nports = { 80 = \"http\" }\n\
             [route.desks]\nhost = \"desks.trial.localhost\"\nto = [{ service = \"desks\" }]",
            &["http://desks.trial.localhost:HTTP/"],
            "selector-empty",
        ),
        ask(
            "The service leads to a port that the workload does not have",
            "[service.named]\nselect = { tier = \"api\" }\nports = { 80 = \"htp\" }",
            &["service:trial/named"],
            "port-missing",
        ),
        ask(
            "The workload is scaled to none",
            "[workload.resting]\nAPI\nreplicas = 0\n[route.resting]\nto = [{ service = \"resting\" }]",
            &["http://resting.trial.localhost:HTTP/"],
            "scaled-to-zero",
        ),
        ask(
            "The image's tag is wrong",
            "[workload.tagged]\nimage = \"lockers/locker-api:1.40\"\nports = { http = 8080 }",
            &["trial/tagged"],
            "image-not-found",
        ),
        ask(
            "The process listens on another port",
            "[workload.ported]\nimage = \"lockers/locker-api:1.6.1\"\nports = { http = 8080 }\n\
             checks = { start_within = \"1s\" }\n[route.elsewhere]\nto = [{ service = \"ported\" }]",
            &["http://elsewhere.trial.localhost:HTTP/"],
            "port-silent",
        ),
        ask(
            "The process listens on loopback only",
            "[workload.inward]\nAPI\nsettings = { HOST = \"127.0.0.1\" }",
            &["service:trial/inward"],
            "loopback-only",
        ),
        ask(
            "The check asks for a path that answers 404",
            "[workload.unchecked]\nAPI\nchecks = { ready = { path = \"/redy\" } }",
            &["trial/unchecked"],
            "check-fails",
        ),
        ask(
            "The memory limit is too small",
            "[workload.growing]\nimage = \"lockers/locker-api:1.7.0\"\nports = { http = 8080 }\n\
             limits = { memory = \"24 MiB\" }\nreserve = { memory = \"8 MiB\" }\nrollout = { settle = \"30s\" }",
            &["trial/growing"],
            "out-of-memory",
        ),
        ask(
            "A setting is missing, and the process ends",
            "[workload.printing]\nimage = \"lockers/label-printer:0.9.3\"",
            &["trial/printing"],
            "keeps-ending",
        ),
        ask(
            "The command is not in the image",
            "[workload.commanded]\nimage = \"lockers/locker-api:1.4.0\"\ncommand = [\"/app/locker-apy\"]",
            &["trial/commanded"],
            "cannot-start",
        ),
        ask(
            "More memory is reserved than any node has",
            "[workload.large]\nAPI\nlimits = { memory = \"9000 GiB\" }\nreserve = { memory = \"8000 GiB\" }",
            &["trial/large"],
            "no-room",
        ),
        ask(
            "The route is open to who brings a token",
            "[route.closed]\nenter = { token = \"door\" }\nto = [{ service = \"good\" }]",
            &["http://closed.trial.localhost:HTTP/"],
            "not-allowed",
        ),
        after(
            "A token that is wrong",
            "[route.wrong]\nenter = { token = \"door\" }\nto = [{ service = \"good\" }]",
            ("GET /who HTTP/1.1\r\nHost: wrong.trial.localhost\r\nAuthorization: Bearer sesam\r\n", 401),
            "not-allowed",
        ),
        ask(
            "The ready check succeeds and fails in turns",
            "[workload.swaying]\nAPI\nsettings = { READY_IN_TURNS_MILLIS = \"400\" }\n\
             checks.ready = { path = \"/ready\", every = \"100ms\", within = \"500ms\" }",
            &["trial/swaying"],
            "flapping",
        ),
        ask(
            "The ready check is answered too late",
            "[workload.slowed]\nAPI\nchecks.ready = { path = \"/slow/1200\", within = \"1s\" }",
            &["trial/slowed"],
            "check-slow",
        ),
        after(
            "A visitor asks too often",
            "[route.slowly]\nrate = { requests = 2, every = \"1h\" }\nto = [{ service = \"good\" }]",
            ("GET /who HTTP/1.1\r\nHost: slowly.trial.localhost\r\n", 429),
            "rate-limited",
        ),
        after(
            "A body that is too large",
            "[route.small]\nlimits = { body = \"4 B\" }\nto = [{ service = \"good\" }]",
            ("POST /count HTTP/1.1\r\nHost: small.trial.localhost\r\nContent-Length: 5\r\n", 413),
            "body-too-large",
        ),
        after(
            "An answer that comes too late",
            "[route.late]\nlimits = { answer = \"200ms\" }\nto = [{ service = \"good\" }]",
            ("GET /slow/3000 HTTP/1.1\r\nHost: late.trial.localhost\r\n", 504),
            "answer-late",
        ),
        after(
            "The service that is asked about visitors is not there",
            "[route.doored]\nenter = { ask_url = \"http://doorman/may\" }\nto = [{ service = \"good\" }]",
            ("GET /who HTTP/1.1\r\nHost: doored.trial.localhost\r\n", 503),
            "door-silent",
        ),
        after(
            "A request with two lengths",
            "",
            (
                "POST /count HTTP/1.1\r\nHost: good.trial.localhost\r\nContent-Length: 2\r\nContent-Length: 3\r\n",
                400,
            ),
            "bad-request",
        ),
    ]
}

/// Declares what the good half of every set-up is.
fn begin() -> Platform {
    let platform = Platform::start(true);
    platform.ok(&["environment", "add", "trial"]);
    let mut add = crate::common::mainyard(&platform.data(), &["secret", "add", "trial/door"]);
    let mut add =
        add.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::null()).spawn().expect("it runs");
    add.stdin.take().expect("its input").write_all(b"open sesame").expect("written");
    assert!(add.wait().expect("it ends").success());
    let good = format!(
        "[workload.good]\n{API}\nlabels = {{ tier = \"api\" }}\n[route.good]\nto = [{{ service = \"good\" }}]"
    );
    declare(&platform, "good", &good);
    platform.workload("trial/good", |workload| workload["state"] == "steady");
    platform
}

fn declare(platform: &Platform, application: &str, text: &str) {
    let file = platform.dir.path().join(format!("{application}.toml"));
    let text = text.replace("API", API);
    std::fs::write(&file, format!("application = \"{application}\"\n{text}\n")).expect("written");
    let file = file.display().to_string();
    platform.ok(&["declare", &file, "--in", "trial", "--no-wait"]);
}

/// Replaces the parts that differ from run to run: ports, times, digests, ids, measured amounts.
fn plain(platform: &Platform, text: &str) -> String {
    let text = text
        .replace(&platform.http.port().to_string(), "8780")
        .replace(&platform.https.port().to_string(), "8743");
    let mut out = String::new();
    for line in text.lines() {
        let words = line.split(' ').map(|word| {
            let bare = word.trim_matches(|c: char| !c.is_ascii_alphanumeric());
            let id = bare.len() == 28 && bare.bytes().all(|byte| byte.is_ascii_hexdigit());
            if id {
                word.replace(bare, "01a20ae3f16b35efb7ad172f185b")
            } else if bare.starts_with("sha256") {
                "(sha256:24cc34b8a405),".to_owned()
            } else if bare.len() == 5 && bare.as_bytes()[2] == b':' {
                word.replace(bare, "14:02")
            } else {
                word.to_owned()
            }
        });
        let words: Vec<String> = words.collect();
        out.push_str(words.join(" ").trim_end());
        out.push('\n');
    }
    let mut kept = String::new();
    let mut rest = out.as_str();
    while let Some(at) = rest.find(" ms") {
        let number = rest[..at].rfind(' ').map_or(0, |space| space + 1);
        kept.push_str(&rest[..number]);
        kept.push_str(if rest[number..at].parse::<f64>().is_ok() { "1.4" } else { &rest[number..at] });
        kept.push_str(" ms");
        rest = &rest[at + 3..];
    }
    kept.push_str(rest);
    // How often it happened meanwhile, what the machine has, and whether the first verdict is there yet.
    let mut lines = Vec::new();
    for line in kept.lines() {
        let line = match line.split_once("; free: ") {
            Some((before, _)) => format!("{before}; free: node-1 has 1.85 cpu and 21.8 GiB"),
            None => line.replace("» workload", "■ workload").replace("  moving: ", "  failing: "),
        };
        let mut words: Vec<&str> = line.split(' ').collect();
        for at in 1..words.len() {
            if words[at].starts_with("times") && words[at - 1].parse::<u32>().is_ok() {
                words[at - 1] = "2";
            }
        }
        lines.push(words.join(" ").replace("killed it for memory; its", "killed it for memory 2 times; its"));
    }
    lines.join("\n") + "\n"
}

#[test]
fn the_cause_comes_first_and_matches_the_docs() {
    let platform = begin();
    let setups = setups();
    for (number, setup) in setups.iter().enumerate().filter(|(_, setup)| !setup.declared.is_empty()) {
        declare(&platform, &format!("broken-{number}"), setup.declared);
    }
    let mut document = String::new();
    for setup in &setups {
        let asked: Vec<String> = match setup.before {
            None => setup
                .asked
                .iter()
                .map(|word| {
                    word.replace("HTTP/", &format!("{}/", platform.http.port()))
                        .replace("TLS/", &format!("{}/", platform.https.port()))
                })
                .collect(),
            Some((head, status)) => {
                let id = until(setup.title, || {
                    let body = if head.contains("Content-Length: 5") { "12345" } else { "" };
                    let answer = crate::common::request(platform.http, "", &format!("{head}\r\n{body}"), b"");
                    (answer.status == status).then(|| answer.headers["x-request-id"].clone())
                });
                vec![id]
            }
        };
        let words: Vec<&str> = ["why"].into_iter().chain(asked.iter().map(String::as_str)).collect();
        // What is reported of a replica comes when its node has seen it; what comes first is the cause, or that it starts.
        let said = until(setup.title, || {
            let said = platform.ok(&words);
            let cause =
                said.lines().find_map(|line| line.strip_prefix("cause  "))?.split(':').next()?.to_owned();
            assert!(
                [
                    setup.cause,
                    "still-starting",
                    "ended-once",
                    "none-ready",
                    "check-fails",
                    "check-slow",
                    "check-refused"
                ]
                .contains(&cause.as_str()),
                "{}: {said}",
                setup.title
            );
            (cause == setup.cause).then_some(said)
        });
        let shown = plain(&platform, &format!("$ mainyard {}\n{said}", words.join(" ")));
        document.push_str(&format!("### {}\n\n```text\n{}\n```\n\n", setup.title, shown.trim_end()));
    }
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reasons.md");
    let docs = std::fs::read_to_string(file).expect("docs/reasons.md");
    let (begin, end) = ("<!-- said -->\n", "<!-- end of what is said -->");
    let start = docs.find(begin).expect("the mark") + begin.len();
    let stop = docs.find(end).expect("the other mark");
    if std::env::var_os("MAINYARD_WRITE_DOCS").is_some() {
        std::fs::write(file, format!("{}{document}{}", &docs[..start], &docs[stop..])).expect("written");
        return;
    }
    let (there, said): (Vec<&str>, Vec<&str>) =
        (docs[start..stop].lines().collect(), document.lines().collect());
    let differing = there.iter().zip(&said).find(|(there, said)| there != said);
    assert!(
        there == said,
        "the docs have something else: {differing:?}\nMAINYARD_WRITE_DOCS=1 writes them again"
    );
}
