//! The declarations of checked files in one environment.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

use super::parse::{Document, json, merge, parse, reach, sorted, table_at};
use super::problem::{Place, Problem, SourceFile};
use crate::model::{
    BuiltFrom, Bytes, Growth, Limits, Name, ReleaseSpec, RolloutRule, RouteSpec, ServicePort, ServiceSpec,
    Span, Speaks, Style,
};
use crate::suggestions::did_you_mean;

/// The least that a root file system can be used with.
const LEAST_DISK: Bytes = Bytes::mib(16);

/// The declared objects of one environment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Declared {
    /// The application all of it belongs to.
    pub application: Name,
    /// Secrets whose values are in the files.
    pub secrets: BTreeMap<Name, DeclaredSecret>,
    /// Workloads by name.
    pub workloads: BTreeMap<Name, DeclaredWorkload>,
    /// Services by name; those that a workload with ports gets by itself included.
    pub services: BTreeMap<Name, ServiceSpec>,
    /// Routes by name.
    pub routes: BTreeMap<Name, RouteSpec>,
    /// The names in the files, if the application was given a name of its own.
    pub called: BTreeMap<Name, Name>,
    /// Valid input that is most likely not meant.
    pub warnings: Vec<Problem>,
}

/// A secret whose value is in the files, encrypted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DeclaredSecret {
    /// The value, encrypted in the age format, as text.
    pub age: String,
    /// Whether it is text, once it was opened; nobody but the platform can tell before.
    pub text: bool,
    /// The place of its declaration.
    pub place: Place,
}

/// A declared workload.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DeclaredWorkload {
    /// Everything a release freezes.
    pub spec: ReleaseSpec,
    /// What the service speaks that it gets by itself, by port, where that is not HTTP/1.1.
    #[serde(default)]
    pub speaks: BTreeMap<Name, Speaks>,
    /// The wanted number; `None` leaves it to anyone who scales, or to the load.
    pub replicas: Option<u32>,
    /// By which rule it follows the load.
    #[serde(default)]
    pub growth: Option<Growth>,
    /// How it rolls out.
    pub rule: RolloutRule,
    /// Workloads of the same declaration that are steady before a source changes this one.
    pub after: BTreeSet<Name>,
    /// How often its image's tag is looked at in a registry outside, for another image.
    #[serde(default)]
    pub follow_tag: Option<Span>,
}

/// The environments that the files name with `[in.…]`.
pub fn environments(files: &[SourceFile]) -> BTreeSet<Name> {
    let parsed: Vec<_> =
        files.iter().filter_map(|file| toml_edit::Document::parse(file.text.as_str()).ok()).collect();
    let tables = parsed.iter().filter_map(|document| document.get("in")?.as_table_like());
    tables.flat_map(|table| table.iter().filter_map(|(name, _)| name.parse().ok())).collect()
}

/// Reads files as one declaration for one environment; without one, the common values alone.
///
/// # Errors
/// Everything that is wrong, in the order of the files, each with its place.
pub fn read(files: &[SourceFile], environment: Option<&Name>) -> Result<Declared, Vec<Problem>> {
    read_as(files, environment, None)
}

/// The same, where the application and all that is in it has another name than its own: so it can be there several times.
///
/// # Errors
/// As of [`read`]; and names that would be too long.
pub fn read_as(
    files: &[SourceFile],
    environment: Option<&Name>,
    named: Option<&Name>,
) -> Result<Declared, Vec<Problem>> {
    let files = super::constants::fill(files, environment, named)?;
    let parsed = parse(&files)?;
    let mut problems = Vec::new();
    let application = application(&parsed, &mut problems);
    let mut reader = Reader { parsed: &parsed, environment, problems, warnings: Vec::new() };
    let secrets = reader.objects("secret", Reader::secret);
    let workloads = reader.objects("workload", Reader::workload);
    let mut services = reader.objects("service", Reader::service);
    let routes = reader.objects("route", Reader::route);
    for (name, workload) in &workloads {
        if !workload.spec.ports.is_empty() && !services.contains_key(name) {
            services.insert(name.clone(), own_service(name, workload));
        }
    }
    let warnings = Vec::new();
    let called = BTreeMap::new();
    let mut declared = application.map(|application| Declared {
        application,
        secrets,
        workloads,
        services,
        routes,
        called,
        warnings,
    });
    if let Some(declared) = &mut declared {
        reader.warn_of_open_secrets(declared);
        declared.warnings = std::mem::take(&mut reader.warnings);
        reader.check_references(declared);
        reader.check_order(declared);
        if let Some(named) = named {
            reader.rename(declared, named);
        }
    }
    match declared {
        Some(declared) if reader.problems.is_empty() => Ok(declared),
        _ => Err(sorted(reader.problems)),
    }
}

/// A workload with ports is reached by its own name: its first port on 80, the others as they are.
fn own_service(name: &Name, workload: &DeclaredWorkload) -> ServiceSpec {
    let select = BTreeMap::from([("workload".to_owned(), name.to_string())]);
    let first =
        workload.spec.ports.keys().find(|port| port.as_str() == "http").or(workload.spec.ports.keys().next());
    let ports = workload.spec.ports.iter().map(|(port, number)| {
        let outer = if Some(port) == first { 80 } else { *number };
        let speaks = workload.speaks.get(port).copied().unwrap_or_default();
        (outer, ServicePort { port: port.clone(), speaks })
    });
    ServiceSpec { select, ports: ports.collect(), open_to: BTreeSet::new() }
}

/// Takes what its ports speak out of a workload's table: a release has their numbers only.
fn take_protocols(workload: &mut Json) -> Json {
    let mut speaks = Map::new();
    for (name, port) in workload.get_mut("ports").and_then(Json::as_object_mut).into_iter().flatten() {
        let Some(table) = port.as_object_mut() else { continue };
        if let Some(word) = table.remove("speaks") {
            speaks.insert(name.clone(), word);
        }
        *port = table.remove("port").unwrap_or(Json::Null);
    }
    Json::Object(speaks)
}

fn application(parsed: &[Document<'_>], problems: &mut Vec<Problem>) -> Option<Name> {
    let named: Vec<(&Document<'_>, &str)> =
        parsed.iter().filter_map(|file| Some((file, file.document.get("application")?.as_str()?))).collect();
    let Some((_, first)) = named.first() else {
        let place =
            parsed.first().map_or_else(|| Place::of("mainyard.toml", "", None), |file| file.place(&[]));
        let message = "`application` is missing: everything in the file is declared and removed under this name, \
                       such as application = \"lockers\"";
        problems.push(Problem { place, message: message.to_owned() });
        return None;
    };
    for (file, other) in &named {
        if other != first {
            let message = format!("application {other:?} differs from {first:?} in {}", named[0].0.name);
            problems.push(Problem { place: file.place(&["application"]), message });
        }
    }
    first.parse().ok()
}

struct Reader<'a> {
    parsed: &'a [Document<'a>],
    environment: Option<&'a Name>,
    problems: Vec<Problem>,
    warnings: Vec<Problem>,
}

impl Reader<'_> {
    /// All objects of a kind, each merged from its table and what differs in the environment.
    fn objects<T>(
        &mut self,
        kind: &str,
        convert: impl Fn(&mut Self, &Name, Json) -> Option<T>,
    ) -> BTreeMap<Name, T> {
        let mut merged: BTreeMap<String, Json> = BTreeMap::new();
        let mut base_in: BTreeMap<String, &str> = BTreeMap::new();
        for file in self.parsed {
            for (name, item) in table_at(&file.document, &[kind]) {
                if let Some(earlier) = base_in.insert(name.to_owned(), file.name) {
                    let message = format!("{kind} `{name}` is declared in {earlier} already");
                    self.problems.push(Problem { place: file.place(&[kind, name]), message });
                }
                merged.insert(name.to_owned(), json(item));
            }
        }
        if let Some(environment) = self.environment {
            for file in self.parsed {
                for (name, item) in table_at(&file.document, &["in", environment.as_str(), kind]) {
                    merge(merged.entry(name.to_owned()).or_insert(Json::Object(Map::new())), json(item));
                }
            }
        }
        let converted = merged.into_iter().filter_map(|(text, value)| {
            let name: Name = text.parse().ok()?;
            convert(self, &name, value).map(|object| (name, object))
        });
        converted.collect()
    }

    fn say(&mut self, path: &[&str], message: String) {
        let place = self.place(path);
        self.problems.push(Problem { place, message });
    }

    /// The place in the environment's own part where it says something, or else in the common one.
    fn place(&self, path: &[&str]) -> Place {
        let mut inner = vec!["in", self.environment.map_or("", Name::as_str)];
        inner.extend(path);
        let says = |path: &[&str]| {
            let path = &path[..path.len().min(if path[0] == "in" { 4 } else { 2 })];
            self.parsed.iter().find(|file| reach(file.document.as_item(), path).is_some())
        };
        let base = says(path).or(self.parsed.first());
        let own = says(&inner).filter(|file| reach(file.document.as_item(), &inner).is_some());
        match (own, base) {
            (Some(file), _) => file.place(&inner),
            (None, Some(file)) => file.place(path),
            (None, None) => Place::of("mainyard.toml", "", None),
        }
    }

    fn lacks(&mut self, kind: &str, name: &Name, value: &Json, keys: &[&str]) -> bool {
        let missing: Vec<&str> = keys.iter().copied().filter(|key| value.get(key).is_none()).collect();
        for key in &missing {
            let place = self.environment.map_or(String::new(), |environment| format!(" in {environment}"));
            self.say(&[kind, name.as_str()], format!("{kind} `{name}` has no `{key}`{place}"));
        }
        !missing.is_empty()
    }

    fn secret(&mut self, name: &Name, value: Json) -> Option<DeclaredSecret> {
        if self.lacks("secret", name, &value, &["age"]) {
            return None;
        }
        let age = value.get("age").and_then(Json::as_str)?.trim().to_owned();
        let place = self.place(&["secret", name.as_str(), "age"]);
        Some(DeclaredSecret { age, text: true, place })
    }

    /// A workload's table with the name of the image that is built of the code that it names.
    fn with_image_of_code(&self, mut value: Json) -> Json {
        let Some(code) = value.get("image").and_then(Json::as_object) else { return value };
        let text = |key: &str| code.get(key).and_then(Json::as_str).unwrap_or_default();
        // What is the same in every environment is read without one, and declared in none.
        let environment = self.environment.map_or("any", Name::as_str);
        let Ok(source) = format!("{environment}/{}", text("source")).parse() else { return value };
        let folder = text("folder").trim_matches('/').trim_start_matches("./").to_owned();
        value["image"] = serde_json::json!(BuiltFrom { source, folder }.image());
        value
    }

    fn workload(&mut self, name: &Name, value: Json) -> Option<DeclaredWorkload> {
        if self.lacks("workload", name, &value, &["image"]) {
            return None;
        }
        let mut value = self.with_image_of_code(value);
        let speaks = take_protocols(&mut value);
        let rule = value.get("rollout").cloned().unwrap_or(Json::Object(Map::new()));
        let read = serde_json::from_value::<ReleaseSpec>(value.clone()).and_then(|spec| {
            let rule = serde_json::from_value(rule)?;
            let written = value.get("replicas");
            let replicas = written.and_then(Json::as_u64).map(|count| count as u32);
            let growth =
                written.filter(|it| it.is_object()).cloned().map(serde_json::from_value).transpose()?;
            let after = value.get("after").cloned().unwrap_or(Json::Array(Vec::new()));
            let after = serde_json::from_value(after)?;
            let follow_tag = value.get("follow_tag").cloned().map(serde_json::from_value).transpose()?;
            let speaks = serde_json::from_value(speaks)?;
            Ok(DeclaredWorkload { spec, speaks, replicas, growth, rule, after, follow_tag })
        });
        match read {
            Ok(workload) => {
                self.check_workload(name, &workload);
                self.check_rule(name, &workload.rule, &value);
                self.check_times(name, &workload);
                self.check_growth(name, &workload);
                Some(workload)
            }
            Err(error) => {
                self.say(&["workload", name.as_str()], format!("workload `{name}`: {error}"));
                None
            }
        }
    }

    fn check_workload(&mut self, name: &Name, workload: &DeclaredWorkload) {
        let spec = &workload.spec;
        let known: Vec<&str> = spec.ports.keys().map(Name::as_str).collect();
        for (which, check) in [("ready", &spec.checks.ready), ("alive", &spec.checks.alive)] {
            let Some(check) = check else { continue };
            let path = ["workload", name.as_str(), "checks", which];
            let ways = [check.path.is_some(), check.connect.is_some(), check.grpc.is_some()];
            if ways.into_iter().filter(|is_there| *is_there).count() != 1 {
                let message =
                    format!("the {which} check of `{name}` needs one of `path`, `connect` and `grpc`");
                self.say(&path, message);
            } else if check.kind(&spec.ports).is_none() {
                let port = check.connect.as_ref().or(check.port.as_ref()).map_or("", Name::as_str);
                let meant = did_you_mean(port, known.iter().copied());
                let declared =
                    if known.is_empty() { "none is declared".to_owned() } else { known.join(", ") };
                let message = format!(
                    "the {which} check of `{name}` asks for port `{port}`{meant} (ports: {declared})"
                );
                self.say(&path, message);
            }
        }
        if spec.reserve.memory > spec.limits.memory {
            let (reserve, limit) = (spec.reserve.memory, spec.limits.memory);
            let message = format!("`{name}` reserves {reserve}, more than its limit of {limit}");
            self.say(&["workload", name.as_str(), "reserve"], message);
        }
        self.check_limits(name, &spec.limits);
        for (key, words) in [("command", &spec.command), ("run_first", &spec.run_first)] {
            if words.as_ref().is_some_and(|words| words.first().is_none_or(String::is_empty)) {
                self.say(&["workload", name.as_str(), key], format!("the {key} of `{name}` is empty"));
            }
        }
    }

    /// Sizes that could never be used, or not even begin.
    fn check_limits(&mut self, name: &Name, limits: &Limits) {
        let in_memory = [("shared_memory", Some(limits.shared_memory)), ("tmp", limits.tmp)];
        for (key, size) in in_memory {
            let is_usual = limits.shared_memory == Limits::default().shared_memory && key == "shared_memory";
            if let Some(size) = size.filter(|size| *size > limits.memory && !is_usual) {
                let message = format!(
                    "`{key}` of `{name}` ({size}) is memory, and more than its memory limit of {}",
                    limits.memory
                );
                self.say(&["workload", name.as_str(), "limits", key], message);
            }
        }
        if limits.disk < LEAST_DISK {
            let message = format!("`disk` of `{name}` is {}; at least {LEAST_DISK} are needed", limits.disk);
            self.say(&["workload", name.as_str(), "limits", "disk"], message);
        }
    }

    /// Times that others would cut short.
    fn check_times(&mut self, name: &Name, workload: &DeclaredWorkload) {
        let rule = &workload.rule;
        if rule.settle >= rule.deadline {
            let message = format!(
                "`settle` of `{name}` ({}) is not shorter than its `deadline` ({}): no rollout could be done in time",
                rule.settle, rule.deadline
            );
            self.say(&["workload", name.as_str(), "rollout", "settle"], message);
        }
        if let Some(within) = workload.spec.checks.start_within.filter(|within| *within > rule.deadline) {
            let message = format!(
                "`start_within` of `{name}` ({within}) is longer than its rollout's `deadline` ({}): raise the deadline too",
                rule.deadline
            );
            self.say(&["workload", name.as_str(), "checks", "start_within"], message);
        }
    }

    /// Keys of a manner that is not the declared one would do nothing; shares that do not grow would stand still.
    fn check_rule(&mut self, name: &Name, rule: &RolloutRule, value: &Json) {
        let mut say = |key: &str, message: String| {
            self.say(&["workload", name.as_str(), "rollout", key], message);
        };
        let written = |key: &str| value.get("rollout").is_some_and(|rollout| rollout.get(key).is_some());
        match (rule.style, rule.steps.is_empty()) {
            (Style::Stepped, true) => say(
                "style",
                format!(
                    "the stepped rollout of `{name}` needs `steps`, such as steps = [{{ share = 10, watch = \"2m\" }}]"
                ),
            ),
            (Style::Rolling | Style::Swap, false) => {
                say("steps", format!("`steps` of `{name}` belong to style = \"stepped\""));
            }
            _ => {}
        }
        if rule.style != Style::Swap && written("keep_old") {
            say("keep_old", format!("`keep_old` of `{name}` belongs to style = \"swap\""));
        }
        for (number, step) in rule.steps.iter().enumerate() {
            let place = format!("step {} of `{name}`", number + 1);
            if step.share.is_some() == step.count.is_some() {
                say("steps", format!("{place} needs either `share` or `count`"));
            }
            if step.watch.is_some() == step.then.is_some() {
                say("steps", format!("{place} needs either `watch` or `then = \"ask\"`"));
            }
        }
        for (number, pair) in rule.steps.windows(2).enumerate() {
            let falls =
                |now: Option<u32>, next: Option<u32>| now.zip(next).is_some_and(|(now, next)| next <= now);
            if falls(pair[0].share, pair[1].share) || falls(pair[0].count, pair[1].count) {
                let message = format!(
                    "step {} of `{name}` ({}) is not more than the previous one ({})",
                    number + 2,
                    pair[1],
                    pair[0]
                );
                say("steps", message);
            }
        }
    }
}

mod growth;
mod naming;
pub(crate) use naming::as_in_files;
mod open_secrets;
mod order;
mod route_rules;
mod ways;

#[cfg(test)]
mod tests;
