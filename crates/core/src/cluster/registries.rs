//! Registries outside: added, changed, removed, and what could not be pulled from them.

use super::{Refusal, RefusalKind, Transaction};
use crate::model::{BuiltFrom, ImageRef, Name, Reason, Registry, Source, Target, is_registry_host};
use crate::record::{Kind, Object, State};
use crate::suggestions::{did_you_mean, near};

impl State {
    /// The registry that an image is pulled from, where it is one of a registry outside.
    pub fn registry_of(&self, image: &ImageRef) -> Option<&Registry> {
        let (first, _) = image.repository.split_once('/')?;
        self.registries.get(&first.parse().ok()?)
    }

    /// The source whose code an image is built of, where it is followed here.
    pub fn code_of(&self, image: &ImageRef) -> Option<&Source> {
        self.sources.get(&BuiltFrom::of(image)?.source).filter(|source| source.code.is_some())
    }

    /// Why an image is not there, and what is there instead.
    pub(super) fn no_image_words(&self, image: &ImageRef) -> String {
        if let Some(BuiltFrom { source, .. }) = BuiltFrom::of(image) {
            let code = self.sources.values().filter(|source| source.code.is_some());
            let known: Vec<String> = code.map(|source| source.target.to_string()).collect();
            let near = did_you_mean(&source.to_string(), known.iter().map(String::as_str));
            return format!("nothing was built of {source}, and no source of this name holds code{near}");
        }
        let near = near(&image.to_string(), self.images.keys().map(String::as_str)).join(", ");
        let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
        format!("the store has no {image}{near}")
    }

    /// Images of registries outside that releases wait for, each once.
    pub fn awaited_images(&self) -> Vec<ImageRef> {
        let waiting = self.releases.values().filter(|release| {
            let workload = self.workloads.get(&release.workload);
            release.digest.is_none() && workload.is_some_and(|it| it.release == release.number)
        });
        let mut images: Vec<ImageRef> = waiting.map(|release| release.spec.image.clone()).collect();
        images.retain(|image| self.registry_of(image).is_some());
        images.sort_by_key(ToString::to_string);
        images.dedup();
        images
    }
}

impl Transaction<'_> {
    /// Adds a registry, or puts one in the place of its predecessor. Its problems are forgotten: all is tried again.
    ///
    /// # Errors
    /// When images of this name are in the store that were pushed here, or the host is none.
    pub fn add_registry(&mut self, registry: Registry) -> Result<(), Refusal> {
        if !is_registry_host(&registry.host) {
            let message = format!(
                "{:?} is not the host of a registry; expected a name, with a port where it is not the usual one: registry.forge.example, \
                 registry.forge.example:5000",
                registry.host
            );
            return Refusal::new(RefusalKind::Invalid, message);
        }
        let is_new = !self.state.registries.contains_key(&registry.name);
        let taken = self.state.images.values().find(|it| registry.repository_of(&it.image).is_some());
        if let Some(taken) = taken.filter(|_| is_new) {
            let message = format!(
                "the image {} is in the store, and would be taken for one of this registry; choose another name",
                taken.image
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        self.act(if is_new { "added" } else { "changed" });
        self.put(Object::Registry(registry));
        self.touch_waiting();
        Ok(())
    }

    /// Removes a registry; images that were pulled stay. Gives what that means, in words.
    pub fn remove_registry(&mut self, name: &Name) -> Result<Vec<String>, Refusal> {
        let Some(registry) = self.state.registries.get(name).cloned() else {
            let known = self.state.registries.keys().map(Name::as_str);
            let message = format!("there is no registry {name}{}", did_you_mean(name.as_str(), known));
            return Refusal::new(RefusalKind::NotFound, message);
        };
        let awaited: Vec<String> = self
            .state
            .awaited_images()
            .iter()
            .filter(|image| registry.repository_of(image).is_some())
            .map(ToString::to_string)
            .collect();
        if !awaited.is_empty() {
            let message = format!("releases wait for {}; cancel them first", awaited.join(", "));
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let there =
            self.state.images.values().filter(|it| registry.repository_of(&it.image).is_some()).count();
        self.act("removed");
        self.remove(Kind::Registry, name.to_string());
        let stay = if there == 1 {
            "1 image that was pulled stays".to_owned()
        } else {
            format!("{there} images that were pulled stay")
        };
        Ok(vec![format!("registry {name}: {stay}")])
    }

    /// An image could not be pulled, or is tried again.
    pub fn note_pull(&mut self, image: &ImageRef, problem: Option<Reason>) {
        let Some(registry) = self.state.registry_of(image) else { return };
        let mut next = registry.clone();
        match problem {
            Some(reason) => drop(next.problems.insert(image.to_string(), reason)),
            None => drop(next.problems.remove(&image.to_string())),
        }
        if next.problems != registry.problems {
            self.act_by_itself();
            self.put(Object::Registry(next));
            self.touch_waiting();
        }
    }

    /// Workloads that wait for an image are decided about again.
    fn touch_waiting(&mut self) {
        let waiting = self.state.releases.values().filter(|release| release.digest.is_none());
        let workloads: Vec<Target> = waiting.map(|release| release.workload.clone()).collect();
        workloads.iter().for_each(|workload| self.touch(workload));
    }
}
