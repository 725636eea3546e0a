//! Any moment of the past: what became of an environment between two moments, object by object, in words.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::declare::ChangeKind;
use crate::difference::{Difference, between as releases_between, rule_differences, written_differences};
use crate::model::{Name, Origin, Replica, ReplicaState, Rollout, Target, Workload};
use crate::record::{Object, State};
use crate::routing::replicas_of;

/// How one object changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Became {
    /// Its kind, such as `workload`.
    pub kind: String,
    /// Its key, as environment/name.
    pub key: String,
    /// Whether it came, changed or went.
    pub change: ChangeKind,
    /// Field by field.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fields: Vec<Difference>,
    /// The member who changed it last, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<Origin>,
}

/// Everything in an environment that is not as it was; of one object only, where `only` is given. Where replicas of then are
/// no longer known (`whole` is false), none are compared.
pub fn since(
    then: &State,
    now: &State,
    environment: &Name,
    only: Option<&Target>,
    whole: bool,
) -> Vec<Became> {
    let mut all = Gathered { environment, only, list: Vec::new() };
    all.pairs(
        "workload",
        &then.workloads,
        &now.workloads,
        |_, it| Some(it.last_change.clone()),
        |was, is| of_workload(then, was, now, is, whole),
    );
    all.pairs(
        "service",
        &then.services,
        &now.services,
        |_, it| Some(it.origin.clone()),
        |was, is| written_differences("", &was.spec, &is.spec),
    );
    all.pairs(
        "route",
        &then.routes,
        &now.routes,
        |_, it| Some(it.origin.clone()),
        |was, is| written_differences("", &was.spec, &is.spec),
    );
    all.pairs(
        "source",
        &then.sources,
        &now.sources,
        // Of what became of it later the trail tells.
        |was, it| was.is_none().then(|| it.origin.clone()),
        |was, is| {
            let short =
                |commit: &Option<crate::model::Commit>| commit.as_ref().map(|it| it.short().to_owned());
            let mut fields = written_differences("", &was.rule, &is.rule);
            fields.extend(differs("stands on", short(&was.applied), short(&is.applied)));
            fields.extend(differs("state", Some(was.state.to_string()), Some(is.state.to_string())));
            let left = |source: &crate::model::Source| {
                let left: Vec<String> = source.yields.iter().map(|it| it.what.to_string()).collect();
                (!left.is_empty()).then(|| left.join(", "))
            };
            fields.extend(differs("leaves alone", left(was), left(is)));
            fields.extend(differs("held", held(was.held.as_ref()), held(is.held.as_ref())));
            fields
        },
    );
    all.pairs(
        "secret",
        &then.secrets,
        &now.secrets,
        |_, it| it.versions.values().next_back().map(|version| version.origin.clone()),
        |was, is| {
            let newest = |versions: &BTreeMap<u32, _>| {
                versions.keys().next_back().map(|version| format!("version {version}"))
            };
            differs("value", newest(&was.versions), newest(&is.versions)).into_iter().collect()
        },
    );
    all.pairs(
        "certificate",
        &then.certificates,
        &now.certificates,
        |_, it| Some(it.origin.clone()),
        |was, is| {
            let days = |until: jiff::Timestamp| Some(until.strftime("%-d %b %Y").to_string());
            let mut fields: Vec<Difference> =
                differs("until", days(was.until), days(is.until)).into_iter().collect();
            fields.extend(differs("names", Some(was.names.join(", ")), Some(is.names.join(", "))));
            fields
        },
    );
    all.list
}

struct Gathered<'a> {
    environment: &'a Name,
    only: Option<&'a Target>,
    list: Vec<Became>,
}

impl Gathered<'_> {
    fn pairs<T: PartialEq>(
        &mut self,
        kind: &str,
        then: &BTreeMap<Target, T>,
        now: &BTreeMap<Target, T>,
        origin: impl Fn(Option<&T>, &T) -> Option<Origin>,
        fields: impl Fn(&T, &T) -> Vec<Difference>,
    ) {
        let keys: BTreeSet<&Target> = then.keys().chain(now.keys()).collect();
        let wanted = keys
            .into_iter()
            .filter(|key| key.environment == *self.environment && self.only.is_none_or(|only| only == *key));
        for key in wanted {
            let (change, fields, origin) = match (then.get(key), now.get(key)) {
                (Some(was), Some(is)) => match fields(was, is) {
                    fields if fields.is_empty() => continue,
                    fields => (ChangeKind::Change, fields, origin(Some(was), is)),
                },
                (None, Some(is)) => (ChangeKind::Add, Vec::new(), origin(None, is)),
                // Who removed it stands in the trail: it left nothing to say so.
                _ => (ChangeKind::Remove, Vec::new(), None),
            };
            self.list.push(Became { kind: kind.to_owned(), key: key.to_string(), change, fields, origin });
        }
    }
}

fn of_workload(then: &State, was: &Workload, now: &State, is: &Workload, whole: bool) -> Vec<Difference> {
    let release = |state: &State, workload: &Workload| {
        state.releases.get(&(workload.target.clone(), workload.release)).cloned()
    };
    let mut fields = Vec::new();
    fields.extend(differs("release", Some(was.release.to_string()), Some(is.release.to_string())));
    if let (Some(was), Some(is)) = (release(then, was), release(now, is)) {
        fields.extend(releases_between(&was, &is));
    }
    let moves = |state: &State| state.open_rollout(&is.target).map(|rollout| rollout.to);
    if moves(then).is_none() {
        let newest = now
            .newest_rollout(&is.target)
            .filter(|rollout| Some(*rollout) != then.newest_rollout(&is.target));
        fields.extend(newest.map(|rollout| Difference {
            field: format!("rollout to {}", rollout.to),
            before: None,
            after: Some(outcome(rollout)),
        }));
    }
    fields.extend(rule_differences(&was.rule, &is.rule));
    fields.extend(differs("replicas", Some(was.wanted.to_string()), Some(is.wanted.to_string())));
    if whole {
        let ready = |state: &State, it: &Workload| {
            let all = replicas_of(&state.replicas, &it.target);
            Some(all.filter(|replica: &&Replica| replica.state == ReplicaState::Ready).count().to_string())
        };
        fields.extend(differs("ready", ready(then, was), ready(now, is)));
    }
    fields.extend(differs("state", Some(workload_in_words(was)), Some(workload_in_words(is))));
    fields.extend(differs("held", held(was.held.as_ref()), held(is.held.as_ref())));
    fields
}

/// A workload's state, with the reason where it has one.
fn workload_in_words(workload: &Workload) -> String {
    match &workload.reason {
        Some(reason) => format!("{} ({})", workload.state, reason.code.word()),
        None => workload.state.to_string(),
    }
}

fn outcome(rollout: &Rollout) -> String {
    match &rollout.verdict {
        Some(verdict) => format!("{}: {verdict}", rollout.state),
        None => rollout.state.to_string(),
    }
}

fn held(held: Option<&crate::model::HoldMark>) -> Option<String> {
    held.map(|held| format!("because {}", held.because))
}

fn differs(field: &str, before: Option<String>, after: Option<String>) -> Option<Difference> {
    (before != after).then(|| Difference { field: field.to_owned(), before, after })
}

/// Why the load asked for the present number of replicas, where that is what this change did.
fn load_words<'a>(workload: &'a Workload, cause: &Origin) -> Option<&'a str> {
    let last = workload.growing.as_ref()?.last.as_ref()?;
    (workload.wanted_origin == *cause && cause.at == last.at).then_some(last.because.as_str())
}

/// A short description of what an object is after a change, for the trail.
pub fn in_few_words(object: Option<&Object>, cause: &Origin) -> String {
    let Some(object) = object else { return "it is gone".to_owned() };
    match object {
        Object::Workload(it) => {
            let held = held(it.held.as_ref()).map_or(String::new(), |because| format!(", held {because}"));
            let because = load_words(it, cause).map_or(String::new(), |because| format!(": {because}"));
            format!("{} wanted, release {}, {}{held}{because}", it.wanted, it.release, workload_in_words(it))
        }
        Object::Release(it) => {
            let same = it.same_as.map_or(String::new(), |same| format!(", same as {same}"));
            format!("runs {}{same}", it.spec.image)
        }
        Object::Route(it) => {
            let legs: Vec<String> =
                it.spec.to.iter().map(|leg| format!("{} {}", leg.service, leg.share)).collect();
            match legs.is_empty() {
                true => it.spec.at(),
                false => format!("{} leads to {}", it.spec.at(), legs.join(", ")),
            }
        }
        Object::Rollout(it) => outcome(it),
        Object::Source(it) => match &it.reason {
            Some(reason) => format!("{}: {}", it.state, reason.sentence),
            None => it.state.to_string(),
        },
        Object::Secret(it) => {
            it.versions.keys().next_back().map_or_else(String::new, |version| format!("version {version}"))
        }
        Object::Certificate(it) => format!("for {}", it.names.join(", ")),
        Object::Replica(it) => match &it.reason {
            Some(reason) => format!("{}: {}", it.state, reason.sentence),
            None => it.state.to_string(),
        },
        // As many letters as tell one image from another.
        Object::Image(it) => it.digest.chars().take(19).collect(),
        Object::Registry(it) => it.host.clone(),
        Object::Authority(it) => it.directory.clone(),
        Object::StorageRule(it) => it.words(),
        Object::Environment(it) if !it.outgoing.is_usual() => format!("outgoing = {}", it.outgoing.word()),
        Object::Environment(_) | Object::Service(_) | Object::Gateway(_) | Object::Node(_) => String::new(),
    }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;

    use super::*;
    use crate::cluster::Cluster;
    use crate::manifest::{SourceFile, read};

    fn declared(text: &str) -> crate::manifest::Declared {
        let text = format!("application = \"lockers\"\n{text}");
        read(&[SourceFile { name: "mainyard.toml".into(), text }], None).expect("valid")
    }

    #[test]
    fn history_lists_added_changed_and_removed_fields() {
        let (now, staging): (_, Name) = (Timestamp::UNIX_EPOCH, "staging".parse().expect("a name"));
        let mut cluster = Cluster::new(State::default(), 1, now);
        cluster.transaction("mira", now).add_environment(&staging, None).expect("new");
        let first = "[workload.api]\nimage = \"l/api:1\"\nports = { http = 80 }\n[workload.old]\nimage = \"l/old:1\"\n";
        cluster.transaction("mira", now).declare(&declared(first), &staging, false).expect("taken");
        let then = cluster.state.clone();
        assert_eq!(since(&then, &then, &staging, None, true), []);
        let second = "[workload.api]\nimage = \"l/api:2\"\nreplicas = 3\nports = { http = 80, admin = 81 }\n[route.api]\nhost = \"api.test\"\nto = [{ service = \"api\" }]\n";
        cluster.transaction("noor", now).declare(&declared(second), &staging, true).expect("taken");
        let told = |only: Option<&Target>, whole| -> Vec<String> {
            let became = since(&then, &cluster.state, &staging, only, whole);
            let told = |one: &Became| {
                let fields: Vec<String> = one.fields.iter().map(Difference::to_string).collect();
                let by = one.origin.as_ref().map_or("", |origin| origin.by.as_str());
                format!("{:?} {} {} by {by}: {}", one.change, one.kind, one.key, fields.join(", "))
            };
            became.iter().map(told).collect()
        };
        insta::assert_snapshot!(told(None, true).join("\n"));
        let api: Target = "staging/api".parse().expect("a target");
        assert_eq!(told(Some(&api), false).len(), 3, "the workload, its service and its route have one name");
    }
}
