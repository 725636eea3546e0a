//! Carrying a build out: part by part, step by step.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;
use mainyard_builds::recipe::{Part, Run, Step};
use mainyard_builds::{Build, Fault, FaultKind, LAST_LINES, LayerMade, key_of_run};
use mainyard_core::link::{StepId, StepOrder, StepOutcome};
use mainyard_core::model::{Limits, Name, OutgoingRule, SecretValue, Target};
use mainyard_core::suggestions::did_you_mean;
use mainyard_images::Digest;
use tokio_util::sync::CancellationToken;

use super::faults::{of_outcome, of_platform};
use super::layers::{PartDone, TreeSource, take};
use super::tree::{self, TreeError};
use super::{Shared, finish, save};

/// Lines in a second that a step may write; what is more is dropped and counted.
const LOG_LINES: u32 = 5_000;

/// A build that is being carried out.
struct Work {
    control: Shared,
    build: Build,
    tree: TreeSource,
    /// The values of secrets that steps use, by name.
    secrets: BTreeMap<Name, SecretValue>,
    cancel: CancellationToken,
}

/// Why it does not go on.
enum Stopped {
    Failed(Fault),
    Cancelled,
}

impl From<Fault> for Stopped {
    fn from(fault: Fault) -> Stopped {
        Stopped::Failed(fault)
    }
}

/// Carries a build out to its end.
pub(super) async fn carry_out(control: Shared, build: Build, cancel: CancellationToken) {
    let number = build.number;
    let ended = async {
        change(&control, number, |build| build.begin(Timestamp::now())).await;
        let mut work = Work::begin(&control, build, cancel).await?;
        work.all_parts().await
    };
    let ended: Result<String, Stopped> = ended.await;
    change(&control, number, |build| match ended {
        Ok(digest) => build.finish(digest, Timestamp::now()),
        Err(Stopped::Failed(fault)) => build.fail(fault, Timestamp::now()),
        Err(Stopped::Cancelled) => build.cancel(Timestamp::now()),
    })
    .await;
    control.builds.remove(number);
    control.builds.wake.notify_one();
    control.builds.tell_change();
}

/// Changes a build, and keeps it. The record may be away for a while: then the build waits for it.
async fn change(control: &Shared, number: u64, change: impl FnOnce(&mut Build)) {
    let Some(build) = control.builds.change(number, change) else { return };
    while let Err(error) = save(&control.store, &build).await {
        tracing::warn!(build = number, %error, "a build cannot be kept yet");
        tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    }
    control.builds.tell_change();
}

impl Work {
    async fn begin(control: &Shared, build: Build, cancel: CancellationToken) -> Result<Work, Fault> {
        let digest = Digest::parse(&build.tree).map_err(of_platform)?;
        control.blobs.bring(&digest).await.map_err(of_platform)?;
        let repository = &build.image.repository;
        let before = control.store.build_times(repository).await.map_err(of_platform)?;
        let before = before.and_then(|files| serde_json::from_value(files).ok()).unwrap_or_default();
        let archive = control.blobs.local().path(&digest);
        let (path, folder, recipe) = (archive.clone(), build.folder.clone(), build.recipe.clone());
        let now = Timestamp::now().as_second().max(0).unsigned_abs();
        let read = tokio::task::spawn_blocking(move || -> Result<_, TreeError> {
            Ok((tree::outline(&path, &folder, &recipe)?, tree::times(&path, &before, now)?))
        });
        let read = read.await.map_err(of_platform)?.map_err(|error| match error {
            TreeError::Archive(words) => Fault::new(FaultKind::NoFile, words, ""),
            TreeError::Recipe(problems) => of_platform(format!("{} problems of the recipe", problems.len())),
        });
        let (outline, times) = read?;
        let kept = serde_json::to_value(&times).map_err(of_platform)?;
        control.store.put_build_times(repository, &kept).await.map_err(of_platform)?;
        let tree = TreeSource {
            archive,
            folder: build.folder.clone(),
            outline: Arc::new(outline),
            times: Arc::new(times),
        };
        let secrets = secrets_of(control, &build).await?;
        Ok(Work { control: Arc::clone(control), build, tree, secrets, cancel })
    }

    async fn all_parts(&mut self) -> Result<String, Stopped> {
        let parts: Vec<Part> = self.build.recipe.needed_parts().into_iter().cloned().collect();
        let mut done: BTreeMap<Name, PartDone> = BTreeMap::new();
        let mut number = 0;
        for part in parts {
            let mut into = PartDone::begin(&self.control, &part, &self.build.by).await?;
            for step in &part.steps {
                if self.cancel.is_cancelled() {
                    return Err(Stopped::Cancelled);
                }
                self.change(|build| build.begin_step(number, Timestamp::now())).await;
                let (layer, mounted, cached) = match step {
                    Step::Take(files) => {
                        let (layer, timed) = take(&self.control, files, &into, &done, &self.tree).await?;
                        (layer, timed, false)
                    }
                    Step::Run(run) => {
                        let (layer, cached) = self.run(number, &part, run, &into).await?;
                        (layer, None, cached)
                    }
                };
                into.add(&self.control, &layer, step.words(), mounted).await?;
                self.change(|build| build.end_step(number, layer, cached, Timestamp::now())).await;
                number += 1;
            }
            done.insert(part.name.clone(), into);
        }
        let last = self.build.recipe.final_part();
        let made = done.get(&last.name).ok_or_else(|| of_platform("the last part is missing"))?;
        Ok(finish::put_together(&self.control, &self.build, last, made, &self.tree).await?)
    }

    async fn change(&mut self, of: impl FnOnce(&mut Build)) {
        change(&self.control, self.build.number, of).await;
    }

    /// The layer of a command, made now or by an earlier build.
    async fn run(
        &mut self,
        number: usize,
        part: &Part,
        run: &Run,
        into: &PartDone,
    ) -> Result<(LayerMade, bool), Stopped> {
        let repository = &self.build.image.repository;
        let key = key_of_run(repository, into.base_digest.as_deref(), &into.diff_ids, run, &part.caches);
        let known = if self.build.from_scratch {
            None
        } else {
            self.control.store.use_build_layer(&key).await.map_err(of_platform)?
        };
        if let Some((digest, size)) = known {
            let blob = Digest::parse(&digest).map_err(of_platform)?;
            if self.control.blobs.keep(&blob).await.map_err(of_platform)? {
                return Ok((LayerMade { digest, size }, true));
            }
            self.control.store.drop_build_layer(&key).await.map_err(of_platform)?;
        }
        let id = StepId { build: self.build.number, step: number as u32 };
        let order = self.order_of(id, key, part, run, into);
        match self.outcome(id, order, run.network.clone()).await? {
            StepOutcome::Made { digest, size } => Ok((LayerMade { digest, size }, false)),
            other => {
                let fault = of_outcome(&other, &self.build.recipe.limits)
                    .unwrap_or_else(|| of_platform("no outcome"));
                Err(self.with_lines(id, fault).await.into())
            }
        }
    }

    /// Has a node run the step, and waits for what comes of it.
    async fn outcome(
        &self,
        id: StepId,
        order: StepOrder,
        reaches: Vec<OutgoingRule>,
    ) -> Result<StepOutcome, Stopped> {
        let node = self.node().await.ok_or_else(|| {
            Fault::new(
                FaultKind::NoNode,
                "no node that isolates replicas is linked: steps run on those alone",
                "",
            )
        })?;
        let (steps, links) = (&self.control.builds.steps, &self.control.links);
        let outcome = steps.order(links, &node, order, reaches);
        let outcome = tokio::select! {
            outcome = outcome => Ok(outcome.map_err(|_| of_platform("the step was given up"))?),
            () = self.cancel.cancelled() => Err(Stopped::Cancelled),
        };
        steps.take_back(links, id);
        outcome
    }

    /// The isolated node with the fewest steps.
    async fn node(&self) -> Option<Name> {
        let linked = self.control.links.nodes();
        let published = self.control.leader.published.read().await;
        let nodes = published.0.nodes.values();
        let fit =
            nodes.filter(|node| node.isolates() && linked.iter().any(|name| name == node.name.as_str()));
        fit.min_by_key(|node| self.control.builds.steps.count(node.name.as_str()))
            .map(|node| node.name.clone())
    }

    fn order_of(&self, id: StepId, key: String, part: &Part, run: &Run, into: &PartDone) -> StepOrder {
        let limits = &self.build.recipe.limits;
        let mut env = into.env.clone();
        env.retain(|pair| {
            !run.settings.contains_key(pair.split_once('=').map_or(pair.as_str(), |(name, _)| name))
        });
        if !env.iter().any(|pair| pair.starts_with("PATH=")) {
            env.push("PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin".to_owned());
        }
        env.extend(run.settings.iter().map(|(name, value)| format!("{name}={value}")));
        // Tools that write times into what they make take this one (reproducible-builds.org, SOURCE_DATE_EPOCH).
        env.push("SOURCE_DATE_EPOCH=0".to_owned());
        let secrets = run
            .secrets
            .iter()
            .filter_map(|(name, path)| Some((path.clone(), self.secrets.get(name)?.clone())));
        StepOrder {
            id,
            key,
            repository: self.build.image.repository.clone(),
            layers: into.below.clone(),
            command: vec!["/bin/sh".to_owned(), "-e".to_owned(), "-c".to_owned(), run.command.clone()],
            env,
            folder: run.folder.clone(),
            user: if run.user.is_empty() { into.user.clone() } else { run.user.clone() },
            caches: self.build.caches_of(part),
            secrets: secrets.collect(),
            address: None,
            limits: Limits {
                cpu: limits.cpu,
                memory: limits.memory,
                disk: limits.disk,
                processes: limits.processes,
                log_lines: LOG_LINES,
                ..Limits::default()
            },
            time: limits.time,
        }
    }

    /// The fault with the last lines of its step.
    async fn with_lines(&self, id: StepId, fault: Fault) -> Fault {
        let lines = self.control.store.last_build_lines(id.build, id.step, LAST_LINES as u32).await;
        match lines {
            Ok(lines) => Fault { last_lines: lines.into_iter().map(|it| it.line.text).collect(), ..fault },
            Err(error) => {
                tracing::warn!(step = %id, %error, "the last lines of a step cannot be read");
                fault
            }
        }
    }
}

/// The values of the secrets that the build's steps use.
async fn secrets_of(control: &Shared, build: &Build) -> Result<BTreeMap<Name, SecretValue>, Fault> {
    let steps = build.recipe.needed_parts().into_iter().flat_map(|part| &part.steps);
    let runs = steps.filter_map(|step| match step {
        Step::Run(run) => Some(run),
        Step::Take(_) => None,
    });
    let mut names: Vec<Name> = runs.flat_map(|run| run.secrets.keys().cloned()).collect();
    names.sort();
    names.dedup();
    if names.is_empty() {
        return Ok(BTreeMap::new());
    }
    let Some(environment) = &build.secrets_from else {
        let sentence =
            format!("the recipe uses the secret {}, and it was not said of which environment", names[0]);
        return Err(Fault::new(FaultKind::NoSecret, sentence, "build with --secrets-from ENVIRONMENT"));
    };
    let mut sealed: BTreeMap<String, Name> = BTreeMap::new();
    {
        let published = control.leader.published.read().await;
        let secrets = &published.0.secrets;
        for name in names {
            let target = Target::new(environment, &name);
            let newest = secrets.get(&target).and_then(|secret| secret.versions.values().next_back());
            let Some(version) = newest else {
                let of_environment = secrets.keys().filter(|it| it.environment == *environment);
                let near = did_you_mean(name.as_str(), of_environment.map(|it| it.name.as_str()));
                let sentence = format!("there is no secret {target}{near}");
                return Err(Fault::new(
                    FaultKind::NoSecret,
                    sentence,
                    format!("mainyard secret add {target}"),
                ));
            };
            sealed.insert(version.sealed.clone(), name);
        }
    }
    let mut values = control.vault.open(sealed.keys().cloned().collect()).await.map_err(of_platform)?;
    let opened = sealed.into_iter().map(|(place, name)| match values.remove(&place) {
        Some(value) => Ok((name, value)),
        None => Err(of_platform(format!("the value of the secret {environment}/{name} cannot be opened"))),
    });
    opened.collect()
}
