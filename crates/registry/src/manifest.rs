//! Manifests: what they name, and what they are about (OCI image specification 1.1, "Image Manifest" and "Image Index").

use std::collections::BTreeMap;

use mainyard_images::Digest;
use serde::Deserialize;

use crate::error::{ErrorCode, RegistryError};

/// Longest manifest, in bytes. The specification asks for at least this much.
pub const MANIFEST_LIMIT: u64 = 4 << 20;
/// Most things that one manifest names.
const NAMED: usize = 4096;
/// How media types of lists end: the specification's, and that of the older schema 2.
const INDEXES: [&str; 2] = ["image.index.v1+json", "manifest.list.v2+json"];
/// How media types of single manifests end.
const MANIFESTS: [&str; 2] = ["image.manifest.v1+json", "manifest.v2+json"];
/// How media types of configurations of images end.
const CONFIGURATIONS: [&str; 2] = ["image.config.v1+json", "container.image.v1+json"];
/// Layers that the specification says may be missing from a registry.
const ELSEWHERE: [&str; 2] = ["nondistributable", "foreign"];

/// The kind of a manifest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ManifestKind {
    /// An image.
    Image,
    /// Something else that is kept in the same form: a signature, a bill of materials.
    Artifact,
    /// A list of manifests.
    Index,
}

/// A manifest that was read and follows the specification.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Manifest {
    /// Its digest.
    pub digest: Digest,
    /// Its media type.
    pub media_type: String,
    /// What it is.
    pub kind: ManifestKind,
    /// The configuration of an image.
    pub config: Option<Digest>,
    /// Blobs that must be there before it is taken.
    pub blobs: Vec<Digest>,
    /// The length of each of them, where the manifest says it.
    pub sizes: Vec<(Digest, u64)>,
    /// Manifests that must be there before it is taken.
    pub manifests: Vec<Digest>,
    /// The manifest that this one is about, which need not be there.
    pub subject: Option<Digest>,
    /// What kind of artifact it is, for those that ask for referrers of one kind.
    pub artifact_type: Option<String>,
    /// Free text by key.
    pub annotations: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Written {
    schema_version: u32,
    media_type: Option<String>,
    artifact_type: Option<String>,
    config: Option<Descriptor>,
    layers: Option<Vec<Descriptor>>,
    manifests: Option<Vec<Descriptor>>,
    subject: Option<Descriptor>,
    annotations: Option<BTreeMap<String, String>>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Descriptor {
    media_type: String,
    digest: String,
    size: Option<u64>,
}

impl Manifest {
    /// Reads a manifest that is kept already, and may not say its own media type.
    ///
    /// # Errors
    /// As [`Manifest::read`].
    pub fn stored(bytes: &[u8]) -> Result<Manifest, RegistryError> {
        #[derive(Deserialize)]
        #[serde(rename_all = "camelCase")]
        struct Kind {
            media_type: Option<String>,
            manifests: Option<serde::de::IgnoredAny>,
        }
        let kind: Kind = serde_json::from_slice(bytes).map_err(|error| invalid(error.to_string()))?;
        match (kind.media_type, kind.manifests) {
            (Some(media_type), _) => Manifest::read(bytes, &media_type),
            (None, Some(_)) => Manifest::read(bytes, "application/vnd.oci.image.index.v1+json"),
            (None, None) => Manifest::read(bytes, "application/vnd.oci.image.manifest.v1+json"),
        }
    }

    /// Reads a manifest that came with this content type.
    ///
    /// # Errors
    /// `MANIFEST_INVALID` where it does not follow the specification; `DIGEST_INVALID` where it names something by a digest
    /// that is none.
    pub fn read(bytes: &[u8], content_type: &str) -> Result<Manifest, RegistryError> {
        let written: Written = serde_json::from_slice(bytes).map_err(|error| {
            invalid(format!("the manifest does not follow the image specification: {error}"))
        })?;
        let content_type = content_type.split(';').next().unwrap_or_default().trim();
        let media_type = written.media_type.as_deref().unwrap_or(content_type).to_owned();
        if written.schema_version != 2 {
            return Err(invalid(format!("schemaVersion is {}; 2 is expected", written.schema_version)));
        }
        if !content_type.is_empty() && content_type != media_type {
            let message = format!("the manifest says that it is {media_type}, and came as {content_type}");
            return Err(invalid(message));
        }
        let is_index = ends_with(&media_type, &INDEXES);
        if !is_index && !ends_with(&media_type, &MANIFESTS) {
            let message = format!(
                "{media_type:?} is no media type of a manifest; send it with that of an image manifest or index"
            );
            return Err(invalid(message));
        }
        match (is_index, &written.config, &written.manifests) {
            (true, None, Some(_)) | (false, Some(_), None) => {}
            (true, ..) => return Err(invalid("an index has `manifests`, and no `config`")),
            (false, ..) => return Err(invalid("a manifest has a `config`, and no `manifests`")),
        }
        written.checked(Digest::of(bytes), media_type)
    }
}

impl Written {
    fn checked(self, digest: Digest, media_type: String) -> Result<Manifest, RegistryError> {
        let (layers, manifests) = (self.layers.unwrap_or_default(), self.manifests.unwrap_or_default());
        if layers.len() + manifests.len() > NAMED {
            return Err(invalid(format!("the manifest names more than {NAMED} blobs")));
        }
        let is_index = ends_with(&media_type, &INDEXES);
        let is_image =
            self.config.as_ref().is_some_and(|config| ends_with(&config.media_type, &CONFIGURATIONS));
        let kind = match (is_index, is_image) {
            (true, _) => ManifestKind::Index,
            (false, true) => ManifestKind::Image,
            (false, false) => ManifestKind::Artifact,
        };
        let config = self.config.as_ref().map(Descriptor::read).transpose()?;
        let here =
            layers.iter().filter(|layer| !ELSEWHERE.iter().any(|word| layer.media_type.contains(word)));
        let named: Vec<&Descriptor> = here.chain(&self.config).collect();
        let blobs = named.iter().map(|part| part.read()).collect::<Result<Vec<_>, _>>()?;
        let said = blobs.iter().zip(&named).filter_map(|(blob, part)| Some((blob.clone(), part.size?)));
        let sizes = said.collect();
        // Without a type of its own, an artifact is what its configuration is ("Listing Referrers").
        let of_config = self.config.map(|config| config.media_type);
        let artifact_type = self.artifact_type.filter(|kind| !kind.is_empty()).or(of_config);
        Ok(Manifest {
            digest,
            media_type,
            kind,
            config,
            blobs,
            sizes,
            manifests: manifests.iter().map(Descriptor::read).collect::<Result<_, _>>()?,
            subject: self.subject.as_ref().map(Descriptor::read).transpose()?,
            artifact_type,
            annotations: self.annotations.unwrap_or_default(),
        })
    }
}

impl Descriptor {
    fn read(&self) -> Result<Digest, RegistryError> {
        Digest::parse(&self.digest)
            .map_err(|error| RegistryError::new(ErrorCode::DigestInvalid, error.to_string()))
    }
}

fn ends_with(media_type: &str, ends: &[&str]) -> bool {
    media_type.starts_with("application/vnd.") && ends.iter().any(|end| media_type.ends_with(end))
}

fn invalid(message: impl Into<String>) -> RegistryError {
    RegistryError::new(ErrorCode::ManifestInvalid, message)
}

#[cfg(test)]
mod tests {
    use super::*;

    const IMAGE: &str = "application/vnd.oci.image.manifest.v1+json";
    const INDEX: &str = "application/vnd.oci.image.index.v1+json";

    fn digest(letter: char) -> String {
        format!("sha256:{}", String::from(letter).repeat(64))
    }

    fn image(change: &str) -> String {
        format!(
            r#"{{"schemaVersion":2,"config":{{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"{}","size":2}},
            "layers":[{{"mediaType":"application/vnd.oci.image.layer.v1.tar","digest":"{}","size":3}}]{change}}}"#,
            digest('a'),
            digest('b')
        )
    }

    #[test]
    fn images_indexes_and_artifacts_are_told_apart() {
        let read = |text: &str, kind: &str| Manifest::read(text.as_bytes(), kind).expect("a manifest");
        let found = read(&image(""), IMAGE);
        assert_eq!((found.kind, found.blobs.len()), (ManifestKind::Image, 2));
        let older = read(
            &image("").replace("oci.image.config.v1", "example.container.image.v1"),
            "application/vnd.example.distribution.manifest.v2+json",
        );
        assert_eq!(older.kind, ManifestKind::Image, "the older schema 2 has the same fields");
        let index = format!(
            r#"{{"schemaVersion":2,"mediaType":"{INDEX}","manifests":[{{"mediaType":"{IMAGE}","digest":"{}","size":9}}]}}"#,
            digest('c')
        );
        let found = read(&index, INDEX);
        assert_eq!((found.kind, found.manifests.len(), found.blobs.len()), (ManifestKind::Index, 1, 0));
        let signature = image(&format!(r#","artifactType":"application/example.signature","subject":{{"mediaType":"{IMAGE}","digest":"{}","size":1}}"#, digest('d')))
            .replace("oci.image.config.v1", "oci.empty.v1");
        let found = read(&signature, IMAGE);
        assert_eq!(found.kind, ManifestKind::Artifact);
        assert_eq!(found.artifact_type.as_deref(), Some("application/example.signature"));
        assert!(found.subject.is_some());
        let elsewhere = image("").replace("image.layer.v1.tar", "image.layer.nondistributable.v1.tar");
        assert_eq!(read(&elsewhere, IMAGE).blobs.len(), 1, "such a layer need not be here");
    }

    #[test]
    fn what_is_no_manifest_is_refused_with_the_reason() {
        let cases = [
            ("no JSON", "{".to_owned(), IMAGE),
            ("another version", image("").replace("\"schemaVersion\":2", "\"schemaVersion\":1"), IMAGE),
            ("another content type", image(&format!(r#","mediaType":"{IMAGE}""#)), INDEX),
            ("no type of a manifest", image(""), "application/json"),
            ("no type at all", image(""), ""),
            ("an index that is an image", image(""), INDEX),
            ("both", image(r#","manifests":[]"#), IMAGE),
            ("a digest that is none", image("").replace(&digest('b'), "sha256:bb"), IMAGE),
            ("another algorithm", image("").replace(&digest('b'), "sha512:bb"), IMAGE),
            ("a name twice", image(r#","schemaVersion":2"#), IMAGE),
        ];
        let rows = cases.map(|(what, text, kind)| {
            format!("{what}: {}", Manifest::read(text.as_bytes(), kind).expect_err(what))
        });
        insta::assert_snapshot!(rows.join("\n"));
    }
}
