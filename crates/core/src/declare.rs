//! From what is declared to what changes: the difference between a declaration and the record, in words.
//!
//! A declaration is whole for each object it names and silent on all others; with `exact` it also removes what
//! its application no longer declares. The same declaration again changes nothing. What a person changed by
//! hand in between is named.

mod conflicts;

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cluster::ends;
use crate::difference::{differences, rule_differences, secret_differences, written_differences};
use crate::manifest::{Declared, DeclaredSecret, DeclaredWorkload};
use crate::model::{
    Growth, Leg, Name, Origin, Release, ReleaseNumber, Route, RouteSpec, Service, ServiceSpec, Touched,
    Workload, encrypted,
};
pub use crate::routing::selector;
use conflicts::conflicts;

/// The environment that is declared for, as recorded, and the hosts taken elsewhere.
#[derive(Debug, Clone, Default)]
pub struct Present {
    /// The digest that each image's name stands for.
    pub images: BTreeMap<String, String>,
    /// Workloads, the release each one wants, and the number that a new one would get.
    pub workloads: BTreeMap<Name, (Workload, Release, ReleaseNumber)>,
    /// The newest version of each secret.
    pub secrets: BTreeMap<Name, u32>,
    /// The last version of secrets that are gone.
    pub spent_versions: BTreeMap<Name, u32>,
    /// How the newest version of each secret is kept.
    pub sealed: BTreeMap<Name, String>,
    /// Secrets that were declared.
    pub declared_secrets: BTreeMap<Name, PresentSecret>,
    /// The environment's own name.
    pub environment: Option<Name>,
    /// Services.
    pub services: BTreeMap<Name, Service>,
    /// Routes.
    pub routes: BTreeMap<Name, Route>,
    /// Other environments' routes.
    pub foreign_routes: Vec<Route>,
    /// Certificates, with the names that they cover.
    pub certificates: BTreeMap<Name, Vec<String>>,
    /// All environments.
    pub environments: BTreeSet<Name>,
    /// The domain of hosts that are not named in full.
    pub domain: String,
    /// Objects that must not be changed, whatever is declared of them.
    pub left_alone: BTreeSet<Touched>,
    /// Hosts that are the platform's own.
    pub reserved_hosts: BTreeSet<String>,
    /// Ports that the platform itself listens on, and what for.
    pub reserved_ports: BTreeMap<u16, String>,
}

/// A secret that an application declared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PresentSecret {
    /// Which one.
    pub application: Name,
    /// Workloads that have it now: by the release they want, or in any replica.
    pub users: BTreeSet<Name>,
    /// Every release that has it, such as `locker-api@3`.
    pub releases: Vec<String>,
}

impl Present {
    fn leaves(&self, what: Touched) -> bool {
        self.left_alone.contains(&what)
    }
}

/// The action for one object.
#[derive(Debug, Clone, PartialEq)]
pub enum PlanStep {
    /// Make or change a workload. `replicas` is set where it changes; `spec` where a new release is due.
    Workload {
        /// Its name.
        name: Name,
        /// As declared.
        declared: Box<DeclaredWorkload>,
        /// Whether it is not there yet.
        new: bool,
        /// The number to set.
        replicas: Option<u32>,
        /// Whether it takes the rule by which its number follows the load, or none.
        growth: bool,
        /// Whether a new release is due.
        release: bool,
    },
    /// Make a secret, or a new version of one. Workloads that are not of this declaration follow it too.
    Secret(Name, DeclaredSecret, BTreeSet<Name>),
    /// Make or change a service.
    Service(Name, ServiceSpec),
    /// Make or change a route.
    Route(Name, Box<RouteSpec>),
    /// Remove an object.
    RemoveWorkload(Name),
    /// Remove an object.
    RemoveService(Name),
    /// Remove an object.
    RemoveRoute(Name),
    /// Remove an object.
    RemoveSecret(Name),
}

/// A line about one change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChangeLine {
    /// `add`, `change` or `remove`.
    pub kind: ChangeKind,
    /// Such as `workload locker-api`.
    pub object: String,
    /// The changes, in words.
    pub words: String,
    /// The workload that it is about, where it is about one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub workload: Option<Name>,
    /// The release that it makes, of a workload.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<ReleaseNumber>,
}

impl std::fmt::Display for ChangeLine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.object, self.words)
    }
}

/// The kind of action for an object.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeKind {
    /// It is new.
    Add,
    /// It is there and changes.
    Change,
    /// It goes.
    Remove,
}

/// The effects of a declaration.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Plan {
    /// The actions, in this order.
    pub steps: Vec<PlanStep>,
    /// The same in words.
    pub lines: Vec<ChangeLine>,
    /// Notes about objects that are as declared already.
    pub notes: Vec<String>,
}

/// Why a declaration cannot be taken over what is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Conflict {
    /// The object that is declared, such as `route api`.
    pub object: String,
    /// The conflicts.
    pub message: String,
}

/// Works out what changes.
///
/// # Errors
/// Every conflict with what others declared.
pub fn plan(declared: &Declared, present: &Present, exact: bool) -> Result<Plan, Vec<Conflict>> {
    let routes: BTreeMap<Name, RouteSpec> =
        declared.routes.iter().map(|(name, route)| (name.clone(), in_full(name, route, present))).collect();
    let conflicts = conflicts(declared, &routes, present, exact);
    if !conflicts.is_empty() {
        return Err(conflicts);
    }
    let mut plan = Plan::default();
    let mut newest = present.secrets.clone();
    for (name, secret) in &declared.secrets {
        let value = present.environment.as_ref().map(|environment| encrypted(environment, &secret.age));
        if present.sealed.get(name) == value.as_ref() || present.leaves(Touched::Secret(name.clone())) {
            continue;
        }
        let there = newest.get(name).copied();
        let spent = present.spent_versions.get(name).copied();
        let version = there.max(spent).map_or(1, |last| last + 1);
        newest.insert(name.clone(), version);
        plan.line(
            there.is_some(),
            format!("secret {name}"),
            format!("version {version}, as it is encrypted there"),
        );
        let own = declared.workloads.keys().cloned().collect();
        plan.steps.push(PlanStep::Secret(name.clone(), secret.clone(), own));
    }
    for (name, workload) in &declared.workloads {
        plan_workload(&mut plan, name, workload, present, newest.clone());
    }
    for (name, service) in &declared.services {
        let before = present.services.get(name);
        let same = before.is_some_and(|before| before.spec == *service && !before.leaves);
        if same || present.leaves(Touched::Service(name.clone())) {
            continue;
        }
        let words = match before {
            Some(before) => told(&before.spec, service),
            None => format!("{} → {}", ports(service), selector(&service.select)),
        };
        plan.line(before.is_some(), format!("service {name}"), words);
        plan.steps.push(PlanStep::Service(name.clone(), service.clone()));
    }
    for (name, route) in routes {
        let before = present.routes.get(&name);
        let same = before.is_some_and(|before| before.spec == route);
        if same || present.leaves(Touched::Route(name.clone())) {
            continue;
        }
        let mut words = match before {
            Some(before) => told(&before.spec, &route),
            None => format!("{} → {}", route.at(), leads_to(&route)),
        };
        if !route.to.is_empty() && route.to.iter().all(|leg| leg.share == 0) {
            words.push_str("; every share is 0, so every request is refused");
        }
        plan.line(before.is_some(), format!("route {name}"), words);
        plan.steps.push(PlanStep::Route(name, Box::new(route)));
    }
    if exact {
        plan_removals(&mut plan, declared, present);
    }
    Ok(plan)
}

/// The route with its host, where the declaration leaves it to the environment.
pub(crate) fn in_full(name: &Name, route: &RouteSpec, present: &Present) -> RouteSpec {
    let host = match (&route.host, route.port) {
        (None, None) => Some(format!("{name}.{}", present.domain)),
        (host, _) => host.clone(),
    };
    RouteSpec { host, ..route.clone() }
}

fn told<T: Serialize>(before: &T, after: &T) -> String {
    let words: Vec<String> = written_differences("", before, after).iter().map(ToString::to_string).collect();
    words.join(", ")
}

impl Plan {
    fn line(&mut self, exists: bool, object: String, words: String) {
        let kind = if exists { ChangeKind::Change } else { ChangeKind::Add };
        self.lines.push(ChangeLine { kind, object, words, workload: None, release: None });
    }
}

fn plan_workload(
    plan: &mut Plan,
    name: &Name,
    declared: &DeclaredWorkload,
    present: &Present,
    mut newest: BTreeMap<Name, u32>,
) {
    let object = format!("workload {name}");
    if present.leaves(Touched::Workload(name.clone())) {
        return;
    }
    let Some((workload, release, next)) = present.workloads.get(name) else {
        let count =
            declared.growth.as_ref().map_or(declared.replicas.unwrap_or(1), |growth| growth.min.max(1));
        let grows =
            declared.growth.as_ref().map_or(String::new(), |growth| format!(", {}", follows_load(growth)));
        let (kind, words) = (ChangeKind::Add, format!("{count} × {}{grows}", declared.spec.image));
        plan.lines.push(ChangeLine { kind, object, words, workload: Some(name.clone()), release: None });
        let declared = Box::new(declared.clone());
        plan.steps.push(PlanStep::Workload {
            name: name.clone(),
            declared,
            new: true,
            replicas: Some(count),
            growth: true,
            release: true,
        });
        return;
    };
    let mut differing = differences(&release.spec, &declared.spec);
    newest.retain(|name, _| {
        declared.spec.secret_uses().any(|used| used.secret == *name && used.version.is_none())
    });
    differing.extend(secret_differences(&release.secrets, &newest));
    if present.leaves(Touched::Release(name.clone())) {
        differing.clear();
    }
    let mut words: Vec<String> = differing.iter().map(ToString::to_string).collect();
    let new_release = !words.is_empty();
    if !new_release {
        plan.notes.extend(moved_tag(release, present));
    }
    if new_release {
        let by_hand = by_hand(&release.origin);
        words.push(format!("makes release {next}{by_hand}"));
    }
    let replicas = declared.replicas.filter(|count| *count != workload.wanted);
    let replicas = replicas.filter(|_| !present.leaves(Touched::Replicas(name.clone())));
    if let Some(count) = replicas {
        let by_hand = by_hand(&workload.wanted_origin);
        words.push(format!("replicas {} → {count}{by_hand}", workload.wanted));
    }
    words.extend(growth_words(declared, workload, present));
    words.extend(rule_differences(&workload.rule, &declared.rule).iter().map(ToString::to_string));
    if workload.follow_tag != declared.follow_tag {
        words.push(match declared.follow_tag {
            Some(every) => format!("follows the tag of its image, looked at every {every}"),
            None => "follows the tag of its image no more".to_owned(),
        });
    }
    if workload.after != declared.after {
        words.push(format!("comes after {}", names(&declared.after)));
    }
    if workload.leaves {
        words.push("stays after all".to_owned());
    }
    if !words.is_empty() {
        let made = new_release.then_some(*next);
        let (kind, words) = (ChangeKind::Change, words.join(", "));
        plan.lines.push(ChangeLine { kind, object, words, workload: Some(name.clone()), release: made });
        let declared = Box::new(declared.clone());
        plan.steps.push(PlanStep::Workload {
            name: name.clone(),
            declared,
            new: false,
            replicas,
            growth: !present.leaves(Touched::Replicas(name.clone())),
            release: new_release,
        });
    }
}

fn follows_load(growth: &Growth) -> String {
    format!("{} to {} as the load needs", growth.min, growth.max)
}

/// How the number of replicas follows the load from now on, where that changes.
fn growth_words(declared: &DeclaredWorkload, workload: &Workload, present: &Present) -> Option<String> {
    let name = &workload.target.name;
    let known = workload.growing.as_ref();
    let is_same = known.map(|growing| &growing.rule) == declared.growth.as_ref();
    let by_hand = known.and_then(|growing| growing.by_hand.as_ref());
    if present.leaves(Touched::Replicas(name.clone())) || is_same && by_hand.is_none() {
        return None;
    }
    Some(match (&declared.growth, known) {
        (None, _) => "replicas follow the load no more".to_owned(),
        (Some(growth), _) if is_same => {
            let by_hand = by_hand.map_or(String::new(), self::by_hand);
            format!("replicas follow the load again, {}{by_hand}", follows_load(growth))
        }
        (Some(growth), None) => format!("replicas {}", follows_load(growth)),
        (Some(growth), Some(before)) => {
            let differences = written_differences("replicas ", &before.rule, growth);
            differences.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        }
    })
}

/// That a tag stands for another image by now. Only a person moves the workload there: a tag is no declared change.
fn moved_tag(release: &Release, present: &Present) -> Option<String> {
    let (target, image) = (&release.workload, release.spec.image.to_string());
    let (digest, now) = (release.digest.as_ref()?, present.images.get(&image)?);
    (digest != now).then(|| {
        format!(
            "workload {}: the tag {image} names {} now, and it runs {}. To deploy it: mainyard deploy {target} \
             --image {image}",
            target.name,
            short(now),
            short(digest)
        )
    })
}

/// A digest, as long as a person needs it.
fn short(digest: &str) -> String {
    digest.chars().take(19).collect()
}

fn names(names: &BTreeSet<Name>) -> String {
    if names.is_empty() {
        return "nothing".to_owned();
    }
    names.iter().map(Name::as_str).collect::<Vec<_>>().join(", ")
}

/// " (scaled by mira 14:02 UTC)" where a person, not a declaration, set the value that is replaced.
fn by_hand(origin: &Origin) -> String {
    if origin.act == "declared" { String::new() } else { format!(" ({origin})") }
}

/// Secrets that this application declared, declares no longer, and that nothing has any more. One that a workload is just being
/// rolled away from stays until that is done, since the rollout may go back.
fn unused_secrets<'a>(
    declared: &Declared,
    present: &'a Present,
    plan: &Plan,
) -> Vec<(&'a Name, &'a PresentSecret)> {
    let mut used: BTreeSet<&Name> = BTreeSet::new();
    for workload in declared.workloads.values() {
        used.extend(workload.spec.secret_uses().map(|it| &it.secret));
    }
    used.extend(declared.routes.values().filter_map(|route| route.enter.secret()));
    let staying = present
        .routes
        .iter()
        .filter(|(name, _)| !plan.steps.contains(&PlanStep::RemoveRoute((*name).clone())));
    used.extend(staying.filter_map(|(_, route)| route.spec.enter.secret()));
    let gone = present.declared_secrets.iter().filter(|(name, secret)| {
        secret.application == declared.application
            && !declared.secrets.contains_key(*name)
            && !used.contains(name)
            && !present.leaves(Touched::Secret((*name).clone()))
            && secret.users.iter().all(|user| plan.steps.contains(&PlanStep::RemoveWorkload(user.clone())))
    });
    gone.collect()
}

fn plan_removals(plan: &mut Plan, declared: &Declared, present: &Present) {
    let mine = |application: &Name| *application == declared.application;
    let removed = |object: String, words: String| ChangeLine {
        kind: ChangeKind::Remove,
        object,
        words,
        workload: None,
        release: None,
    };
    let gone = present
        .routes
        .iter()
        .filter(|(name, r)| mine(&r.application) && !declared.routes.contains_key(*name))
        .filter(|(name, _)| !present.leaves(Touched::Route((*name).clone())));
    for (name, route) in gone {
        plan.lines
            .push(removed(format!("route {name}"), format!("{} no longer leads anywhere", route.spec.at())));
        plan.steps.push(PlanStep::RemoveRoute(name.clone()));
    }
    let gone = present
        .services
        .iter()
        .filter(|(name, s)| mine(&s.application) && !s.leaves && !declared.services.contains_key(*name))
        .filter(|(name, _)| !present.leaves(Touched::Service((*name).clone())));
    for (name, _) in gone {
        plan.lines.push(removed(format!("service {name}"), "its name no longer answers".to_owned()));
        plan.steps.push(PlanStep::RemoveService(name.clone()));
    }
    let gone = present
        .workloads
        .iter()
        .filter(|(name, (w, ..))| {
            mine(&w.application) && !w.leaves && !declared.workloads.contains_key(*name)
        })
        .filter(|(name, _)| {
            let of: [fn(Name) -> Touched; 3] = [Touched::Workload, Touched::Release, Touched::Replicas];
            !of.iter().any(|what| present.leaves(what((*name).clone())))
        });
    for (name, (workload, ..)) in gone {
        let comes = plan.steps.iter().any(|step| matches!(step, PlanStep::Workload { new: true, .. }));
        let when = if comes { "; where another takes its place, once that answers" } else { "" };
        let words = format!("{}{when}", ends(workload));
        plan.lines
            .push(ChangeLine { workload: Some(name.clone()), ..removed(format!("workload {name}"), words) });
        plan.steps.push(PlanStep::RemoveWorkload(name.clone()));
    }
    for (name, secret) in unused_secrets(declared, present, plan) {
        let words = match secret.releases.as_slice() {
            [] => "nothing uses it".to_owned(),
            releases => format!("{} can't be rolled back to without it", releases.join(", ")),
        };
        plan.lines.push(removed(format!("secret {name}"), words));
        plan.steps.push(PlanStep::RemoveSecret(name.clone()));
    }
}

fn ports(service: &ServiceSpec) -> String {
    service.ports.iter().map(|(number, port)| format!("{number} ({port})")).collect::<Vec<_>>().join(", ")
}

/// The target of a route, in words.
pub fn leads_to(route: &RouteSpec) -> String {
    let leg = |leg: &Leg| match leg.port {
        Some(port) => format!("{}:{port}", leg.service),
        None => leg.service.to_string(),
    };
    match (&route.redirect, route.to.as_slice()) {
        (Some(redirect), _) => format!("sent to {}", redirect.to),
        (None, [only]) if only.share > 0 => leg(only),
        (None, many) => {
            many.iter().map(|it| format!("{} {}", leg(it), it.share)).collect::<Vec<_>>().join(", ")
        }
    }
}
