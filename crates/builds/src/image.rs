//! The documents of the image that a build makes: configuration and manifest (OCI image specification 1.1). The same code,
//! base and recipe make the same documents: there is no time in them.

use std::collections::BTreeMap;

use serde_json::{Map, Value, json};

use crate::recipe::ImageDescription;
use crate::{Commit, LayerMade};

/// The label that names the path by which a program says that it is well.
pub const HEALTH_LABEL: &str = "mainyard.health";
/// The annotation that names what made the image.
pub const BUILDER: &str = "mainyard.builder";
const REVISION: &str = "org.opencontainers.image.revision";
const SOURCE: &str = "org.opencontainers.image.source";
const LAYER: &str = "application/vnd.oci.image.layer.v1.tar";

/// What the image is put together from.
#[derive(Debug, Clone)]
pub struct Ingredients<'a> {
    /// The base's configuration; `null` where there is no base.
    pub base_config: Value,
    /// The base's layers, as its manifest names them.
    pub base_layers: Vec<Value>,
    /// The digest of the base's manifest.
    pub base_digest: Option<String>,
    /// Layers of the steps, with what each step did.
    pub layers: &'a [(LayerMade, String)],
    /// What the recipe says of the image.
    pub image: &'a ImageDescription,
    /// The user and the folder of the part.
    pub part: (&'a str, &'a str),
    /// The commit of the code.
    pub commit: Option<&'a Commit>,
    /// The processor of this machine, as the specification names it.
    pub architecture: &'a str,
}

impl Ingredients<'_> {
    /// The configuration.
    pub fn configuration(&self) -> Value {
        let base = |key: &str| self.base_config.get("config").and_then(|config| config.get(key)).cloned();
        let mut config = Map::new();
        let mut keep = |key: &str, own: Option<Value>| {
            if let Some(value) = own.or_else(|| base(key)) {
                config.insert(key.to_owned(), value);
            }
        };
        let text = |text: &str| (!text.is_empty()).then(|| json!(text));
        let folder = |folder: &str| (folder != "/").then(|| json!(folder));
        keep("User", self.image.user.as_deref().and_then(text).or_else(|| text(self.part.0)));
        keep("WorkingDir", self.image.folder.as_deref().map(|it| json!(it)).or_else(|| folder(self.part.1)));
        // A command of its own takes the place of both.
        match &self.image.command {
            Some(command) => keep("Entrypoint", Some(json!(command))),
            None => {
                keep("Entrypoint", None);
                keep("Cmd", None);
            }
        }
        keep("StopSignal", None);
        keep("Volumes", None);
        keep("Env", Some(json!(self.environment())));
        let ports: Map<String, Value> =
            self.image.ports.iter().map(|port| (format!("{port}/tcp"), json!({}))).collect();
        keep("ExposedPorts", (!ports.is_empty()).then(|| json!(ports)));
        let mut labels: BTreeMap<String, Value> = base("Labels")
            .and_then(|labels| labels.as_object().cloned())
            .map(|labels| labels.into_iter().collect())
            .unwrap_or_default();
        labels.extend(self.image.labels.iter().map(|(key, value)| (key.clone(), json!(value))));
        labels.extend(self.image.health.iter().map(|path| (HEALTH_LABEL.to_owned(), json!(path))));
        keep("Labels", (!labels.is_empty()).then(|| json!(labels)));
        let list = |pointer: &str| {
            let found = self.base_config.pointer(pointer).and_then(Value::as_array);
            found.cloned().unwrap_or_default()
        };
        let mut diff_ids = list("/rootfs/diff_ids");
        diff_ids.extend(self.layers.iter().map(|(layer, _)| json!(layer.digest)));
        let mut history = list("/history");
        if history.is_empty() {
            history = self.base_layers.iter().map(|_| json!({"created_by": "base"})).collect();
        }
        history.extend(self.layers.iter().map(|(_, words)| json!({"created_by": words})));
        json!({
            "architecture": self.architecture,
            "os": "linux",
            "config": config,
            "rootfs": {"type": "layers", "diff_ids": diff_ids},
            "history": history,
        })
    }

    /// `NAME=value` pairs: those of the base, under those of the recipe.
    fn environment(&self) -> Vec<String> {
        let base = self.base_config.pointer("/config/Env").and_then(Value::as_array);
        let base = base.into_iter().flatten().filter_map(Value::as_str).map(str::to_owned);
        let own = |pair: &String| {
            self.image.settings.contains_key(pair.split_once('=').map_or(pair.as_str(), |(name, _)| name))
        };
        let kept = base.filter(|pair| !own(pair));
        kept.chain(self.image.settings.iter().map(|(name, value)| format!("{name}={value}"))).collect()
    }

    /// The manifest that goes with the configuration of this digest and length.
    pub fn manifest(&self, config: (&str, u64)) -> Value {
        let mut layers = self.base_layers.clone();
        let own = self.layers.iter();
        layers.extend(
            own.map(|(layer, _)| json!({"mediaType": LAYER, "digest": layer.digest, "size": layer.size})),
        );
        let mut annotations =
            BTreeMap::from([(BUILDER.to_owned(), format!("mainyard {}", env!("CARGO_PKG_VERSION")))]);
        if let Some(base) = &self.base_digest {
            annotations.insert("org.opencontainers.image.base.digest".to_owned(), base.clone());
        }
        if let Some(commit) = self.commit {
            // A folder that differs from its commit is not that commit.
            let id = if commit.changed { format!("{}-changed", commit.id) } else { commit.id.clone() };
            annotations.insert(REVISION.to_owned(), id);
            if !commit.repository.is_empty() {
                annotations.insert(SOURCE.to_owned(), commit.repository.clone());
            }
        }
        json!({
            "schemaVersion": 2,
            "mediaType": "application/vnd.oci.image.manifest.v1+json",
            "config": {
                "mediaType": "application/vnd.oci.image.config.v1+json", "digest": config.0, "size": config.1,
            },
            "layers": layers,
            "annotations": annotations,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_image_has_what_its_base_says_and_the_recipe_over_it() {
        let recipe = crate::recipe::read(
            "recipe.toml",
            "[image]\nname = \"lockers/survey-form\"\nuser = \"app\"\ncommand = [\"/app/start\"]\nports = [8080]\n\
             settings = { PATH = \"/app\" }\nlabels = { team = \"forms\" }\nhealth = \"/healthz\"\n\
             [part.run]\nbase = \"bases/python:1\"\nfolder = \"/app\"\n",
        )
        .expect("a recipe");
        let layer = LayerMade { digest: "sha256:2".to_owned(), size: 20 };
        let ingredients = Ingredients {
            base_config: json!({
                "config": {"Env": ["PATH=/bin", "LANG=C"], "Cmd": ["sh"], "StopSignal": "SIGINT", "Labels": {"a": "b"}},
                "rootfs": {"diff_ids": ["sha256:1"]},
            }),
            base_layers: vec![json!({"mediaType": LAYER, "digest": "sha256:0", "size": 10})],
            base_digest: Some("sha256:b".to_owned()),
            layers: &[(layer, "run make".to_owned())],
            image: &recipe.image,
            part: ("", "/app"),
            commit: Some(&Commit { id: "3f07".to_owned(), repository: String::new(), changed: true }),
            architecture: "amd64",
        };
        let both = json!([ingredients.configuration(), ingredients.manifest(("sha256:c", 30))]);
        insta::assert_snapshot!(serde_json::to_string_pretty(&both).expect("JSON"));
    }
}
