//! The replica's output: each line stamped and written to `current`, which is turned over when it is full.
//!
//! A line of the log is `MICROSECONDS SOURCE TEXT`, with the source `o` (standard output), `e` (standard
//! error) or `k` (the keeper). Longer lines than [`LINE_LIMIT`] are cut into several. Lines beyond the rate are
//! dropped and counted. Nothing is allocated for a line: what was read is written from the same room.

use std::fs::{File, OpenOptions, rename};
use std::io::{Read, Write};
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use mainyard_keeper::{Ending, Spec};

use crate::init::Child;
use crate::syscalls::{Fault, check, step};

const LINE_LIMIT: usize = 16 * 1024;
/// What is read at once.
const CHUNK: usize = 64 * 1024;
/// Seconds of the rate that may come at once.
const BURST: f64 = 5.0;
/// What was dropped is told this often.
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
    fn say(&mut self, text: &str) {
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
            self.turn_over();
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

    fn turn_over(&mut self) {
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
    /// What was read. Its first `have` bytes are a line without its end.
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

/// Moves output into the log until the replica has ended; a stop signal is passed on and, after the grace,
/// followed by a kill.
pub(crate) fn pump(
    log: &mut Log,
    outputs: [OwnedFd; 2],
    signals: &OwnedFd,
    child: &Child,
    grace_ms: u64,
) -> Result<Ending, Fault> {
    let [out, err] = outputs;
    let mut sources = [Source::new(out, 'o'), Source::new(err, 'e')];
    let mut kill_at: Option<Instant> = None;
    loop {
        let descriptor = |source: &Source| source.file.as_ref().map_or(-1, AsRawFd::as_raw_fd);
        let mut waits = [descriptor(&sources[0]), descriptor(&sources[1]), signals.as_raw_fd()]
            .map(|fd| libc::pollfd { fd, events: libc::POLLIN, revents: 0 });
        let wait = kill_at.map_or(-1, |at| {
            let left = at.saturating_duration_since(Instant::now()).as_millis();
            i32::try_from(left + 1).unwrap_or(i32::MAX)
        });
        // SAFETY: the array lives across the call and its length is given.
        unsafe { libc::poll(waits.as_mut_ptr(), 3, wait) };
        for (source, wait) in sources.iter_mut().zip(&waits) {
            if wait.revents != 0 {
                source.take(log);
            }
        }
        if waits[2].revents != 0 && take_signal(signals, child, log, grace_ms, &mut kill_at) {
            break;
        }
        if kill_at.is_some_and(|at| at <= Instant::now()) {
            log.say("did not end within its grace and was killed");
            child.signal(libc::SIGKILL);
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

/// True when init has ended.
fn take_signal(
    signals: &OwnedFd,
    child: &Child,
    log: &mut Log,
    grace_ms: u64,
    kill_at: &mut Option<Instant>,
) -> bool {
    let mut ended = false;
    loop {
        // SAFETY: the structure is plain data and its size is given.
        let (got, signal) = unsafe {
            let mut info: libc::signalfd_siginfo = std::mem::zeroed();
            let size = size_of::<libc::signalfd_siginfo>();
            (libc::read(signals.as_raw_fd(), (&raw mut info).cast(), size), info.ssi_signo as i32)
        };
        if check(got as i64).is_err() {
            return ended;
        }
        match signal {
            libc::SIGCHLD => {
                let mut status = 0;
                // SAFETY: the status is plain data.
                ended |= unsafe { libc::waitpid(child.pid as i32, &mut status, libc::WNOHANG) }
                    == child.pid as i32;
            }
            libc::SIGTERM | libc::SIGINT | libc::SIGQUIT if kill_at.is_none() => {
                log.say("asked to stop");
                child.signal(libc::SIGTERM);
                *kill_at = Some(Instant::now() + std::time::Duration::from_millis(grace_ms));
            }
            _ => {}
        }
    }
}
