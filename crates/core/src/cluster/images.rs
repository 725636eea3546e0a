//! Images by name: added, where releases may wait for one, and removed.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{MadeRelease, Refusal, RefusalKind, Transaction};
use crate::model::{Bytes, ImageRecord, ImageRef, Release, Rollout};
use crate::record::{Kind, Object};
use crate::suggestions::did_you_mean;

/// The result of adding an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AddedImage {
    /// The digest that its name stood for before.
    pub before: Option<String>,
    /// The releases that were waiting for it, and go on.
    pub begin: Vec<MadeRelease>,
}

impl Transaction<'_> {
    /// Takes an image's name out of the store; releases that were made with it keep its content. Gives what
    /// that means, in words.
    pub fn remove_image(&mut self, image: &ImageRef) -> Result<Vec<String>, Refusal> {
        let key = image.to_string();
        let Some(record) = self.state.images.get(&key).cloned() else {
            let hint = did_you_mean(&key, self.state.images.keys().map(String::as_str));
            let message = format!("there is no image {key}{hint}");
            return Refusal::new(RefusalKind::NotFound, message);
        };
        let other = self.state.images.iter().find(|(name, it)| **name != key && it.digest == record.digest);
        let having = self.state.releases.values().filter(|it| it.digest.as_ref() == Some(&record.digest));
        let having: Vec<String> = having.map(|it| format!("{}@{}", it.workload, it.number)).collect();
        let rest = match (other, having.as_slice()) {
            (Some((name, _)), _) => format!("its content stays, as {name}"),
            (None, []) => format!("its {} go from the disk within two hours", Bytes::new(record.size)),
            (None, releases) => format!("{} keep its content", releases.join(", ")),
        };
        self.act("removed");
        self.remove(Kind::Image, key.clone());
        Ok(vec![format!("image {key}: {rest}")])
    }

    /// Records an image that is now in the store; a tag may move to another digest. Gives the digest that it stood for
    /// before, and the releases that were waiting for it.
    pub fn add_image(&mut self, record: ImageRecord) -> AddedImage {
        let before = self.state.images.get(&record.image.to_string()).map(|known| known.digest.clone());
        self.cause = record.origin.clone();
        self.note_pull(&record.image, None);
        self.cause = record.origin.clone();
        // A signature is of the content, whatever its name.
        let alike = self.state.images.values().filter(|known| known.digest == record.digest);
        let signed_by =
            alike.flat_map(|known| known.signed_by.iter().cloned()).chain(record.signed_by.clone());
        let record = ImageRecord { signed_by: signed_by.collect(), ..record };
        self.put(Object::Image(record));
        AddedImage { before, begin: self.begin_waiting() }
    }

    /// Releases that wait for an image that is there, and may run, go on.
    pub(super) fn begin_waiting(&mut self) -> Vec<MadeRelease> {
        let state = &self.state;
        let waiting = state.releases.values().filter(|release| release.digest.is_none());
        let waiting = waiting.filter_map(|release| {
            let image = state.images.get(&release.spec.image.to_string())?;
            let unsigned = state.unsigned(&release.workload.environment, &image.image, &image.digest);
            unsigned.is_none().then(|| Release { digest: Some(image.digest.clone()), ..release.clone() })
        });
        let waiting: Vec<Release> = waiting.collect();
        let mut begin = Vec::new();
        for release in waiting {
            begin.push(MadeRelease { workload: release.workload.clone(), release: release.number });
            self.touch(&release.workload.clone());
            // The time for its replicas begins now.
            let open =
                self.state.open_rollout(&release.workload).filter(|it| it.to == release.number).cloned();
            if let Some(rollout) = open {
                let step_began = Some(self.now);
                self.put(Object::Rollout(Rollout { step_began, ..rollout }));
            }
            self.put(Object::Release(release));
        }
        begin
    }
}
