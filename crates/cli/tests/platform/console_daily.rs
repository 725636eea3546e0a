//! The console as daily furniture: for keyboards and screen readers, on narrow screens, in the dark, when the
//! stream is lost and found, with very many workloads and very many lines.

use std::time::Duration;

use fantoccini::{Client, Locator};
use serde_json::{Value, json};

use crate::browser::{Browser, press, wait_for, wait_for_text};
use crate::common::{Platform, until};

const API: &str = "api.staging.lockers.localhost";

/// The accessibility engine, from the console's packages.
fn engine() -> String {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
    std::fs::read_to_string(path).expect("the console's packages; `make test` fetches them")
}

/// Violations that the engine finds: rules with the places that break them.
async fn faults(client: &Client) -> Vec<String> {
    client.execute(&engine(), vec![]).await.expect("the engine runs");
    let script = "const done = arguments[arguments.length - 1];\
        axe.run(document, { resultTypes: ['violations'], runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'best-practice'] })\
        .then((found) => done(found.violations.map((rule) => rule.id + ': ' + rule.nodes.map((node) => node.target + ' ' + node.failureSummary).join(' | '))))";
    let found: Value = client.execute_async(script, vec![]).await.expect("it tells");
    found.as_array().expect("a list").iter().map(|rule| rule.as_str().unwrap_or("").to_owned()).collect()
}

async fn sign_in(client: &Client, platform: &Platform) -> String {
    client.goto(platform.ok(&["sign-in"]).trim()).await.expect("opened");
    wait_for_text(client, "needs you").await;
    format!("http://{}", platform.api)
}

fn block_on<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime").block_on(work)
}

#[test]
fn every_page_passes_the_accessibility_engine_in_light_dark_and_narrow() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform.workload("production/label-printer", |w| w["state"] == "failing");
    let url = format!("file://{}", platform.data().join("demo/lockers.git").display());
    platform.ok(&["source", "add", "staging/lockers", &url, "--folder", "deploy"]);
    let then = format!("/as-of/{}", jiff::Timestamp::now());
    let (board_then, since_then) = (format!("{then}/staging"), format!("{then}/staging/-/since"));
    let browser = Browser::start();
    block_on(async {
        let client = browser.open().await;
        let base = sign_in(&client, &platform).await;
        let pages = [
            ("/production", "needs you"),
            ("/staging/locker-api", "What answers now"),
            ("/staging/locker-api?tab=replicas", "Restarts"),
            ("/staging/locker-api?act=scale", "The same as a command"),
            ("/staging/locker-api/log", "lines"),
            ("/staging/-/trail", "declared"),
            ("/staging/-/routes", "api.staging.lockers.localhost"),
            ("/staging/-/sources", "staging stands here"),
            ("/staging/-/sources?act=hold-source", "It does nothing until it is resumed"),
            ("/staging/-/routes?act=add-route", "The file that is declared"),
            ("/staging?act=add-workload", "The file that is declared"),
            ("/staging/-/images", "lockers/locker-api:1.5.0"),
            ("/staging/-/builds", "Nothing was built yet"),
            ("/staging/-/builds?act=new-code", "recipe.toml"),
            ("/staging/-/requests", "Answered by"),
            ("/staging/-/usage", "Ended for memory"),
            ("/staging/-/secrets", "lockers-db-password"),
            ("/staging/-/secrets?act=add-secret", "encrypted before it is stored"),
            ("/staging/-/certificates", "hosts are served with certificates"),
            ("/staging/-/certificates?act=add-certificate", "as PEM"),
            ("/staging/-/access", "Last used"),
            (&board_then, "As it was on"),
            (&since_then, "What changed in staging since"),
            ("/staging/nothing", "There is no workload"),
        ];
        for (theme, width) in [("light", 1280), ("dark", 1280), ("light", 390)] {
            client.set_window_size(width, 900).await.expect("its size");
            let script = format!("localStorage.setItem('theme', '{theme}')");
            client.execute(&script, vec![]).await.expect("kept");
            // What differs there is colour and width: fewer pages show it.
            let shown = if (theme, width) == ("light", 1280) { pages.len() } else { 2 };
            for (path, words) in &pages[..shown] {
                client.goto(&format!("{base}{path}")).await.expect("opened");
                wait_for_text(&client, words).await;
                let found = faults(&client).await;
                assert!(found.is_empty(), "{theme} {width} {path}:\n{}", found.join("\n"));
                // Nothing makes the page itself wider than the screen.
                let wide: Value = client
                    .execute("return document.documentElement.scrollWidth - innerWidth", vec![])
                    .await
                    .expect("measured");
                assert!(
                    wide.as_i64().is_some_and(|over| over <= 0),
                    "{theme} {width} {path}: {wide} too wide"
                );
            }
        }
        client.close().await.expect("closed");
    });
}

#[test]
fn the_console_works_from_the_keyboard() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let browser = Browser::start();
    block_on(async {
        let client = browser.open().await;
        let base = sign_in(&client, &platform).await;
        let keys = |text: &'static str| {
            let client = client.clone();
            async move { client.active_element().await.expect("a focus").send_keys(text).await.expect("typed") }
        };
        keys("\u{E009}k\u{E000}").await;
        wait_for(&client, "[role='combobox']").await;
        keys("scale staging locker").await;
        keys("\u{E007}").await;
        wait_for(&client, "[role='dialog'] input[name='replicas']").await;
        keys("\u{E009}a\u{E000}4\u{E007}").await;
        wait_for(&client, "[data-testid='lane-1'] [data-state='ready']:nth-of-type(4)").await;
        assert_eq!(client.current_url().await.expect("a URL").as_str(), format!("{base}/staging/locker-api"));

        // What is looked for in the log is in the address, and so can be sent to someone.
        client.goto(&format!("{base}/staging/locker-api/log?find=listening+on")).await.expect("opened");
        wait_for(&client, "[role='log'] mark").await;
        let words = wait_for(&client, "[role='status']").await.text().await.expect("words");
        assert!(words.contains(" of ") && words.contains("lines"), "{words}");
        client.goto(&format!("{base}/staging/-/trail?of=staging%2Flocker-api")).await.expect("opened");
        wait_for_text(&client, "4 wanted, release 1").await;
        client.close().await.expect("closed");
    });
}

#[test]
fn a_lost_stream_is_shown_and_reconnects() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let browser = Browser::start();
    let [supervisor] = platform.part("supervisor")[..] else { panic!("one supervisor") };
    let [control] = platform.part("control")[..] else { panic!("one control") };
    let signal = |pid, signal| {
        // SAFETY: the process belongs to this test's own platform.
        assert_eq!(unsafe { libc::kill(pid, signal) }, 0);
    };
    block_on(async {
        let client = browser.open().await;
        sign_in(&client, &platform).await;
        // Nobody starts control again for now.
        signal(supervisor, libc::SIGSTOP);
        signal(control, libc::SIGKILL);
        wait_for_text(&client, "The stream has been cut since").await;
        signal(supervisor, libc::SIGCONT);
        until("control is back", || platform.part("control").first().copied().filter(|now| *now != control));
        let gone = client.wait().at_most(Duration::from_secs(60));
        gone.for_element(Locator::XPath("//body[not(contains(., 'The stream has been cut'))]"))
            .await
            .expect("found again");
        platform.ok(&["scale", "staging/courier-web", "3"]);
        wait_for(&client, "[aria-label='3 of 3 ready']").await;
        client.close().await.expect("closed");
    });
}

#[test]
fn a_thousand_workloads_do_not_stutter() {
    let platform = Platform::new();
    let (api, http, https) =
        (platform.api.to_string(), platform.http.to_string(), platform.https.to_string());
    platform.ok(&[
        "start",
        "--background",
        "--demo",
        "--crowd",
        "1000",
        "--api",
        &api,
        "--http",
        &http,
        "--https",
        &https,
    ]);
    let browser = Browser::start();
    block_on(async {
        let client = browser.open().await;
        let base = sign_in(&client, &platform).await;
        client.goto(&format!("{base}/crowd")).await.expect("opened");
        wait_for_text(&client, "locker-00001").await;
        let drawn = client.find_all(Locator::Css("tbody tr")).await.expect("rows").len();
        assert!((10..120).contains(&drawn), "{drawn} of 1000 rows are drawn");
        // While it is scrolled from end to end only what is in sight is drawn, whatever the machine's speed.
        let script = "const done = arguments[arguments.length - 1]; const rows = []; const gaps = []; let last = performance.now();\
            const frame = (now) => { gaps.push(now - last); last = now; rows.push(document.querySelectorAll('tbody tr').length);\
              scrollTo(0, document.documentElement.scrollHeight * rows.length / 120);\
              if (rows.length < 120) requestAnimationFrame(frame); else done([rows, gaps.sort((a, b) => a - b)]) };\
            requestAnimationFrame(frame)";
        let told: Value = client.execute_async(script, vec![]).await.expect("scrolled");
        let most = told[0].as_array().into_iter().flatten().filter_map(Value::as_u64).max();
        assert!(most.is_some_and(|most| (10..120).contains(&most)), "{most:?} rows at once");
        println!(
            "120 frames over 1,000 workloads: half within {} ms, the longest {} ms",
            told[1][60], told[1][119]
        );
        wait_for_text(&client, "locker-01000").await;
        press(&client, "Find or do Ctrl K").await;
        let field = wait_for(&client, "[role='combobox']").await;
        field.send_keys("locker-00777\u{E007}").await.expect("typed");
        wait_for_text(&client, "What answers now").await;
        assert_eq!(json!(client.current_url().await.expect("a URL").path()), json!("/crowd/locker-00777"));
        client.close().await.expect("closed");
    });
}

#[test]
fn the_map_shows_where_the_line_is_cut_and_a_guided_form_makes_a_way_in() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform.ok(&["add", "service", "staging/desks", "--select", "tier=apl", "--port", "80=http"]);
    platform.ok(&["add", "route", "staging/desks", "--to", "desks"]);
    let browser = Browser::start();
    block_on(async {
        let client = browser.open().await;
        let base = sign_in(&client, &platform).await;
        client.goto(&format!("{base}/staging/-/routes")).await.expect("opened");
        wait_for(&client, "[data-testid=cut]").await;
        wait_for_text(&client, "It selects tier = apl, which no workload in staging carries; tier = api is carried by locker-api.").await;
        press(&client, "Add a route").await;
        let name = wait_for(&client, "[role=dialog] input").await;
        name.send_keys("kiosk").await.expect("written");
        crate::browser::choose(&client, "service", "locker-api").await;
        wait_for_text(&client, "[route.kiosk]").await;
        crate::browser::press_in_dialog(&client, "Add it").await;
        wait_for_text(&client, "kiosk.staging.localhost").await;
        // The demo's visitors come all the time; a slow one more is reported as open.
        let stays = std::thread::scope(|scope| {
            let slow = scope.spawn(|| platform.get(API, "/slow/6000").status);
            let open = until("the slow request is told as open", || {
                let told = platform.ok(&["stats", "staging/locker-api", "--by", "route", "--json"]);
                let json: Value = serde_json::from_str(&told).expect("JSON");
                let rows = json["traffic"].as_array().expect("rows").clone();
                rows.into_iter().find(|row| row["way"] == API && row["open"].as_u64() > Some(0))
            });
            assert_eq!(slow.join().expect("no panic"), 200);
            open
        });
        assert_eq!(stays["inside"], false);
        press(&client, "By replica").await;
        wait_for_text(&client, "locker-api/a0").await;
        press(&client, "By release").await;
        wait_for_text(&client, "locker-api release 1").await;
        wait_for(&client, "svg[aria-label='p95 of locker-api release 1']").await;
        client.close().await.expect("closed");
    });
    until("the new way answers", || {
        (platform.get("kiosk.staging.localhost", "/who").status == 200).then_some(())
    });
    let trail = platform.ok(&["trail", "staging/kiosk"]);
    assert!(trail.contains("route staging/kiosk"), "{trail}");
}

#[test]
fn a_commit_is_seen_and_taken_in_the_console() {
    let platform = Platform::start(true);
    platform.workload("staging/courier-web", |w| w["state"] == "steady");
    let repository = platform.data().join("demo/lockers.git");
    let url = format!("file://{}", repository.display());
    let work = platform.dir.path().join("work");
    let git = |words: &[&str]| {
        let mut command = std::process::Command::new("git");
        command.args(["-c", "user.name=Noor", "-c", "user.email=noor@larkfield.example"]).args(words);
        let done = command.output().expect("git runs");
        assert!(done.status.success(), "{words:?}: {done:?}");
    };
    git(&["clone", "--quiet", &url, &work.display().to_string()]);
    platform.ok(&["source", "add", "staging/lockers", &url, "--folder", "deploy", "--look-every", "1s"]);
    let browser = Browser::start();
    block_on(async {
        let client = browser.open().await;
        let base = sign_in(&client, &platform).await;
        client.goto(&format!("{base}/staging/-/sources")).await.expect("opened");
        wait_for_text(&client, "staging stands here").await;
        let file = work.join("deploy/mainyard.toml");
        let text = std::fs::read_to_string(&file).expect("the file");
        let text = text.replacen("replicas = 2", "replicas = 3", 1);
        std::fs::write(&file, text).expect("written");
        let place = work.display().to_string();
        git(&["-C", &place, "commit", "--quiet", "--all", "--message", "A third page for the couriers"]);
        git(&["-C", &place, "push", "--quiet"]);
        wait_for_text(&client, "A third page for the couriers").await;
        press(&client, "Catch up…").await;
        wait_for_text(&client, "replicas 2 → 3").await;
        crate::browser::press_in_dialog(&client, "Catch up").await;
        wait_for(&client, "[data-testid=source] li:first-child [class*=good]").await;
        client.close().await.expect("closed");
    });
    platform.workload("staging/courier-web", |w| w["wanted"] == 3 && w["state"] == "steady");
    let shown = platform.ok(&["source", "show", "staging/lockers"]);
    assert!(
        shown.contains("A third page for the couriers  Noor") && shown.contains("staging stands here"),
        "{shown}"
    );
}
