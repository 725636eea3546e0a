//! Answers that are kept in memory and given again, as they themselves allow (RFC 9111). What may be kept, for whom and how
//! long is worked out by a crate of its own; here it is held in a bound.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use bytes::{Bytes, BytesMut};
use http::header::{CACHE_CONTROL, CONTENT_LENGTH, CONTENT_RANGE, RANGE, SET_COOKIE};
use http::{HeaderMap, Method, Request, StatusCode, request, response};
use http_cache_semantics::{BeforeRequest, CacheOptions, CachePolicy};
use mainyard_core::model::CacheRule;

/// Answers to one address that differ by what a request says (`Vary`).
const VARIANTS: usize = 8;
/// What an entry takes beside its body.
const BESIDE: usize = 1024;

/// The answers that a route keeps.
#[derive(Debug)]
pub struct Cache {
    /// As it is declared.
    pub rule: CacheRule,
    /// Whether every answer must say itself that it is for everybody.
    only_public: bool,
    kept: Mutex<Kept>,
}

#[derive(Debug, Default)]
struct Kept {
    /// By host and path with its query.
    entries: HashMap<String, Vec<Entry>>,
    size: usize,
    /// Counts up with each use: what was not used for longest goes first.
    used: u64,
}

#[derive(Debug)]
struct Entry {
    policy: CachePolicy,
    body: Bytes,
    used: u64,
}

impl Entry {
    fn size(&self) -> usize {
        self.body.len() + BESIDE
    }
}

/// A request whose answer may be kept, and what is there of it.
pub(crate) struct Keep {
    cache: Arc<Cache>,
    key: String,
    policy: CachePolicy,
    body: BytesMut,
}

impl Cache {
    /// An empty one; `only_public` where the route does not let everybody in.
    pub fn new(rule: CacheRule, only_public: bool) -> Cache {
        Cache { rule, only_public, kept: Mutex::default() }
    }

    fn with<T>(&self, act: impl FnOnce(&mut Kept) -> T) -> T {
        act(&mut self.kept.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// An answer that may be given again, where one is there. `origin` is the scheme and host that are asked: programs answer
    /// differently over http.
    pub(crate) fn answer<B>(&self, request: &Request<B>, origin: &str) -> Option<(response::Parts, Bytes)> {
        let is_read = matches!(*request.method(), Method::GET | Method::HEAD);
        if !is_read || request.headers().contains_key(RANGE) {
            return None;
        }
        let as_get = request_head(request, origin);
        self.with(|kept| {
            kept.used += 1;
            let used = kept.used;
            let entries = kept.entries.get_mut(&key_of(request, origin))?;
            let now = SystemTime::now();
            entries.iter_mut().find_map(|entry| match entry.policy.before_request(&as_get, now) {
                BeforeRequest::Fresh(head) => {
                    entry.used = used;
                    Some((head, entry.body.clone()))
                }
                BeforeRequest::Stale { .. } => None,
            })
        })
    }

    /// A request whose answer may be kept.
    pub(crate) fn asked<B>(request: &Request<B>, origin: &str) -> Option<request::Parts> {
        let is_whole = *request.method() == Method::GET && !request.headers().contains_key(RANGE);
        is_whole.then(|| request_head(request, origin))
    }

    /// Begins to keep an answer, where it allows that.
    pub(crate) fn keep(self: &Arc<Self>, asked: &request::Parts, answer: &response::Parts) -> Option<Keep> {
        let headers = &answer.headers;
        let is_whole = answer.status != StatusCode::PARTIAL_CONTENT && !headers.contains_key(CONTENT_RANGE);
        // What sets a cookie is one visitor's own, whatever else it says.
        let is_ones_own = headers.contains_key(SET_COOKIE) || (self.only_public && !is_public(headers));
        let length = headers.get(CONTENT_LENGTH).and_then(|it| it.to_str().ok()?.parse::<u64>().ok());
        if !is_whole || is_ones_own || length.is_some_and(|length| length > self.rule.largest.bytes()) {
            return None;
        }
        // How long it lasts must be said: an answer that says nothing may be one visitor's own.
        let options = CacheOptions { cache_heuristic: 0.0, ..CacheOptions::default() };
        let policy = CachePolicy::new_options(asked, answer, SystemTime::now(), options);
        if !policy.is_storable() || policy.is_stale(SystemTime::now()) {
            return None;
        }
        let key = asked.uri.to_string();
        Some(Keep { cache: Arc::clone(self), key, policy, body: BytesMut::new() })
    }

    /// Something is changed there: what is kept of it is not given again (RFC 9111, section 4.4).
    pub(crate) fn forget<B>(&self, request: &Request<B>, origin: &str) {
        if !request.method().is_safe() {
            let changed = key_of(request, origin);
            self.purge(|key| key == changed);
        }
    }

    /// Forgets what is kept of this path and all below it; gives how many answers that were.
    pub(crate) fn purge_below(&self, path: &str) -> u64 {
        let path = path.trim_end_matches('/');
        self.purge(|key| {
            let below = key.split_once("://").and_then(|(_, rest)| rest.split_once('/'));
            let below = below.map_or(String::new(), |(_, rest)| format!("/{rest}"));
            below.strip_prefix(path).is_some_and(|rest| rest.is_empty() || rest.starts_with(['/', '?']))
        })
    }

    fn purge(&self, goes: impl Fn(&str) -> bool) -> u64 {
        self.with(|kept| {
            let gone: Vec<String> = kept.entries.keys().filter(|key| goes(key)).cloned().collect();
            let entries = gone.iter().filter_map(|key| kept.entries.remove(key)).flatten();
            let sizes: Vec<usize> = entries.map(|entry| entry.size()).collect();
            kept.size -= sizes.iter().sum::<usize>();
            sizes.len() as u64
        })
    }

    fn put(&self, key: String, policy: CachePolicy, body: Bytes) {
        let most = self.rule.size.bytes() as usize;
        self.with(|kept| {
            kept.used += 1;
            let entry = Entry { policy, body, used: kept.used };
            if entry.size() > most {
                return;
            }
            kept.size += entry.size();
            let entries = kept.entries.entry(key).or_default();
            entries.insert(0, entry);
            let over = if entries.len() > VARIANTS { entries.pop() } else { None };
            kept.size -= over.map_or(0, |entry| entry.size());
            while kept.size > most && kept.drop_oldest() {}
        });
    }
}

impl Kept {
    /// Whether there was one.
    fn drop_oldest(&mut self) -> bool {
        let last_used = |entries: &Vec<Entry>| entries.iter().map(|entry| entry.used).max();
        let oldest = self.entries.iter().min_by_key(|(_, entries)| last_used(entries));
        let Some(key) = oldest.map(|(key, _)| key.clone()) else { return false };
        let gone = self.entries.remove(&key).unwrap_or_default();
        self.size -= gone.iter().map(Entry::size).sum::<usize>();
        true
    }
}

impl Keep {
    /// Takes a piece of the body; false where it grows too large to be kept.
    pub(crate) fn add(&mut self, data: &[u8]) -> bool {
        let fits = (self.body.len() + data.len()) as u64 <= self.cache.rule.largest.bytes();
        if fits {
            self.body.extend_from_slice(data);
        }
        fits
    }

    /// The body came whole.
    pub(crate) fn finish(self) {
        self.cache.put(self.key, self.policy, self.body.freeze());
    }
}

fn key_of<B>(request: &Request<B>, origin: &str) -> String {
    let path = request.uri().path_and_query().map_or("/", |path| path.as_str());
    format!("{origin}{path}")
}

/// What decides about an answer: the whole address and headers. HEAD is answered by what GET was.
fn request_head<B>(request: &Request<B>, origin: &str) -> request::Parts {
    let mut head = Request::new(());
    *head.uri_mut() = key_of(request, origin).parse().unwrap_or_default();
    *head.headers_mut() = request.headers().clone();
    head.into_parts().0
}

fn is_public(headers: &HeaderMap) -> bool {
    let values = headers.get_all(CACHE_CONTROL).iter().filter_map(|value| value.to_str().ok());
    values.flat_map(|value| value.split(',')).any(|word| word.trim().eq_ignore_ascii_case("public"))
}

#[cfg(test)]
mod tests {
    use http::Response;
    use http::header::HeaderValue;
    use mainyard_core::model::Bytes as Size;

    use super::*;

    fn cache(size: u64) -> Arc<Cache> {
        Arc::new(Cache::new(CacheRule { size: Size::new(size), largest: Size::new(4096) }, false))
    }

    fn request(path: &str, headers: &[(&'static str, &'static str)]) -> Request<()> {
        let mut request = Request::new(());
        *request.uri_mut() = path.parse().expect("a path");
        for (name, value) in headers {
            request.headers_mut().insert(*name, HeaderValue::from_static(value));
        }
        request
    }

    fn put(
        cache: &Arc<Cache>,
        request: &Request<()>,
        said: &[(&'static str, &'static str)],
        body: &[u8],
    ) -> bool {
        let mut answer = Response::new(());
        for (name, value) in said {
            answer.headers_mut().insert(*name, HeaderValue::from_static(value));
        }
        let asked = Cache::asked(request, "http://a.test").expect("a GET");
        let Some(mut keep) = cache.keep(&asked, &answer.into_parts().0) else { return false };
        assert!(keep.add(body));
        keep.finish();
        true
    }

    fn has(cache: &Arc<Cache>, request: &Request<()>) -> bool {
        cache.answer(request, "http://a.test").is_some()
    }

    const HOUR: &[(&str, &str)] = &[("cache-control", "max-age=3600")];

    #[test]
    fn only_what_allows_it_is_kept() {
        let cache = cache(1 << 20);
        let plain = request("/a", &[]);
        for said in [
            &[][..],
            &[("cache-control", "no-store")],
            &[("cache-control", "private, max-age=60")],
            &[("cache-control", "max-age=0")],
            &[("cache-control", "max-age=60"), ("set-cookie", "who=mira")],
            &[("cache-control", "max-age=60"), ("vary", "*")],
            &[("last-modified", "Wed, 21 Oct 2015 07:28:00 GMT")],
        ] {
            put(&cache, &plain, said, b"x");
            assert!(!has(&cache, &plain), "{said:?}");
        }
        assert!(put(&cache, &plain, HOUR, b"x") && has(&cache, &plain));
        assert!(!has(&cache, &request("/a?b", &[])) && !has(&cache, &request("/A", &[])));
        for other in ["http://b.test", "https://a.test"] {
            assert!(cache.answer(&plain, other).is_none(), "{other} has answers of its own");
        }
    }

    #[test]
    fn what_is_one_visitors_own_is_not_given_to_another() {
        let cache = cache(1 << 20);
        let mira = request("/a", &[("authorization", "Bearer mira")]);
        assert!(!put(&cache, &mira, HOUR, b"mira's"));
        let closed = Arc::new(Cache::new(cache.rule.clone(), true));
        assert!(!put(&closed, &request("/a", &[("cookie", "who=mira")]), HOUR, b"mira's"));
        let public = &[("cache-control", "public, max-age=60")];
        assert!(put(&closed, &request("/b", &[]), public, b"everybody's"));
        let german = request("/v", &[("accept-language", "de")]);
        let said = &[("cache-control", "max-age=60"), ("vary", "accept-language")];
        assert!(put(&cache, &german, said, b"frei"));
        assert!(has(&cache, &german) && !has(&cache, &request("/v", &[("accept-language", "en")])));
    }

    #[test]
    fn memory_is_bounded_and_what_was_not_used_goes_first() {
        let cache = cache(10 * (BESIDE as u64 + 1000));
        let at = |number: usize| request(&format!("/{number}"), &[]);
        for number in 0..50 {
            assert!(put(&cache, &at(number), HOUR, &[b'x'; 1000]));
            assert!(has(&cache, &at(0)), "the first one is used all the time: {number}");
            assert!(cache.with(|kept| kept.size) <= 10 * (BESIDE + 1000));
        }
        assert!(has(&cache, &at(49)) && !has(&cache, &at(20)));
        assert_eq!(cache.purge_below("/"), 10);
        assert_eq!(cache.with(|kept| (kept.size, kept.entries.len())), (0, 0));
    }

    #[test]
    fn a_change_and_a_purge_forget_what_is_below() {
        let cache = cache(1 << 20);
        for path in ["/a", "/a/b", "/ab", "/a?c"] {
            assert!(put(&cache, &request(path, &[]), HOUR, b"x"));
        }
        let mut change = request("/ab", &[]);
        *change.method_mut() = Method::POST;
        cache.forget(&change, "http://a.test");
        assert!(!has(&cache, &request("/ab", &[])) && has(&cache, &request("/a", &[])));
        assert_eq!(cache.purge_below("/a/"), 3);
    }
}
