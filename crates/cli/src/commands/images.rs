//! Images: adding one, listing them.

use std::path::Path;

use mainyard_core::cluster::{AddedImage, MadeRelease};
use mainyard_core::model::{Bytes, ImageRef, NameError};
use reqwest::Method;
use serde_json::Value;

use super::forecast;
use crate::args::{Output, Trial};
use crate::client::Client;
use crate::show::{print, table};
use crate::terminal::{Failure, age, count};

pub async fn add(client: &Client, path: &Path, name: Option<String>, trial: &Trial) -> Result<(), Failure> {
    let cannot =
        |error: &dyn std::fmt::Display| Failure::usage(format!("cannot read {}: {error}", path.display()));
    let mut request = client.request(Method::POST, "/images");
    if let Some(name) = &name {
        request = request.query(&[("name", name)]);
    }
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
    let request = request.body(reqwest::Body::wrap_stream(stream));
    let answer = forecast::send(client, request, trial).await?;
    let outcomes: Vec<AddedImage> = serde_json::from_value(answer["outcomes"].clone())
        .map_err(|error| Failure::failed(format!("the answer cannot be read: {error}")))?;
    for (image, outcome) in answer["images"].as_array().into_iter().flatten().zip(outcomes) {
        let size = Bytes::new(image["size"].as_u64().unwrap_or(0));
        let layers = count(image["layers"].as_u64().unwrap_or(0) as usize, "layer");
        let (name, digest) = (text(image, "image"), text(image, "digest"));
        println!("{}{name}: added, {layers}, {size}, {digest}", forecast::mark(trial));
        match outcome.before {
            Some(before) if before == digest => println!("  it was there already"),
            Some(before) => {
                println!("  the name stood for {before}; releases that were made with that keep it")
            }
            None => {}
        }
        for MadeRelease { workload, release } in outcome.begin {
            println!("  ~ release {release} of {workload} was waiting for it and goes on");
        }
    }
    forecast::print(&answer, trial)
}

/// Takes an image's name out of the store.
pub async fn remove(client: &Client, image: &str, trial: &Trial) -> Result<(), Failure> {
    let image: ImageRef = image.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
    let request = client.request(Method::DELETE, "/images").query(&[("image", image.to_string())]);
    let answer = forecast::send(client, request, trial).await?;
    forecast::print_gone(&answer, trial);
    Ok(())
}

fn text(value: &Value, key: &str) -> String {
    value[key].as_str().unwrap_or_default().to_owned()
}

pub async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let images = client.get("/images").await?;
    if output.json {
        println!("{images:#}");
        return Ok(());
    }
    let images = client.snapshot().await?.state.images;
    if images.is_empty() {
        println!("no image is in the store; add one with: mainyard image add FILE");
        return Ok(());
    }
    let mut rows = table(&["IMAGE", "DIGEST", "SIZE", "LAYERS", "ADDED"]);
    for image in images.values() {
        let short: String = image.digest.chars().take(19).collect();
        let ago = age(jiff::Timestamp::now().duration_since(image.origin.at));
        rows.add_row([
            image.image.to_string(),
            short,
            Bytes::new(image.size).to_string(),
            image.layers.to_string(),
            format!("{ago} ago by {}", image.origin.by),
        ]);
    }
    print(&rows);
    Ok(())
}
