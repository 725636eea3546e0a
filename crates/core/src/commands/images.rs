//! Commands on images.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, outcome_of, released};
use crate::cluster::{AddedImage, Refusal, Transaction};
use crate::model::{ImageRecord, ImageRef, Target};
use crate::retention::{ImageRule, superfluous_images};

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
    /// The result for each, in the same order.
    pub outcomes: Vec<AddedImage>,
}

impl CommandKind for AddImages {
    type Outcome = ImagesAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<ImagesAdded, Refusal> {
        let outcomes = self.images.iter().cloned().map(|record| transaction.add_image(record)).collect();
        Ok(ImagesAdded { images: self.images.clone(), outcomes })
    }

    fn moved(&self, outcome: &ImagesAdded) -> BTreeSet<Target> {
        outcome.outcomes.iter().flat_map(|added| released(&added.begin)).collect()
    }

    outcome_of!(AddImages);
}

/// Notes that a key has signed the image with this digest; the caller has checked the signature.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoteSignature {
    /// The digest of its manifest.
    pub digest: String,
    /// The public key.
    pub key: String,
}

/// It was noted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SignatureNoted {
    /// The images with this digest.
    pub images: Vec<ImageRef>,
}

impl CommandKind for NoteSignature {
    type Outcome = SignatureNoted;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SignatureNoted, Refusal> {
        Ok(SignatureNoted { images: transaction.note_signature(&self.digest, &self.key) })
    }

    outcome_of!(NoteSignature);
}

/// Takes the names of old images out of the store, by a rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PruneImages {
    /// Which ones.
    pub rule: ImageRule,
}

/// Old images were taken out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PrunedImages {
    /// The images, by name.
    pub images: Vec<ImageRef>,
}

impl CommandKind for PruneImages {
    type Outcome = PrunedImages;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<PrunedImages, Refusal> {
        let images = superfluous_images(transaction.state(), &self.rule, transaction.now());
        for image in &images {
            transaction.remove_image(image)?;
        }
        Ok(PrunedImages { images })
    }

    outcome_of!(PruneImages);
}

/// Takes an image's name out of the store.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveImage {
    /// Which one.
    pub image: ImageRef,
}

impl CommandKind for RemoveImage {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        Ok(Removed { gone: transaction.remove_image(&self.image)? })
    }

    outcome_of!(RemoveImage);
}
