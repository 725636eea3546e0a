//! From what is declared to what changes: the difference between a declaration and the record, in words.
//!
//! A declaration is whole for each object it names and silent on all others; with `exact` it also removes what
//! its application no longer declares. The same declaration again changes nothing. What a person changed by
//! hand in between is named.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::difference::{differences, rule_differences, secret_differences};
use crate::manifest::{Declared, DeclaredRoute, DeclaredService, DeclaredWorkload};
use crate::model::{Name, Origin, Release, ReleaseNumber, Route, Service, Target, Workload};
use crate::near::did_you_mean;

/// What is recorded in the environment that is declared for, and the hosts taken elsewhere.
#[derive(Debug, Clone, Default)]
pub struct Present {
    /// Workloads, the release each one wants, and the number that a new one would get.
    pub workloads: BTreeMap<Name, (Workload, Release, ReleaseNumber)>,
    /// The newest version of each secret.
    pub secrets: BTreeMap<Name, u32>,
    /// Services.
    pub services: BTreeMap<Name, Service>,
    /// Routes.
    pub routes: BTreeMap<Name, Route>,
    /// Hosts of other environments' routes.
    pub foreign_hosts: BTreeMap<String, Target>,
}

/// What to do to one object.
#[derive(Debug, Clone, PartialEq)]
pub enum Step {
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
        /// Whether a new release is due.
        release: bool,
    },
    /// Make or change a service.
    Service(Name, DeclaredService),
    /// Make or change a route.
    Route(Name, DeclaredRoute),
    /// Remove an object.
    RemoveWorkload(Name),
    /// Remove an object.
    RemoveService(Name),
    /// Remove an object.
    RemoveRoute(Name),
}

/// A line about one change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangeLine {
    /// `add`, `change` or `remove`.
    pub kind: ChangeKind,
    /// Such as `workload locker-api`.
    pub object: String,
    /// What changes, in words.
    pub words: String,
    /// The release that it makes, of a workload.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<ReleaseNumber>,
}

/// What happens to an object.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeKind {
    /// It is new.
    Add,
    /// It is there and changes.
    Change,
    /// It goes.
    Remove,
}

/// What a declaration does.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Plan {
    /// What to do, in this order.
    pub steps: Vec<Step>,
    /// The same in words.
    pub lines: Vec<ChangeLine>,
}

/// Why a declaration cannot be taken over what is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Conflict {
    /// The object that is declared, such as `route api`.
    pub object: String,
    /// What stands in its way.
    pub message: String,
}

/// Works out what changes.
///
/// # Errors
/// Every conflict with what others declared.
pub fn plan(declared: &Declared, present: &Present, exact: bool) -> Result<Plan, Vec<Conflict>> {
    let conflicts = conflicts(declared, present);
    if !conflicts.is_empty() {
        return Err(conflicts);
    }
    let mut plan = Plan::default();
    for (name, workload) in &declared.workloads {
        plan_workload(&mut plan, name, workload, present.workloads.get(name), &present.secrets);
    }
    for (name, service) in &declared.services {
        let words = format!("{} → {}", ports(service), selector(&service.select));
        let before = present.services.get(name);
        let same =
            before.is_some_and(|before| before.select == service.select && before.ports == service.ports);
        if !same {
            plan.line(before.is_some(), format!("service {name}"), words);
            plan.steps.push(Step::Service(name.clone(), service.clone()));
        }
    }
    for (name, route) in &declared.routes {
        let words = format!("{} → {}", route.host, shares(&route.to));
        let before = present.routes.get(name);
        if !before.is_some_and(|before| before.host == route.host && before.to == route.to) {
            plan.line(before.is_some(), format!("route {name}"), words);
            plan.steps.push(Step::Route(name.clone(), route.clone()));
        }
    }
    if exact {
        plan_removals(&mut plan, declared, present);
    }
    Ok(plan)
}

impl Plan {
    fn line(&mut self, exists: bool, object: String, words: String) {
        let kind = if exists { ChangeKind::Change } else { ChangeKind::Add };
        self.lines.push(ChangeLine { kind, object, words, release: None });
    }
}

fn plan_workload(
    plan: &mut Plan,
    name: &Name,
    declared: &DeclaredWorkload,
    before: Option<&(Workload, Release, ReleaseNumber)>,
    secrets: &BTreeMap<Name, u32>,
) {
    let object = format!("workload {name}");
    let Some((workload, release, next)) = before else {
        let count = declared.replicas.unwrap_or(1);
        plan.line(false, object, format!("{count} × {}", declared.spec.image));
        let declared = Box::new(declared.clone());
        plan.steps.push(Step::Workload {
            name: name.clone(),
            declared,
            new: true,
            replicas: Some(count),
            release: true,
        });
        return;
    };
    let mut differing = differences(&release.spec, &declared.spec);
    let mut newest = secrets.clone();
    newest.retain(|name, _| {
        declared.spec.secret_uses().any(|used| used.secret == *name && used.version.is_none())
    });
    differing.extend(secret_differences(&release.secrets, &newest));
    let mut words: Vec<String> = differing.iter().map(ToString::to_string).collect();
    let new_release = !words.is_empty();
    if new_release {
        let by_hand = by_hand(&release.origin);
        words.push(format!("makes release {next}{by_hand}"));
    }
    let replicas = declared.replicas.filter(|count| *count != workload.wanted);
    if let Some(count) = replicas {
        let by_hand = by_hand(&workload.wanted_origin);
        words.push(format!("replicas {} → {count}{by_hand}", workload.wanted));
    }
    words.extend(rule_differences(&workload.rule, &declared.rule).iter().map(ToString::to_string));
    if !words.is_empty() {
        let made = new_release.then_some(*next);
        let (kind, words) = (ChangeKind::Change, words.join(", "));
        plan.lines.push(ChangeLine { kind, object, words, release: made });
        let declared = Box::new(declared.clone());
        plan.steps.push(Step::Workload {
            name: name.clone(),
            declared,
            new: false,
            replicas,
            release: new_release,
        });
    }
}

/// " (scaled by mira 14:02 UTC)" where a person, not a declaration, set the value that is replaced.
fn by_hand(origin: &Origin) -> String {
    if origin.act == "declared" { String::new() } else { format!(" ({origin})") }
}

fn plan_removals(plan: &mut Plan, declared: &Declared, present: &Present) {
    let mine = |application: &Name| *application == declared.application;
    let removed =
        |object: String, words: String| ChangeLine { kind: ChangeKind::Remove, object, words, release: None };
    let gone = present
        .routes
        .iter()
        .filter(|(name, r)| mine(&r.application) && !declared.routes.contains_key(*name));
    for (name, route) in gone {
        plan.lines.push(removed(format!("route {name}"), format!("{} no longer leads anywhere", route.host)));
        plan.steps.push(Step::RemoveRoute(name.clone()));
    }
    let gone = present
        .services
        .iter()
        .filter(|(name, s)| mine(&s.application) && !declared.services.contains_key(*name));
    for (name, _) in gone {
        plan.lines.push(removed(format!("service {name}"), "its name no longer answers".to_owned()));
        plan.steps.push(Step::RemoveService(name.clone()));
    }
    let gone = present
        .workloads
        .iter()
        .filter(|(name, (w, ..))| mine(&w.application) && !declared.workloads.contains_key(*name));
    for (name, (workload, ..)) in gone {
        plan.lines.push(removed(format!("workload {name}"), format!("{} replicas end", workload.wanted)));
        plan.steps.push(Step::RemoveWorkload(name.clone()));
    }
}

fn conflicts(declared: &Declared, present: &Present) -> Vec<Conflict> {
    let mut list = Vec::new();
    let mut owned = |kind: &str, name: &Name, application: Option<&Name>| {
        if let Some(other) = application.filter(|other| **other != declared.application) {
            let message =
                format!("it belongs to the application {other}; declare it there, or remove it first");
            list.push(Conflict { object: format!("{kind} {name}"), message });
        }
    };
    for name in declared.workloads.keys() {
        owned("workload", name, present.workloads.get(name).map(|(workload, ..)| &workload.application));
    }
    for name in declared.services.keys() {
        owned("service", name, present.services.get(name).map(|service| &service.application));
    }
    for name in declared.routes.keys() {
        owned("route", name, present.routes.get(name).map(|route| &route.application));
    }
    for (name, route) in &declared.routes {
        let here =
            present.routes.values().find(|other| other.host == route.host && other.target.name != *name);
        let here = here.filter(|other| !declared.routes.contains_key(&other.target.name));
        let holder = here.map(|other| &other.target).or(present.foreign_hosts.get(&route.host));
        if let Some(holder) = holder {
            let message = format!("the host {} is taken by route {holder}", route.host);
            list.push(Conflict { object: format!("route {name}"), message });
        }
        for (service, _) in &route.to {
            if !declared.services.contains_key(service) && !present.services.contains_key(service) {
                let known = present.services.keys().map(Name::as_str);
                let message =
                    format!("there is no service {service}{}", did_you_mean(service.as_str(), known));
                list.push(Conflict { object: format!("route {name}"), message });
            }
        }
    }
    list
}

fn ports(service: &DeclaredService) -> String {
    service.ports.iter().map(|(port, name)| format!("{port} ({name})")).collect::<Vec<_>>().join(", ")
}

fn selector(select: &BTreeMap<String, String>) -> String {
    select.iter().map(|(key, value)| format!("{key} = {value}")).collect::<Vec<_>>().join(", ")
}

fn shares(to: &[(Name, u32)]) -> String {
    match to {
        [(service, _)] => service.to_string(),
        many => {
            many.iter().map(|(service, share)| format!("{service} {share}")).collect::<Vec<_>>().join(", ")
        }
    }
}
