//! Any moment: everything as it was, in the client and in the console.

use fantoccini::Locator;
use jiff::Timestamp;
use serde_json::Value;

use crate::browser::{Browser, follow, wait_for, wait_for_text};
use crate::common::{Platform, until};

#[test]
fn everything_is_shown_as_it_was_and_what_changed_since() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |it| it["state"] == "steady");
    let then = Timestamp::now().to_string();
    platform.ok(&["scale", "staging/locker-api", "5"]);
    platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    platform.ok(&["remove", "staging/label-printer", "--yes"]);

    let board = platform.ok(&["board", "staging", "--as-of", &then]);
    for words in
        ["not as it is now", "3 of 3", "label-printer", "- workload label-printer", "image 1.4.0 → 1.5.0"]
    {
        assert!(board.contains(words), "{words}: {board}");
    }
    let shown = platform.ok(&["show", "staging/locker-api", "--as-of", &then]);
    assert!(
        shown.contains("release 1  lockers/locker-api:1.4.0") && shown.contains("replicas 3 → 5"),
        "{shown}"
    );
    let json = platform.ok(&["show", "staging/locker-api", "--json", "--as-of", &then]);
    let json: Value = serde_json::from_str(&json).expect("JSON");
    assert_eq!(
        (&json["workload"]["wanted"], json["releases"].as_array().map(Vec::len)),
        (&3.into(), Some(1))
    );
    assert!(!platform.ok(&["board", "staging"]).contains("label-printer"));

    let early = platform.run(&["board", "staging", "--as-of", "2001-01-01T00:00:00Z"]);
    assert!(early.code == 3 && early.err.contains("it begins at"), "{early:?}");
    let late = platform.run(&["board", "staging", "--as-of", "2999-01-01T00:00:00Z"]);
    assert!(late.code == 3 && late.err.contains("still to come"), "{late:?}");
    let odd = platform.run(&["board", "staging", "--as-of", "noonish"]);
    assert!(odd.code == 2 && odd.err.contains("is not a time"), "{odd:?}");

    // The trail, narrowed.
    let scaled = platform.ok(&["trail", "--in", "staging", "--act", "scaled", "--from", &then]);
    assert!(scaled.contains("5 wanted, release 1") && scaled.lines().count() == 2, "{scaled}");
    assert!(platform.ok(&["trail", "--in", "staging", "--until", &then]).contains("declared"));
    assert!(!platform.ok(&["trail", "--in", "staging", "--until", &then]).contains("scaled"));
    let decided = platform.ok(&["trail", "staging/locker-api", "--by", "platform"]);
    assert!(decided.contains("done: release 2 runs with 5 replicas"), "{decided}");
    assert!(platform.ok(&["trail", "--by", "nobody"]).contains("nothing is like that"));

    let browser = Browser::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let client = browser.open().await;
        client.goto(platform.ok(&["sign-in"]).trim()).await.expect("opened");
        let base = format!("http://{}", platform.api);
        wait_for(&client, "nav").await;
        client.goto(&format!("{base}/as-of/{then}/staging")).await.expect("opened");
        wait_for_text(&client, "As it was on").await;
        wait_for_text(&client, "label-printer").await;
        // Every page is of then, and nothing can be done there.
        wait_for(&client, "a[href$='/staging/locker-api']").await.click().await.expect("followed");
        wait_for_text(&client, "What answered then").await;
        assert!(client.current_url().await.expect("a URL").path().starts_with("/as-of/"));
        let buttons =
            client.find_all(Locator::XPath("//button[starts-with(., 'Scale') or starts-with(., 'Deploy')]"));
        assert!(buttons.await.expect("asked").is_empty());
        client
            .find(Locator::LinkText("What changed since"))
            .await
            .expect("a link")
            .click()
            .await
            .expect("followed");
        wait_for_text(&client, "1.4.0 → 1.5.0").await;
        client.find(Locator::LinkText("Back to now")).await.expect("a link").click().await.expect("followed");
        wait_for_text(&client, "live").await;
        assert_eq!(client.current_url().await.expect("a URL").path(), "/staging");
        // From an act in the trail to the board as it was then.
        client.goto(&format!("{base}/staging/-/trail?act=scaled")).await.expect("opened");
        follow(&client, "td a[href*='/as-of/']").await;
        wait_for_text(&client, "As it was on").await;
        client.goto(&format!("{base}/as-of/2001-01-01T00:00:00Z/staging")).await.expect("opened");
        wait_for_text(&client, "The record does not reach back").await;
        client.close().await.expect("closed");
    });
    until("nothing of it changed anything", || {
        platform.ok(&["board", "staging"]).contains("5 of 5").then_some(())
    });
}
