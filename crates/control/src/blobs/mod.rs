//! The blobs of images: in a directory of this control, and, where one is declared, in an object store behind it.
//!
//! Blobs always come in through the directory, where their digest is checked. With an object store, one is recorded only after
//! the object store has it, and the directory becomes a cache: what lies there can be lost. Keys are the paths of an image
//! layout, `PREFIX/blobs/sha256/HEX`, so that a bucket can be copied into a directory and back.

mod remote;

use std::collections::HashSet;
use std::io::SeekFrom;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use actix_web::web::Bytes;
use futures_util::stream::BoxStream;
use futures_util::{StreamExt, TryStreamExt};
use mainyard_images::{ContentStore, Digest, Turns};
use mainyard_registry::ByteRange;
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use tokio_util::io::ReaderStream;

pub use remote::ObjectStoreAddress;
use remote::Remote;

/// How much is read from the disk at once.
const PIECE: usize = 256 << 10;
/// Blobs that are sent to the object store at once.
const AT_ONCE: usize = 4;
/// Larger blobs leave the cache some time after they came; the documents of images stay.
const SMALL: u64 = 1 << 20;

/// Why a blob cannot be had or kept.
#[derive(Debug, thiserror::Error)]
pub enum BlobError {
    /// Nobody has it.
    #[error("the store has no blob {0}")]
    Unknown(Digest),
    /// The directory refused.
    #[error(transparent)]
    Disk(#[from] mainyard_images::Error),
    /// The directory could not be read.
    #[error("the image store's directory cannot be used: {0}")]
    Io(#[from] std::io::Error),
    /// The object store gave no answer, or refused.
    #[error("the object store {0} cannot be used: {1}")]
    Away(String, String),
    /// The address of an object store is none.
    #[error("{0}")]
    Address(String),
}

/// A blob, or a part of one, as it is sent on.
pub(crate) struct BlobBody {
    /// Length of the whole blob.
    pub length: u64,
    /// The bytes that were asked for.
    pub pieces: BoxStream<'static, Result<Bytes, std::io::Error>>,
}

/// All blobs of this platform.
#[derive(Clone)]
pub(crate) struct Blobs {
    local: ContentStore,
    remote: Option<Arc<Remote>>,
    /// Who fetches a blob into the cache now: others wait for it.
    turns: Turns,
}

impl Blobs {
    /// Opens the directory, and the object store behind it.
    pub(crate) fn open(dir: &Path, address: Option<&ObjectStoreAddress>) -> Result<Blobs, BlobError> {
        let local = ContentStore::open(dir)?;
        let remote = address.map(Remote::open).transpose()?.map(Arc::new);
        Ok(Blobs { local, remote, turns: Turns::default() })
    }

    /// The directory: blobs come in there, and what was brought by [`Blobs::bring`] can be read there.
    pub(crate) fn local(&self) -> &ContentStore {
        &self.local
    }

    /// Whether there is an object store behind the directory.
    pub(crate) fn has_object_store(&self) -> bool {
        self.remote.is_some()
    }

    /// A blob's length; `None` where there is none.
    pub(crate) async fn length(&self, digest: &Digest) -> Result<Option<u64>, BlobError> {
        match (&self.remote, self.local.length(digest)) {
            (None, local) => Ok(local),
            // Only what the object store has lasts; that it is in the cache says nothing.
            (Some(remote), _) => Ok(remote.length(digest).await?),
        }
    }

    /// Whether the blob is there to stay.
    pub(crate) async fn has(&self, digest: &Digest) -> Result<bool, BlobError> {
        Ok(self.length(digest).await?.is_some())
    }

    /// Keeps a blob from being swept for some time: something that needs it is about to be recorded. False where there is none.
    pub(crate) async fn keep(&self, digest: &Digest) -> Result<bool, BlobError> {
        let local = self.local.keep(digest);
        match &self.remote {
            None => Ok(local),
            Some(remote) => remote.keep(digest).await,
        }
    }

    /// Sends blobs that lie in the directory to the object store. They may be recorded once this came back.
    pub(crate) async fn publish(&self, digests: &[Digest]) -> Result<(), BlobError> {
        let Some(remote) = &self.remote else { return Ok(()) };
        let sent = digests.iter().map(|digest| async move {
            if remote.keep(digest).await? {
                return Ok(());
            }
            remote.send(digest, &self.local.path(digest)).await
        });
        let sent: Vec<_> = sent.collect();
        futures_util::stream::iter(sent).buffer_unordered(AT_ONCE).try_collect().await
    }

    /// Takes a document in: a manifest, or a small blob.
    pub(crate) async fn put(&self, bytes: &[u8], digest: &Digest) -> Result<(), BlobError> {
        self.local.put(bytes, Some(digest))?;
        self.publish(std::slice::from_ref(digest)).await
    }

    /// Brings a blob into the directory, where it is not there.
    pub(crate) async fn bring(&self, digest: &Digest) -> Result<(), BlobError> {
        if self.local.has(digest) {
            return Ok(());
        }
        let Some(remote) = &self.remote else { return Err(BlobError::Unknown(digest.clone())) };
        let _turn = self.turns.at(digest.hex()).await;
        if self.local.has(digest) {
            return Ok(());
        }
        let dir = self.local.root().join("incoming");
        let part = tempfile::NamedTempFile::new_in(&dir)?.into_temp_path();
        remote.fetch(digest, &part).await?;
        let (local, digest) = (self.local.clone(), digest.clone());
        let adopted = tokio::task::spawn_blocking(move || {
            let adopted = local.adopt(&part, &digest);
            // Where it was taken in, nothing lies at its path any more.
            drop(part.keep());
            adopted
        });
        Ok(adopted.await.map_err(std::io::Error::other)??)
    }

    /// Brings the documents of images, as far as they can be had: their manifests, and the configurations that these name.
    pub(crate) async fn bring_documents(&self, manifests: Vec<String>) {
        if self.remote.is_none() {
            return;
        }
        let brought = manifests.into_iter().map(|digest| async move {
            let digest = Digest::parse(&digest).ok()?;
            self.bring(&digest).await.ok()?;
            let manifest = crate::housekeeping::manifest(&self.local, &digest).ok()?;
            self.bring(manifest.config.as_ref()?).await.ok()
        });
        let brought: Vec<_> = brought.collect();
        futures_util::stream::iter(brought).buffer_unordered(16).collect::<Vec<_>>().await;
    }

    /// Brings an image whole: its documents and its layers.
    pub(crate) async fn bring_image(&self, manifest: &str) -> Result<(), BlobError> {
        if self.remote.is_none() {
            return Ok(());
        }
        let digest = Digest::parse(manifest)?;
        self.bring(&digest).await?;
        let parts = crate::housekeeping::manifest(&self.local, &digest)?.blobs;
        let brought: Vec<_> = parts.iter().map(|part| self.bring(part)).collect();
        futures_util::stream::iter(brought).buffer_unordered(AT_ONCE).try_collect().await
    }

    /// A document's bytes, at most `limit` of them.
    pub(crate) async fn read(&self, digest: &Digest, limit: u64) -> Result<Vec<u8>, BlobError> {
        if let (false, Some(remote)) = (self.local.has(digest), &self.remote) {
            let length = remote.length(digest).await?.ok_or_else(|| BlobError::Unknown(digest.clone()))?;
            if length > limit {
                let sentence = format!("the blob {digest} is longer than {limit} bytes");
                return Err(mainyard_images::Error::TooLarge(sentence).into());
            }
            self.bring(digest).await?;
        }
        Ok(self.local.read(digest, limit)?)
    }

    /// A blob as a stream, from the directory or straight from the object store: memory does not grow with it.
    pub(crate) async fn stream(
        &self,
        digest: &Digest,
        range: impl FnOnce(u64) -> Option<ByteRange>,
    ) -> Result<BlobBody, BlobError> {
        match tokio::fs::File::open(self.local.path(digest)).await {
            Ok(mut file) => {
                let length = file.metadata().await?.len();
                let range = range(length);
                file.seek(SeekFrom::Start(range.map_or(0, |range| range.first))).await?;
                let file = file.take(range.map_or(length, ByteRange::len));
                let pieces = ReaderStream::with_capacity(file, PIECE).boxed();
                Ok(BlobBody { length, pieces })
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                let unknown = || BlobError::Unknown(digest.clone());
                let remote = self.remote.as_ref().ok_or_else(unknown)?;
                let length = remote.length(digest).await?.ok_or_else(unknown)?;
                Ok(BlobBody { length, pieces: remote.stream(digest, range(length)).await? })
            }
            Err(error) => Err(error.into()),
        }
    }

    /// Removes blobs that nobody needs and that were written longer ago than `age`; gives how many bytes that freed. What the
    /// cache has of large blobs goes too.
    pub(crate) async fn sweep(&self, needed: HashSet<Digest>, age: Duration) -> Result<u64, BlobError> {
        let Some(remote) = &self.remote else {
            let local = self.local.clone();
            let swept = tokio::task::spawn_blocking(move || local.sweep(&needed, age));
            return Ok(swept.await.map_err(std::io::Error::other)??);
        };
        let freed = remote.sweep(&needed, age).await?;
        // All of it is in the object store, or was never recorded.
        let (local, needed) = (self.local.clone(), Arc::new(needed));
        let swept = tokio::task::spawn_blocking(move || {
            let small = needed.iter().filter(|digest| local.length(digest).is_some_and(|it| it <= SMALL));
            local.sweep(&small.cloned().collect(), age)
        });
        swept.await.map_err(std::io::Error::other)??;
        Ok(freed)
    }
}

#[cfg(test)]
mod tests;
