//! The replica's output: each line stamped and written to `current`, which is turned over when it is full.
//!
//! A line of the log is `MICROSECONDS SOURCE TEXT`, with the source `o` (standard output), `e` (standard
//! error) or `k` (the keeper). Longer lines than [`LINE_LIMIT`] are cut into several.

use std::fs::{File, OpenOptions, rename};
use std::io::{Read, Write};
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::time::{Instant, SystemTime, UNIX_EPOCH};

use mainyard_keeper::{Ending, Spec};

use crate::init::Child;
use crate::sys::{Fault, check, step};

const LINE_LIMIT: usize = 16 * 1024;

pub struct Log {
    dir: PathBuf,
    file: File,
    size: u64,
    limit: u64,
    /// Lines that found no room.
    lost: u64,
}

impl Log {
    pub fn open(spec: &Spec) -> Result<Log, Fault> {
        let dir = Path::new(&spec.log_dir).to_owned();
        let file =
            step("open the log", OpenOptions::new().create(true).append(true).open(dir.join("current")))?;
        let size = file.metadata().map_or(0, |found| found.len());
        Ok(Log { dir, file, size, limit: spec.log_limit, lost: 0 })
    }

    fn line(&mut self, source: char, text: &[u8]) {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_micros());
        let mut line = format!("{now} {source} ").into_bytes();
        line.extend_from_slice(text);
        line.push(b'\n');
        if self.size + line.len() as u64 > self.limit {
            self.turn_over();
        }
        // A full disk must not stop the replica: the line is lost, the next one is tried again.
        if self.lost > 0 {
            let told = format!("{now} k {} lines before this were lost: the disk had no room\n", self.lost);
            line.splice(0..0, told.into_bytes());
        }
        if self.put(&line) {
            self.lost = 0;
        } else {
            self.lost += 1;
        }
    }

    /// Whole or not at all: half a line would be taken for the beginning of the next.
    fn put(&mut self, line: &[u8]) -> bool {
        match self.file.write_all(line) {
            Ok(()) => {
                self.size += line.len() as u64;
                true
            }
            Err(_) => {
                let _ = self.file.set_len(self.size);
                false
            }
        }
    }

    fn turn_over(&mut self) {
        let current = self.dir.join("current");
        if rename(&current, self.dir.join("previous")).is_ok()
            && let Ok(file) = OpenOptions::new().create(true).append(true).open(current)
        {
            self.file = file;
            self.size = 0;
        }
    }
}

struct Source {
    file: Option<File>,
    mark: char,
    partial: Vec<u8>,
}

impl Source {
    /// Takes what is there; false once the other end is closed.
    fn take(&mut self, log: &mut Log) {
        let mut chunk = [0; 8192];
        let got = self.file.as_mut().map_or(Ok(0), |file| file.read(&mut chunk));
        let Ok(length @ 1..) = got else {
            if !self.partial.is_empty() {
                log.line(self.mark, &std::mem::take(&mut self.partial));
            }
            self.file = None;
            return;
        };
        self.partial.extend_from_slice(&chunk[..length]);
        while let Some(end) = self.partial.iter().position(|byte| *byte == b'\n') {
            let rest = self.partial.split_off(end + 1);
            self.partial.pop();
            log.line(self.mark, &std::mem::replace(&mut self.partial, rest));
        }
        if self.partial.len() >= LINE_LIMIT {
            log.line(self.mark, &std::mem::take(&mut self.partial));
        }
    }
}

/// Moves output into the log until the replica has ended; a stop signal is passed on and, after the grace,
/// followed by a kill.
pub fn pump(
    log: &mut Log,
    outputs: [OwnedFd; 2],
    signals: &OwnedFd,
    child: &Child,
    grace_ms: u64,
) -> Result<Ending, Fault> {
    let [out, err] = outputs;
    let mut sources = [
        Source { file: Some(out.into()), mark: 'o', partial: Vec::new() },
        Source { file: Some(err.into()), mark: 'e', partial: Vec::new() },
    ];
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
            log.line('k', b"did not end within its grace and was killed");
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
                log.line('k', b"asked to stop");
                child.signal(libc::SIGTERM);
                *kill_at = Some(Instant::now() + std::time::Duration::from_millis(grace_ms));
            }
            _ => {}
        }
    }
}
