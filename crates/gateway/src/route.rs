//! A route as the workers use it.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use http::HeaderMap;
use http::header::{HeaderName, HeaderValue};
use mainyard_core::model::{HeaderChange, Name, RouteSpec};
use mainyard_core::routing::Spread;

use crate::backend_order::Turns;
use crate::cache::Cache;
use crate::limiter::Limiter;
use crate::service::Cell;

/// A route, ready to serve by.
#[derive(Debug)]
pub struct Route {
    /// `environment/name`.
    pub key: Arc<str>,
    /// Its environment.
    pub environment: Name,
    /// The requests it matches: its host, with the path unless it takes all paths.
    pub at: Arc<str>,
    /// Its declaration.
    pub spec: RouteSpec,
    /// Services that it leads to, with their ports.
    pub legs: Vec<(Arc<Cell>, u16)>,
    /// How requests are spread over them.
    pub spread: Spread,
    /// Counts requests, across tables.
    pub turns: Arc<Turns>,
    /// Its visitors' rate.
    pub limiter: Option<Arc<Limiter>>,
    /// Headers of the request that are changed.
    pub request: Change,
    /// Headers of the answer that are changed.
    pub answer: Change,
    /// That browsers use https alone.
    pub hsts: Option<HeaderValue>,
    /// Answers that are kept.
    pub cache: Option<Arc<Cache>>,
    /// Counts requests for its drill.
    pub drilled: Drilled,
}

/// Chooses a part of the requests evenly.
#[derive(Debug, Default)]
pub struct Drilled(AtomicU32);

impl Drilled {
    /// Whether the next request is one of so many in a hundred.
    pub fn is_next(&self, share: u32) -> bool {
        let before = self.0.fetch_add(share, Ordering::Relaxed) % 100;
        before + share >= 100
    }
}

/// Headers to set and to remove, read once.
#[derive(Debug, Default)]
pub struct Change {
    remove: Vec<HeaderName>,
    set: Vec<(HeaderName, HeaderValue)>,
    add: Vec<(HeaderName, HeaderValue)>,
}

impl Change {
    /// As it was declared.
    pub fn of(declared: &HeaderChange) -> Change {
        let read = |declared: &BTreeMap<String, String>| {
            declared
                .iter()
                .filter_map(|(name, value)| Some((name.parse().ok()?, value.parse().ok()?)))
                .collect()
        };
        let remove = declared.remove.iter().filter_map(|name| name.parse().ok()).collect();
        Change { remove, set: read(&declared.set), add: read(&declared.add) }
    }

    /// Makes it.
    pub fn apply(&self, headers: &mut HeaderMap) {
        for name in &self.remove {
            headers.remove(name);
        }
        for (name, value) in &self.set {
            headers.insert(name, value.clone());
        }
        for (name, value) in &self.add {
            headers.append(name, value.clone());
        }
    }
}

impl Route {
    /// The rest of a request's path below the route's, with its slash: it is appended to a rewrite or a redirect.
    pub fn below<'p>(&self, path: &'p str) -> &'p str {
        let prefix = self.spec.path.trim_end_matches('/');
        path.strip_prefix(prefix).unwrap_or(path)
    }

    /// The path with what the replica sees in place of the route's own.
    pub fn rewritten(&self, path: &str) -> Option<String> {
        let base = self.spec.rewrite.as_ref()?;
        Some(joined(base, self.below(path)))
    }
}

/// A base and what is below it, with one slash between.
pub(crate) fn joined(base: &str, below: &str) -> String {
    let whole = format!("{}{below}", base.trim_end_matches('/'));
    if whole.is_empty() { "/".to_owned() } else { whole }
}
