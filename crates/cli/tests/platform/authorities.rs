//! Certificates that are obtained from an authority outside, renewed in time, and tried again where it says no.

use std::process::Command;
use std::time::Duration;

use serde_json::Value;
use testing::acme_authority::AcmeAuthority;

use crate::common::{Platform, until};

const HOST: &str = "kiosk.lockers.localhost";

/// A platform with one route, whose certificate comes from a made-up authority.
fn platform(challenge: &str, options: &[&str]) -> (Platform, AcmeAuthority) {
    let platform = Platform::new();
    let said = platform.try_start_with(options);
    assert_eq!(said.code, 0, "{said:?}");
    let authority = AcmeAuthority::start(platform.http, platform.https);
    platform.ok(&["environment", "add", "staging"]);
    add(&platform, &authority, challenge);
    (platform, authority)
}

fn add(platform: &Platform, authority: &AcmeAuthority, challenge: &str) {
    let contact = "ops@lockers.example";
    let words = [
        "authority",
        "add",
        "public",
        "--directory",
        &authority.directory,
        "--contact",
        contact,
        "--challenge",
        challenge,
    ];
    let refused = platform.run(&words);
    assert!(refused.code == 2 && refused.err.contains("--agree-to-terms"), "{refused:?}");
    platform.ok(&[&words[..], &["--agree-to-terms"]].concat());
}

fn declare(platform: &Platform) {
    let text = format!(
        "application = \"lockers\"\n[route.kiosk]\nhost = \"{HOST}\"\nredirect = {{ to = \"https://lockers.example/\" }}\n\
         tls = {{ obtain_from = \"public\" }}\n"
    );
    let file = platform.dir.path().join("mainyard.toml");
    std::fs::write(&file, text).expect("a file");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
}

fn certificate(platform: &Platform) -> Option<Value> {
    let shown = platform.run(&["certificate", "show", "staging/kiosk", "--json"]);
    (shown.code == 0).then(|| serde_json::from_str(&shown.out).expect("JSON"))
}

/// What a visitor gets who trusts that authority alone.
fn visit(platform: &Platform, authority: &AcmeAuthority) -> String {
    let root = platform.dir.path().join("root.pem");
    std::fs::write(&root, authority.root()).expect("a file");
    let port = platform.https.port();
    let mut command = Command::new("curl");
    command.args(["--silent", "--show-error", "--noproxy", "*", "--output", "/dev/null"]).args([
        "--write-out",
        "%{http_code}",
        "--cacert",
    ]);
    command.arg(&root).args(["--resolve", &format!("{HOST}:{port}:127.0.0.1")]);
    let done = command.arg(format!("https://{HOST}:{port}/")).output().expect("curl runs");
    String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned()
}

#[test]
fn a_certificate_is_obtained_over_http_by_any_gateway_and_renewed_before_it_ends() {
    let (platform, authority) = platform("http-01", &["--gateways", "2"]);
    authority.set_life(Duration::from_secs(24));
    declare(&platform);
    let first = until("the certificate is there", || certificate(&platform));
    until("visitors are shown it", || (visit(&platform, &authority) == "308").then_some(()));
    let of = |certificate: &Value| certificate["fingerprint"].as_str().map(str::to_owned);
    let second = until("it is renewed", || certificate(&platform).filter(|it| of(it) != of(&first)));
    assert!(second["until"].as_str() > first["until"].as_str());
    assert_eq!(authority.accounts(), 1, "the account and its key are kept");
    until("visitors are shown the next one", || (visit(&platform, &authority) == "308").then_some(()));
    let listed = platform.ok(&["authority", "list"]);
    assert!(listed.contains("http-01") && !listed.contains(HOST), "nothing is on order: {listed}");
    let refused = platform.run(&["authority", "remove", "public"]);
    assert!(refused.err.contains("take `obtain_from` out there first"), "{refused:?}");
}

#[test]
fn a_certificate_is_obtained_over_tls_and_by_nobody_else() {
    let (platform, authority) = platform("tls-alpn-01", &[]);
    declare(&platform);
    until("the certificate is there", || certificate(&platform));
    until("visitors are shown it", || (visit(&platform, &authority) == "308").then_some(()));
    assert_eq!(authority.signed(), 1);
    // What was answered once is not answered for ever.
    let asked = platform.get(HOST, "/.well-known/acme-challenge/anything");
    assert_ne!(asked.status, 200);
}

#[test]
fn an_authority_that_says_no_is_told_in_its_own_words_and_asked_again_later() {
    let (platform, authority) = platform("http-01", &[]);
    authority.set_refuses(Some(("rateLimited", "too many certificates for lockers.localhost this week")));
    declare(&platform);
    let says = until("the refusal is told", || {
        let listed = platform.ok(&["authority", "list"]);
        listed.contains("too many certificates").then_some(listed)
    });
    assert!(says.contains("(rateLimited)") && says.contains("tried again at"), "{says}");
    let board = platform.ok(&["board", "staging"]);
    assert!(board.contains("certificate kiosk") && board.contains("too many certificates"), "{board}");
    let why = platform.run(&["why", &format!("https://{HOST}:{}/", platform.https.port())]);
    assert!(why.out.contains("too many certificates"), "{why:?}");
    assert_eq!(authority.signed(), 0);
    // An authority that is added again is asked at once.
    authority.set_refuses(None);
    add(&platform, &authority, "http-01");
    until("the certificate is there", || certificate(&platform));
    let away =
        platform.run(&["authority", "add", "away", "--directory", "ftp://acme.example/", "--agree-to-terms"]);
    assert!(away.err.contains("is no directory of an authority"), "{away:?}");
}
