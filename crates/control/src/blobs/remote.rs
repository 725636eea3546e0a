//! An object store that speaks S3.

use std::collections::HashSet;
use std::path::Path as FilePath;
use std::time::Duration;

use actix_web::web::Bytes;
use futures_util::stream::BoxStream;
use futures_util::{StreamExt, TryStreamExt};
use mainyard_images::Digest;
use mainyard_registry::ByteRange;
use object_store::aws::{AmazonS3, AmazonS3Builder};
use object_store::path::Path;
use object_store::{
    BackoffConfig, ClientOptions, GetOptions, GetRange, ObjectStore, PutPayload, RetryConfig, WriteMultipart,
};
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use super::BlobError;

/// A blob is sent in pieces of this length; a shorter one as a whole.
const PIECE: usize = 8 << 20;
/// Pieces of one blob that are on their way at once.
const PIECES_AT_ONCE: usize = 4;
/// How long a request is tried again before it is given up: an object store may be away for a moment.
const TRIED_FOR: Duration = Duration::from_secs(15);
/// A request without an answer is given up after this time.
const ANSWERED_WITHIN: Duration = Duration::from_secs(60);

/// Where an object store is, and who asks it.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ObjectStoreAddress {
    /// The bucket.
    pub bucket: String,
    /// What all keys begin with; empty for none.
    pub prefix: String,
    /// The store's URL, where it is not the provider's own.
    pub endpoint: Option<String>,
    /// Its region.
    pub region: String,
    /// The id of the access key; without one, requests are not signed.
    pub key_id: Option<String>,
    /// The access key itself.
    pub key: Option<String>,
}

impl std::fmt::Debug for ObjectStoreAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{self}")
    }
}

impl std::fmt::Display for ObjectStoreAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.url())?;
        self.endpoint.as_ref().map_or(Ok(()), |endpoint| write!(f, " at {endpoint}"))
    }
}

impl ObjectStoreAddress {
    /// `s3://BUCKET[/PREFIX]`.
    pub fn url(&self) -> String {
        let prefix = if self.prefix.is_empty() { String::new() } else { format!("/{}", self.prefix) };
        format!("s3://{}{prefix}", self.bucket)
    }

    /// Reads `s3://BUCKET[/PREFIX]`.
    ///
    /// # Errors
    /// What is wrong with it, and what is expected.
    pub fn parse(text: &str) -> Result<ObjectStoreAddress, BlobError> {
        let refused = |why: &str| {
            BlobError::Address(format!("{text:?} {why}; expected s3://BUCKET or s3://BUCKET/PREFIX"))
        };
        let rest = text.strip_prefix("s3://").ok_or_else(|| refused("is not the address of an S3 bucket"))?;
        let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
        let allowed = |byte: u8| matches!(byte, b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.');
        if !(3..=63).contains(&bucket.len()) || !bucket.bytes().all(allowed) {
            return Err(refused("names no bucket: 3 to 63 of a-z, 0-9, - and ."));
        }
        let prefix = prefix.trim_end_matches('/');
        if !prefix.is_empty() && Path::parse(prefix).is_err() {
            return Err(refused("has a prefix that no key can begin with"));
        }
        Ok(ObjectStoreAddress {
            bucket: bucket.to_owned(),
            prefix: prefix.to_owned(),
            endpoint: None,
            region: "us-east-1".to_owned(),
            key_id: None,
            key: None,
        })
    }
}

/// The object store, as it is used.
pub(super) struct Remote {
    name: String,
    prefix: String,
    store: AmazonS3,
}

impl Remote {
    pub(super) fn open(address: &ObjectStoreAddress) -> Result<Remote, BlobError> {
        let plain = address.endpoint.as_ref().is_some_and(|endpoint| endpoint.starts_with("http://"));
        let options = ClientOptions::new().with_timeout(ANSWERED_WITHIN).with_allow_http(plain);
        let backoff = BackoffConfig {
            init_backoff: Duration::from_millis(100),
            max_backoff: Duration::from_secs(2),
            base: 2.0,
        };
        let retry = RetryConfig { backoff, max_retries: 20, retry_timeout: TRIED_FOR };
        let mut builder = AmazonS3Builder::new()
            .with_bucket_name(&address.bucket)
            .with_region(&address.region)
            .with_client_options(options)
            .with_retry(retry);
        if let Some(endpoint) = &address.endpoint {
            builder = builder.with_endpoint(endpoint);
        }
        builder = match (&address.key_id, &address.key) {
            (Some(id), Some(key)) => builder.with_access_key_id(id).with_secret_access_key(key),
            _ => builder.with_skip_signature(true),
        };
        let store = builder.build().map_err(|error| BlobError::Address(format!("{address}: {error}")))?;
        Ok(Remote { name: address.to_string(), prefix: address.prefix.clone(), store })
    }

    fn key(&self, folder: &str, hex: &str) -> Path {
        let below = format!("{folder}/sha256/{hex}");
        if self.prefix.is_empty() {
            Path::from(below)
        } else {
            Path::from(format!("{}/{below}", self.prefix))
        }
    }

    fn blob(&self, digest: &Digest) -> Path {
        self.key("blobs", digest.hex())
    }

    fn away(&self, error: &object_store::Error) -> BlobError {
        let mut words = error.to_string();
        let mut source = std::error::Error::source(error);
        while let Some(cause) = source {
            let cause_words = cause.to_string();
            if !words.contains(&cause_words) {
                words = format!("{words}: {cause_words}");
            }
            source = cause.source();
        }
        BlobError::Away(self.name.clone(), words)
    }

    pub(super) async fn length(&self, digest: &Digest) -> Result<Option<u64>, BlobError> {
        match self.store.head(&self.blob(digest)).await {
            Ok(found) => Ok(Some(found.size)),
            Err(object_store::Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(self.away(&error)),
        }
    }

    /// Notes that the blob is about to be needed, then looks whether it is there: a sweep that begins later sees the note, one
    /// that removed it before is seen.
    pub(super) async fn keep(&self, digest: &Digest) -> Result<bool, BlobError> {
        let note = self.key("kept", digest.hex());
        self.store.put(&note, PutPayload::new()).await.map_err(|error| self.away(&error))?;
        Ok(self.length(digest).await?.is_some())
    }

    /// Sends a file. It appears only when it is whole.
    pub(super) async fn send(&self, digest: &Digest, file: &FilePath) -> Result<(), BlobError> {
        let mut from = tokio::fs::File::open(file).await?;
        let length = from.metadata().await?.len();
        let key = self.blob(digest);
        if length <= PIECE as u64 {
            let mut bytes = Vec::with_capacity(length as usize);
            from.read_to_end(&mut bytes).await?;
            let put = self.store.put(&key, PutPayload::from(bytes)).await;
            return put.map(drop).map_err(|error| self.away(&error));
        }
        let upload = self.store.put_multipart(&key).await.map_err(|error| self.away(&error))?;
        let mut to = WriteMultipart::new_with_chunk_size(upload, PIECE);
        match self.send_pieces(&mut from, &mut to).await {
            Ok(()) => to.finish().await.map(drop).map_err(|error| self.away(&error)),
            Err(error) => {
                // What was sent of it is of no use. Where the store is away, its own rules clear it.
                let _ = to.abort().await;
                Err(error)
            }
        }
    }

    async fn send_pieces(
        &self,
        from: &mut tokio::fs::File,
        to: &mut WriteMultipart,
    ) -> Result<(), BlobError> {
        loop {
            let mut piece = Vec::with_capacity(PIECE);
            if from.take(PIECE as u64).read_to_end(&mut piece).await? == 0 {
                return Ok(());
            }
            to.wait_for_capacity(PIECES_AT_ONCE).await.map_err(|error| self.away(&error))?;
            to.put(Bytes::from(piece));
        }
    }

    pub(super) async fn stream(
        &self,
        digest: &Digest,
        range: Option<ByteRange>,
    ) -> Result<BoxStream<'static, Result<Bytes, std::io::Error>>, BlobError> {
        let range = range.map(|range| GetRange::Bounded(range.first..range.last + 1));
        let options = GetOptions { range, ..GetOptions::default() };
        match self.store.get_opts(&self.blob(digest), options).await {
            Ok(found) => Ok(found.into_stream().map_err(std::io::Error::other).boxed()),
            Err(object_store::Error::NotFound { .. }) => Err(BlobError::Unknown(digest.clone())),
            Err(error) => Err(self.away(&error)),
        }
    }

    /// Writes the blob to a file. Its digest is not looked at.
    pub(super) async fn fetch(&self, digest: &Digest, to: &FilePath) -> Result<(), BlobError> {
        let mut pieces = self.stream(digest, None).await?;
        let mut file = tokio::fs::File::create(to).await?;
        while let Some(piece) = pieces.next().await {
            let piece = piece.map_err(|error| BlobError::Away(self.name.clone(), error.to_string()))?;
            file.write_all(&piece).await?;
        }
        Ok(file.flush().await?)
    }

    /// Removes old blobs that nothing needs and nobody noted as about to be needed; gives how many bytes that freed.
    pub(super) async fn sweep(&self, needed: &HashSet<Digest>, age: Duration) -> Result<u64, BlobError> {
        let now = jiff::Timestamp::now().as_second();
        let is_old = |meta: &object_store::ObjectMeta| {
            now - meta.last_modified.timestamp() >= i64::try_from(age.as_secs()).unwrap_or(i64::MAX)
        };
        let mut freed = 0;
        let root = self.key("blobs", "");
        let mut blobs = self.store.list(Some(&root));
        while let Some(found) = blobs.try_next().await.map_err(|error| self.away(&error))? {
            let hex = found.location.filename().unwrap_or_default();
            let Ok(digest) = Digest::parse(&format!("sha256:{hex}")) else { continue };
            if needed.contains(&digest) || !is_old(&found) || self.is_noted(&digest, age).await? {
                continue;
            }
            self.store.delete(&found.location).await.map_err(|error| self.away(&error))?;
            freed += found.size;
        }
        let root = self.key("kept", "");
        let mut notes = self.store.list(Some(&root));
        while let Some(found) = notes.try_next().await.map_err(|error| self.away(&error))? {
            if is_old(&found) {
                self.store.delete(&found.location).await.map_err(|error| self.away(&error))?;
            }
        }
        Ok(freed)
    }

    async fn is_noted(&self, digest: &Digest, age: Duration) -> Result<bool, BlobError> {
        match self.store.head(&self.key("kept", digest.hex())).await {
            Ok(note) => {
                let since = jiff::Timestamp::now().as_second() - note.last_modified.timestamp();
                Ok(u64::try_from(since).unwrap_or(0) < age.as_secs())
            }
            Err(object_store::Error::NotFound { .. }) => Ok(false),
            Err(error) => Err(self.away(&error)),
        }
    }
}
