//! Rules for what repositories keep in the image store.

use std::collections::BTreeSet;

use super::{Refusal, RefusalKind, Transaction};
use crate::model::{EVERY_OTHER, ImageRef, StorageRule, is_repository};
use crate::record::{Kind, Object, State};
use crate::retention::{ImageRule, superfluous_images};
use crate::suggestions::did_you_mean;

/// No schedule is shorter: looking through all images costs something.
const OFTEN: u64 = 600_000;

impl State {
    /// The rule that holds for a repository.
    pub fn storage_rule_of(&self, repository: &str) -> Option<&StorageRule> {
        self.storage_rules.get(repository).or_else(|| self.storage_rules.get(EVERY_OTHER))
    }

    /// The repositories that a rule holds for, of those that have images.
    pub fn repositories_of(&self, rule: &StorageRule) -> BTreeSet<String> {
        let all = self.images.values().map(|image| image.image.repository.clone());
        let holds = |repository: &String| {
            self.storage_rule_of(repository).is_some_and(|it| it.repository == rule.repository)
        };
        all.filter(holds).collect()
    }
}

impl Transaction<'_> {
    /// Declares a rule, or puts one in the place of its predecessor.
    ///
    /// # Errors
    /// When the repository's name is none, or the schedule is too short.
    pub fn set_storage_rule(&mut self, mut rule: StorageRule) -> Result<(), Refusal> {
        if rule.repository != EVERY_OTHER && !is_repository(&rule.repository) {
            let message = format!(
                "{:?} is not the name of a repository; expected one such as lockers/locker-api, or * for all that have no rule of their own",
                rule.repository
            );
            return Refusal::new(RefusalKind::Invalid, message);
        }
        if let Some(prune) = rule.prune.as_ref().filter(|prune| prune.every.millis() < OFTEN) {
            let message = format!("every {} is too often; 10m is the shortest time", prune.every);
            return Refusal::new(RefusalKind::Invalid, message);
        }
        let known = self.state.storage_rules.get(&rule.repository);
        rule.pruned = known.and_then(|known| known.pruned);
        self.act(if known.is_some() { "changed" } else { "added" });
        self.put(Object::StorageRule(rule));
        Ok(())
    }

    /// Takes a rule back.
    ///
    /// # Errors
    /// When there is none.
    pub fn remove_storage_rule(&mut self, repository: &str) -> Result<(), Refusal> {
        if !self.state.storage_rules.contains_key(repository) {
            let known = self.state.storage_rules.keys().map(String::as_str);
            let message =
                format!("{repository} has no rule for its storage{}", did_you_mean(repository, known));
            return Refusal::new(RefusalKind::NotFound, message);
        }
        self.act("removed");
        self.remove(Kind::StorageRule, repository.to_owned());
        Ok(())
    }

    /// Takes the images out that may go by a rule, and notes the time. Gives their names.
    ///
    /// # Errors
    /// When an image cannot be removed after all.
    pub fn prune_by_rule(&mut self, repository: &str) -> Result<Vec<ImageRef>, Refusal> {
        let now = self.now();
        let Some(rule) = self.state.storage_rules.get(repository).cloned() else { return Ok(Vec::new()) };
        let Some(prune) = rule.prune.clone() else { return Ok(Vec::new()) };
        let mut gone = Vec::new();
        for repository in self.state.repositories_of(&rule) {
            let older_than = jiff::SignedDuration::from_hours(24 * i64::from(prune.older_than));
            let of_one =
                ImageRule { keep: prune.keep as usize, older_than, repository: Some(repository.clone()) };
            gone.extend(superfluous_images(self.state(), &of_one, now));
        }
        for image in &gone {
            self.remove_image(image)?;
        }
        self.act_by_itself();
        self.put(Object::StorageRule(StorageRule { pruned: Some(now), ..rule }));
        Ok(gone)
    }
}

#[cfg(test)]
mod tests {
    use jiff::{SignedDuration, Timestamp};

    use crate::cluster::Cluster;
    use crate::commands::{AddImages, PruneByRule, SetStorageRule};
    use crate::model::{Bytes, ImageRecord, Origin, PruneSchedule, Span, StorageRule};
    use crate::record::State;

    const HOUR: SignedDuration = SignedDuration::from_hours(1);

    fn image(name: &str, at: Timestamp) -> ImageRecord {
        ImageRecord {
            image: name.parse().expect("an image"),
            digest: format!("sha256:{name}"),
            size: 1,
            layers: 1,
            origin: Origin::new("mira", "added", at),
            named: None,
            signed_by: Default::default(),
        }
    }

    fn rule(repository: &str, keep: Option<u32>, at: Timestamp) -> StorageRule {
        StorageRule {
            repository: repository.to_owned(),
            limit: Some(Bytes::mib(20)),
            prune: keep.map(|keep| PruneSchedule { keep, older_than: 0, every: Span::from_secs(3600) }),
            pruned: None,
            origin: Origin::new("mira", "added", at),
        }
    }

    #[test]
    fn a_rule_takes_the_old_images_of_its_repositories_when_its_time_has_come() {
        let begun: Timestamp = "2026-05-04T09:00:00Z".parse().expect("a moment");
        let mut cluster = Cluster::new(State::default(), 1, begun);
        let images = ["a/one:1", "a/one:2", "a/one:3", "b/two:1", "b/two:2"];
        for (number, name) in images.iter().enumerate() {
            let at = begun + SignedDuration::from_secs(number as i64);
            cluster
                .carry_out(&AddImages { images: vec![image(name, at)] }.into(), "mira", at)
                .expect("added");
        }
        for rule in [rule("a/one", Some(2), begun), rule("*", Some(1), begun)] {
            cluster.carry_out(&SetStorageRule { rule }.into(), "mira", begun).expect("declared");
        }
        let rules = |cluster: &Cluster, at: Timestamp| {
            let due = cluster.state().storage_rules.values().filter(|rule| rule.is_due(at));
            due.map(|rule| rule.repository.clone()).collect::<Vec<_>>()
        };
        assert_eq!(rules(&cluster, begun), Vec::<String>::new());
        assert_eq!(rules(&cluster, begun + HOUR), ["*", "a/one"]);
        cluster
            .carry_out(&PruneByRule { repository: "*".to_owned() }.into(), "platform", begun + HOUR)
            .expect("pruned");
        assert_eq!(rules(&cluster, begun + HOUR), ["a/one"], "the other has its time noted");
        let left: Vec<&str> = cluster.state().images.keys().map(String::as_str).collect();
        assert_eq!(left, ["a/one:1", "a/one:2", "a/one:3", "b/two:2"], "each repository has one rule");
        cluster
            .carry_out(&PruneByRule { repository: "a/one".to_owned() }.into(), "platform", begun + HOUR)
            .expect("pruned");
        let left: Vec<&str> = cluster.state().images.keys().map(String::as_str).collect();
        assert_eq!(left, ["a/one:2", "a/one:3", "b/two:2"]);
    }

    #[test]
    fn rules_are_of_repositories_and_not_too_often() {
        let begun = Timestamp::UNIX_EPOCH;
        let mut cluster = Cluster::new(State::default(), 1, begun);
        let mut often = rule("a/one", Some(1), begun);
        often.prune = often.prune.map(|prune| PruneSchedule { every: Span::from_secs(60), ..prune });
        let mut refused = Vec::new();
        for rule in [rule("A/one", None, begun), rule("a/one:1", None, begun), rule("", None, begun), often] {
            let error =
                cluster.carry_out(&SetStorageRule { rule }.into(), "mira", begun).expect_err("refused");
            refused.push(error.to_string());
        }
        insta::assert_snapshot!(refused.join("\n"));
    }
}
