//! Two controls on one record: one decides, the other names it, and takes over when it is killed. Nothing that
//! was acknowledged is lost, nothing is decided twice, and a stream that is taken up elsewhere has no gap.
//!
//! Each control is a process of its own: this very test program, started again with what it should serve.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{SocketAddr, TcpListener};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use mainyard_certificates::authority::Names;
use mainyard_control::{ClientToken, Config};
use serde_json::{Value, json};
use testing::postgres::Server;

const SERVE: &str = "MAINYARD_TEST_CONTROL";
const TOKEN: &str = "a-token-for-this-test";
const WRITERS: usize = 200;
/// Declarations of each writer: 2,000 in all.
const EACH: usize = 10;

/// How many declarations each of them makes; `MAINYARD_WRITES` says another number.
fn each() -> usize {
    std::env::var("MAINYARD_WRITES").ok().and_then(|text| text.parse().ok()).unwrap_or(EACH)
}

/// Not a test: a control, when this program was started as one.
#[test]
fn serve_as_a_control() {
    let Ok(brief) = std::env::var(SERVE) else { return };
    let brief: Value = serde_json::from_str(&brief).expect("a brief");
    let text = |key: &str| brief[key].as_str().unwrap_or_default().to_owned();
    let address: SocketAddr = text("address").parse().expect("an address");
    tracing_subscriber::fmt().with_writer(std::io::stderr).with_ansi(false).init();
    let config = Config {
        name: text("name"),
        url: format!("http://{address}"),
        listener: TcpListener::bind(address).expect("the address is free"),
        database: text("database"),
        repositories: std::path::PathBuf::from(text("images")).with_file_name("repositories"),
        ssh: None,
        code: std::path::PathBuf::from(text("images")).with_file_name("code"),
        git_allowed: Vec::new(),
        git_account: None,
        images: text("images").into(),
        object_store: None,
        builds_at_once: 2,
        instance: "test".into(),
        client_token: ClientToken::Given(TOKEN.into()),
        part_tokens: vec![("gateway/gateway-1".into(), format!("{TOKEN}-of-gateway-1"))],
        addresses: vec![address],
        names: Vec::new(),
        tls: None,
        authority_names: Names::of(&[], &[]),
        secrets_key: mainyard_control::KeySource::Given("5e".repeat(32)),
        member: "mira".into(),
        gateway_http: String::new(),
        gateway_https: String::new(),
        authority: Default::default(),
    };
    mainyard_control::run(config).expect("it serves until it is ended");
}

struct Process {
    child: Child,
    url: String,
}

impl Process {
    fn start(name: &str, database: &str, dir: &std::path::Path) -> Process {
        let address = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a free port");
        let brief = json!({
            "name": name, "address": address.to_string(), "database": database,
            "images": dir.join("images").display().to_string(),
        });
        let log = std::fs::File::create(dir.join(format!("{name}.log"))).expect("a log");
        let mut command = Command::new(std::env::current_exe().expect("this program"));
        command.args(["--exact", "serve_as_a_control", "--nocapture"]).env(SERVE, brief.to_string());
        let child = command.stdout(Stdio::null()).stderr(log).spawn().expect("a control");
        Process { child, url: format!("http://{address}/api/v1") }
    }

    fn kill(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        self.kill();
    }
}

async fn until<T, F: Future<Output = Option<T>>>(what: &str, mut ask: impl FnMut() -> F) -> T {
    let begun = Instant::now();
    loop {
        if let Some(value) = ask().await {
            return value;
        }
        assert!(begun.elapsed() < Duration::from_secs(90), "waited too long until {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

async fn post(http: &reqwest::Client, url: &str, path: &str, body: &Value) -> reqwest::Result<(u16, Value)> {
    let answer = http.post(format!("{url}{path}")).bearer_auth(TOKEN).json(body).send().await?;
    let status = answer.status().as_u16();
    Ok((status, answer.json().await.unwrap_or_default()))
}

fn declaration(writer: usize, number: usize) -> Value {
    let text = format!(
        "application = \"notes-{writer}\"\n[workload.notes-{writer}]\nimage = \"lockers/courier-web:2.3.0\"\nreplicas = 0\n\
         settings = {{ NUMBER = \"{number}\" }}\n"
    );
    json!({ "environment": "staging", "files": [{ "name": "notes.toml", "text": text }] })
}

/// Declares one after the other, at whichever control takes it; remembers what was acknowledged.
async fn write(
    http: reqwest::Client,
    urls: [String; 2],
    writer: usize,
    done: Arc<AtomicUsize>,
) -> Vec<usize> {
    let mut acknowledged = Vec::new();
    let mut at = writer % 2;
    for number in 0..each() {
        loop {
            match post(&http, &urls[at], "/declare", &declaration(writer, number)).await {
                Ok((200, _)) => break acknowledged.push(number),
                Ok((421 | 503, _)) | Err(_) => {
                    at = 1 - at;
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
                Ok((status, body)) => panic!("{status}: {body}"),
            }
        }
        done.fetch_add(1, Ordering::SeqCst);
    }
    acknowledged
}

/// Numbers of changes as a stream tells them; taken up at the other control whenever it breaks.
async fn follow(http: reqwest::Client, urls: [String; 2], until: Arc<AtomicUsize>) -> Vec<u64> {
    let (mut seen, mut at) = (Vec::<u64>::new(), 0);
    loop {
        let last = seen.last().copied().unwrap_or(0).to_string();
        let asked = http.get(format!("{}/stream", urls[at])).bearer_auth(TOKEN).header("last-event-id", last);
        if let Ok(answer) = asked.send().await {
            let mut body = answer.bytes_stream();
            let mut text = String::new();
            while let Some(Ok(chunk)) = body.next().await {
                text.push_str(&String::from_utf8_lossy(&chunk));
                while let Some(end) = text.find("\n\n") {
                    let event: String = text.drain(..end + 2).collect();
                    let id = event.lines().find_map(|line| line.strip_prefix("id: "));
                    seen.extend(id.map(|id| id.parse::<u64>().expect("a number")));
                }
                let target = until.load(Ordering::SeqCst);
                if target > 0 && seen.last().is_some_and(|last| *last >= target as u64) {
                    return seen;
                }
            }
        }
        at = 1 - at;
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_holder_is_killed_during_writes() {
    let server = Server::start();
    let database = server.database("two_controls");
    let dir = tempfile::tempdir().expect("a directory");
    let http = reqwest::Client::builder().no_proxy().build().expect("a client");
    let mut first = Process::start("control-1", &database, dir.path());
    let health = |url: String| {
        let http = http.clone();
        async move {
            http.get(format!("{url}/environments"))
                .bearer_auth(TOKEN)
                .send()
                .await
                .ok()
                .filter(|a| a.status() == 200)
        }
    };
    until("the first answers", || health(first.url.clone())).await;
    let second = Process::start("control-2", &database, dir.path());
    until("the second answers", || health(second.url.clone())).await;
    let urls = [first.url.clone(), second.url.clone()];

    // A control that does not decide says which one does, to people and to parts.
    let added =
        post(&http, &urls[0], "/environments", &json!({ "name": "staging" })).await.expect("an answer");
    assert_eq!(added.0, 200, "{}", added.1);
    let (status, problem) =
        post(&http, &urls[1], "/environments", &json!({ "name": "production" })).await.expect("an answer");
    assert_eq!((status, &problem["code"]), (421, &json!("another-decides")), "{problem}");
    let part = mainyard_control_client::Control::at(
        urls[1].trim_end_matches("/api/v1"),
        &format!("{TOKEN}-of-gateway-1"),
    );
    let refused =
        part.orders("/link/gateways/gateway-1/orders", &json!({ "life": 1 })).await.err().expect("a refusal");
    assert!(refused.to_string().contains("another control decides"), "{refused}");
    part.orders("/link/gateways/gateway-1/orders", &json!({ "life": 1 }))
        .await
        .expect("the next call goes to the one that was named");

    let (done, last) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let stream = tokio::spawn(follow(http.clone(), urls.clone(), Arc::clone(&last)));
    let writers: Vec<_> = (0..WRITERS)
        .map(|writer| tokio::spawn(write(http.clone(), urls.clone(), writer, Arc::clone(&done))))
        .collect();
    until("a third is written", || {
        let done = Arc::clone(&done);
        async move { (done.load(Ordering::SeqCst) > WRITERS * each() / 3).then_some(()) }
    })
    .await;
    first.kill();
    let mut acknowledged = Vec::new();
    for (writer, task) in writers.into_iter().enumerate() {
        acknowledged.extend(task.await.expect("a writer").into_iter().map(|number| (writer, number)));
    }
    assert_eq!(acknowledged.len(), WRITERS * each());

    let answer =
        http.get(format!("{}/snapshot", urls[1])).bearer_auth(TOKEN).send().await.expect("an answer");
    let snapshot: Value = answer.json().await.expect("a snapshot");
    last.store(snapshot["cursor"].as_u64().expect("a cursor") as usize, Ordering::SeqCst);
    let seen = stream.await.expect("the stream");
    assert!(seen.iter().copied().eq(1..=*seen.last().expect("changes")), "a gap or a repeat");

    // Each acknowledged declaration is a release, exactly one; and releases are numbered without a hole.
    let mut releases: BTreeMap<usize, BTreeMap<u64, usize>> = BTreeMap::new();
    for release in snapshot["objects"]["release"].as_object().expect("releases").values() {
        let writer =
            release["workload"]["name"].as_str().and_then(|name| name.rsplit('-').next()?.parse().ok());
        let writer = writer.expect("a writer's number");
        let number =
            release["spec"]["settings"]["NUMBER"].as_str().and_then(|n| n.parse().ok()).expect("a number");
        let held =
            releases.entry(writer).or_default().insert(release["number"].as_u64().expect("numbered"), number);
        assert_eq!(held, None, "a release number was given twice");
    }
    for (writer, of_it) in &releases {
        assert!(of_it.keys().copied().eq(1..=of_it.len() as u64), "{writer}: {:?}", of_it.keys());
        let declared: BTreeSet<usize> = of_it.values().copied().collect();
        assert_eq!((of_it.len(), declared.len()), (each(), each()), "{writer}: each was decided once");
    }
    assert_eq!(releases.len(), WRITERS);
}
