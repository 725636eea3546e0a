//! Ways in and ways between, with the clients that people have: curl, OpenSSL's, and a replica's own resolver library.

use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, Output, Stdio};

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DistinguishedName, DnType, IsCa, KeyPair};

use crate::browser::{Browser, wait_for_text};
use crate::common::{Platform, until};

const API: &str = "api.staging.lockers.localhost";

fn declare(platform: &Platform, environment: &str, application: &str, text: &str) -> String {
    let file = platform.dir.path().join(format!("{application}.toml"));
    std::fs::write(&file, format!("application = \"{application}\"\n{text}\n")).expect("written");
    platform.ok(&["declare", &file.display().to_string(), "--in", environment, "--no-wait"])
}

pub(crate) type Issuer = CertifiedIssuer<'static, KeyPair>;

pub(crate) fn authority() -> Issuer {
    let mut params = CertificateParams::default();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    CertifiedIssuer::self_signed(params, KeyPair::generate().expect("a key")).expect("a certificate")
}

/// Writes a chain and a key for a host; gives their files.
pub(crate) fn issue(by: &Issuer, host: &str, dir: &Path, name: &str) -> [String; 2] {
    let key = KeyPair::generate().expect("a key");
    let mut params = CertificateParams::new(vec![host.to_owned()]).expect("a name");
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, host);
    let leaf = params.signed_by(&key, by).expect("signed").pem();
    let files = [dir.join(format!("{name}.pem")), dir.join(format!("{name}.key"))];
    std::fs::write(&files[0], format!("{leaf}{}", by.pem())).expect("written");
    std::fs::write(&files[1], key.serialize_pem()).expect("written");
    files.map(|file| file.display().to_string())
}

fn curl(platform: &Platform, words: &[&str]) -> Output {
    let (http, https) = (platform.http, platform.https);
    let mut command = Command::new("curl");
    command.args(["-sS", "--max-time", "20"]).args(words);
    for host in [API, "secure.staging.localhost"] {
        command.args(["--resolve", &format!("{host}:{}:127.0.0.1", http.port())]);
        command.args(["--resolve", &format!("{host}:{}:127.0.0.1", https.port())]);
    }
    command.output().expect("curl runs")
}

#[test]
#[expect(clippy::too_many_lines, reason = "one story, told in its order")]
fn a_certificate_is_given_shown_and_changed_while_a_connection_lives() {
    let platform = Platform::start(true);
    let dir = platform.dir.path();
    let root = authority();
    let trusted = dir.join("root.pem").display().to_string();
    std::fs::write(&trusted, root.pem()).expect("written");
    let host = "secure.staging.localhost";
    let [chain, key] = issue(&root, host, dir, "first");
    let [other_chain, _] = issue(&root, "else.test", dir, "other");
    let refused =
        platform.run(&["certificate", "add", "staging/lockers", "--chain", &other_chain, "--key", &key]);
    assert!(refused.code == 3 && refused.err.contains("the key does not belong"), "{refused:?}");
    let added = platform.ok(&["certificate", "add", "staging/lockers", "--chain", &chain, "--key", &key]);
    assert!(added.contains(host), "{added}");
    declare(
        &platform,
        "staging",
        "secure",
        "[route.secure]\nto = [{ service = \"locker-api\" }]\ntls = { certificate = \"lockers\" }",
    );
    platform.workload("staging/locker-api", |workload| workload["state"] == "steady");
    let https = format!("https://{host}:{}/who", platform.https.port());
    let http = format!("http://{host}:{}/who", platform.http.port());
    // The first table with the route may come a moment after the record has it.
    until("curl is sent to https and answered there", || {
        let asked = curl(&platform, &["-L", "--cacert", &trusted, &http]);
        String::from_utf8_lossy(&asked.stdout).contains("\"version\"").then_some(())
    });
    let sent = curl(&platform, &["-o", "/dev/null", "-w", "%{http_code} %{redirect_url}", &http]);
    assert_eq!(String::from_utf8_lossy(&sent.stdout), format!("308 {https}"));

    let address = platform.https.to_string();
    let mut client = Command::new("openssl");
    client.args([
        "s_client",
        "-connect",
        &address,
        "-servername",
        host,
        "-CAfile",
        &trusted,
        "-tls1_2",
        "-alpn",
        "http/1.1",
    ]);
    let mut client =
        client.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("it runs");
    let mut input = client.stdin.take().expect("its input");
    let mut lines = BufReader::new(client.stdout.take().expect("its output")).lines().map_while(Result::ok);
    let mut seen = Vec::new();
    let mut read_until = |end: &str| {
        for line in lines.by_ref() {
            seen.push(line.clone());
            if line.contains(end) {
                return;
            }
        }
        panic!("no {end} in {seen:#?}");
    };
    read_until("Verify return code: 0");
    write!(input, "GET /who HTTP/1.1\r\nHost: {host}\r\n\r\n").expect("sent");
    read_until("\"version\"");
    let [next_chain, next_key] = issue(&root, host, dir, "second");
    let print = |platform: &Platform| platform.ok(&["certificate", "show", "staging/lockers", "--json"]);
    let before = print(&platform);
    platform.ok(&["certificate", "add", "staging/lockers", "--chain", &next_chain, "--key", &next_key]);
    assert_ne!(print(&platform), before);
    write!(input, "GET /who HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n").expect("sent");
    read_until("\"version\"");
    drop(input);
    client.wait().expect("it ends");
    let text = seen.join("\n");
    assert!(text.contains("TLSv1.2") && text.contains("ALPN protocol: http/1.1"), "{text}");

    let gone = platform.run(&["certificate", "remove", "staging/lockers"]);
    assert!(gone.code == 3 && gone.err.contains("used by the route staging/secure"), "{gone:?}");
    let wrong = dir.join("wrong.toml");
    let text = "application = \"wrong\"\n[route.wrong]\nto = [{ service = \"locker-api\" }]\ntls = { certificate = \"lockers\" }\n";
    std::fs::write(&wrong, text).expect("written");
    let wrong = platform.run(&["declare", &wrong.display().to_string(), "--in", "staging"]);
    assert!(wrong.code == 3 && wrong.err.contains("certificate-mismatch"), "{wrong:?}");
    let local = dir.join("local.pem").display().to_string();
    std::fs::write(&local, platform.ok(&["certificate", "show-authority"])).expect("written");
    let by_local =
        curl(&platform, &["--cacert", &local, &format!("https://{API}:{}/who", platform.https.port())]);
    assert!(String::from_utf8_lossy(&by_local.stdout).contains("\"version\""), "{by_local:?}");
    for (asked, spoken) in [("--http2", "2"), ("--http1.1", "1.1")] {
        let words = ["--cacert", &local, asked, "-o", "/dev/null", "-w", "%{http_version}"];
        let url = format!("https://{API}:{}/who", platform.https.port());
        let said = curl(&platform, &[&words[..], &[&url]].concat());
        assert_eq!(String::from_utf8_lossy(&said.stdout), spoken);
    }
    let key = std::fs::read(next_key).expect("the key");
    let line = key.split(|byte| *byte == b'\n').nth(1).expect("a line");
    let kept = std::fs::read(platform.data().join("gateway/private.sealed")).expect("what the gateway keeps");
    assert!(!kept.windows(line.len()).any(|part| part == line), "the key is sealed");
}

#[test]
fn inside_names_are_found_and_environments_stay_apart_unless_a_service_is_open() {
    let platform = Platform::start(true);
    for target in ["staging/locker-api", "production/locker-api"] {
        platform.workload(target, |workload| workload["state"] == "steady");
    }
    let lookup = |name: &str| platform.get(API, &format!("/lookup/{name}")).text();
    let address = lookup("locker-api");
    assert!(address.starts_with("10.118.0."), "{address}");
    assert_eq!(lookup("locker-api.staging"), address);
    assert_eq!(lookup("locker-api.staging.internal"), address);
    assert_ne!(lookup("locker-api.production"), address);
    assert!(lookup("locker-apl").contains("not known"), "{}", lookup("locker-apl"));
    assert!(lookup("example.org").contains("not known"), "nothing is forwarded");

    let ask = |url: &str| platform.get(API, &format!("/ask/{url}")).text();
    let closed = ask("locker-api.production");
    assert!(closed.starts_with("403"), "{closed}");
    let open = "[service.open-api]\nselect = { workload = \"locker-api\" }\nports = { 80 = \"http\", 7000 = { port = \"http\", speaks = \"tcp\" } }\nopen_to = [\"staging\"]";
    declare(&platform, "production", "open", open);
    until("the open service answers", || ask("open-api.production").starts_with("200").then_some(()));
    let passed = until("its other port passes connections on", || {
        let answer = ask("open-api.production:7000");
        answer.starts_with("200").then_some(answer)
    });
    assert!(passed.contains("version"), "{passed}");
    let shown = platform.ok(&["show", "service:production/open-api"]);
    assert!(shown.contains("open to   staging") && shown.contains("production/locker-api/a0"), "{shown}");
    let wrong = platform.run(&["show", "service:production/open-apy"]);
    assert!(wrong.err.contains("did you mean `open-api`"), "{wrong:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_that_trusts_the_platforms_authority_is_answered_over_tls() {
    let platform = Platform::start(true);
    for target in ["staging/locker-api", "staging/courier-web"] {
        platform.workload(target, |workload| workload["state"] == "steady");
    }
    let page = format!("https://staging.lockers.localhost:{}/", platform.https.port());
    let authority = platform.dir.path().join("authority.pem");
    std::fs::write(&authority, platform.ok(&["certificate", "show-authority"])).expect("written");

    let stranger = Browser::start();
    let client = stranger.open().await;
    client.goto(&page).await.expect("the browser's own page");
    assert_eq!(client.title().await.expect("a title"), "Privacy error");
    assert!(!client.source().await.expect("its text").contains("Locker 17"));
    client.close().await.expect("closed");

    let browser = Browser::of_someone(&[&authority]);
    let client = browser.open().await;
    client.goto(&page).await.expect("it is trusted");
    wait_for_text(&client, "Locker 17, Market Square").await;
    wait_for_text(&client, "answered by").await;
    assert_eq!(client.title().await.expect("a title"), "Larkfield couriers");
    let protocol =
        client.execute("return performance.getEntriesByType('navigation')[0].nextHopProtocol", vec![]);
    assert_eq!(protocol.await.expect("it ran"), "h2");
    let script = "const done = arguments[0]; const socket = new WebSocket(`wss://api.staging.lockers.localhost:${location.port}/live`); \
                  socket.onmessage = (event) => { done(event.data); socket.close() }; socket.onerror = () => done('refused'); \
                  socket.onopen = () => socket.send('from a browser')";
    let echoed = client.execute_async(script, vec![]).await.expect("it ran");
    assert_eq!(echoed, "from a browser");
    client.close().await.expect("closed");
}
