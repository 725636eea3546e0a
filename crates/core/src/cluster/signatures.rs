//! Signed images: what an environment asks for, and which keys have signed an image.

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::model::{ImageRecord, ImageRef, ImageRule, Name, Reason, ReasonCode};
use crate::record::{Object, State};

impl State {
    /// Why an environment's rule does not let an image run; `None` where it does, or where there is no rule.
    pub fn unsigned(&self, environment: &Name, image: &ImageRef, digest: &str) -> Option<Reason> {
        let rule = self.environments.get(environment)?.image_rule.as_ref()?;
        let mut signed = self.images.values().filter(|known| known.digest == digest);
        let by = |record: &ImageRecord| rule.signers(record).next().is_some();
        if signed.any(by) {
            return None;
        }
        let keys: Vec<&str> = rule.signed_by.keys().map(Name::as_str).collect();
        let short: String = digest.chars().take(19).collect();
        let sentence = format!(
            "{environment} runs what {} signed, and {image} ({short}) is not signed by {}",
            keys.join(" or "),
            if keys.len() == 1 { "it" } else { "any of them" }
        );
        Some(Reason::new(ReasonCode::NotSigned, sentence))
    }
}

impl Cluster {
    /// Refuses an image that an environment's rule does not let run, unless it runs there already.
    pub(super) fn check_signed(
        &self,
        environment: &Name,
        image: &ImageRef,
        digest: Option<&str>,
        present: Option<&str>,
    ) -> Result<(), Refusal> {
        // One that is not there yet is looked at when it comes.
        let Some(digest) = digest.filter(|digest| Some(*digest) != present) else { return Ok(()) };
        match self.state.unsigned(environment, image, digest) {
            None => Ok(()),
            Some(reason) => {
                let message = format!(
                    "{}: {}; sign it: mainyard image sign {image} --key FILE",
                    reason.code, reason.sentence
                );
                Refusal::new(RefusalKind::Conflict, message)
            }
        }
    }
}

impl Cluster {
    /// Workloads of an environment whose image its rule would not let in.
    pub fn unsigned_workloads(&self, environment: &Name) -> Vec<Name> {
        let here = self.state.workloads.values().filter(|it| it.target.environment == *environment);
        let unsigned = here.filter(|workload| {
            let release = self.state.releases.get(&(workload.target.clone(), workload.release));
            release.is_some_and(|release| {
                let digest = release.digest.as_deref();
                digest.is_some_and(|digest| {
                    self.state.unsigned(environment, &release.spec.image, digest).is_some()
                })
            })
        });
        unsigned.map(|workload| workload.target.name.clone()).collect()
    }
}

impl Transaction<'_> {
    /// Sets what an environment asks of its images; gives what it was.
    pub fn set_image_rule(
        &mut self,
        name: &Name,
        rule: Option<ImageRule>,
    ) -> Result<Option<ImageRule>, Refusal> {
        let environment = self.environment(name)?.clone();
        let rule = rule.filter(|rule| !rule.signed_by.is_empty());
        if let Some((key, _)) =
            rule.iter().flat_map(|rule| &rule.signed_by).find(|(_, key)| !ImageRule::is_key(key))
        {
            let message = format!(
                "the key {key} is none: expected ed25519: and 43 letters, as `mainyard image signing-key` prints it"
            );
            return Refusal::new(RefusalKind::Invalid, message);
        }
        let before = environment.image_rule.clone();
        if before != rule {
            self.act("changed");
            self.put(Object::Environment(crate::model::Environment { image_rule: rule, ..environment }));
            self.begin_waiting();
        }
        Ok(before)
    }

    /// A key has signed the image with this digest; the caller has checked the signature. Gives the images.
    pub fn note_signature(&mut self, digest: &str, key: &str) -> Vec<ImageRef> {
        let images = self.state.images.values().filter(|known| known.digest == digest);
        let images: Vec<ImageRecord> = images.cloned().collect();
        self.act("signed");
        for mut image in images.iter().cloned() {
            if image.signed_by.insert(key.to_owned()) {
                self.put(Object::Image(image));
            }
        }
        self.begin_waiting();
        images.into_iter().map(|image| image.image).collect()
    }
}
