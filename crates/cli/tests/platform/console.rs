//! The console in headless Chromium: signing in, seeing, scaling, deploying and going back.

use std::time::Duration;

use fantoccini::Locator;

use crate::browser::{Browser, choose, press, press_in_dialog, wait_for, wait_for_text};
use crate::common::Platform;

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
        choose(&client, "image", "lockers/locker-api:1.5.0").await;
        press_in_dialog(&client, "Deploy 1.5.0").await;
        // The switch-over is seen: both lanes at once, then the new one alone.
        wait_for(&client, "[data-testid='lane-2']").await;
        wait_for_text(&client, "release 2 runs with 5 replicas ready").await;
        client.goto(&format!("{base}/staging/locker-api/compare?from=1&to=2")).await.expect("opened");
        wait_for_text(&client, "mainyard compare staging/locker-api@1 staging/locker-api@2").await;
        wait_for_text(&client, "1.5.0").await;
        client.goto(&format!("{base}/staging/locker-api")).await.expect("opened");
        press(&client, "Hold…").await;
        wait_for(&client, "input[name='because']").await.send_keys("counting parcels").await.expect("typed");
        press_in_dialog(&client, "Hold").await;
        // The dialog says nearly the same; what is left before an act was answered takes the act along.
        wait_for_text(&client, "Nothing automatic moves it until it is resumed.").await;
        client.goto(&format!("{base}/staging")).await.expect("opened");
        wait_for_text(&client, "ounting parcels, held by").await;
        press(&client, "Resume").await;
        press_in_dialog(&client, "Resume").await;
        wait_for_text(&client, "1 thing needs you").await;
        client.goto(&format!("{base}/staging/locker-api")).await.expect("opened");
        press(&client, "Roll back").await;
        press_in_dialog(&client, "Roll back").await;
        // A browser that is closed drops what it has not sent.
        wait_for(&client, "[data-testid='lane-3']").await;
        client.close().await.expect("closed");
    });
    let workload = platform.workload("staging/locker-api", |w| w["state"] == "steady" && w["release"] == 3);
    assert_eq!(workload["wanted"], 5);
}

#[test]
fn a_person_goes_from_no_code_to_an_open_address() {
    let platform = Platform::start(true);
    let browser = Browser::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let client = browser.open().await;
        client.goto(platform.ok(&["sign-in"]).trim()).await.expect("opened");
        wait_for_text(&client, "needs you").await;
        let base = format!("http://{}", platform.api);
        client.goto(&format!("{base}/staging/-/builds")).await.expect("opened");
        press(&client, "From code to an address").await;
        let field = wait_for(&client, "[role=dialog] input[placeholder=survey]").await;
        field.send_keys("opening-hours").await.expect("typed");
        // The platform says what is missing, and how it is made.
        wait_for_text(&client, "mainyard image base bases/python:3 --packages python3,dash,coreutils").await;
        platform.ok(&["image", "base", "bases/python:3", "--packages", "python3,dash,coreutils"]);
        client.goto(&format!("{base}/staging/-/builds?act=new-code")).await.expect("opened");
        let field = wait_for(&client, "[role=dialog] input[placeholder=survey]").await;
        field.send_keys("opening-hours").await.expect("typed");
        // Every file can be read before it is written.
        press_in_dialog(&client, "index.html").await;
        wait_for_text(&client, "<h1>Hello from opening-hours.</h1>").await;
        press_in_dialog(&client, "mainyard.toml").await;
        wait_for_text(&client, "[workload.opening-hours]").await;
        press_in_dialog(&client, "Make it").await;
        wait_for(&client, "a[href^='http://opening-hours.staging.']").await;
        client.close().await.expect("closed");
    });
    platform.workload("staging/opening-hours", |w| w["state"] == "steady");
    let shown = platform.ok(&["code", "show", "staging/opening-hours", "--json"]);
    let shown: serde_json::Value = serde_json::from_str(&shown).expect("JSON");
    let address = shown["addresses"][0].as_str().expect("an address").trim_start_matches("http://");
    let host = address.split(':').next().expect("a host");
    assert!(platform.get(host, "/").text().contains("Hello from opening-hours."), "{shown}");
}
