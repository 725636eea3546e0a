//! Changed files, copied into the replicas that run, without a build.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use mainyard_api::{ChangeLiveFiles, NoQuery, OfTarget};
use mainyard_builds::{LivePlace, LivePlaces, live_places};
use mainyard_core::link::{LiveFile, LiveFiles, LiveOutcome};
use mainyard_core::model::{Bytes, Target};

use super::code;
use super::sent_code::{Sent, until_changed};
use crate::client::Client;
use crate::terminal::{Failure, count};

/// The most that is copied at once.
const MOST: u64 = 8 << 20;
/// Files that are named.
const NAMED: usize = 8;

/// Copies the files once, or again whenever the code changes.
pub(super) async fn send_live(client: &Client, sent: &Sent, watch: bool) -> Result<(), Failure> {
    let workloads = sent.workloads()?;
    let targets: Vec<Target> = workloads.iter().map(|name| Target::new(&sent.environment, name)).collect();
    let mut earlier: BTreeSet<String> = BTreeSet::new();
    loop {
        let seen = code::look_at(&sent.place)?.fingerprint();
        match copy(client, sent, &targets, &mut earlier).await {
            // What is wrong with code is told, and mended in the next moment.
            Err(failure) if watch => eprintln!("{}", failure.message()),
            done => done?,
        }
        if !watch {
            return Ok(());
        }
        println!("waiting for changes of {}", sent.place.display());
        until_changed(&sent.place, &seen).await;
    }
}

/// Copies what differs. `earlier` has the places of the files that were there before; what is gone of them is removed.
async fn copy(
    client: &Client,
    sent: &Sent,
    targets: &[Target],
    earlier: &mut BTreeSet<String>,
) -> Result<(), Failure> {
    let code = code::look_at(&sent.place)?;
    let is_folder = |path: &String| sent.place.join(path).is_dir();
    let files: BTreeMap<String, bool> =
        code.paths.iter().map(|path| (path.clone(), is_folder(path))).collect();
    let LivePlaces { live, built } = live_places(&sent.recipe, &files);
    if live.is_empty() {
        return Err(Failure::refused(format!(
            "no file of {} is in the image as it is: the recipe's last part takes none of the tree, so each change needs a build; mainyard send {}",
            sent.place.display(),
            sent.place.display()
        )));
    }
    let now: BTreeSet<String> = live.iter().map(|place| place.to.clone()).collect();
    let remove: Vec<String> = earlier.difference(&now).cloned().collect();
    let files = live.iter().map(|place| read(&sent.place, place)).collect::<Result<Vec<_>, _>>()?;
    let size: u64 = files.iter().map(|file| file.content.len() as u64).sum();
    if size > MOST {
        return Err(Failure::refused(format!(
            "the files are {} together, and at most {} are copied live; a build takes them: mainyard send {}",
            Bytes::new(size),
            Bytes::new(MOST),
            sent.place.display()
        )));
    }
    let (compared, needs_build) = (count(files.len(), "file"), named(&built));
    let body = LiveFiles { files, remove };
    let mut failed = Vec::new();
    for target in targets {
        let path = OfTarget { environment: target.environment.clone(), name: target.name.clone() };
        let done = client.ask_with::<ChangeLiveFiles, _>(path, NoQuery {}, &body).await?;
        println!("{target}: {compared} compared");
        for outcome in &done.replicas {
            println!("  {}", in_words(outcome));
            failed.extend(outcome.failed.as_ref().map(|_| outcome.replica.to_string()));
        }
    }
    *earlier = now;
    if !built.is_empty() {
        println!("only a build brings these there: {needs_build}");
    }
    if !failed.is_empty() {
        return Err(Failure::failed(format!("not all files of {} are changed", failed.join(", "))));
    }
    println!("a replica that is started again, and the next release, have the image's own files");
    Ok(())
}

fn read(folder: &Path, place: &LivePlace) -> Result<LiveFile, Failure> {
    let path = folder.join(&place.file);
    let cannot = |error: std::io::Error| Failure::usage(format!("cannot read {}: {error}", path.display()));
    let executable = std::fs::metadata(&path).map_err(cannot)?.permissions().mode() & 0o111 != 0;
    let content = std::fs::read(&path).map_err(cannot)?;
    Ok(LiveFile { path: place.to.clone(), name: place.name().to_owned(), executable, content })
}

fn in_words(outcome: &LiveOutcome) -> String {
    let mut parts = Vec::new();
    for (verb, files) in [("written", &outcome.written), ("removed", &outcome.removed)] {
        if !files.is_empty() {
            parts.push(format!("{} {verb}: {}", count(files.len(), "file"), named(files)));
        }
    }
    if outcome.changed() == 0 && outcome.failed.is_none() {
        parts.push("every file is the same already".to_owned());
    }
    parts.extend(outcome.failed.clone());
    format!("{}  {}", outcome.replica.short, parts.join("; "))
}

fn named(files: &[String]) -> String {
    let mut words = files.iter().take(NAMED).cloned().collect::<Vec<_>>().join(", ");
    if files.len() > NAMED {
        words.push_str(&format!(" and {} more", files.len() - NAMED));
    }
    words
}
