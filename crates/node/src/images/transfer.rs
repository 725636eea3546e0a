//! A blob on its way from control into a layer: unpacked while it comes, and kept on disk until it is whole, so that another
//! agent goes on where this one was killed.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use futures_util::TryStreamExt;
use mainyard_control_client::Control;
use tokio_util::io::{StreamReader, SyncIoBridge};

use super::progress::Counter;
use super::{FetchError, LayerSource};

/// Shorter blobs are fetched again rather than kept on the way.
pub(super) const KEPT_FROM: u64 = 1 << 20;

/// What still comes of a blob.
type Rest = Box<dyn Read + Send>;

/// What was kept of a blob, and what still comes, as one stream.
struct Incoming {
    kept: Option<File>,
    rest: Option<Rest>,
    keep_in: Option<File>,
    counter: Counter,
}

impl Read for Incoming {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if let Some(file) = &mut self.kept {
            match file.read(buffer)? {
                0 => self.kept = None,
                length => return Ok(length),
            }
        }
        let Some(rest) = &mut self.rest else { return Ok(0) };
        let length = rest.read(buffer)?;
        if let Some(file) = &mut self.keep_in {
            file.write_all(&buffer[..length])?;
        }
        self.counter.add(length as u64);
        Ok(length)
    }
}

/// Fetches a layer and has it unpacked as it comes, on a thread of its own. `part` is where it is kept on the way.
pub(super) async fn fetch(
    control: &Control,
    source: &LayerSource,
    part: &Path,
    counter: Counter,
    unpack: impl FnOnce(&mut dyn Read) -> Result<(), mainyard_images::Error> + Send + 'static,
) -> Result<(), FetchError> {
    let is_kept = source.size >= KEPT_FROM;
    let broken = Arc::new(AtomicBool::new(false));
    let (there, rest) = open(control, source, part, is_kept, &broken).await?;
    counter.begin(there);
    let kept = (there > 0).then(|| File::open(part)).transpose()?;
    let keep_in = is_kept.then(|| File::options().create(true).append(true).open(part)).transpose()?;
    let mut incoming = Incoming { kept, rest, keep_in, counter };
    let unpacked = tokio::task::spawn_blocking(move || unpack(&mut incoming)).await?;
    match unpacked {
        // The error is that of the stream, whatever it was wrapped in on the way: what came so far stays.
        Err(_) if broken.load(Ordering::Relaxed) => Err(FetchError::Away(source.packed.clone())),
        other => {
            if is_kept && let Err(error) = std::fs::remove_file(part) {
                tracing::warn!(part = %part.display(), %error, "the packed layer cannot be removed");
            }
            Ok(other?)
        }
    }
}

/// How much of the blob lies on disk, and a stream of the rest of it.
async fn open(
    control: &Control,
    source: &LayerSource,
    part: &Path,
    is_kept: bool,
    broken: &Arc<AtomicBool>,
) -> Result<(u64, Option<Rest>), FetchError> {
    let there = if is_kept { std::fs::metadata(part).map_or(0, |found| found.len()) } else { 0 };
    if there == source.size && there > 0 {
        return Ok((there, None));
    }
    let from = if there > source.size { 0 } else { there };
    let answer = super::answered(&source.packed, control.get_from(&blob_path(&source.packed), from).await)?;
    let goes_on = answer.status() == reqwest::StatusCode::PARTIAL_CONTENT;
    let begins = if goes_on { from } else { 0 };
    if there > begins {
        std::fs::remove_file(part)?;
    }
    let breaks = Arc::clone(broken);
    let body = answer.bytes_stream().map_err(move |error| {
        breaks.store(true, Ordering::Relaxed);
        io::Error::other(error)
    });
    Ok((begins, Some(Box::new(SyncIoBridge::new(StreamReader::new(body))))))
}

/// Where control has a blob.
pub(super) fn blob_path(digest: &str) -> String {
    format!("/link/blobs/{digest}")
}

#[cfg(test)]
mod tests {
    use std::io::{BufRead, BufReader};
    use std::net::TcpListener;
    use std::sync::Mutex;

    use super::*;

    /// A control that breaks off its first answer in the middle; gives its URL, and the ranges that it was asked for.
    fn breaking_off(blob: Vec<u8>, cut: usize) -> (String, Arc<Mutex<Vec<String>>>) {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let asked = Arc::new(Mutex::new(Vec::new()));
        let told = Arc::clone(&asked);
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let mut stream = BufReader::new(stream.expect("a connection"));
                let lines = stream.by_ref().lines().map_while(Result::ok).take_while(|line| !line.is_empty());
                let head: Vec<String> = lines.collect();
                let range = head.iter().find_map(|line| line.strip_prefix("range: bytes="));
                let first: usize = range.and_then(|it| it.trim_end_matches('-').parse().ok()).unwrap_or(0);
                told.lock().expect("a list").push(range.unwrap_or("all").to_owned());
                let status = if first > 0 { "206 Partial Content" } else { "200 OK" };
                let rest = &blob[first..];
                let sent = if first > 0 { rest } else { &rest[..cut] };
                let head = format!(
                    "HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                    rest.len()
                );
                let stream = stream.get_mut();
                stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(sent)).expect("sent");
            }
        });
        (url, asked)
    }

    fn source(size: usize) -> LayerSource {
        LayerSource { packed: "sha256:0a".to_owned(), size: size as u64, diff_id: String::new() }
    }

    /// Fetches the layer; gives what was unpacked.
    async fn fetched(control: &Control, size: usize, part: &Path) -> Result<Vec<u8>, FetchError> {
        let unpacked = Arc::new(Mutex::new(Vec::new()));
        let to = Arc::clone(&unpacked);
        let unpack = move |from: &mut dyn Read| {
            let read = from.read_to_end(&mut to.lock().expect("bytes"));
            read.map(drop).map_err(|error| mainyard_images::Error::Invalid(error.to_string()))
        };
        fetch(control, &source(size), part, Counter::default(), unpack).await?;
        let unpacked = unpacked.lock().expect("bytes").clone();
        Ok(unpacked)
    }

    #[tokio::test]
    async fn a_layer_that_broke_off_is_gone_on_with_where_it_ended() {
        let blob: Vec<u8> = (0..3_000_000usize).map(|place| (place % 249) as u8).collect();
        let (url, asked) = breaking_off(blob.clone(), 2_000_000);
        let dir = tempfile::tempdir().expect("a directory");
        let (control, part) = (Control::at(&url, "token"), dir.path().join("part"));
        let broke = fetched(&control, blob.len(), &part).await;
        assert!(matches!(broke, Err(FetchError::Away(_))), "{broke:?}");
        let kept = std::fs::metadata(&part).expect("what came so far").len();
        assert!(kept > 0 && kept <= 2_000_000, "{kept}");
        // Another agent finds the part, and asks for the rest only.
        assert!(fetched(&control, blob.len(), &part).await.expect("the layer") == blob);
        assert_eq!(*asked.lock().expect("a list"), ["all".to_owned(), format!("{kept}-")]);
        assert!(!part.exists(), "nothing is left");
        // All of it was there when the agent was killed: nothing is asked for.
        std::fs::write(&part, &blob).expect("a part");
        assert!(fetched(&control, blob.len(), &part).await.expect("the layer") == blob);
        assert_eq!(asked.lock().expect("a list").len(), 2);
        // What is longer than the manifest says is of no use.
        std::fs::write(&part, vec![0; blob.len() + 1]).expect("a part");
        let again = fetched(&control, blob.len(), &part).await;
        assert!(matches!(again, Err(FetchError::Away(_))), "{again:?}");
        assert_eq!(asked.lock().expect("a list").last().map(String::as_str), Some("all"));
    }
}
