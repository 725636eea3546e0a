//! Looking at an image, comparing two, and removing old ones.

use mainyard_api::{
    Attachment, CompareImages, CompareImagesQuery, ImageComparison, ImageDetails, ImageQuery, ImagesPruned,
    NoPath, PruneImages, PruneImagesQuery, ShowImage,
};
use mainyard_core::model::{Bytes, ImageRef, NameError};

use crate::args::Output;
use crate::client::Client;
use crate::output;
use crate::show::{print, table};
use crate::terminal::{Failure, Paint, count};

/// Files of a comparison that are printed.
const PRINTED: usize = 40;
/// Packages of a bill of materials that are printed.
const PACKAGES: usize = 20;

fn parse(image: &str) -> Result<ImageRef, Failure> {
    image.parse().map_err(|error: NameError| Failure::usage(error.to_string()))
}

pub(super) async fn show(client: &Client, image: &str, output: Output) -> Result<(), Failure> {
    let details = client.ask::<ShowImage>(NoPath {}, ImageQuery { image: parse(image)? }).await?;
    if output.json {
        output::json(&details);
        return Ok(());
    }
    print_details(&details);
    Ok(())
}

fn print_details(details: &ImageDetails) {
    let (entry, run) = (&details.entry, &details.run);
    println!("{}  {}", Paint::stdout().strong(&entry.record.image.to_string()), entry.record.digest);
    let line = |head: &str, words: &str| {
        if !words.is_empty() {
            println!("  {head:<14} {words}");
        }
    };
    let list = |words: &[String]| words.join(" ");
    line("for", &details.platform);
    line("size", &Bytes::new(entry.record.size).to_string());
    line("made", &details.created);
    line("source", entry.source.as_deref().unwrap_or_default());
    line("commit", entry.commit.as_deref().unwrap_or_default());
    line("built by", &details.build.map_or_else(String::new, |number| format!("build {number}")));
    line("command", &list(&run.command));
    line("user", if run.user.is_empty() { "root" } else { &run.user });
    line("directory", &run.directory);
    line("ports", &run.ports.iter().map(u16::to_string).collect::<Vec<_>>().join(", "));
    line("variables", &list(&run.env));
    line("writes to", &list(&run.volumes));
    line("stop signal", &run.stop_signal);
    if let Some(check) = &run.health_check {
        line("health check", &format!("{check} (not run by itself; a declared check can ask the same)"));
    }
    let uses =
        entry.uses.iter().map(|used| format!("{}@{} ({} ready)", used.workload, used.release, used.ready));
    line("runs as", &uses.collect::<Vec<_>>().join(", "));
    line("kept by", &details.kept_by.join(", "));
    let signed: Vec<&str> = entry.record.signed_by.iter().map(String::as_str).collect();
    line("signed by", &signed.join(", "));
    println!();
    let mut rows = table(&["LAYER", "SIZE", "FILES", "LEFT OUT", "SHARED WITH"]);
    for layer in &details.layers_in_order {
        let short: String = layer.digest.chars().take(19).collect();
        let mut left_out = Vec::new();
        if layer.skipped_devices > 0 {
            left_out.push(count(layer.skipped_devices as usize, "device file"));
        }
        if layer.foreign_owners > 0 {
            left_out.push(format!("owners of {}", count(layer.foreign_owners as usize, "file")));
        }
        let left_out = if left_out.is_empty() { "-".to_owned() } else { left_out.join(", ") };
        let shared = if layer.shared_with.is_empty() { "-".to_owned() } else { layer.shared_with.join(", ") };
        rows.add_row([short, Bytes::new(layer.size).to_string(), layer.files.to_string(), left_out, shared]);
    }
    print(&rows);
    for step in &details.history {
        println!("  {} {step}", Paint::stdout().quiet("made by"));
    }
    print_attached(&details.attached);
}

fn print_attached(attached: &[Attachment]) {
    for it in attached {
        let short: String = it.digest.chars().take(19).collect();
        println!("  {} {} {short}", Paint::stdout().quiet("attached"), it.kind);
        let Some(bill) = &it.materials else { continue };
        println!("    {}, {}", bill.format, count(bill.packages.len(), "package"));
        for package in bill.packages.iter().take(PACKAGES) {
            println!("      {} {}", package.name, package.version);
        }
        if bill.packages.len() > PACKAGES {
            println!("      and {} more; all of them with --json", bill.packages.len() - PACKAGES);
        }
    }
}

pub(super) async fn compare(
    client: &Client,
    image: &str,
    other: &str,
    output: Output,
) -> Result<(), Failure> {
    let query = CompareImagesQuery { image: parse(image)?, other: parse(other)? };
    let compared = client.ask::<CompareImages>(NoPath {}, query).await?;
    if output.json {
        output::json(&compared);
        return Ok(());
    }
    print_comparison(image, other, &compared);
    Ok(())
}

fn print_comparison(image: &str, other: &str, compared: &ImageComparison) {
    let ImageComparison { run, files, sums, .. } = compared;
    if run.is_empty() && files.is_empty() {
        println!("{image} and {other} run the same program with the same files");
        return;
    }
    for difference in run {
        println!("  {difference}");
    }
    let size = |bytes: u64| Bytes::new(bytes).to_string();
    for file in files.iter().take(PRINTED) {
        match (file.before, file.after) {
            (None, Some(after)) => println!("+ {} {}", file.path, size(after)),
            (Some(before), None) => println!("- {} {}", file.path, size(before)),
            (before, after) => {
                println!("~ {} {} → {}", file.path, size(before.unwrap_or(0)), size(after.unwrap_or(0)));
            }
        }
    }
    if files.len() > PRINTED {
        println!("… and {} more: --json has all of them", files.len() - PRINTED);
    }
    let [added, changed, removed] = [sums.added, sums.changed, sums.removed];
    println!("{added} added, {changed} changed, {removed} removed; {} are new in {other}", size(sums.bytes));
}

/// Reads `30d`.
pub(super) fn days(older_than: &str) -> Result<u32, Failure> {
    let days = older_than.strip_suffix('d').unwrap_or(older_than).parse();
    days.map_err(|_| {
        Failure::usage(format!("--older-than is {older_than:?}; a number of days such as 30d is expected"))
    })
}

/// Reads a rule as it is written on the command line.
///
/// # Errors
/// When the age is no number of days.
pub(super) fn rule(
    keep: u32,
    older_than: &str,
    of: Option<String>,
    forecast: bool,
) -> Result<PruneImagesQuery, Failure> {
    Ok(PruneImagesQuery { keep, older_than: days(older_than)?, repository: of, forecast })
}

pub(super) async fn prune(client: &Client, query: PruneImagesQuery, output: Output) -> Result<(), Failure> {
    let pruned: ImagesPruned = client.ask::<PruneImages>(NoPath {}, query).await?;
    if output.json {
        output::json(&pruned);
        return Ok(());
    }
    let (mark, frees) = if pruned.forecast { ("~ ", "would free") } else { ("", "frees") };
    if pruned.images.is_empty() {
        println!("{mark}no image is old enough and needed by nothing; {} stay", pruned.stay);
        return Ok(());
    }
    for image in &pruned.images {
        println!("{mark}- {image}");
    }
    let gone = count(pruned.images.len(), "image");
    println!(
        "{mark}{gone}; that {frees} {} within two hours; {} stay",
        Bytes::new(pruned.frees),
        pruned.stay
    );
    Ok(())
}
