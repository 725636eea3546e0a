//! Headless Chromium with its driver, and what a person does in it.

use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::json;

use crate::common::until;

/// Chromium's driver; it and the browser go when this is dropped.
pub(crate) struct Browser {
    driver: Child,
    port: u16,
    _profile: tempfile::TempDir,
    profile: String,
}

impl Browser {
    /// One that trusts what its person has trusted: nothing yet.
    pub(crate) fn start() -> Browser {
        Browser::of_someone(&[])
    }

    /// One whose person trusts these authorities, given as files of PEM.
    pub(crate) fn of_someone(trusted: &[&Path]) -> Browser {
        let port = TcpListener::bind("127.0.0.1:0")
            .and_then(|listener| listener.local_addr())
            .expect("a free port")
            .port();
        let profile = tempfile::tempdir().expect("a directory");
        let store = profile.path().join(".pki/nssdb");
        std::fs::create_dir_all(&store).expect("made");
        let certutil = |words: &[&str]| {
            let mut command = Command::new("certutil");
            command.args(["-d", &format!("sql:{}", store.display())]).args(words);
            let done = command.output().expect("certutil; `make test` installs it");
            assert!(done.status.success(), "certutil {words:?}: {done:?}");
        };
        certutil(&["-N", "--empty-password"]);
        for file in trusted {
            certutil(&["-A", "-t", "C,,", "-n", "trusted", "-i", &file.display().to_string()]);
        }
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .env("HOME", profile.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver; `make test` installs it");
        let path = profile.path().display().to_string();
        until("the driver answers", || std::net::TcpStream::connect(("127.0.0.1", port)).ok().map(drop));
        Browser { driver, port, profile: path, _profile: profile }
    }

    pub(crate) async fn open(&self) -> Client {
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
        // A script on a busy machine takes as long as it takes.
        capabilities.insert("timeouts".to_owned(), json!({"script": 300_000, "pageLoad": 300_000}));
        let connecting = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{}", self.port))
            .await;
        connecting.expect("a browser")
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // Asked to end, the driver ends its browsers as well; killed, it would leave them.
        // SAFETY: no memory is involved; the driver is this test's own child and was not waited for.
        unsafe { libc::kill(self.driver.id() as i32, libc::SIGTERM) };
        let begun = std::time::Instant::now();
        while matches!(self.driver.try_wait(), Ok(None)) && begun.elapsed() < Duration::from_secs(10) {
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.driver.kill();
        let _ = self.driver.wait();
        // A test that failed left its browser open; the driver does not always end it.
        let own = format!("--user-data-dir={}", self.profile);
        for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
            let words = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
            let pid = entry.file_name().to_str().and_then(|name| name.parse::<i32>().ok());
            if let Some(pid) = pid.filter(|_| String::from_utf8_lossy(&words).contains(&own)) {
                // SAFETY: no memory is involved; only this browser was given this profile.
                unsafe { libc::kill(pid, libc::SIGKILL) };
            }
        }
    }
}

pub(crate) async fn wait_for(client: &Client, css: &str) -> fantoccini::elements::Element {
    let waiting = client.wait().at_most(Duration::from_secs(60)).for_element(Locator::Css(css)).await;
    waiting.unwrap_or_else(|error| panic!("{css}: {error}"))
}

pub(crate) async fn press(client: &Client, words: &str) {
    press_in(client, "", words).await;
}

pub(crate) async fn press_in_dialog(client: &Client, words: &str) {
    press_in(client, "//*[@role='dialog']", words).await;
}

pub(crate) async fn press_in(client: &Client, within: &str, words: &str) {
    let path = format!("{within}//button[normalize-space()='{words}']");
    let button = client.wait().at_most(Duration::from_secs(60)).for_element(Locator::XPath(&path)).await;
    button.unwrap_or_else(|error| panic!("{words}: {error}")).click().await.expect("pressed");
}

/// Follows a link that may be drawn again between being found and being pressed, as rows of a page that is live are.
pub(crate) async fn follow(client: &Client, css: &str) {
    loop {
        match wait_for(client, css).await.click().await {
            Err(error) if error.is_stale_element_reference() => {}
            outcome => return outcome.unwrap_or_else(|error| panic!("{css}: {error}")),
        }
    }
}

/// Opens the choice of this name and takes the one of its words.
pub(crate) async fn choose(client: &Client, name: &str, words: &str) {
    wait_for(client, &format!("[data-choice='{name}']")).await.click().await.expect("opened");
    let path = format!("//*[@role='option'][normalize-space()='{words}']");
    let option = client.wait().at_most(Duration::from_secs(60)).for_element(Locator::XPath(&path)).await;
    option.unwrap_or_else(|error| panic!("{words}: {error}")).click().await.expect("chosen");
}

pub(crate) async fn wait_for_text(client: &Client, words: &str) {
    let path = format!("//*[contains(normalize-space(.), \"{words}\")]");
    let found = client.wait().at_most(Duration::from_secs(60)).for_element(Locator::XPath(&path)).await;
    found.unwrap_or_else(|error| panic!("{words}: {error}"));
}
