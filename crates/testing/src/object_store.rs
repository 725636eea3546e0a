//! A small object store that speaks S3 over HTTP, in memory: whole and multipart uploads, ranges, lists in pages. It can be made
//! to be away, and to change what it sends.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::SystemTime;

use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::header::{AUTHORIZATION, CONTENT_LENGTH, CONTENT_RANGE, ETAG, LAST_MODIFIED, RANGE};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;

/// Keys that one page of a list has.
const PAGE: usize = 3;

struct Object {
    bytes: Bytes,
    at: SystemTime,
}

#[derive(Default)]
struct Content {
    objects: BTreeMap<String, Object>,
    /// Pieces of multipart uploads, by upload and number.
    uploads: BTreeMap<String, BTreeMap<u32, Bytes>>,
    begun: u64,
    away: bool,
    spoils: bool,
    refused: u64,
}

/// The object store; it goes with the process.
#[derive(Clone)]
pub struct ObjectStore {
    /// Its address.
    pub address: SocketAddr,
    key_id: String,
    content: Arc<Mutex<Content>>,
}

impl ObjectStore {
    /// Starts one that takes requests of this access key only.
    ///
    /// # Panics
    /// When no port can be had.
    pub fn start(key_id: &str) -> ObjectStore {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        listener.set_nonblocking(true).expect("a listener");
        let address = listener.local_addr().expect("an address");
        let store = ObjectStore { address, key_id: key_id.to_owned(), content: Arc::default() };
        let serving = store.clone();
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
            runtime.expect("a runtime").block_on(serving.serve(listener));
        });
        store
    }

    fn lock(&self) -> MutexGuard<'_, Content> {
        self.content.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether it answers 503 from now on, whatever it is asked.
    pub fn set_away(&self, away: bool) {
        self.lock().away = away;
    }

    /// Whether it sends other bytes than it was given from now on.
    pub fn set_spoils(&self, spoils: bool) {
        self.lock().spoils = spoils;
    }

    /// The keys that it has.
    pub fn keys(&self) -> Vec<String> {
        self.lock().objects.keys().cloned().collect()
    }

    /// Multipart uploads that were neither completed nor given up.
    pub fn open_uploads(&self) -> usize {
        self.lock().uploads.len()
    }

    /// Requests that were refused because it was away.
    pub fn refused(&self) -> u64 {
        self.lock().refused
    }

    /// Makes all that it has as old as this.
    pub fn age(&self, by: std::time::Duration) {
        for object in self.lock().objects.values_mut() {
            object.at -= by;
        }
    }

    async fn serve(self, listener: std::net::TcpListener) {
        let listener = tokio::net::TcpListener::from_std(listener).expect("a listener");
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(self.clone().serve_one(stream));
        }
    }

    async fn serve_one(self, stream: tokio::net::TcpStream) -> hyper::Result<()> {
        let answer = service_fn(move |request| {
            let store = self.clone();
            async move { Ok::<_, Infallible>(store.answer(request).await) }
        });
        hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), answer).await
    }

    async fn answer(&self, request: Request<Incoming>) -> Response<Full<Bytes>> {
        let credential = format!("Credential={}/", self.key_id);
        let signed = request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok());
        if !signed.is_some_and(|it| it.starts_with("AWS4-HMAC-SHA256 ") && it.contains(&credential)) {
            return refused(StatusCode::FORBIDDEN, "SignatureDoesNotMatch");
        }
        let (head, body) = request.into_parts();
        let Ok(body) = body.collect().await.map(http_body_util::Collected::to_bytes) else {
            return refused(StatusCode::BAD_REQUEST, "IncompleteBody");
        };
        let mut content = self.lock();
        if content.away {
            content.refused += 1;
            return refused(StatusCode::SERVICE_UNAVAILABLE, "ServiceUnavailable");
        }
        let query: BTreeMap<String, String> = pairs(head.uri.query().unwrap_or_default());
        let path = unescaped(head.uri.path().trim_start_matches('/'));
        let Some((_bucket, key)) = path.split_once('/').or(Some((path.as_str(), ""))) else {
            return refused(StatusCode::BAD_REQUEST, "InvalidURI");
        };
        match (&head.method, query.get("uploadId")) {
            (&Method::POST, None) if query.contains_key("uploads") => content.begin_upload(key),
            (&Method::PUT, Some(upload)) => content.put_piece(upload, &query, body),
            (&Method::POST, Some(upload)) => content.complete(upload, key),
            (&Method::DELETE, Some(upload)) => {
                content.uploads.remove(upload);
                empty(StatusCode::NO_CONTENT)
            }
            (&Method::PUT, None) => content.put(key, body),
            (&Method::GET, None) if key.is_empty() => content.list(&query),
            (&Method::GET | &Method::HEAD, None) => {
                let range = head.headers.get(RANGE).and_then(|value| value.to_str().ok());
                content.get(key, range, head.method == Method::HEAD)
            }
            (&Method::DELETE, None) => {
                content.objects.remove(key);
                empty(StatusCode::NO_CONTENT)
            }
            _ => refused(StatusCode::METHOD_NOT_ALLOWED, "MethodNotAllowed"),
        }
    }
}

impl Content {
    fn put(&mut self, key: &str, bytes: Bytes) -> Response<Full<Bytes>> {
        self.objects.insert(key.to_owned(), Object { bytes, at: SystemTime::now() });
        tagged(StatusCode::OK)
    }

    fn begin_upload(&mut self, key: &str) -> Response<Full<Bytes>> {
        self.begun += 1;
        let id = format!("upload-{}", self.begun);
        self.uploads.insert(id.clone(), BTreeMap::new());
        xml(format!(
            "<InitiateMultipartUploadResult><Bucket>b</Bucket><Key>{key}</Key><UploadId>{id}</UploadId>\
             </InitiateMultipartUploadResult>"
        ))
    }

    fn put_piece(
        &mut self,
        upload: &str,
        query: &BTreeMap<String, String>,
        bytes: Bytes,
    ) -> Response<Full<Bytes>> {
        let number = query.get("partNumber").and_then(|text| text.parse().ok());
        match (self.uploads.get_mut(upload), number) {
            (Some(pieces), Some(number)) => {
                pieces.insert(number, bytes);
                tagged(StatusCode::OK)
            }
            _ => refused(StatusCode::NOT_FOUND, "NoSuchUpload"),
        }
    }

    fn complete(&mut self, upload: &str, key: &str) -> Response<Full<Bytes>> {
        let Some(pieces) = self.uploads.remove(upload) else {
            return refused(StatusCode::NOT_FOUND, "NoSuchUpload");
        };
        let bytes: Vec<u8> = pieces.into_values().flatten().collect();
        self.put(key, Bytes::from(bytes));
        xml(format!(
            "<CompleteMultipartUploadResult><Bucket>b</Bucket><Key>{key}</Key><ETag>\"e\"</ETag>\
             </CompleteMultipartUploadResult>"
        ))
    }

    fn get(&self, key: &str, range: Option<&str>, head: bool) -> Response<Full<Bytes>> {
        let Some(object) = self.objects.get(key) else { return refused(StatusCode::NOT_FOUND, "NoSuchKey") };
        let mut bytes = object.bytes.clone();
        if self.spoils && !bytes.is_empty() {
            let mut spoiled = bytes.to_vec();
            spoiled[0] ^= 1;
            bytes = Bytes::from(spoiled);
        }
        let length = bytes.len();
        let mut answer =
            Response::builder().header(ETAG, "\"e\"").header(LAST_MODIFIED, http_date(object.at));
        let bounds = range.and_then(|range| range.strip_prefix("bytes=")?.split_once('-'));
        if let Some((first, last)) = bounds {
            let first = first.parse().unwrap_or(0).min(length);
            let end = last.parse::<usize>().map_or(length, |last| last + 1).min(length);
            answer = answer.status(StatusCode::PARTIAL_CONTENT);
            answer =
                answer.header(CONTENT_RANGE, format!("bytes {first}-{}/{length}", end.saturating_sub(1)));
            bytes = bytes.slice(first..end);
        }
        answer = answer.header(CONTENT_LENGTH, bytes.len());
        let body = if head { Bytes::new() } else { bytes };
        answer.body(Full::new(body)).expect("an answer")
    }

    fn list(&self, query: &BTreeMap<String, String>) -> Response<Full<Bytes>> {
        let prefix = query.get("prefix").cloned().unwrap_or_default();
        let after = query.get("continuation-token").cloned().unwrap_or_default();
        let mut found = self.objects.iter().filter(|(key, _)| key.starts_with(&prefix) && **key > after);
        let page: Vec<_> = found.by_ref().take(PAGE).collect();
        let more = found.next().is_some();
        let mut body = format!("<ListBucketResult><IsTruncated>{more}</IsTruncated>");
        if let (true, Some((last, _))) = (more, page.last()) {
            body += &format!("<NextContinuationToken>{last}</NextContinuationToken>");
        }
        for (key, object) in page {
            let (size, at) = (object.bytes.len(), rfc3339(object.at));
            body += &format!(
                "<Contents><Key>{key}</Key><Size>{size}</Size><LastModified>{at}</LastModified>\
                 <ETag>\"e\"</ETag></Contents>"
            );
        }
        xml(body + "</ListBucketResult>")
    }
}

fn rfc3339(at: SystemTime) -> String {
    jiff::Timestamp::try_from(at).expect("a time").to_string()
}

fn http_date(at: SystemTime) -> String {
    let at = jiff::Timestamp::try_from(at).expect("a time");
    jiff::fmt::rfc2822::DateTimePrinter::new().timestamp_to_rfc9110_string(&at).expect("a date")
}

fn pairs(query: &str) -> BTreeMap<String, String> {
    let pair = |pair: &str| {
        let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
        (key.to_owned(), unescaped(value))
    };
    query.split('&').filter(|part| !part.is_empty()).map(pair).collect()
}

/// Undoes percent-encoding (RFC 3986, section 2.1).
fn unescaped(text: &str) -> String {
    let (mut bytes, mut rest) = (Vec::new(), text.as_bytes());
    while let [first, tail @ ..] = rest {
        let escaped = (*first == b'%').then(|| tail.get(..2)).flatten();
        let escaped = escaped.and_then(|hex| u8::from_str_radix(std::str::from_utf8(hex).ok()?, 16).ok());
        bytes.push(escaped.unwrap_or(*first));
        rest = if escaped.is_some() { &tail[2..] } else { tail };
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

fn empty(status: StatusCode) -> Response<Full<Bytes>> {
    Response::builder().status(status).body(Full::default()).expect("an answer")
}

fn tagged(status: StatusCode) -> Response<Full<Bytes>> {
    Response::builder().status(status).header(ETAG, "\"e\"").body(Full::default()).expect("an answer")
}

fn xml(body: String) -> Response<Full<Bytes>> {
    Response::new(Full::new(Bytes::from(format!("<?xml version=\"1.0\"?>{body}"))))
}

fn refused(status: StatusCode, code: &str) -> Response<Full<Bytes>> {
    let body = format!("<?xml version=\"1.0\"?><Error><Code>{code}</Code><Message>{code}</Message></Error>");
    Response::builder().status(status).body(Full::new(Bytes::from(body))).expect("an answer")
}
