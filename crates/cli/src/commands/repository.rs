//! A repository of the platform's registry, for what is kept beside an image.

use mainyard_images::Digest;
use reqwest::header::CONTENT_TYPE;

use crate::client::Client;
use crate::terminal::Failure;

/// The media type of manifests.
pub(super) const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";

/// A repository of the platform's registry.
pub(super) struct Repository<'c> {
    pub client: &'c Client,
    pub name: &'c str,
}

impl Repository<'_> {
    async fn send(
        &self,
        method: &str,
        rest: &str,
        body: Option<(&str, Vec<u8>)>,
    ) -> Result<reqwest::Response, Failure> {
        self.client.registry(method, &format!("/v2/{}/{rest}", self.name), body).await
    }

    /// A manifest as it came, with its media type.
    pub(super) async fn manifest(&self, digest: &Digest) -> Result<(String, Vec<u8>), Failure> {
        let answer = self.send("GET", &format!("manifests/{digest}"), None).await?;
        let media_type = answer.headers().get(CONTENT_TYPE).and_then(|it| it.to_str().ok());
        let media_type = media_type.unwrap_or(MANIFEST).to_owned();
        let bytes = answer.bytes().await.map_err(|error| Failure::unreachable(error.to_string()))?;
        Ok((media_type, bytes.to_vec()))
    }

    /// In one request; what is there already is not sent again.
    pub(super) async fn put_blob(&self, bytes: Vec<u8>) -> Result<(), Failure> {
        let digest = Digest::of(&bytes);
        let rest = format!("blobs/uploads/?digest={digest}");
        self.send("POST", &rest, Some(("application/octet-stream", bytes))).await.map(drop)
    }

    /// A manifest without a tag; what it names is there.
    pub(super) async fn put_manifest(&self, manifest: Vec<u8>) -> Result<(), Failure> {
        let place = format!("manifests/{}", Digest::of(&manifest));
        self.send("PUT", &place, Some((MANIFEST, manifest))).await.map(drop)
    }
}
