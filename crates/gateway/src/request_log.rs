//! Requests of the last while, to answer for one of them when somebody asks, and to write them down as they end.

use std::collections::VecDeque;
use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use http::header::HeaderValue;
use mainyard_core::link::Served;
use mainyard_core::model::{Reason, ReasonCode};
use tokio::sync::broadcast;

use crate::replica::Replica;

/// Requests that each worker remembers.
const KEPT: usize = 20_000;
/// Longest path that is remembered.
const PATH: usize = 200;

/// The log entry of a request that is still open.
#[derive(Debug, Clone)]
pub struct Note {
    /// When it came, in milliseconds since 1970 UTC.
    pub at: u64,
    /// Its id.
    pub id: HeaderValue,
    /// The caller.
    pub peer: IpAddr,
    /// Such as `GET`.
    pub method: http::Method,
    /// The host it was for.
    pub host: Option<Arc<str>>,
    /// With the query left out: it may hold what is nobody's business.
    pub path: Box<str>,
    /// Whether it came over TLS.
    pub secure: bool,
    /// The route's host and path, or service and port for callers inside.
    pub way: Option<Arc<str>>,
    /// The route's key.
    pub route: Option<Arc<str>>,
    /// The replica that answered.
    pub replica: Option<Arc<Replica>>,
    /// With which status.
    pub status: u16,
    /// Why the gateway answered itself.
    pub reason: Option<ReasonCode>,
    /// The same in words.
    pub sentence: Option<Box<str>>,
    /// How many replicas were tried before without success.
    pub tried: u8,
    /// Whether the answer was broken off.
    pub broken: bool,
}

#[derive(Debug, Clone)]
struct Entry {
    note: Note,
    micros: u64,
    received: u64,
    sent: u64,
}

/// Requests of the last while.
#[derive(Debug)]
pub struct RequestLog {
    kept: Box<[Mutex<VecDeque<Entry>>]>,
    /// Readers of the access log.
    readers: AtomicUsize,
    lines: broadcast::Sender<Arc<Served>>,
}

impl RequestLog {
    /// For so many workers.
    pub fn new(workers: usize) -> RequestLog {
        let kept = (0..workers).map(|_| Mutex::default()).collect();
        RequestLog { kept, readers: AtomicUsize::new(0), lines: broadcast::channel(4096).0 }
    }

    /// Remembers a request that ended, with how long it took and the bytes of both bodies.
    pub fn remember(&self, worker: usize, note: Note, micros: u64, received: u64, sent: u64) {
        let entry = Entry { note, micros, received, sent };
        if self.readers.load(Ordering::Relaxed) > 0 {
            let _ = self.lines.send(Arc::new(entry.served()));
        }
        let mut kept = self.kept[worker % self.kept.len()].lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() == KEPT {
            kept.pop_front();
        }
        kept.push_back(entry);
    }

    /// The request of this id, where it is remembered.
    pub fn find(&self, id: &str) -> Option<Served> {
        self.kept.iter().find_map(|kept| {
            let kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
            kept.iter().rev().find(|entry| entry.note.id == id).map(Entry::served)
        })
    }

    /// Requests as they end, until the reader is dropped.
    pub fn read(self: &RequestLog) -> broadcast::Receiver<Arc<Served>> {
        self.readers.fetch_add(1, Ordering::Relaxed);
        self.lines.subscribe()
    }

    /// A reader has gone.
    pub fn read_no_more(&self) {
        self.readers.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Entry {
    fn served(&self) -> Served {
        let note = &self.note;
        let backend = note.replica.as_ref().map(|replica| &replica.backend);
        let sentence = note.sentence.as_deref().unwrap_or_default();
        Served {
            at: note.at,
            id: note.id.to_str().unwrap_or("none").to_owned(),
            peer: note.peer.to_string(),
            method: note.method.to_string(),
            host: note.host.as_deref().map(str::to_owned),
            path: note.path.to_string(),
            secure: note.secure,
            way: note.way.as_deref().map(str::to_owned),
            route: note.route.as_deref().map(str::to_owned),
            replica: backend.map(|backend| backend.replica.clone()),
            release: backend.map(|backend| backend.release),
            status: note.status,
            reason: note.reason.map(|code| Reason::new(code, sentence)),
            tried: note.tried,
            broken: note.broken,
            micros: self.micros,
            received: self.received,
            sent: self.sent,
        }
    }
}

/// A path as it is remembered.
pub(crate) fn short(path: &str) -> Box<str> {
    let mut end = path.len().min(PATH);
    while !path.is_char_boundary(end) {
        end -= 1;
    }
    path[..end].into()
}
