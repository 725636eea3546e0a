//! What replicas used, and which limits would do.

use std::collections::BTreeMap;

use comfy_table::Cell;
use mainyard_control::{OfRelease, Stats, WayFigures};
use mainyard_core::model::{Bytes, Signal, Target};
use mainyard_core::sizing::DAYS;

use super::acts::path;
use crate::args::Output;
use crate::client::Client;
use crate::show::{coloured, print, table};
use crate::words::{Failure, Paint, shape};

fn read<T: serde::de::DeserializeOwned>(answer: serde_json::Value) -> Result<T, Failure> {
    serde_json::from_value(answer)
        .map_err(|error| Failure::failed(format!("the answer cannot be read: {error}")))
}

pub async fn of_one(
    client: &Client,
    target: &Target,
    memory: Option<String>,
    output: Output,
) -> Result<(), Failure> {
    let memory = memory.map(|text| {
        text.parse::<Bytes>().map_err(|expected| Failure::usage(format!("{text:?} is not {expected}")))
    });
    let query = memory.transpose()?.map_or(String::new(), |limit| format!("?memory={}B", limit.bytes()));
    let answer = client.get(&format!("{}{query}", path(target, "/stats"))).await?;
    if output.json {
        println!("{answer:#}");
        return Ok(());
    }
    let stats: Stats = read(answer)?;
    served(client, target).await?;
    println!(
        "{}  {}",
        Paint::stdout().strong(&target.to_string()),
        Paint::stdout().quiet(&format!("the last {DAYS} days"))
    );
    if stats.releases.is_empty() {
        return say_nothing(&stats);
    }
    let mut rows = table(&[
        "RELEASE",
        "REPLICAS AND RUNS",
        "NEEDED",
        "PEAK",
        "LIMIT",
        "ENDED FOR MEMORY",
        "HELD BACK",
        "PROCESSES",
    ]);
    for release in &stats.releases {
        rows.add_row(row(release));
    }
    print(&rows);
    println!("needed: memory that the kernel cannot take back; peak: with cached files, which it can");
    let signal = if stats.fit.does() { Signal::Good } else { Signal::Caution };
    println!("{} {}", Paint::stdout().signal(signal, shape(signal)), stats.words);
    if stats.releases.iter().any(|release| !release.counts) {
        println!(
            "{}",
            Paint::stdout().quiet("releases in brackets were not done, and tell nothing of the limit")
        );
    }
    Ok(())
}

/// What was served in the last ten seconds, by the way in and the release.
async fn served(client: &Client, target: &Target) -> Result<(), Failure> {
    let snapshot = client.snapshot().await?;
    let mut ways: BTreeMap<(&str, u32), Vec<&WayFigures>> = BTreeMap::new();
    for figure in snapshot.figures.iter().filter(|figure| figure.workload == target.to_string()) {
        ways.entry((&figure.way, figure.release)).or_default().push(figure);
    }
    if ways.is_empty() {
        return Ok(());
    }
    let mut rows = table(&["WAY IN", "RELEASE", "REQUESTS", "FAILED", "P50 · P95 · P99", "IN", "OUT"]);
    for ((way, release), figures) in ways {
        let most =
            |of: fn(&WayFigures) -> Option<f64>| figures.iter().filter_map(|it| of(it)).fold(0.0, f64::max);
        let sum = |of: fn(&WayFigures) -> f64| figures.iter().map(|it| of(it)).sum::<f64>();
        let bytes = |each: f64| format!("{}/s", Bytes::new(each as u64));
        rows.add_row([
            way.to_owned(),
            release.to_string(),
            format!("{:.1}/s", sum(|it| it.rate)),
            figures.iter().map(|it| it.failed).sum::<u64>().to_string(),
            format!("{:.1} · {:.1} · {:.1} ms", most(|it| it.p50), most(|it| it.p95), most(|it| it.p99)),
            bytes(sum(|it| it.received)),
            bytes(sum(|it| it.sent)),
        ]);
    }
    println!(
        "{}  {}",
        Paint::stdout().strong(&target.to_string()),
        Paint::stdout().quiet("the last 10 seconds")
    );
    print(&rows);
    println!();
    Ok(())
}

fn say_nothing(stats: &Stats) -> Result<(), Failure> {
    if stats.measured {
        println!("nothing was measured yet; the first figures come within ten seconds of a replica's start");
    } else {
        println!(
            "nothing is measured: its replicas are not isolated, and the kernel counts none of them apart"
        );
    }
    Ok(())
}

fn row(release: &OfRelease) -> Vec<Cell> {
    let size = |bytes: u64| Cell::new(rounded(bytes));
    let number = if release.counts { release.release.to_string() } else { format!("({})", release.release) };
    let kills = match release.kills {
        0 => Cell::new("never"),
        1 => coloured("once".to_owned(), Signal::Fault),
        kills => coloured(format!("{kills} times"), Signal::Fault),
    };
    vec![
        Cell::new(number),
        Cell::new(release.replicas),
        size(release.needed),
        size(release.peak),
        size(release.limit),
        kills,
        Cell::new(format!("{:.1} % of the time", release.held_back * 100.0)),
        Cell::new(release.processes),
    ]
}

/// With one decimal, in MiB.
fn rounded(bytes: u64) -> String {
    format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20))
}

pub async fn of_all(client: &Client, output: Output) -> Result<(), Failure> {
    let answer = client.get("/stats").await?;
    if output.json {
        println!("{answer:#}");
        return Ok(());
    }
    let all: Vec<Stats> = read(answer)?;
    if all.is_empty() {
        println!("there is no workload; declare one with: mainyard declare mainyard.toml --in staging");
        return Ok(());
    }
    let mut rows = table(&["WORKLOAD", "REPLICAS", "NEEDED", "LIMIT", "RIGHT SIZE"]);
    for stats in &all {
        let fit = &stats.fit;
        let signal = if fit.does() { Signal::Good } else { Signal::Caution };
        rows.add_row(vec![
            Cell::new(&stats.workload),
            Cell::new(fit.replicas),
            Cell::new(if fit.replicas == 0 { "-".to_owned() } else { rounded(fit.needed) }),
            Cell::new(fit.limit),
            if fit.replicas == 0 {
                Cell::new("nothing was measured")
            } else {
                coloured(format!("{} {}", shape(signal), stats.words), signal)
            },
        ]);
    }
    print(&rows);
    Ok(())
}
