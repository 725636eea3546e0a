//! The API as programs meet it.

use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;

use crate::common::{Platform, request, until};

/// Ids of `change` events after a number, until the last one that is asked for.
fn changes(platform: &Platform, header: &str, until: u64) -> Vec<u64> {
    let mut stream = TcpStream::connect(platform.api).expect("a connection");
    let (token, api) = (platform.token(), platform.api);
    let head = format!(
        "GET /api/v1/stream?after=0 HTTP/1.1\r\nhost: {api}\r\nauthorization: Bearer {token}\r\n{header}\r\n"
    );
    stream.write_all(head.as_bytes()).expect("sent");
    let mut ids = Vec::new();
    for line in BufReader::new(stream).lines() {
        if let Some(id) = line.expect("a line").strip_prefix("id: ") {
            ids.push(id.parse().expect("a number"));
            if ids.last() == Some(&until) {
                break;
            }
        }
    }
    ids
}

#[test]
fn nothing_answers_without_a_token_but_health_and_signing_in() {
    let platform = Platform::start(false);
    let bare = |method: &str, path: &str| {
        request(
            platform.api,
            "x",
            &format!("{method} {path} HTTP/1.1\r\nhost: {}\r\nconnection: close\r\n\r\n", platform.api),
            b"",
        )
    };
    assert_eq!(bare("GET", "/api/v1/health").status, 200);
    for (method, path) in [
        ("GET", "/api/v1/snapshot"),
        ("GET", "/api/v1/stream"),
        ("GET", "/api/v1/images"),
        ("POST", "/api/v1/declare"),
        ("POST", "/api/v1/sign-in-keys"),
        ("POST", "/api/v1/link/nodes/node-1/reports"),
        ("GET", "/api/v1/nothing-of-the-kind"),
    ] {
        let answer = bare(method, path);
        assert_eq!(
            (answer.status, answer.json()["code"].as_str()),
            (401, Some("not-signed-in")),
            "{method} {path}"
        );
    }
    // A person's token is not a part's.
    assert_eq!(platform.call("POST", "/api/v1/link/nodes/node-1/reports", "{}").status, 403);
    // A sign-in link works once.
    let link = platform.ok(&["sign-in"]);
    let path = link.trim().strip_prefix(&format!("http://{}", platform.api)).expect("a link").to_owned();
    let first = bare("GET", &path);
    assert!(
        first.headers["set-cookie"].contains("HttpOnly")
            && first.headers["set-cookie"].contains("SameSite=Strict")
    );
    assert_eq!(bare("GET", &path).status, 401);
    // The cookie alone may read, and change nothing from another site's page.
    let cookie = first.headers["set-cookie"].split(';').next().expect("a cookie").to_owned();
    let with = |method: &str, path: &str, origin: &str| {
        let body = r#"{"name":"staging"}"#;
        let head = format!(
            "{method} {path} HTTP/1.1\r\nhost: {}\r\ncookie: {cookie}\r\norigin: {origin}\r\ncontent-type: application/json\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
            platform.api,
            body.len()
        );
        request(platform.api, "x", &head, body.as_bytes()).status
    };
    assert_eq!(with("GET", "/api/v1/snapshot", "http://elsewhere.example"), 200);
    assert_eq!(with("POST", "/api/v1/environments", "http://elsewhere.example"), 403);
    assert_eq!(with("POST", "/api/v1/environments", &format!("http://{}", platform.api)), 200);
}

#[test]
fn the_stream_goes_on_where_it_ended_without_gap_or_repeat() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform.ok(&["scale", "staging/locker-api", "8"]);
    let last = platform.call("GET", "/api/v1/snapshot", "").json()["cursor"].as_u64().expect("a cursor");
    assert_eq!(changes(&platform, "", last), (1..=last).collect::<Vec<_>>());
    let middle = last / 2;
    assert_eq!(
        changes(&platform, &format!("last-event-id: {middle}\r\n"), last),
        (middle + 1..=last).collect::<Vec<_>>()
    );
}

#[test]
fn errors_are_problem_documents_and_the_document_describes_the_paths() {
    let platform = Platform::start(false);
    let answer = platform.call("POST", "/api/v1/environments/staging/workloads/x/scale", r#"{"replicas":1}"#);
    assert_eq!((answer.status, answer.headers["content-type"].as_str()), (404, "application/problem+json"));
    assert_eq!(
        answer.json()["detail"],
        "there is no environment staging; make it with: mainyard environment add staging"
    );
    let answer = platform.call("POST", "/api/v1/environments", "{");
    assert_eq!((answer.status, answer.json()["code"].as_str()), (422, Some("invalid")));
    let document = platform.call("GET", "/api/v1/openapi.json", "").json();
    assert!(
        document["openapi"].as_str().is_some_and(|version| version.starts_with("3.1")),
        "{}",
        document["openapi"]
    );
    let paths: Vec<&String> = document["paths"].as_object().expect("paths").keys().collect();
    insta::assert_snapshot!(
        "openapi_paths",
        paths.iter().map(|path| path.as_str()).collect::<Vec<_>>().join("\n")
    );

    // A host that nobody has, for programs and for people.
    let program = platform.get("nobody.localhost", "/");
    assert_eq!((program.status, program.json()["code"].as_str()), (404, Some("no-such-host")));
    let id = program.json()["request_id"].as_str().expect("an id").to_owned();
    assert_eq!(program.headers["x-request-id"], id);
    let head = "GET / HTTP/1.1\r\nhost: nobody.localhost\r\naccept: text/html\r\nconnection: close\r\n\r\n";
    assert!(request(platform.http, "x", head, b"").text().contains("<h1>Nothing is here</h1>"));
}

#[test]
fn hostile_archives_leave_nothing_behind() {
    let platform = Platform::start(false);
    let dir = platform.dir.path();
    type Fill = dyn Fn(&mut tar::Builder<std::fs::File>);
    let cases: [(&str, &Fill); 3] = [
        ("no-layout.tar", &|archive| {
            let mut header = tar::Header::new_ustar();
            header.set_size(2);
            archive.append_data(&mut header, "hello.txt", &b"hi"[..]).expect("an entry");
        }),
        ("climbing.tar", &|archive| {
            let mut header = tar::Header::new_ustar();
            header.set_size(2);
            let name = b"../../escaped.txt";
            header.as_old_mut().name[..name.len()].copy_from_slice(name);
            header.set_cksum();
            archive.append(&header, &b"hi"[..]).expect("an entry");
        }),
        ("wrong-digest.tar", &|archive| {
            let mut add = |name: &str, content: &str| {
                let mut header = tar::Header::new_ustar();
                header.set_size(content.len() as u64);
                archive.append_data(&mut header, name, content.as_bytes()).expect("an entry");
            };
            let digest = "0".repeat(64);
            add("oci-layout", r#"{"imageLayoutVersion":"1.0.0"}"#);
            let manifest = format!(
                r#"{{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"sha256:{digest}","size":2}}"#
            );
            add("index.json", &format!(r#"{{"schemaVersion":2,"manifests":[{manifest}]}}"#));
            add(&format!("blobs/sha256/{digest}"), "{}");
        }),
    ];
    let mut texts = Vec::new();
    for (name, fill) in cases {
        let path = dir.join(name);
        let mut archive = tar::Builder::new(std::fs::File::create(&path).expect("a file"));
        fill(&mut archive);
        archive.finish().expect("an archive");
        let said = platform.run(&["image", "add", &path.display().to_string(), "--name", "lockers/x:1"]);
        texts.push(format!("{name}: {}", said.shown(&platform)));
    }
    insta::assert_snapshot!("hostile_archives", texts.join("\n"));
    assert!(!dir.join("escaped.txt").exists());
    assert_eq!(
        platform.ok(&["image", "list"]),
        "no image is in the store; add one with: mainyard image add FILE\n"
    );
    until("nothing is left half-way", || {
        let left = std::fs::read_dir(platform.data().join("images/incoming")).ok()?.count();
        (left == 0).then_some(())
    });
}
