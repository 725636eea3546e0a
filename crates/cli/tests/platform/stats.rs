//! Usage of replicas, by the kernel's figures, and limits that would fit.

use crate::common::{Platform, until};

/// The demo's declaration with another memory limit for the label printer.
fn smaller(platform: &Platform) -> String {
    let text = "application = \"printing\"\n[workload.printer]\nimage = \"lockers/label-printer:0.9.4\"\nsettings = { PRINTER = \"usb-1\" }\n\
                limits = { memory = \"32 MiB\" }\nreserve = { memory = \"8 MiB\" }\n";
    let file = platform.dir.path().join("printer.toml");
    std::fs::write(&file, text).expect("a file");
    file.display().to_string()
}

#[test]
fn limits_are_held_against_what_was_used() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let stats = |words: &[&str]| platform.run(&[&["stats"][..], words].concat());
    until("the first figures are there", || {
        stats(&["staging/locker-api"]).out.contains("fits").then_some(())
    });
    let shown = stats(&["staging/locker-api"]).out;
    assert!(
        shown.contains("64 MiB fits") && shown.contains("16 MiB is enough: limits = { memory = \"16 MiB\" }"),
        "{shown}"
    );
    let small = stats(&["staging/locker-api", "--memory", "64 KiB"]).out;
    assert!(small.contains("▲ 64 KiB would have ended") && small.contains("16 MiB fits"), "{small}");
    let wrong = stats(&["staging/locker-api", "--memory", "64 Mb"]);
    assert!(wrong.code == 2 && wrong.err.contains("is not a size such as \"128 MiB\""), "{wrong:?}");

    // One that grows until the kernel ends it.
    platform.run(&["declare", &smaller(&platform), "--in", "staging", "--no-wait"]);
    let shown = until("its kills are counted", || {
        let shown = stats(&["staging/printer"]).out;
        shown.contains("32 MiB would have ended the one replica").then_some(shown)
    });
    assert!(shown.contains("try 48 MiB: limits = { memory = \"48 MiB\" }"), "{shown}");
    let all = platform.ok(&["stats"]);
    assert!(all.contains("staging/printer") && all.contains("production/locker-api"), "{all}");
    let forecast = platform.ok(&["deploy", "staging/printer", "--set", "LABELS=a6", "--forecast"]);
    assert!(forecast.contains("▲ staging/printer: 32 MiB would have ended the one replica"), "{forecast}");
}
