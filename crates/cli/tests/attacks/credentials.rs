//! Credentials that have ended: tokens, sessions, and the token of the data directory.

use std::io::{Read, Write};
use std::net::TcpStream;

use attacker::{Call, call};

use crate::api::session;
use crate::common::{Platform, until};

fn ask(platform: &Platform, method: &str, target: &str, headers: &[String]) -> u16 {
    let mut all = vec![format!("host: {}", platform.api)];
    all.extend_from_slice(headers);
    call(platform.api, &Call { method, target, headers: all, body: b"" }).expect("answered").status
}

fn bearer(token: &str) -> Vec<String> {
    vec![format!("authorization: Bearer {}", token.trim())]
}

#[test]
fn a_removed_token_opens_nothing_any_more_and_ends_what_it_opened() {
    let platform = Platform::start(false);
    let token = platform.ok(&["token", "add", "deploys", "--lasts", "30d"]);
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &bearer(&token)), 200);
    let listed = platform.ok(&["token", "list"]);
    assert!(listed.contains("deploys") && listed.contains("in 29 d"), "{listed}");
    assert!(!listed.contains(token.trim()), "no list holds a token");
    let again = platform.run(&["token", "add", "deploys"]);
    assert!(again.code == 3 && again.err.contains("there is a token deploys already"), "{again:?}");

    let mut stream = TcpStream::connect(platform.api).expect("a connection");
    let head = format!(
        "GET /api/v1/stream HTTP/1.1\r\nhost: {}\r\n{}\r\nconnection: close\r\n\r\n",
        platform.api,
        bearer(&token)[0]
    );
    stream.write_all(head.as_bytes()).expect("sent");
    stream.set_read_timeout(Some(std::time::Duration::from_secs(60))).expect("a timeout");
    let mut first = [0; 12];
    stream.read_exact(&mut first).expect("an answer");
    assert_eq!(&first, b"HTTP/1.1 200");
    platform.ok(&["token", "remove", "deploys"]);
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &bearer(&token)), 401);
    let mut rest = Vec::new();
    stream.read_to_end(&mut rest).expect("the stream ends");
}

#[test]
fn a_token_is_good_until_its_end() {
    let platform = Platform::start(false);
    let token = platform.ok(&["token", "add", "short", "--lasts", "1m"]);
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &bearer(&token)), 200);
    // The record's clock decides, so its minute is over at once.
    let over = "UPDATE token SET expires = now() - interval '1 second' WHERE name = 'short'";
    let ended = crate::accounts::as_control_asks(&platform, over);
    assert!(ended.contains("UPDATE 1"), "{ended}");
    until("it has ended", || {
        (ask(&platform, "GET", "/api/v1/snapshot", &bearer(&token)) == 401).then_some(())
    });
    assert!(!platform.ok(&["token", "list"]).contains("short"));
}

#[test]
fn the_token_in_the_data_directory_is_good_until_it_is_replaced() {
    let platform = Platform::start(false);
    let before = platform.token();
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &bearer(&before)), 200);
    let after = "ab".repeat(32);
    std::fs::write(platform.data().join("client-token"), &after).expect("replaced");
    until("the new one is good", || {
        (ask(&platform, "GET", "/api/v1/snapshot", &bearer(&after)) == 200).then_some(())
    });
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &bearer(&before)), 401);
    platform.ok(&["board"]);
}

#[test]
fn sessions_are_listed_and_ended_and_guessing_at_sign_in_links_is_slowed_down() {
    let platform = Platform::start(false);
    let cookie = |value: &str| vec![format!("cookie: {value}"), format!("origin: http://{}", platform.api)];
    let (first, second) = (session(&platform), session(&platform));
    assert!(first.starts_with("mainyard-session-"), "{first}");
    for session in [&first, &second] {
        assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &cookie(session)), 200);
    }
    assert_eq!(ask(&platform, "POST", "/api/v1/sign-out", &cookie(&first)), 200);
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &cookie(&first)), 401, "it signed out");
    let listed = platform.ok(&["token", "list", "--json"]);
    let listed: serde_json::Value = serde_json::from_str(&listed).expect("JSON");
    let sessions: Vec<&serde_json::Value> =
        listed.as_array().expect("a list").iter().filter(|entry| entry["scope"] == "session").collect();
    assert_eq!(sessions.len(), 1);
    platform.ok(&["sign-out", sessions[0]["id"].as_str().expect("an id")]);
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &cookie(&second)), 401, "it was ended");
    let third = session(&platform);
    platform.ok(&["sign-out", "--all"]);
    assert_eq!(ask(&platform, "GET", "/api/v1/snapshot", &cookie(&third)), 401);

    // A page of another site, and a page of a route on the same machine, change nothing.
    let fourth = session(&platform);
    let with = |lines: &[&str]| {
        let mut all = vec![format!("cookie: {fourth}")];
        all.extend(lines.iter().map(|line| (*line).to_owned()));
        ask(&platform, "POST", "/api/v1/sign-in-keys", &all)
    };
    assert_eq!(with(&[]), 403, "no origin");
    assert_eq!(with(&["origin: null"]), 403);
    assert_eq!(with(&[&format!("origin: https://{}", platform.api)]), 403, "another scheme");
    assert_eq!(with(&[&format!("origin: http://{}", platform.http)]), 403, "another port");
    assert_eq!(with(&[&format!("origin: http://{}", platform.api), "sec-fetch-site: same-site"]), 403);
    assert_eq!(with(&[&format!("origin: http://{}", platform.api), "sec-fetch-site: same-origin"]), 200);

    let guesses: Vec<u16> =
        (0..12).map(|n| ask(&platform, "GET", &format!("/sign-in?key={n}"), &[])).collect();
    assert_eq!(guesses[..6], [401; 6]);
    assert!(guesses[6..].contains(&429), "{guesses:?}");
}

#[test]
fn an_api_that_is_reached_from_outside_speaks_tls_alone() {
    let platform = Platform::new();
    let open = platform.run(&["start", "--background", "--api", "0.0.0.0:18799"]);
    assert!(open.code == 3 && open.err.contains("needs TLS"), "{open:?}");

    let (api, http, https) =
        (platform.api.to_string(), platform.http.to_string(), platform.https.to_string());
    let started = platform.run(&[
        "start",
        "--background",
        "--api",
        &api,
        "--http",
        &http,
        "--https",
        &https,
        "--api-tls",
        "--api-name",
        "yard.localhost",
    ]);
    assert_eq!(started.code, 0, "{started:?}\n{}", platform.logs());
    assert!(started.out.contains(&format!("https://yard.localhost:{}", platform.api.port())), "{started:?}");
    // This machine's own client goes by a loopback port of its own.
    platform.ok(&["environment", "add", "staging"]);
    let plain = call(
        platform.api,
        &Call { method: "GET", target: "/api/v1/health", headers: vec![format!("host: {api}")], body: b"" },
    );
    assert!(plain.map_or(0, |answer| answer.status) == 0, "plain HTTP is not spoken there");
    let authority = platform.data().join("gateway/authority.pem");
    let curl = |more: &[&str]| {
        let mut command = std::process::Command::new("curl");
        command.args(["--silent", "--show-error", "--noproxy", "*", "--include"]).args(more);
        String::from_utf8_lossy(&command.output().expect("curl runs").stdout).into_owned()
    };
    let url = |path: &str| format!("https://yard.localhost:{}{path}", platform.api.port());
    let resolve = format!("yard.localhost:{}:127.0.0.1", platform.api.port());
    let trusted = ["--cacert", authority.to_str().expect("text"), "--resolve", &resolve];
    let health = curl(&[&trusted[..], &[&url("/api/v1/health")]].concat());
    assert!(health.contains(" 200") && health.contains("\"ok\":true"), "{health}");
    assert_eq!(curl(&["--resolve", &resolve, &url("/api/v1/health")]), "", "its authority must be trusted");
    let link = platform.ok(&["sign-in"]);
    let path = link.trim().rsplit_once("/sign-in").expect("a link").1;
    let signed = curl(&[&trusted[..], &[&url(&format!("/sign-in{path}"))]].concat());
    let cookie =
        signed.lines().find(|line| line.to_ascii_lowercase().starts_with("set-cookie:")).expect("a cookie");
    assert!(cookie.contains("__Host-mainyard-session-") && cookie.contains("Secure"), "{cookie}");
}

#[test]
fn the_registry_opens_to_tokens_of_clients_alone() {
    nobody_else_gets_in(&[
        ("GET", "/v2/"),
        ("GET", "/v2/_catalog"),
        ("GET", "/v2/token?scope=repository:lockers/locker-api:pull"),
        ("GET", "/v2/lockers/locker-api/tags/list"),
        ("PUT", "/v2/lockers/locker-api/manifests/1.4.0"),
        ("DELETE", "/v2/lockers/locker-api/manifests/1.4.0"),
        ("POST", "/v2/lockers/locker-api/blobs/uploads/"),
        ("GET", "/v2/lockers/%6cocker-api/tags/list"),
        ("GET", "/v2//"),
        ("GET", "/v2/../api/v1/snapshot"),
    ]);
}

#[test]
fn code_opens_to_tokens_of_clients_alone() {
    nobody_else_gets_in(&[
        ("GET", "/code/staging/form/info/refs?service=git-upload-pack"),
        ("GET", "/code/staging/form/info/refs?service=git-receive-pack"),
        ("POST", "/code/staging/form/git-upload-pack"),
        ("POST", "/code/staging/form/git-receive-pack"),
        ("GET", "/code/staging/%66orm/info/refs"),
        ("GET", "/code//"),
        ("GET", "/code/../api/v1/snapshot"),
    ]);
}

/// Asks without a credential, with a part's, with one that was guessed, and with a session of the console.
fn nobody_else_gets_in(targets: &[(&'static str, &'static str)]) {
    let platform = Platform::start(false);
    let part = std::fs::read_to_string(platform.data().join("token-of-node-node-1")).expect("a part's token");
    let console = session(&platform);
    for (method, target) in targets {
        for headers in [Vec::new(), bearer(&part), bearer("guess"), vec![format!("cookie: {console}")]] {
            let status = ask(&platform, method, target, &headers);
            assert!([400, 401].contains(&status), "{method} {target} {headers:?}: {status}");
        }
    }
}
