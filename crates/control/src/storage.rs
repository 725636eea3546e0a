//! What repositories keep in the image store, and the rules that hold for them.

use std::collections::{BTreeMap, BTreeSet};

use actix_web::web;
use jiff::Timestamp;
use mainyard_api::{
    ListStorage, NewStorageRule, Problem, RemoveStorageRule, RepositoryStorage, SetStorageRule, Trial,
};
use mainyard_core::commands::{self, PruneByRule, Removed, StorageRuleSet};
use mainyard_core::model::{Bytes, EVERY_OTHER, Origin, StorageRule};
use mainyard_core::record::State;
use mainyard_images::{ContentStore, Digest, ImageManifest};
use mainyard_registry::MANIFEST_LIMIT;

use crate::Control;
use crate::forecast::{Acted, By, act};
use crate::operations::{Call, Operations};
use crate::problem::of_record;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(set).mount(remove);
}

/// What is done without a person is by this name.
const PLATFORM: &str = "platform";

/// The blobs of each repository, with their length.
type Kept = BTreeMap<String, BTreeMap<String, u64>>;

/// A manifest and what it names, with the lengths that it says; they were compared with the blobs when it came in.
pub(crate) fn parts_of(images: &ContentStore, digest: &str) -> Vec<(String, u64)> {
    let read = Digest::parse(digest).and_then(|digest| images.read(&digest, MANIFEST_LIMIT));
    let Ok(bytes) = read else { return Vec::new() };
    let own = (digest.to_owned(), bytes.len() as u64);
    let Ok(manifest) = serde_json::from_slice::<ImageManifest>(&bytes) else { return vec![own] };
    let parts = manifest.layers.iter().chain([&manifest.config]);
    parts.map(|part| (part.digest.clone(), part.size)).chain([own]).collect()
}

async fn kept(control: &Control) -> Result<(State, Kept), Problem> {
    let state = control.leader.published.read().await.0.clone();
    let pushed = control.store.manifests().await.map_err(of_record)?;
    let images = state.images.values().map(|it| (it.image.repository.clone(), it.digest.clone()));
    let manifests: BTreeSet<(String, String)> =
        images.chain(pushed.into_iter().map(|row| (row.repository, row.digest))).collect();
    let documents = manifests.iter().map(|(_, digest)| digest.clone()).collect();
    control.blobs.bring_documents(documents).await;
    let local = control.blobs.local().clone();
    let kept = web::block(move || {
        let mut kept = Kept::new();
        for (repository, digest) in manifests {
            kept.entry(repository).or_default().extend(parts_of(&local, &digest));
        }
        kept
    });
    Ok((state, kept.await.map_err(|error| Problem::unavailable(error.to_string()))?))
}

/// Whether a repository may keep these blobs too.
///
/// # Errors
/// With the figures, where its rule has a limit and they are past it.
pub(crate) async fn check_limit(
    control: &Control,
    repository: &str,
    more: &[(String, u64)],
) -> Result<(), Problem> {
    let limit = {
        let published = control.leader.published.read().await;
        published.0.storage_rule_of(repository).and_then(|rule| rule.limit)
    };
    let Some(limit) = limit else { return Ok(()) };
    let (_, mut kept) = kept(control).await?;
    let kept = kept.remove(repository).unwrap_or_default();
    let used: u64 = kept.values().sum();
    let fresh: BTreeMap<&String, u64> = more
        .iter()
        .filter(|(digest, _)| !kept.contains_key(digest))
        .map(|(digest, it)| (digest, *it))
        .collect();
    let needed: u64 = fresh.values().fold(0, |sum, it| sum.saturating_add(*it));
    if used.saturating_add(needed) <= limit.bytes() {
        return Ok(());
    }
    let [used, needed] = [used, needed].map(Bytes::new);
    Err(Problem::no_space(format!(
        "{repository} keeps {used} of the {limit} that it may, and this needs {needed} more; remove old images \
         (mainyard image prune), or raise the limit (mainyard image storage-rule {repository})"
    )))
}

async fn list(call: Call<ListStorage>) -> Result<Vec<RepositoryStorage>, Problem> {
    let (state, kept) = kept(&call.control).await?;
    let row = |repository: &String, blobs: &BTreeMap<String, u64>| {
        let rule = state.storage_rule_of(repository);
        RepositoryStorage {
            repository: repository.clone(),
            images: state.images.values().filter(|it| it.image.repository == *repository).count() as u32,
            size: blobs.values().sum(),
            rule: rule.cloned(),
            says: rule.map_or_else(|| "no limit".to_owned(), StorageRule::words),
        }
    };
    let mut rows: Vec<RepositoryStorage> = kept.iter().map(|(name, blobs)| row(name, blobs)).collect();
    let empty = BTreeMap::new();
    let unused = state.storage_rules.keys().filter(|name| !kept.contains_key(*name));
    rows.extend(unused.map(|name| row(name, &empty)));
    // The rule of all others comes last.
    rows.sort_by_key(|row| (row.repository == EVERY_OTHER, row.repository.clone()));
    Ok(rows)
}

async fn set(call: Call<SetStorageRule>) -> Acted<StorageRuleSet> {
    let NewStorageRule { limit, prune } = call.body.clone();
    let origin = Origin::new(call.caller.name.clone(), "added", Timestamp::now());
    let repository = call.query.repository.clone();
    let rule = StorageRule { repository, limit, prune, pruned: None, origin };
    let trial = Trial { forecast: call.query.forecast, lose_node: None };
    let by = By { member: &call.caller.name, request: &call.request_id };
    act(&call.control, by, &trial, commands::SetStorageRule { rule }).await
}

async fn remove(call: Call<RemoveStorageRule>) -> Acted<Removed> {
    let trial = Trial { forecast: call.query.forecast, lose_node: None };
    let by = By { member: &call.caller.name, request: &call.request_id };
    let repository = call.query.repository.clone();
    act(&call.control, by, &trial, commands::RemoveStorageRule { repository }).await
}

/// Removes images by the rules whose time has come.
pub(crate) async fn prune_by_rules(control: &Control) {
    let due: Vec<String> = {
        let published = control.leader.published.read().await;
        let rules = published.0.storage_rules.values();
        rules.filter(|rule| rule.is_due(Timestamp::now())).map(|rule| rule.repository.clone()).collect()
    };
    for repository in due {
        let command = PruneByRule { repository: repository.clone() };
        match control.leader.carry_out(command, PLATFORM, "").await {
            Ok(pruned) if pruned.images.is_empty() => {}
            Ok(pruned) => {
                tracing::info!(repository, images = pruned.images.len(), "old images were removed by rule")
            }
            Err(error) => tracing::warn!(repository, %error, "images could not be removed by rule"),
        }
    }
}
