//! Every operation of the API, in every spelling, by every kind of caller.

use std::collections::BTreeMap;

use attacker::{Call, Caller, Expected, call, expected, spellings, table};
use mainyard_api::{Described as Operation, Method, Who};

use crate::common::Platform;

/// The credentials of each kind of caller.
pub(crate) struct Credentials {
    host: String,
    by_caller: BTreeMap<Caller, Vec<String>>,
}

impl Credentials {
    pub(crate) fn of(platform: &Platform) -> Credentials {
        let host = platform.api.to_string();
        let read = |name: &str| {
            std::fs::read_to_string(platform.data().join(name)).expect("a token").trim().to_owned()
        };
        let bearer = |token: &str| vec![format!("authorization: Bearer {token}")];
        let expired = platform.ok(&["token", "add", "once", "--lasts", "1m"]).trim().to_owned();
        platform.ok(&["token", "remove", "once"]);
        let session = session(platform);
        let own = format!("origin: http://{host}");
        let by_caller = [
            (Caller::None, vec![]),
            (Caller::Wrong, bearer(&"0".repeat(64))),
            (Caller::Expired, bearer(&expired)),
            (Caller::Session, vec![format!("cookie: {session}"), own]),
            (
                Caller::ForeignPage,
                vec![format!("cookie: {session}"), "origin: http://elsewhere.example".to_owned()],
            ),
            (Caller::Client, bearer(&read("client-token"))),
            (Caller::Part, bearer(&read("token-of-node-node-1"))),
            (Caller::OtherPart, bearer(&read("token-of-gateway-gateway-1"))),
        ];
        Credentials { host, by_caller: by_caller.into_iter().collect() }
    }

    /// Header lines of a caller of an operation: for a gateway's, the gateway is the part that is meant.
    fn headers(&self, operation: &Operation, caller: Caller) -> Vec<String> {
        let swapped = match (operation.who, caller) {
            (Who::Gateway, Caller::Part) => Caller::OtherPart,
            (Who::Gateway, Caller::OtherPart) => Caller::Part,
            _ => caller,
        };
        let mut lines = vec![format!("host: {}", self.host), "content-type: application/json".to_owned()];
        lines.extend(self.by_caller[&swapped].clone());
        lines
    }
}

/// A console's session, as a cookie.
pub(crate) fn session(platform: &Platform) -> String {
    let link = platform.ok(&["sign-in"]);
    let target = link.trim().strip_prefix(&format!("http://{}", platform.api)).expect("a link").to_owned();
    let headers = vec![format!("host: {}", platform.api)];
    let answer =
        call(platform.api, &Call { method: "GET", target: &target, headers, body: b"" }).expect("answered");
    let line = answer.text.lines().find_map(|line| line.strip_prefix("set-cookie: ")).expect("a cookie");
    line.split(';').next().expect("a pair").to_owned()
}

/// The path with names of things that are not there; parts are named as they are.
fn target(operation: &Operation) -> String {
    let path = operation.path.replace("{node}", "node-1").replace("{gateway}", "gateway-1");
    let mut out = String::new();
    for segment in path.trim_start_matches('/').split('/') {
        out.push('/');
        out.push_str(if segment.starts_with('{') { "0x" } else { segment });
    }
    out
}

/// The answer's verdict on authorization.
fn found(status: u16, text: &str) -> Expected {
    match status {
        401 if text.contains("not-signed-in") => Expected::NotSignedIn,
        403 if text.contains("not-allowed") => Expected::NotAllowed,
        400 if text.contains("bad-path") => Expected::BadPath,
        _ => Expected::LetIn,
    }
}

/// Those that end the very credentials that are tried with, or that a signature or a key opens.
fn is_apart(operation: &Operation) -> bool {
    let path = operation.path;
    path.ends_with("/sign-out")
        || path.ends_with("/sessions")
        || path == "/sign-in"
        || path.contains("/pushes/")
}

#[test]
fn every_operation_answers_every_caller_as_the_table_says() {
    let platform = Platform::start(false);
    let credentials = Credentials::of(&platform);
    let operations = mainyard_api::all().copied().collect::<Vec<_>>();
    assert!(operations.len() > 60, "{} operations", operations.len());
    let mut wrong = Vec::new();
    for operation in operations.iter().filter(|operation| !is_apart(operation)) {
        let target = target(operation);
        for caller in Caller::ALL {
            let headers = credentials.headers(operation, caller);
            let request = Call { method: operation.method.word(), target: &target, headers, body: b"" };
            let answer = call(platform.api, &request).expect("answered");
            let found = found(answer.status, &answer.text);
            if found != expected(operation, caller)
                || answer.status == 0
                || answer.status >= 500 && answer.status != 503
            {
                wrong.push(format!(
                    "{} {target} by {caller:?}: {}",
                    operation.method,
                    answer.text.replace("\r\n", " ")
                ));
            }
        }
    }
    assert!(wrong.is_empty(), "{} answers are not as the table says:\n{}", wrong.len(), wrong.join("\n"));
}

#[test]
fn no_other_spelling_of_a_path_reaches_an_operation() {
    let platform = Platform::start(false);
    let credentials = Credentials::of(&platform);
    let mut wrong = Vec::new();
    let mut tried = 0;
    for operation in mainyard_api::all().copied().collect::<Vec<_>>() {
        let plain = target(&operation);
        for spelling in spellings(&plain, operation.path) {
            for &caller in Caller::with_spellings() {
                let headers = credentials.headers(&operation, caller);
                let request =
                    Call { method: operation.method.word(), target: &spelling.target, headers, body: b"" };
                let answer = call(platform.api, &request).expect("answered");
                tried += 1;
                // Refused as it is written, unknown, or a page of the console, which holds nothing.
                let console = answer.status == 200 && answer.text.contains("<!doctype html>");
                let refused = matches!(answer.status, 400 | 401 | 403 | 404 | 405);
                // A method that nothing at the path has is named only to a known caller.
                let other = answer.text.contains("no-such-method") && !caller.is_known();
                if !(console || refused) || other {
                    let said = answer.text.replace("\r\n", " ");
                    wrong.push(format!(
                        "{} {} ({}) by {caller:?}: {said}",
                        operation.method, spelling.target, spelling.name
                    ));
                }
            }
        }
    }
    assert!(tried > 5_000, "{tried} requests");
    assert!(
        wrong.is_empty(),
        "{} of {tried} were let in:\n{}",
        wrong.len(),
        wrong[..wrong.len().min(20)].join("\n")
    );
}

#[test]
fn other_methods_absolute_targets_and_other_hosts_open_nothing() {
    let platform = Platform::start(false);
    let credentials = Credentials::of(&platform);
    let operations = mainyard_api::all().copied().collect::<Vec<_>>();
    let at = |path: &str| operations.iter().filter(|it| it.path == path).collect::<Vec<_>>();
    let mut paths: Vec<&str> = operations.iter().map(|operation| operation.path).collect();
    paths.sort_unstable();
    paths.dedup();
    for path in paths {
        let here = at(path);
        let open = here.iter().any(|operation| operation.who == Who::Anyone);
        let methods =
            ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS", "TRACE", "PROPFIND", "get", "X"];
        for method in methods.into_iter().filter(|method| !here.iter().any(|it| it.method.word() == *method))
        {
            for caller in [Caller::None, Caller::Client] {
                let headers = credentials.headers(here[0], caller);
                let request = Call { method, target: &target(here[0]), headers, body: b"" };
                let answer = call(platform.api, &request).expect("answered");
                let wanted = if caller == Caller::None && !open { 401 } else { 405 };
                assert_eq!(answer.status, wanted, "{method} {path} by {caller:?}: {}", answer.text);
            }
        }
    }
    let api = platform.api;
    let snapshot = "/api/v1/snapshot";
    let absolute = format!("http://{api}{snapshot}");
    let ask = |target: &str, headers: &[&str]| {
        let headers = headers.iter().map(|line| (*line).to_owned()).collect();
        call(api, &Call { method: "GET", target, headers, body: b"" }).expect("answered").status
    };
    let (own, token) = (format!("host: {api}"), format!("authorization: Bearer {}", platform.token().trim()));
    assert_eq!(ask(&absolute, &[&own]), 401, "in absolute form");
    assert_eq!(ask(&absolute, &[&own, &token]), 200);
    for host in ["host: evil.example", "host: 127.0.0.1", "host: localhost:1", "x: y"] {
        assert!(matches!(ask(snapshot, &[host, &token]), 400 | 421), "{host}");
    }
    assert!(matches!(ask(snapshot, &[&own, &own, &token]), 400 | 421), "two hosts");
    assert_eq!(ask(&format!("http://evil.example{snapshot}"), &[&own, &token]), 421);
    // A page that a name of an attacker's leads here is not answered either, whatever it asks for.
    assert_eq!(ask("/", &["host: evil.example:8700"]), 421);
    for header in
        ["x-http-method-override: DELETE", "x-method-override: DELETE", "x-original-url: /api/v1/health"]
    {
        assert_eq!(ask(snapshot, &[&own, header]), 401, "{header}");
        assert_eq!(ask(snapshot, &[&own, &token, header]), 200, "{header}");
    }
    assert_eq!(ask(snapshot, &[&own, &token, &token]), 401, "two credentials");
}

#[test]
fn operations_without_a_credential_are_an_exact_list() {
    let operations = mainyard_api::all().copied().collect::<Vec<_>>();
    let open: Vec<String> = operations
        .iter()
        .filter(|operation| operation.who == Who::Anyone)
        .map(|operation| format!("{} {}", operation.method, operation.path))
        .collect();
    assert_eq!(
        open,
        [
            "GET /api/v1/health",
            "GET /api/v1/openapi.json",
            "GET /sign-in",
            "POST /api/v1/pushes/{environment}/{name}"
        ]
    );
    let mut docs = std::fs::read_to_string("../../docs/security.md").expect("the docs");
    let table = table(&operations);
    if std::env::var_os("MAINYARD_WRITE_DOCS").is_some() {
        let begin = docs.find("| operation | who may call it |").expect("a table");
        let end = begin + docs[begin..].find("\n\n").expect("its end") + 1;
        docs.replace_range(begin..end, &table);
        std::fs::write("../../docs/security.md", &docs).expect("written");
    }
    assert!(docs.contains(&table), "docs/security.md does not have this table of operations:\n{table}");
}

#[test]
fn bodies_are_held_to_size_time_and_depth() {
    let platform = Platform::start(false);
    let (api, token) = (platform.api, format!("authorization: Bearer {}", platform.token().trim()));
    let post = |target: &str, body: &[u8], more: &[&str]| {
        let mut headers =
            vec![format!("host: {api}"), token.clone(), "content-type: application/json".to_owned()];
        headers.extend(more.iter().map(|line| (*line).to_owned()));
        call(api, &Call { method: "POST", target, headers, body }).expect("answered")
    };
    for operation in mainyard_api::all().copied().collect::<Vec<_>>() {
        if operation.limits.body > 32 << 20
            || operation.method != Method::Post
            || operation.who != Who::Person
        {
            continue;
        }
        if is_apart(&operation) {
            continue;
        }
        let body = vec![b' '; operation.limits.body as usize + 1];
        let answer = post(&target(&operation), &body, &[]);
        // What has no body may refuse the path first; nothing larger is ever read.
        assert!(
            matches!(answer.status, 413 | 404),
            "{} {}: {}",
            operation.method,
            operation.path,
            answer.text
        );
    }
    let deep = format!("{}{}", "[".repeat(10_000), "]".repeat(10_000));
    assert_eq!(post("/api/v1/environments", deep.as_bytes(), &[]).status, 422, "10,000 levels");
    // A body of unknown length is counted while it comes.
    let mut chunked = Vec::new();
    for _ in 0..64 {
        chunked.extend_from_slice(b"1000\r\n");
        chunked.extend(vec![b' '; 4096]);
        chunked.extend_from_slice(b"\r\n");
    }
    chunked.extend_from_slice(b"0\r\n\r\n");
    let mut stream = std::net::TcpStream::connect(api).expect("a connection");
    let head = format!(
        "POST /api/v1/environments HTTP/1.1\r\nhost: {api}\r\n{token}\r\ncontent-type: application/json\r\n\
         transfer-encoding: chunked\r\nconnection: close\r\n\r\n"
    );
    use std::io::{Read as _, Write as _};
    stream.write_all(head.as_bytes()).expect("sent");
    let _ = stream.write_all(&chunked);
    let mut said = String::new();
    let _ = stream.read_to_string(&mut said);
    assert!(said.starts_with("HTTP/1.1 413"), "{said}");
    assert_eq!(post("/api/v1/images", b"", &["content-length: 99999999999999"]).status, 413);
}

/// Begins to read a stream; gives the connection and the status that it was answered with.
fn begin_to_read(platform: &Platform, target: &str) -> (std::net::TcpStream, u16) {
    use std::io::{BufRead as _, BufReader, Write as _};
    let api = platform.api;
    let mut stream = std::net::TcpStream::connect(api).expect("a connection");
    let token = platform.token();
    let head =
        format!("GET {target} HTTP/1.1\r\nhost: {api}\r\nauthorization: Bearer {}\r\n\r\n", token.trim());
    stream.write_all(head.as_bytes()).expect("sent");
    let mut line = String::new();
    BufReader::new(&stream).read_line(&mut line).expect("an answer");
    let status = line.split(' ').nth(1).and_then(|word| word.parse().ok()).expect("a status");
    (stream, status)
}

/// Whether the other side has neither ended a stream nor closed its connection.
fn is_read(stream: &mut std::net::TcpStream) -> bool {
    stream.set_nonblocking(true).expect("a mode");
    let (mut piece, mut ended) = ([0; 65_536], false);
    loop {
        match std::io::Read::read(stream, &mut piece) {
            Ok(0) => return false,
            // The last chunk of an answer (RFC 9112, section 7.1).
            Ok(read) => ended = piece[..read].ends_with(b"0\r\n\r\n"),
            Err(error) => return error.kind() == std::io::ErrorKind::WouldBlock && !ended,
        }
    }
}

#[test]
fn one_member_reads_only_so_many_streams_at_once() {
    let platform = Platform::start(false);
    let targets = ["/api/v1/stream?views=true", "/api/v1/requests"];
    let mut open = Vec::new();
    let refused = (0..200).find(|number| {
        let (stream, status) = begin_to_read(&platform, targets[number % 2]);
        assert!(matches!(status, 200 | 429), "{status}");
        open.push(stream);
        status == 429
    });
    // One whose reader is slow may have been ended meanwhile, and made room.
    open.pop();
    let held = open.iter_mut().map(is_read).filter(|is_read| *is_read).count();
    assert!(refused.is_some() && (32..=64).contains(&held), "{held} are read, {refused:?} was refused");
    // Everything else of the same member is answered, and a stream that ends makes room.
    assert_eq!(platform.run(&["environment", "list"]).code, 0);
    drop(open);
    crate::common::until("a stream is read again", || {
        (begin_to_read(&platform, "/api/v1/stream").1 == 200).then_some(())
    });
}

#[test]
fn queries_hold_only_known_keys_and_texts_that_the_record_can_hold() {
    let platform = Platform::start(false);
    let (api, token) = (platform.api, format!("authorization: Bearer {}", platform.token().trim()));
    let ask = |method: &'static str, target: &str, more: &str| {
        let headers = vec![format!("host: {api}"), token.clone(), more.to_owned()];
        call(api, &Call { method, target, headers, body: b"" }).expect("answered")
    };
    for operation in mainyard_api::all().copied().filter(|it| it.who == Who::Person && !is_apart(it)) {
        // Names that could be there, so that the query is what is refused.
        let name = if operation.path.contains("{build}") { "1" } else { "absent" };
        let target = format!("{}?forecats=true", target(&operation).replace("0x", name));
        let answer = ask(operation.method.word(), &target, "accept: */*");
        assert_eq!(answer.status, 422, "{} {target}: {}", operation.method, answer.text);
        assert!(answer.text.contains("forecats"), "{} {target}: {}", operation.method, answer.text);
    }
    for target in [
        "/api/v1/trail?by=a%00b",
        "/api/v1/why?url=http://a.example/%00",
        "/api/v1/images/config?image=a%00b",
        "/api/v1/traffic?of=a%00b",
    ] {
        let answer = ask("GET", target, "accept: */*");
        assert_eq!(answer.status, 422, "{target}: {}", answer.text);
    }
    // An id that could forge a line of the log, or fill it, is replaced.
    for hostile in ["a\tb", "{\"level\":\"error\"}", &"a".repeat(65), "short", "../../../../etc"] {
        let answer = ask("GET", "/api/v1/openapi.json", &format!("x-request-id: {hostile}"));
        let id = answer.text.lines().find_map(|line| line.strip_prefix("x-request-id: ")).expect("an id");
        assert_ne!(id, hostile);
        assert!(id.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-'), "{id}");
    }
}
