//! The callers that are let in.

use std::io::{BufReader, Write};

use base64::Engine;
use serde_json::json;

use crate::place::{Place, read_request, replica, telling};

#[test]
fn only_a_valid_token_authenticates() {
    let (api, _read) = telling("api");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"enter": {"token": "door"}}))
        .secret("door", "open sesame")
        .open();
    let refused = gateway.get("/", "");
    assert_eq!(
        (refused.status, refused.header("www-authenticate")),
        (401, Some("Bearer realm=\"mainyard\""))
    );
    assert_eq!(gateway.get("/", "Authorization: Bearer open\r\n").status, 401);
    assert_eq!(gateway.get("/", "Authorization: bearer open sesame\r\n").status, 200);
    let twice = "Authorization: Bearer open sesame\r\nAuthorization: Bearer open sesame\r\n";
    assert_eq!(gateway.get("/", twice).status, 401, "what is said twice is not said");
}

#[test]
fn names_and_passwords_open_line_by_line() {
    let (api, _read) = telling("api");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"enter": {"basic": "staff"}}))
        .secret("staff", "mira:one\r\njon:two\n")
        .open();
    let with = |pair: &str| {
        let pair = base64::engine::general_purpose::STANDARD.encode(pair);
        gateway.get("/", &format!("Authorization: Basic {pair}\r\n")).status
    };
    assert_eq!(
        [with("mira:one"), with("jon:two"), with("jon:one"), with(""), with("mira")],
        [200, 200, 401, 401, 401]
    );
    assert!(gateway.get("/", "").header("www-authenticate").is_some_and(|it| it.starts_with("Basic")));
}

#[test]
fn a_missing_password_secret_refuses_everyone() {
    let (api, _read) = telling("api");
    let gateway = Place::default().service("api", &[&api]).api(json!({"enter": {"token": "door"}})).open();
    let refused = gateway.get("/", "Authorization: Bearer \r\n");
    assert!(refused.status == 503 && refused.text().contains("secret-missing"), "{}", refused.text());
}

#[test]
fn whoever_is_asked_decides() {
    let (api, read) = telling("api");
    let door = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while let Some(asked) = read_request(&mut reader) {
            let (method, path) = (asked.header("x-forwarded-method"), asked.header("x-forwarded-uri"));
            let status = match (asked.header("cookie"), method, path) {
                (Some("who=mira"), Some("POST"), Some("/parcels?x=1")) => "204 Yes",
                (Some("who=jon"), ..) => "403 No",
                (Some("who=odd"), ..) => "418 Odd",
                _ => "401 Who",
            };
            let _ = stream.write_all(format!("HTTP/1.1 {status}\r\ncontent-length: 0\r\n\r\n").as_bytes());
        }
    });
    let enter = json!({"enter": {"ask_url": "http://doorman/may", "within": "2s"}});
    let gateway = Place::default().service("api", &[&api]).service("doorman", &[&door]).api(enter).open();
    let ask = |who: &str| {
        let head = format!(
            "POST /parcels?x=1 HTTP/1.1\r\nHost: a.test\r\nCookie: who={who}\r\nContent-Length: 2\r\n\r\nhi"
        );
        gateway.send(head.as_bytes())
    };
    assert_eq!(
        [ask("mira").status, ask("jon").status, ask("eve").status, ask("odd").status],
        [200, 403, 401, 503]
    );
    assert_eq!(read.recv().expect("one request").body, b"hi", "the body went to the replica alone");
    assert!(read.try_recv().is_err(), "nobody else got in");
}

#[test]
fn a_visitor_is_refused_when_the_authorization_service_is_silent() {
    let (api, _read) = telling("api");
    let enter = json!({"enter": {"ask_url": "http://doorman/may"}});
    let gateway = Place::default().service("api", &[&api]).api(enter).open();
    let refused = gateway.get("/", "");
    assert!(refused.status == 503 && refused.text().contains("door-silent"), "{}", refused.text());
}
