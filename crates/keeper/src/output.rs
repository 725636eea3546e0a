//! The replica's output: each line stamped and written to `current`, which is turned over when it is full.
//!
//! A line of the log is `MICROSECONDS SOURCE TEXT`, with the source `o` (standard output), `e` (standard
//! error) or `k` (the keeper). Longer lines than [`LINE_LIMIT`] are cut into several. Lines beyond the rate are
//! dropped and counted. Nothing is allocated for a line: what was read is written from the same room.

use std::fs::{File, OpenOptions, rename};
use std::io::{Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use mainyard_keeper::{Ending, Spec};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::WaitOptions;

use crate::init::Child;
use crate::syscalls::{Fault, step};

const LINE_LIMIT: usize = 16 * 1024;
/// The size of one read.
const CHUNK: usize = 64 * 1024;
/// Seconds of the rate that may come at once.
const BURST: f64 = 5.0;
/// The interval between reports of dropped lines.
const TELL_EVERY: Duration = Duration::from_secs(1);

/// Lines that may still be kept.
struct Rate {
    each_second: f64,
    left: f64,
    filled: Instant,
    dropped: u64,
    told: Instant,
}

impl Rate {
    fn new(lines: u32) -> Rate {
        let each_second = f64::from(lines);
        let now = Instant::now();
        Rate { each_second, left: each_second * BURST, filled: now, dropped: 0, told: now }
    }

    fn fill(&mut self) {
        let now = Instant::now();
        let passed = now.duration_since(self.filled).as_secs_f64();
        self.left = (self.left + passed * self.each_second).min(self.each_second * BURST);
        self.filled = now;
    }

    fn take(&mut self) -> bool {
        let fits = self.each_second == 0.0 || self.left >= 1.0;
        if fits {
            self.left -= 1.0;
        } else {
            self.dropped += 1;
        }
        fits
    }
}

pub(crate) struct Log {
    dir: PathBuf,
    file: File,
    size: u64,
    limit: u64,
    rate: Rate,
    /// Lines that found no room.
    lost: u64,
    /// Lines on their way into the file.
    room: Vec<u8>,
    gathered: u64,
}

impl Log {
    pub(crate) fn open(spec: &Spec) -> Result<Log, Fault> {
        let dir = Path::new(&spec.log_dir).to_owned();
        let file = step("open the log", own_file(&dir.join("current")))?;
        let size = file.metadata().map_or(0, |found| found.len());
        let rate = Rate::new(spec.log_lines);
        let room = Vec::with_capacity(2 * CHUNK);
        Ok(Log { dir, file, size, limit: spec.log_limit, rate, lost: 0, room, gathered: 0 })
    }

    /// A line of the keeper's own.
    fn write_marker(&mut self, text: &str) {
        self.gather('k', text.as_bytes(), stamp());
        self.write();
    }

    fn gather(&mut self, source: char, text: &[u8], stamp: u128) {
        // Writing into room that is there already cannot fail.
        let _ = write!(self.room, "{stamp} {source} ");
        self.room.extend_from_slice(text);
        self.room.push(b'\n');
        self.gathered += 1;
        if self.room.len() >= CHUNK {
            self.write();
        }
    }

    /// Tells of dropped lines, but not for each of them.
    fn tell_dropped(&mut self, at_once: bool) {
        if self.rate.dropped == 0 || !at_once && self.rate.told.elapsed() < TELL_EVERY {
            return;
        }
        let (dropped, most) = (std::mem::take(&mut self.rate.dropped), self.rate.each_second);
        self.rate.told = Instant::now();
        let text = format!("{dropped} lines were dropped: more than {most} a second (limits.log_lines)");
        self.gather('k', text.as_bytes(), stamp());
    }

    /// Puts what was gathered into the file.
    fn write(&mut self) {
        if self.room.is_empty() {
            return;
        }
        if self.size + self.room.len() as u64 > self.limit {
            self.rotate();
        }
        // A full disk must not stop the replica: the lines are lost, the next ones are tried again.
        if self.lost > 0 {
            let told =
                format!("{} k {} lines before this were lost: the disk had no room\n", stamp(), self.lost);
            self.room.splice(0..0, told.into_bytes());
        }
        let whole = self.file.write_all(&self.room).is_ok();
        if whole {
            self.size += self.room.len() as u64;
            self.lost = 0;
        } else {
            // Whole or not at all: half a line would be taken for the beginning of the next.
            let _ = self.file.set_len(self.size);
            self.lost += self.gathered;
        }
        self.room.clear();
        self.gathered = 0;
    }

    fn rotate(&mut self) {
        let current = self.dir.join("current");
        if rename(&current, self.dir.join("previous")).is_ok()
            && let Ok(file) = own_file(&current)
        {
            self.file = file;
            self.size = 0;
        }
    }
}

/// A log is nobody else's to read.
fn own_file(path: &Path) -> std::io::Result<File> {
    OpenOptions::new().create(true).append(true).mode(0o600).open(path)
}

fn stamp() -> u128 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_micros())
}

struct Source {
    file: Option<File>,
    mark: char,
    /// The buffer. Its first `have` bytes are an incomplete line.
    chunk: Vec<u8>,
    have: usize,
}

impl Source {
    fn new(output: OwnedFd, mark: char) -> Source {
        Source { file: Some(output.into()), mark, chunk: vec![0; CHUNK], have: 0 }
    }

    /// Takes what is there; closes it once the other end is closed.
    fn take(&mut self, log: &mut Log) {
        let got = self.file.as_mut().map_or(Ok(0), |file| file.read(&mut self.chunk[self.have..]));
        let Ok(length @ 1..) = got else {
            if self.have > 0 {
                self.line(log, 0, self.have, stamp());
            }
            self.have = 0;
            self.file = None;
            log.tell_dropped(true);
            log.write();
            return;
        };
        log.rate.fill();
        let (stamp, end) = (stamp(), self.have + length);
        let (mut from, mut seen) = (0, self.have);
        while let Some(at) = self.chunk[seen..end].iter().position(|byte| *byte == b'\n') {
            self.line(log, from, seen + at, stamp);
            (from, seen) = (seen + at + 1, seen + at + 1);
        }
        while end - from >= LINE_LIMIT {
            self.line(log, from, from + LINE_LIMIT, stamp);
            from += LINE_LIMIT;
        }
        self.chunk.copy_within(from..end, 0);
        self.have = end - from;
        log.tell_dropped(false);
        log.write();
    }

    fn line(&self, log: &mut Log, from: usize, to: usize, stamp: u128) {
        if log.rate.take() {
            // A line that was read in one piece may be longer than one may be.
            for piece in self.chunk[from..to].chunks(LINE_LIMIT) {
                log.gather(self.mark, piece, stamp);
            }
            if from == to {
                log.gather(self.mark, b"", stamp);
            }
        }
    }
}

/// How a replica is stopped: the signal that asks its program to end, and the time until it is killed.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Stop {
    pub signal: i32,
    pub grace_ms: u64,
}

/// Moves output into the log until the replica has ended; a stop signal is passed on and, after the grace,
/// followed by a kill.
pub(crate) fn pump(
    log: &mut Log,
    outputs: [OwnedFd; 2],
    signals: &OwnedFd,
    child: &Child,
    stop: Stop,
) -> Result<Ending, Fault> {
    let [out, err] = outputs;
    let mut sources = [Source::new(out, 'o'), Source::new(err, 'e')];
    let mut kill_at: Option<Instant> = None;
    loop {
        let [out_ready, err_ready, signalled] = wait_for_any(&sources, signals, kill_at);
        for (source, ready) in sources.iter_mut().zip([out_ready, err_ready]) {
            if ready {
                source.take(log);
            }
        }
        if signalled && take_signal(signals, child, log, stop, &mut kill_at) {
            break;
        }
        if kill_at.is_some_and(|at| at <= Instant::now()) {
            log.write_marker("did not end within its grace and was killed");
            child.kill();
            kill_at = None;
        }
    }
    // Everything inside is gone: what is left in the pipes is all there will ever be.
    for source in &mut sources {
        while source.file.is_some() {
            source.take(log);
        }
    }
    Ok(child.last_word().unwrap_or(Ending { code: None, signal: Some(libc::SIGKILL), memory_kills: 0 }))
}

/// Waits until there is something to read, or until the time to kill; says which of outputs and signals are ready.
fn wait_for_any(sources: &[Source; 2], signals: &OwnedFd, kill_at: Option<Instant>) -> [bool; 3] {
    // A stream that has ended is not waited for: the signals stand in its place, without an event.
    let [out, err] = sources.each_ref().map(|source| match &source.file {
        Some(file) => PollFd::new(file, PollFlags::IN),
        None => PollFd::new(signals, PollFlags::empty()),
    });
    let mut waits = [out, err, PollFd::new(signals, PollFlags::IN)];
    let left = kill_at.map(|at| {
        let left = at.saturating_duration_since(Instant::now()) + Duration::from_millis(1);
        Timespec { tv_sec: left.as_secs() as i64, tv_nsec: i64::from(left.subsec_nanos()) }
    });
    // An interrupted wait has nothing ready, and is begun again by the caller.
    let _ = poll(&mut waits, left.as_ref());
    waits.map(|wait| !wait.revents().is_empty())
}

/// True when init has ended.
fn take_signal(
    signals: &OwnedFd,
    child: &Child,
    log: &mut Log,
    stop: Stop,
    kill_at: &mut Option<Instant>,
) -> bool {
    let mut ended = false;
    loop {
        // The kernel writes a `signalfd_siginfo` (man 2 signalfd): 128 bytes; the first four are the signal.
        let mut info = [0; 128];
        if rustix::io::read(signals, &mut info).is_err() {
            return ended;
        }
        match i32::from_ne_bytes([info[0], info[1], info[2], info[3]]) {
            libc::SIGCHLD => {
                let waited = rustix::process::waitpid(child.pid(), WaitOptions::NOHANG);
                ended |= matches!(waited, Ok(Some(_)));
            }
            libc::SIGTERM | libc::SIGINT | libc::SIGQUIT if kill_at.is_none() => {
                log.write_marker("asked to stop");
                child.signal(stop.signal);
                *kill_at = Some(Instant::now() + Duration::from_millis(stop.grace_ms));
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Writes this as a replica's standard output; gives the texts of the log's files, the older one first.
    fn logged(output: &[u8], log_limit: u64, log_lines: u32) -> (String, String) {
        let dir = tempfile::tempdir().expect("a folder");
        let log_dir = dir.path().display().to_string();
        let mut log = Log::open(&Spec { log_dir, log_limit, log_lines, ..Spec::default() })
            .unwrap_or_else(|_| panic!("a log"));
        let (reader, mut writer) = std::io::pipe().expect("a pipe");
        let mut source = Source::new(reader.into(), 'o');
        std::thread::scope(|scope| {
            scope.spawn(move || writer.write_all(output).expect("written"));
            while source.file.is_some() {
                source.take(&mut log);
            }
        });
        let read = |name| std::fs::read_to_string(dir.path().join(name)).unwrap_or_default();
        (read("previous"), read("current"))
    }

    /// Sources and texts of a log's lines, without their times.
    fn lines(text: &str) -> Vec<&str> {
        text.lines().map(|line| line.split_once(' ').expect("a time").1).collect()
    }

    #[test]
    fn each_line_is_stamped_and_the_last_needs_no_end() {
        let (_, current) = logged("one\n\nzwö\nlast".as_bytes(), 1 << 20, 0);
        assert_eq!(lines(&current), ["o one", "o ", "o zwö", "o last"]);
        let stamp: u128 = current.split(' ').next().and_then(|word| word.parse().ok()).expect("a time");
        assert!(stamp > 1_700_000_000_000_000, "{stamp} is in microseconds");
    }

    #[test]
    fn a_line_that_is_too_long_is_cut_into_several() {
        let (_, current) =
            logged(&[b"x".repeat(LINE_LIMIT + 5).as_slice(), b"\nnext\n"].concat(), 1 << 20, 0);
        let lengths: Vec<usize> = lines(&current).iter().map(|line| line.len() - 2).collect();
        assert_eq!(lengths, [LINE_LIMIT, 5, 4]);
    }

    #[test]
    fn a_full_log_becomes_the_previous_one_and_no_line_is_lost_between_them() {
        let output: String = (0..4000).map(|number| format!("line {number}\n")).collect();
        let (previous, current) = logged(output.as_bytes(), 80 << 10, 0);
        assert!(!previous.is_empty() && current.len() <= 80 << 10, "{} {}", previous.len(), current.len());
        let both = previous + &current;
        let last = lines(&both);
        let first: usize =
            last[0].strip_prefix("o line ").and_then(|number| number.parse().ok()).expect("a number");
        let expected: Vec<String> = (first..4000).map(|number| format!("o line {number}")).collect();
        assert_eq!(last, expected);
    }

    #[test]
    fn lines_beyond_the_rate_are_dropped_and_counted() {
        let output: String = (0..1000).map(|number| format!("line {number}\n")).collect();
        let (_, current) = logged(output.as_bytes(), 1 << 20, 10);
        let kept = current.matches(" o line ").count();
        // Five seconds of the rate may come at once; more, where the machine takes its time.
        assert!((50..1000).contains(&kept), "{kept} lines were kept");
        let dropped: usize = current
            .lines()
            .filter_map(|line| {
                line.split_once(" k ")?.1.split_once(" lines were dropped")?.0.parse::<usize>().ok()
            })
            .sum();
        assert_eq!(kept + dropped, 1000);
    }
}
