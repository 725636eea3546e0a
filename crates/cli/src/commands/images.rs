//! Images: adding one, listing them.

use std::path::Path;

use mainyard_api::{
    AddImage, Done, ImageEntry, ListImages, NewImageQuery, NoPath, RemoveImage, RemoveImageQuery,
};
use mainyard_core::cluster::MadeRelease;
use mainyard_core::commands::{ImagesAdded, Removed};
use mainyard_core::model::{Bytes, ImageRecord, ImageRef, NameError};

use super::forecast;
use crate::args::{Output, Trial};
use crate::client::Client;
use crate::output;
use crate::show::{print, table};
use crate::terminal::{Failure, age, count};

pub(super) async fn add(
    client: &Client,
    path: &Path,
    name: Option<String>,
    trial: &Trial,
) -> Result<(), Failure> {
    let cannot =
        |error: &dyn std::fmt::Display| Failure::usage(format!("cannot read {}: {error}", path.display()));
    let file = if path.is_dir() {
        // The same as an archive: what is sent is one stream.
        let mut file = tempfile::tempfile().map_err(|error| cannot(&error))?;
        let mut archive = tar::Builder::new(&mut file);
        archive.append_dir_all(".", path).and_then(|()| archive.finish()).map_err(|error| cannot(&error))?;
        drop(archive);
        std::io::Seek::rewind(&mut file).map_err(|error| cannot(&error))?;
        file
    } else {
        std::fs::File::open(path).map_err(|error| cannot(&error))?
    };
    let stream = tokio_util::io::ReaderStream::with_capacity(tokio::fs::File::from_std(file), 256 * 1024);
    let query = NewImageQuery { name, forecast: trial.forecast };
    let request = client.request::<AddImage>(&NoPath {}, &query).body(reqwest::Body::wrap_stream(stream));
    let done: Done<ImagesAdded> = forecast::read(client, request, trial).await?;
    let ImagesAdded { images, outcomes } = &done.outcome;
    for (image, outcome) in images.iter().zip(outcomes) {
        let ImageRecord { image: name, digest, size, layers, .. } = image;
        let (size, layers) = (Bytes::new(*size), count(*layers as usize, "layer"));
        println!("{}{name}: added, {layers}, {size}, {digest}", forecast::mark(trial));
        match &outcome.before {
            Some(before) if before == digest => println!("  it was there already"),
            Some(before) => {
                println!("  the name stood for {before}; releases that were made with it keep it")
            }
            None => {}
        }
        for MadeRelease { workload, release } in &outcome.begin {
            println!("  ~ release {release} of {workload} was waiting for it and goes on");
        }
    }
    forecast::print(&done);
    Ok(())
}

/// Takes an image's name out of the store.
pub(super) async fn remove(client: &Client, image: &str, trial: &Trial) -> Result<(), Failure> {
    let image: ImageRef = image.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
    let query = RemoveImageQuery { image, forecast: trial.forecast };
    let request = client.request::<RemoveImage>(&NoPath {}, &query);
    let done: Done<Removed> = forecast::read(client, request, trial).await?;
    forecast::print_gone(&done.outcome, trial);
    Ok(())
}

pub(super) async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let images = client.ask::<ListImages>(NoPath {}, client.moment()).await?;
    if output.json {
        output::json(&images);
        return Ok(());
    }
    if images.is_empty() {
        println!("no image is in the store; add one with: mainyard image add FILE");
        return Ok(());
    }
    // Most images do not say where their code is: a column of nothing would only take room.
    let has_source = images.iter().any(|image| image.source.is_some());
    let headings = ["IMAGE", "DIGEST", "SIZE", "ADDED", "COMMIT", "RUNS AS", "SOURCE"];
    let mut rows = table(&headings[..if has_source { 7 } else { 6 }]);
    for ImageEntry { record: image, uses, commit, source } in images {
        let short: String = image.digest.chars().take(19).collect();
        let ago = age(jiff::Timestamp::now().duration_since(image.origin.at));
        let uses: Vec<String> = uses.iter().map(|used| used.workload.to_string()).collect();
        let mut row = vec![
            image.image.to_string(),
            short,
            Bytes::new(image.size).to_string(),
            format!("{ago} ago by {}", image.origin.by),
            commit.map_or("-".to_owned(), |commit| commit.chars().take(12).collect()),
            if uses.is_empty() { "-".to_owned() } else { uses.join(", ") },
        ];
        row.extend(has_source.then(|| source.unwrap_or_else(|| "-".to_owned())));
        rows.add_row(row);
    }
    print(&rows);
    Ok(())
}
