//! Every page and every dialog of the console at a laptop's and a telephone's size, with long names and long sentences:
//! nothing runs over its card or the window, and nothing is cut off.

use std::time::Duration;

use fantoccini::actions::{InputSource, KeyAction, KeyActions};
use fantoccini::{Client, Locator};
use serde_json::Value;

use crate::browser::{Browser, wait_for};
use crate::common::Platform;

const SIZES: [(u32, u32); 2] = [(1280, 800), (390, 844)];

/// As long as a name may be.
const LONG: &str = "parcel-shelf-inventory-reconciliation-by";

/// Finds elements that stand over an edge, or are cut off by one. Scrolling elements may be wider than shown.
const LOOK: &str = r#"
const wide = window.innerWidth;
const faults = [];
const named = (el) => `${el.tagName.toLowerCase()} "${(el.textContent || el.getAttribute('aria-label') || '').trim().slice(0, 60)}"`;
const scrolls = (el) => ['auto', 'scroll'].includes(getComputedStyle(el).overflowX);
const inScroller = (el, until) => { for (let up = el; up && up !== until; up = up.parentElement) if (scrolls(up) || up.closest('.sr-only')) return true; return false; };
if (document.documentElement.scrollWidth > wide + 1) faults.push(`the page is ${document.documentElement.scrollWidth} wide`);
for (const el of document.querySelectorAll('main *, header *, nav *, [role=dialog] *')) {
  const box = el.getBoundingClientRect();
  if (box.width === 0 || box.height === 0 || el.closest('svg')?.contains(el) && el.tagName !== 'svg') continue;
  if (!inScroller(el, document.body) && (box.right > wide + 1 || box.left < -1)) faults.push(`${named(el)} stands over the window's edge`);
  const style = getComputedStyle(el);
  if (['hidden', 'clip'].includes(style.overflowX) && el.scrollWidth > el.clientWidth + 1 && !el.title && !el.closest('.sr-only') && el.clientWidth > 1) faults.push(`${named(el)} is cut off`);
  const card = el.parentElement?.closest('section, [role=dialog], [role=status]');
  if (card && !inScroller(el, card)) {
    const edge = card.getBoundingClientRect();
    if (box.right > edge.right + 1 || box.left < edge.left - 1) faults.push(`${named(el)} stands over its card`);
  }
}
if (wide >= 1024) for (const el of document.querySelectorAll('main *, [role=dialog] *')) {
  // What is hidden at the side of a table is not seen on a laptop.
  if (scrolls(el) && !['PRE', 'TEXTAREA', 'INPUT'].includes(el.tagName) && el.clientWidth > 1 && el.scrollWidth > el.clientWidth + 1) faults.push(`${named(el)} is ${el.scrollWidth} wide in ${el.clientWidth}`);
}
const dialog = document.querySelector('[role=dialog]');
if (dialog) for (const button of dialog.querySelectorAll('.sticky button')) {
  const box = button.getBoundingClientRect();
  if (box.bottom > window.innerHeight + 1 || box.top < -1) faults.push(`the button "${button.textContent}" is out of sight`);
}
return [...new Set(faults)].slice(0, 8);
"#;

async fn look(client: &Client, place: &str, faults: &mut Vec<String>) {
    let found: Value = client.execute(LOOK, Vec::new()).await.expect("looked");
    for fault in found.as_array().into_iter().flatten() {
        faults.push(format!("{place}: {}", fault.as_str().unwrap_or_default()));
    }
}

/// Names, sentences and states that take much room.
fn fill(platform: &Platform) {
    let file = platform.data().join("long.toml");
    let text = format!(
        "application = \"{LONG}\"\n[workload.{LONG}]\nimage = \"lockers/locker-api:1.4.0\"\nports = {{ http = 8080 }}\n\
         settings = {{ A_SETTING_WITH_A_LONG_NAME_OF_ITS_OWN = \"{}\" }}\n[route.{LONG}]\nto = [{{ service = \"{LONG}\" }}]\n",
        "a-long-value-without-any-room-to-break-".repeat(4)
    );
    std::fs::write(&file, text).expect("written");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
    let target = format!("staging/{LONG}");
    let sentence = "the shelves are counted by hand until the new scanners arrive, ".repeat(4);
    platform.ok_with_input(&["secret", "add", &format!("staging/{}", &LONG[..39])], "x");
    platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    platform.ok(&["deploy", &target, "--set", "ANOTHER_SETTING_WITH_A_LONG_NAME=of-a-long-value-too"]);
    platform.ok(&["hold", &target, "--because", sentence.trim()]);
    let code = platform.dir.path().join("long-code");
    std::fs::create_dir(&code).expect("a folder");
    let words = format!("echo {}", "a-long-command-without-any-room-to-break-".repeat(4));
    let recipe = format!(
        "image = {{ name = \"lockers/{LONG}\" }}\n[part.{LONG}]\nbase = \"bases/{LONG}:1\"\nsteps = [{{ run = \"{words}\" }}]\n"
    );
    std::fs::write(code.join("recipe.toml"), recipe).expect("written");
    platform.run(&["build", &code.display().to_string()]);
    let repository = platform.data().join("demo/lockers.git");
    let url = format!("file://{}", repository.display());
    platform.run(&["source", "add", &format!("staging/{LONG}"), &url, "--folder", "deploy"]);
}

#[test]
fn nothing_overflows_or_is_cut_off() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    fill(&platform);
    let browser = Browser::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let faults = runtime.block_on(async {
        let client = browser.open().await;
        client.goto(platform.ok(&["sign-in"]).trim()).await.expect("opened");
        wait_for(&client, "main h1, main section").await;
        let mut faults = Vec::new();
        for (width, height) in SIZES {
            client.set_window_size(width, height).await.expect("sized");
            walk(&client, &platform, &format!("{width}x{height}"), &mut faults).await;
        }
        client.close().await.expect("closed");
        faults
    });
    assert!(faults.is_empty(), "{} places:\n{}", faults.len(), faults.join("\n"));
}

async fn walk(client: &Client, platform: &Platform, size: &str, faults: &mut Vec<String>) {
    let base = format!("http://{}/staging", platform.api);
    let pages = [
        String::new(),
        "/-/routes".to_owned(),
        "/-/sources".to_owned(),
        "/-/trail?platform=true".to_owned(),
        "/-/images".to_owned(),
        "/-/builds?build=1".to_owned(),
        "/-/requests".to_owned(),
        "/-/usage".to_owned(),
        "/-/secrets".to_owned(),
        "/-/certificates".to_owned(),
        "/-/access".to_owned(),
        "/locker-api".to_owned(),
        "/locker-api/compare?from=1&to=2".to_owned(),
        "/locker-api/log".to_owned(),
        format!("/{LONG}"),
        format!("/{LONG}/compare?from=1&to=2"),
    ];
    for page in &pages {
        client.goto(&format!("{base}{page}")).await.expect("opened");
        // The pages' bar is there as soon as the board was read.
        wait_for(client, "nav[aria-label=Pages]").await;
        wait_for(client, "main h1, main section, [role=log]").await;
        look(client, &format!("{size} {page}"), faults).await;
        dialogs(client, &format!("{size} {page}"), faults).await;
    }
}

/// Opens a dialog, where nothing lies over what opens it. Gives the words on that, or nothing where there is no such.
const PRESS: &str = r#"
const trigger = document.querySelectorAll('main [aria-haspopup=dialog]')[arguments[0]];
if (!trigger) return null;
trigger.scrollIntoView({block: 'center', inline: 'center'});
const box = trigger.getBoundingClientRect();
const on = document.elementFromPoint(box.x + box.width / 2, box.y + box.height / 2);
const free = on !== null && (trigger.contains(on) || on.contains(trigger));
trigger.click();
return {words: trigger.textContent, free};
"#;

/// Opens a page's dialog of this number. `None` if the page has no such dialog.
///
/// Returns the dialog's name and whether its trigger could be pressed with a pointer. A change that arrives at the same
/// moment may take the trigger away together with its dialog; the trigger that is there then is pressed.
async fn open_dialog(client: &Client, number: usize, place: &str) -> Option<(String, bool)> {
    let mut name = format!("{place} dialog {number}");
    for _ in 0..6 {
        let pressed = client.execute(PRESS, vec![number.into()]).await.expect("pressed");
        name = format!("{place} dialog {:?}", pressed["words"].as_str()?);
        let waiting = client.wait().at_most(Duration::from_secs(10));
        if waiting.for_element(Locator::Css("[role=dialog]")).await.is_ok() {
            return Some((name, pressed["free"] == true));
        }
    }
    panic!("{name} does not open");
}

/// Opens each dialog of a page once.
async fn dialogs(client: &Client, place: &str, faults: &mut Vec<String>) {
    for number in 0..6 {
        let Some((place, free)) = open_dialog(client, number, place).await else { break };
        if !free {
            faults.push(format!("{place}: something lies over what opens it"));
        }
        look(client, &place, faults).await;
        // To the element that has the focus: the dialog may be drawn again at any moment.
        let escape = KeyActions::new("keyboard".to_owned());
        let escape =
            escape.then(KeyAction::Down { value: '\u{E00C}' }).then(KeyAction::Up { value: '\u{E00C}' });
        client.perform_actions(escape).await.expect("Escape");
        let gone = client.wait().at_most(Duration::from_secs(10));
        gone.for_element(Locator::Css("body:not(:has([role=dialog]))")).await.expect("it closes");
    }
}
