//! Reading replicas' logs: the last lines, or a stream that control asked for.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bytes::Bytes;
use mainyard_control_client::Control;
use mainyard_core::link::LogLine;
use mainyard_core::model::ReplicaId;
use tokio::sync::mpsc;

/// How far back a log is read for its last lines.
const TAIL_BYTES: u64 = 1 << 20;

/// With less room than this on its disk, a log loses lines.
const LEAST_ROOM: u64 = 64 << 10;

/// The text at the end of a file of lines.
pub(crate) fn end_of(path: &Path) -> String {
    let read = || -> std::io::Result<String> {
        let mut file = std::fs::File::open(path)?;
        let length = file.metadata()?.len();
        let start = length.saturating_sub(TAIL_BYTES);
        file.seek(SeekFrom::Start(start))?;
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes)?;
        let text = String::from_utf8_lossy(&bytes).into_owned();
        // A line whose beginning was not read is not shown.
        Ok(if start == 0 {
            text
        } else {
            text.split_once('\n').map_or(String::new(), |(_, rest)| rest.to_owned())
        })
    };
    read().unwrap_or_default()
}

fn parse(line: &str, replica: &ReplicaId) -> Option<LogLine> {
    let mut parts = line.splitn(3, ' ');
    let at = parts.next()?.parse().ok()?;
    let source = parts.next()?.chars().next()?;
    Some(LogLine { at, replica: replica.clone(), source, text: parts.next()?.to_owned() })
}

/// The log of what is no replica, from its beginning.
pub(crate) struct LogReader {
    reader: Reader,
    /// The file before the present one, where there is one.
    previous: Option<Reader>,
}

impl LogReader {
    /// Reads the log in this directory.
    pub(crate) fn from_beginning(dir: &Path) -> LogReader {
        // The lines' replica is of no interest: the reader's own name is not sent anywhere.
        let nobody: ReplicaId = "none/none/a0".parse().expect("a replica's name");
        let at = |name: &str| {
            let path = dir.join(name);
            Reader { replica: nobody.clone(), file: File::open(&path).ok(), path, partial: Vec::new() }
        };
        let previous = at("previous");
        LogReader { reader: at("current"), previous: previous.file.is_some().then_some(previous) }
    }

    /// Lines added since the last call.
    pub(crate) fn more(&mut self) -> Vec<LogLine> {
        let earlier = self.previous.as_mut().map(Reader::rest_of_file).unwrap_or_default();
        if earlier.is_empty() {
            self.previous = None;
            return self.reader.more();
        }
        earlier
    }
}

/// One replica's log, read as far as it is written. The file stays open: what was written just before it was rotated, or
/// removed with its replica, is read as well.
struct Reader {
    replica: ReplicaId,
    path: PathBuf,
    file: Option<File>,
    /// The beginning of a line whose end is not written yet.
    partial: Vec<u8>,
}

impl Reader {
    /// A reader that begins at the present end.
    fn at_end(path: PathBuf, replica: ReplicaId) -> Reader {
        let file = File::open(&path).and_then(|mut file| file.seek(SeekFrom::End(0)).map(|_| file));
        Reader { replica, path, file: file.ok(), partial: Vec::new() }
    }

    /// Lines added since the last call.
    fn more(&mut self) -> Vec<LogLine> {
        let mut lines = self.rest_of_file();
        let inode = |found: std::io::Result<std::fs::Metadata>| found.ok().map(|found| found.ino());
        let present = inode(std::fs::metadata(&self.path));
        let open = self.file.as_ref().and_then(|file| inode(file.metadata()));
        if present.is_some() && present != open {
            // It was rotated, and the old one is read to its end; or it is there for the first time.
            lines.extend(self.rest_of_file());
            self.file = File::open(&self.path).ok();
            self.partial.clear();
            lines.extend(self.rest_of_file());
        }
        lines
    }

    fn rest_of_file(&mut self) -> Vec<LogLine> {
        let Some(file) = &mut self.file else { return Vec::new() };
        if let Err(error) = file.take(TAIL_BYTES).read_to_end(&mut self.partial) {
            tracing::debug!(replica = %self.replica, %error, "a log cannot be read");
        }
        let Some(end) = self.partial.iter().rposition(|byte| *byte == b'\n') else { return Vec::new() };
        let rest = self.partial.split_off(end + 1);
        let whole = std::mem::replace(&mut self.partial, rest);
        let whole = String::from_utf8_lossy(&whole);
        whole.lines().filter_map(|line| parse(line, &self.replica)).collect()
    }
}

/// The note below the lines while the disk is full and takes no more of them.
fn no_room(reader: &Reader) -> Option<LogLine> {
    let dir = reader.path.parent()?;
    if mainyard_runtime::room_at(dir).is_none_or(|room| room >= LEAST_ROOM) {
        return None;
    }
    let at = jiff::Timestamp::now().as_microsecond() as u64;
    let text =
        "the node's disk has no room: what is written now is lost, until there is room again".to_owned();
    Some(LogLine { at, replica: reader.replica.clone(), source: 'k', text })
}

/// Which lines control asks for.
pub(crate) struct LineRange {
    /// The directory of the replicas' logs.
    pub dirs: Vec<(PathBuf, ReplicaId)>,
    /// Files that were kept of replicas that are gone.
    pub kept: Vec<(PathBuf, ReplicaId)>,
    /// At most this many lines of what is there.
    pub tail: u32,
    /// Go on with what comes.
    pub follow: bool,
}

/// Sends the end of the logs and, if asked, what follows, as a request of the node's own.
pub(crate) async fn send(control: Control, stream: u64, asked: LineRange) {
    let (to_send, body) = mpsc::channel::<Result<Bytes, std::io::Error>>(16);
    tokio::spawn(produce(asked, to_send));
    let body = futures_util::stream::unfold(body, |mut body| async move { Some((body.recv().await?, body)) });
    let path = format!("/link/streams/{stream}");
    if let Err(error) = control.stream(&path, reqwest::Body::wrap_stream(body)).await {
        tracing::debug!(%error, stream, "a log stream ended early");
    }
}

/// The last lines of a text of lines.
fn last_of(text: &str, replica: &ReplicaId, tail: u32) -> Vec<LogLine> {
    let mut lines: Vec<LogLine> = text.lines().filter_map(|line| parse(line, replica)).collect();
    lines.split_off(lines.len().saturating_sub(tail as usize))
}

async fn produce(asked: LineRange, to: mpsc::Sender<Result<Bytes, std::io::Error>>) {
    let LineRange { dirs, kept, tail, follow } = asked;
    let mut readers = Vec::new();
    let mut lines: Vec<LogLine> = Vec::new();
    for (path, replica) in kept {
        lines.extend(last_of(&end_of(&path), &replica, tail));
    }
    for (dir, replica) in dirs {
        let path = dir.join("current");
        let reader = Reader::at_end(path.clone(), replica.clone());
        let text = end_of(&dir.join("previous")) + &end_of(&path);
        lines.extend(last_of(&text, &replica, tail));
        readers.push(reader);
    }
    lines.sort_by_key(|line| line.at);
    lines.drain(..lines.len().saturating_sub(tail as usize));
    lines.extend(readers.first().and_then(no_room));
    loop {
        let text: String = lines
            .iter()
            .filter_map(|line| serde_json::to_string(line).ok())
            .map(|line| line + "\n")
            .collect();
        // An empty piece shows whether anyone still listens.
        if to.send(Ok(Bytes::from(text))).await.is_err() || !follow {
            return;
        }
        loop {
            tokio::time::sleep(Duration::from_millis(100)).await;
            lines = readers.iter_mut().flat_map(Reader::more).collect();
            lines.sort_by_key(|line| line.at);
            if !lines.is_empty() || to.is_closed() {
                break;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn replica() -> ReplicaId {
        "staging/locker-api/a0".parse().expect("a replica")
    }

    fn texts(lines: &[LogLine]) -> Vec<&str> {
        lines.iter().map(|line| line.text.as_str()).collect()
    }

    #[test]
    fn a_line_has_its_time_its_source_and_its_text() {
        let line = parse("1764400000000000 e cannot bind:  port taken", &replica()).expect("a line");
        assert_eq!(
            (line.at, line.source, line.text.as_str()),
            (1_764_400_000_000_000, 'e', "cannot bind:  port taken")
        );
        for broken in ["", "1764400000000000", "1764400000000000 o", "then o text"] {
            assert!(parse(broken, &replica()).is_none(), "{broken:?}");
        }
    }

    #[test]
    fn of_a_long_log_the_end_is_read_and_no_half_line() {
        let dir = tempfile::tempdir().expect("a folder");
        let path = dir.path().join("current");
        let lines: String =
            (0..60_000).map(|number| format!("{number} o the line of number {number}\n")).collect();
        assert!(lines.len() as u64 > TAIL_BYTES);
        std::fs::write(&path, &lines).expect("written");
        let end = end_of(&path);
        assert!(lines.ends_with(&end) && end.len() as u64 <= TAIL_BYTES);
        assert!(
            end.split_once(' ').is_some_and(|(number, _)| number.parse::<u64>().is_ok()),
            "it begins with a line"
        );
        let last = last_of(&end, &replica(), 2);
        assert_eq!(texts(&last), ["the line of number 59998", "the line of number 59999"]);
        assert_eq!(end_of(&dir.path().join("missing")), "");
    }

    #[test]
    fn a_reader_goes_on_where_it_stood_waits_for_whole_lines_and_follows_a_rotation() {
        let dir = tempfile::tempdir().expect("a folder");
        let path = dir.path().join("current");
        std::fs::write(&path, "1 o one\n2 o tw").expect("written");
        let mut reader = Reader { replica: replica(), path: path.clone(), file: None, partial: Vec::new() };
        assert_eq!(texts(&reader.more()), ["one"]);
        assert!(reader.more().is_empty());
        let append = |bytes: &[u8]| {
            let mut file = File::options().append(true).open(&path).expect("a file");
            std::io::Write::write_all(&mut file, bytes).expect("written");
        };
        append(b"o\n3 o caf\xc3");
        assert_eq!(texts(&reader.more()), ["two"]);
        append(b"\xa9\n4 o late\n");
        // What is rotated keeps its inode under the other name, so the new file cannot have the same one.
        std::fs::rename(&path, dir.path().join("previous")).expect("renamed");
        std::fs::write(&path, "5 o next\n").expect("written");
        assert_eq!(texts(&reader.more()), ["café", "late", "next"]);
        // The replica went right after its last words.
        append(b"6 o last\n");
        std::fs::remove_file(&path).expect("removed");
        assert_eq!(texts(&reader.more()), ["last"]);
        assert!(reader.more().is_empty());
    }
}
