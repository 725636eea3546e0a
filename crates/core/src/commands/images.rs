//! Commands on images.

use std::collections::BTreeSet;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, outcome_of, released};
use crate::cluster::{AddedImage, Cluster, Refusal};
use crate::model::{ImageRecord, ImageRef, Target};

/// Records images whose content is in the store.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddImages {
    /// Each with who added it.
    pub images: Vec<ImageRecord>,
}

/// Images were recorded.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ImagesAdded {
    /// The images.
    pub images: Vec<ImageRecord>,
    /// What became of each, in the same order.
    pub outcomes: Vec<AddedImage>,
}

impl CommandKind for AddImages {
    type Outcome = ImagesAdded;

    fn run(&self, cluster: &mut Cluster, _: &str, _: Timestamp) -> Result<ImagesAdded, Refusal> {
        let outcomes = self.images.iter().cloned().map(|record| cluster.add_image(record)).collect();
        Ok(ImagesAdded { images: self.images.clone(), outcomes })
    }

    fn moved(&self, outcome: &ImagesAdded) -> BTreeSet<Target> {
        outcome.outcomes.iter().flat_map(|added| released(&added.begin)).collect()
    }

    outcome_of!(AddImages);
}

/// Takes an image's name out of the store.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveImage {
    /// Which one.
    pub image: ImageRef,
}

impl CommandKind for RemoveImage {
    type Outcome = Removed;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<Removed, Refusal> {
        Ok(Removed { gone: cluster.remove_image(&self.image, by, now)? })
    }

    outcome_of!(RemoveImage);
}
