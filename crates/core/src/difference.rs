//! The differences between two releases, field by field.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::manifest::written;
use crate::model::{Check, Limits, Name, Release, ReleaseSpec, RolloutRule};

/// One field that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Difference {
    /// The field, such as `image` or `setting LOG_LEVEL`.
    pub field: String,
    /// The old value; `None` if there was none.
    pub before: Option<String>,
    /// The new value; `None` if there is none.
    pub after: Option<String>,
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (&self.before, &self.after) {
            (Some(before), Some(after)) => write!(f, "{} {before} → {after}", self.field),
            (None, Some(after)) => write!(f, "{} = {after}", self.field),
            (_, None) => write!(f, "{} removed", self.field),
        }
    }
}

/// As much of a digest as a person reads.
fn short(digest: &str) -> String {
    digest.get(..19).unwrap_or(digest).to_owned()
}

/// The differences between two releases; the image's content included, since a name may have come to mean another one.
pub fn between(before: &Release, after: &Release) -> Vec<Difference> {
    let mut list = differences(&before.spec, &after.spec);
    // What it stands for says more than whether that was written down.
    list.retain(|difference| difference.field != "digest");
    let mut digests = Gathered(Vec::new());
    digests.maybe("image digest", before.digest.as_deref().map(short), after.digest.as_deref().map(short));
    list.extend(digests.0);
    list.extend(secret_differences(&before.secrets, &after.secrets));
    list
}

/// Secrets that stand for another version. That a value changed is all that is ever told of it.
pub fn secret_differences(before: &BTreeMap<Name, u32>, after: &BTreeMap<Name, u32>) -> Vec<Difference> {
    let both = before.iter().filter_map(|(name, was)| Some((name, *was, *after.get(name)?)));
    let changed = both.filter(|(_, was, now)| was != now).map(|(name, was, now)| Difference {
        field: format!("secret {name}"),
        before: Some(format!("version {was}")),
        after: Some(format!("version {now}")),
    });
    changed.collect()
}

/// The differences between two specifications.
pub fn differences(before: &ReleaseSpec, after: &ReleaseSpec) -> Vec<Difference> {
    let mut list = Gathered(Vec::new());
    // Of the same application the tag says it all.
    let same_name = before.image.repository == after.image.repository;
    let image = |spec: &ReleaseSpec| if same_name { spec.image.tag.clone() } else { spec.image.to_string() };
    list.field("image", image(before), image(after));
    list.maybe("digest", before.digest.as_deref().map(short), after.digest.as_deref().map(short));
    let ports = |spec: &ReleaseSpec| {
        spec.ports.iter().map(|(name, port)| (name.to_string(), port.to_string())).collect()
    };
    list.map("port", &ports(before), &ports(after));
    list.map("label", &before.labels, &after.labels);
    let settings = |spec: &ReleaseSpec| {
        spec.settings.iter().map(|(name, setting)| (name.clone(), setting.to_string())).collect()
    };
    list.map("setting", &settings(before), &settings(after));
    let files =
        |spec: &ReleaseSpec| spec.files.iter().map(|(path, used)| (path.clone(), used.to_string())).collect();
    list.map("file", &files(before), &files(after));
    list.field("cpu limit", before.limits.cpu.to_string(), after.limits.cpu.to_string());
    list.field("memory limit", before.limits.memory.to_string(), after.limits.memory.to_string());
    list.field("disk limit", before.limits.disk.to_string(), after.limits.disk.to_string());
    let (was, is) = (before.limits.shared_memory.to_string(), after.limits.shared_memory.to_string());
    list.field("shared memory limit", was, is);
    let size = |limits: &Limits| limits.tmp.map(|size| size.to_string());
    list.maybe("/tmp in memory", size(&before.limits), size(&after.limits));
    let (was, is) = (before.limits.open_files.to_string(), after.limits.open_files.to_string());
    list.field("open files limit", was, is);
    list.field("process limit", before.limits.processes.to_string(), after.limits.processes.to_string());
    list.field("log lines a second", before.limits.log_lines.to_string(), after.limits.log_lines.to_string());
    let requests = |limits: &Limits| limits.requests.map(|requests| requests.to_string());
    list.maybe("requests at once", requests(&before.limits), requests(&after.limits));
    list.field("requests that wait", before.limits.queue.to_string(), after.limits.queue.to_string());
    let (was, is) = (before.limits.queue_time.to_string(), after.limits.queue_time.to_string());
    list.field("time in the queue", was, is);
    list.field("cpu reserve", before.reserve.cpu.to_string(), after.reserve.cpu.to_string());
    list.field("memory reserve", before.reserve.memory.to_string(), after.reserve.memory.to_string());
    let root = |spec: &ReleaseSpec| if spec.read_only { "read-only" } else { "writable" }.to_owned();
    list.field("root file system", root(before), root(after));
    let ptrace = |spec: &ReleaseSpec| if spec.ptrace { "allowed" } else { "refused" }.to_owned();
    list.field("ptrace", ptrace(before), ptrace(after));
    let rules = |spec: &ReleaseSpec| {
        spec.outgoing.iter().map(|rule| (rule.to_string(), "allowed".to_owned())).collect()
    };
    list.map("outgoing", &rules(before), &rules(after));
    list.field("drain", before.stop.drain.to_string(), after.stop.drain.to_string());
    list.field("grace", before.stop.grace.to_string(), after.stop.grace.to_string());
    let command = |spec: &ReleaseSpec| {
        spec.command.as_ref().map_or("the image's own".to_owned(), |words| words.join(" "))
    };
    list.field("command", command(before), command(after));
    let first = |spec: &ReleaseSpec| spec.run_first.as_ref().map(|words| words.join(" "));
    list.maybe("run_first", first(before), first(after));
    let limit = |span: Option<crate::model::Span>| span.map(|span| span.to_string());
    list.maybe("run_first_within", limit(before.run_first_within), limit(after.run_first_within));
    list.maybe("start_within", limit(before.checks.start_within), limit(after.checks.start_within));
    list.field("checks that are enough", percent(before.checks.enough), percent(after.checks.enough));
    list.maybe(
        "ready check",
        before.checks.ready.as_ref().map(check_words),
        after.checks.ready.as_ref().map(check_words),
    );
    list.maybe(
        "alive check",
        before.checks.alive.as_ref().map(check_words),
        after.checks.alive.as_ref().map(check_words),
    );
    list.0
}

/// The differences between two rollout rules.
pub fn rule_differences(before: &RolloutRule, after: &RolloutRule) -> Vec<Difference> {
    let mut list = Gathered(Vec::new());
    list.written("rollout ", before, after, &["steps", "shadow"]);
    let steps = |rule: &RolloutRule| {
        let steps: Vec<String> = rule.steps.iter().map(ToString::to_string).collect();
        (!steps.is_empty()).then(|| steps.join("; "))
    };
    list.maybe("rollout steps", steps(before), steps(after));
    let shadow = |rule: &RolloutRule| {
        rule.shadow.map(|shadow| format!("{} copies within {}", shadow.copies, shadow.within))
    };
    list.maybe("rollout shadow", shadow(before), shadow(after));
    list.0
}

/// The differences between two values, key by key of their JSON.
pub fn written_differences(prefix: &str, before: &impl Serialize, after: &impl Serialize) -> Vec<Difference> {
    let mut list = Gathered(Vec::new());
    list.written(prefix, before, after, &[]);
    list.0
}

/// The keys of a thing, as they are written.
pub fn keys_of<T: Serialize>(thing: &T) -> Vec<(String, String)> {
    let none = serde_json::Value::Object(serde_json::Map::new());
    let told = written_differences("", &none, thing).into_iter();
    told.filter_map(|it| Some((it.field, it.after?))).collect()
}

struct Gathered(Vec<Difference>);

fn keys(value: &impl Serialize) -> serde_json::Map<String, serde_json::Value> {
    match serde_json::to_value(value) {
        Ok(serde_json::Value::Object(keys)) => keys,
        _ => serde_json::Map::new(),
    }
}

impl Gathered {
    fn field(&mut self, field: &str, before: String, after: String) {
        self.maybe(field, Some(before), Some(after));
    }

    fn maybe(&mut self, field: &str, before: Option<String>, after: Option<String>) {
        if before != after {
            self.0.push(Difference { field: field.to_owned(), before, after });
        }
    }

    /// Each key as it is written in the file; what is left out there is not in the JSON either.
    fn written(&mut self, prefix: &str, before: &impl Serialize, after: &impl Serialize, except: &[&str]) {
        let (then, now) = (keys(before), keys(after));
        let names: BTreeSet<&String> =
            then.keys().chain(now.keys()).filter(|key| !except.contains(&key.as_str())).collect();
        for name in names {
            let text = |keys: &serde_json::Map<String, serde_json::Value>| {
                keys.get(name).map(|value| value.as_str().map_or_else(|| written(value), str::to_owned))
            };
            self.maybe(&format!("{prefix}{name}"), text(&then), text(&now));
        }
    }

    fn map(&mut self, what: &str, before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) {
        let keys: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
        for key in keys {
            self.maybe(&format!("{what} {key}"), before.get(key).cloned(), after.get(key).cloned());
        }
    }
}

/// A check in words: "GET /ready on http every 1s within 500ms".
pub fn check_words(check: &Check) -> String {
    let what = match (&check.path, &check.port, &check.connect) {
        _ if check.grpc.is_some() => {
            let service = check.grpc.as_deref().filter(|service| !service.is_empty());
            format!("gRPC health{}", service.map_or(String::new(), |service| format!(" of {service}")))
        }
        (Some(path), Some(port), _) => format!("GET {path} on {port}"),
        (Some(path), None, _) => format!("GET {path}"),
        (None, _, Some(port)) => format!("connect to {port}"),
        (None, ..) => "nothing".to_owned(),
    };
    format!("{what} every {} within {}, {} in a row", check.every, check.within, check.after)
}

fn percent(part: u32) -> String {
    format!("{part} %")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::manifest::{SourceFile, read};
    use crate::model::Name;

    fn spec(body: &str) -> ReleaseSpec {
        let text = format!("application = \"lockers\"\n[workload.api]\n{body}");
        let file = SourceFile { name: "mainyard.toml".to_owned(), text };
        let name: Name = "api".parse().expect("a name");
        read(&[file], None).expect("valid").workloads[&name].spec.clone()
    }

    #[test]
    fn every_field_is_told_with_both_values() {
        let before =
            spec("image = \"lockers/api:1\"\nports = { http = 80 }\nsettings = { A = \"1\", B = \"2\" }\n");
        let after = spec(
            "image = \"lockers/api:2\"\nports = { http = 81 }\nsettings = { A = \"3\", C = \"4\" }\ncommand = [\"/run\", \"-v\"]\n\
             limits = { memory = \"256 MiB\" }\nchecks = { ready = { path = \"/ready\" } }\n",
        );
        let told: Vec<String> = differences(&before, &after).iter().map(Difference::to_string).collect();
        insta::assert_snapshot!(told.join("\n"));
        assert_eq!(differences(&before, &before), []);
    }
}
