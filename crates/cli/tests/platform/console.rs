//! The console in headless Chromium: signing in, seeing, scaling, deploying and going back.

use std::net::TcpListener;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::json;

use crate::common::{Platform, until};

/// Chromium's driver; it and the browser go when this is dropped.
struct Browser {
    driver: Child,
    port: u16,
    _profile: tempfile::TempDir,
    profile: String,
}

impl Browser {
    fn start() -> Browser {
        let port = TcpListener::bind("127.0.0.1:0")
            .and_then(|listener| listener.local_addr())
            .expect("a free port")
            .port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver; `make test` installs it");
        let profile = tempfile::tempdir().expect("a directory");
        let path = profile.path().display().to_string();
        until("the driver answers", || std::net::TcpStream::connect(("127.0.0.1", port)).ok().map(drop));
        Browser { driver, port, profile: path, _profile: profile }
    }

    async fn open(&self) -> Client {
        let arguments = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-sync",
            "--disable-background-networking",
            "--disable-component-update",
            "--window-size=1280,900",
        ];
        let mut arguments: Vec<String> = arguments.map(str::to_owned).to_vec();
        arguments.push(format!("--user-data-dir={}", self.profile));
        let mut capabilities = serde_json::Map::new();
        capabilities.insert(
            "goog:chromeOptions".to_owned(),
            json!({"binary": "/usr/bin/chromium", "args": arguments}),
        );
        let connecting = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{}", self.port))
            .await;
        connecting.expect("a browser")
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

async fn wait_for(client: &Client, css: &str) -> fantoccini::elements::Element {
    let waiting = client.wait().at_most(Duration::from_secs(60)).for_element(Locator::Css(css)).await;
    waiting.unwrap_or_else(|error| panic!("{css}: {error}"))
}

async fn press(client: &Client, words: &str) {
    press_in(client, "", words).await;
}

async fn press_in_dialog(client: &Client, words: &str) {
    press_in(client, "//*[@role='dialog']", words).await;
}

async fn press_in(client: &Client, within: &str, words: &str) {
    let path = format!("{within}//button[normalize-space()='{words}']");
    let button = client.wait().at_most(Duration::from_secs(60)).for_element(Locator::XPath(&path)).await;
    button.unwrap_or_else(|error| panic!("{words}: {error}")).click().await.expect("pressed");
}

async fn wait_for_text(client: &Client, words: &str) {
    let path = format!("//*[contains(normalize-space(.), \"{words}\")]");
    let found = client.wait().at_most(Duration::from_secs(60)).for_element(Locator::XPath(&path)).await;
    found.unwrap_or_else(|error| panic!("{words}: {error}"));
}

#[test]
fn a_person_sees_scales_deploys_and_goes_back() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform.workload("production/label-printer", |w| w["state"] == "failing");
    let browser = Browser::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let client = browser.open().await;
        let base = format!("http://{}", platform.api);
        client.goto(&base).await.expect("opened");
        wait_for_text(&client, "mainyard sign-in").await;
        client.goto(platform.ok(&["sign-in"]).trim()).await.expect("opened");
        client
            .wait()
            .at_most(Duration::from_secs(60))
            .for_url(&format!("{base}/staging").parse().expect("a URL"))
            .await
            .expect("the board");

        client.goto(&format!("{base}/production")).await.expect("opened");
        wait_for_text(&client, "1 thing needs you").await;
        wait_for_text(&client, "keeps ending").await;
        wait_for_text(&client, "api.lockers.localhost").await;

        client.goto(&format!("{base}/staging/locker-api")).await.expect("opened");
        wait_for(&client, "[data-testid='lane-1']").await;
        assert_eq!(client.find_all(Locator::Css("[data-state='ready']")).await.expect("cells").len(), 3);

        press(&client, "Scale 3").await;
        let field = wait_for(&client, "input[name='replicas']").await;
        // All that stands there is marked, then typed over, as a person would.
        field.send_keys("\u{E009}a\u{E000}5").await.expect("typed");
        wait_for_text(&client, "mainyard scale staging/locker-api 5").await;
        press_in_dialog(&client, "Scale to 5").await;
        wait_for(&client, "[data-testid='lane-1'] [data-state='ready']:nth-of-type(5)").await;

        press(&client, "Deploy…").await;
        let choice = wait_for(&client, "select[name='image']").await;
        choice.select_by_value("lockers/locker-api:1.5.0").await.expect("chosen");
        press_in_dialog(&client, "Deploy 1.5.0").await;
        // The switch-over is seen: both lanes at once, then the new one alone.
        wait_for(&client, "[data-testid='lane-2']").await;
        wait_for_text(&client, "release 2 runs with 5 replicas ready").await;
        press(&client, "Roll back").await;
        press_in_dialog(&client, "Roll back").await;
        client.close().await.expect("closed");
    });
    let workload = platform.workload("staging/locker-api", |w| w["state"] == "steady" && w["release"] == 3);
    assert_eq!(workload["wanted"], 5);
}
