//! An application under another name: everything in it has a name that begins with it, so that the same files can be
//! declared several times in one environment.

use std::collections::{BTreeMap, BTreeSet};

use super::{Declared, Reader};
use crate::model::{Name, RouteSpec, ServiceSpec};

/// The name of an application's object if it differs: the application's own name gives way to it, and
/// everywhere else it stands in front.
fn renamed(own: &Name, application: &Name, named: &Name) -> String {
    let rest = match own.as_str().strip_prefix(application.as_str()) {
        Some("") => return named.to_string(),
        Some(rest) if rest.starts_with('-') => &rest[1..],
        _ => own.as_str(),
    };
    format!("{named}-{rest}")
}

impl Reader<'_> {
    /// Gives the application and all that is in it another name.
    pub(super) fn rename(&mut self, declared: &mut Declared, named: &Name) {
        let own: Vec<(&'static str, Name)> = (declared.secrets.keys().map(|name| ("secret", name.clone())))
            .chain(declared.workloads.keys().map(|name| ("workload", name.clone())))
            .chain(declared.services.keys().map(|name| ("service", name.clone())))
            .chain(declared.routes.keys().map(|name| ("route", name.clone())))
            .collect();
        let mut names: BTreeMap<Name, Name> = BTreeMap::new();
        let mut told = BTreeSet::new();
        for (kind, name) in own {
            let text = renamed(&name, &declared.application, named);
            match text.parse() {
                Ok(new) => drop(names.insert(name, new)),
                Err(error) => {
                    let error: crate::model::NameError = error;
                    let (given, expected) = (error.given, error.expected);
                    let message =
                        format!("as `{named}`, `{name}` would be called `{given}`; expected {expected}");
                    if told.insert(name.clone()) {
                        self.say(&[kind, name.as_str()], message);
                    }
                }
            }
        }
        let mut taken: BTreeMap<&Name, &Name> = BTreeMap::new();
        for (name, new) in &names {
            if let Some(other) = taken.insert(new, name) {
                let message = format!("as `{named}`, `{name}` and `{other}` are both called `{new}`");
                self.say(&["workload", name.as_str()], message);
            }
        }
        let names = Names(names);
        declared.workloads = names.keys(&declared.workloads);
        for workload in declared.workloads.values_mut() {
            workload.after = workload.after.iter().map(|name| names.of(name)).collect();
            names.secrets_of(&mut workload.spec);
            // A service of this name must not take in the replicas of another.
            workload.spec.labels.insert(OWN.to_owned(), named.to_string());
        }
        declared.secrets = names.keys(&declared.secrets);
        declared.services = names.keys(&declared.services);
        declared.services.values_mut().for_each(|service| names.service(service, named));
        declared.routes = names.keys(&declared.routes);
        declared.routes.values_mut().for_each(|route| names.route(route));
        declared.called = names.0.into_iter().map(|(own, new)| (new, own)).collect();
        declared.application = named.clone();
    }
}

/// The label that tells the replicas of one name from those of another.
const OWN: &str = "application";

/// Names, and what each of them becomes.
struct Names(BTreeMap<Name, Name>);

impl Names {
    fn of(&self, name: &Name) -> Name {
        self.0.get(name).unwrap_or(name).clone()
    }

    fn keys<T: Clone>(&self, map: &BTreeMap<Name, T>) -> BTreeMap<Name, T> {
        map.iter().map(|(name, it)| (self.of(name), it.clone())).collect()
    }

    fn secrets_of(&self, spec: &mut crate::model::ReleaseSpec) {
        for setting in spec.settings.values_mut() {
            if let crate::model::Setting::Secret(used) = setting {
                used.secret = self.of(&used.secret);
            }
        }
        for used in spec.files.values_mut() {
            used.secret = self.of(&used.secret);
        }
    }

    fn service(&self, service: &mut ServiceSpec, named: &Name) {
        let workload = service.select.get("workload").and_then(|name| name.parse::<Name>().ok());
        match workload {
            Some(name) => drop(service.select.insert("workload".to_owned(), self.of(&name).to_string())),
            None => drop(service.select.insert(OWN.to_owned(), named.to_string())),
        }
    }

    fn route(&self, route: &mut RouteSpec) {
        for leg in &mut route.to {
            leg.service = self.of(&leg.service);
        }
    }
}

/// The specification of a workload, a service or a route as the files have it, where they call things otherwise.
pub(crate) fn as_in_files(declared: &Declared, mut body: serde_json::Value) -> serde_json::Value {
    if declared.called.is_empty() {
        return body;
    }
    fn walk(value: &mut serde_json::Value, key: &str, called: &BTreeMap<Name, Name>) {
        match value {
            serde_json::Value::String(text) if matches!(key, "workload" | "service" | "secret" | "after") => {
                if let Some(own) = text.parse::<Name>().ok().and_then(|name| called.get(&name)) {
                    *text = own.to_string();
                }
            }
            serde_json::Value::Array(list) => list.iter_mut().for_each(|it| walk(it, key, called)),
            serde_json::Value::Object(keys) => {
                if matches!(key, "labels" | "select") {
                    keys.remove(OWN);
                }
                keys.iter_mut().for_each(|(key, it)| walk(it, key, called));
            }
            _ => {}
        }
    }
    walk(&mut body, "", &declared.called);
    body
}

#[cfg(test)]
mod tests {
    use super::super::read_as;
    use super::*;
    use crate::manifest::SourceFile;

    const FILE: &str = r#"
application = "kiosk"
[workload.kiosk]
image = "lockers/courier-web:2.3.0"
ports = { http = 8080 }
settings = { API = "http://${application}-api", WHERE = "${environment}" }
after = ["kiosk-api"]
[workload.kiosk-api]
image = "lockers/locker-api:1.4.0"
ports = { http = 8080 }
labels = { tier = "api" }
[service.any]
select = { tier = "api" }
ports = { 80 = "http" }
[route.kiosk]
host = "${application}.lockers.localhost"
to = [{ service = "kiosk" }, { service = "any", share = 0 }]
"#;

    fn named(name: &str) -> Result<Declared, Vec<crate::manifest::Problem>> {
        let file = SourceFile { name: "mainyard.toml".into(), text: FILE.into() };
        read_as(&[file], Some(&"staging".parse().expect("a name")), Some(&name.parse().expect("a name")))
    }

    #[test]
    fn an_applications_other_name_is_used_throughout() {
        let declared = named("north").expect("valid");
        let names = |list: Vec<&Name>| list.into_iter().map(Name::to_string).collect::<Vec<_>>().join(" ");
        assert_eq!(declared.application.as_str(), "north");
        assert_eq!(names(declared.workloads.keys().collect()), "north north-api");
        assert_eq!(names(declared.services.keys().collect()), "north north-any north-api");
        let kiosk = &declared.workloads[&"north".parse::<Name>().expect("a name")];
        assert_eq!(names(kiosk.after.iter().collect()), "north-api");
        let settings = serde_json::to_value(&kiosk.spec.settings).expect("JSON");
        assert_eq!(settings, serde_json::json!({"API": "http://north-api", "WHERE": "staging"}));
        let any = &declared.services[&"north-any".parse::<Name>().expect("a name")];
        assert_eq!(crate::declare::selector(&any.select), "application = north, tier = api");
        let route = &declared.routes[&"north".parse::<Name>().expect("a name")];
        assert_eq!(route.host.as_deref(), Some("north.lockers.localhost"));
        assert_eq!(crate::declare::leads_to(route), "north 100, north-any 0");
        let back = as_in_files(&declared, serde_json::to_value(route).expect("JSON"));
        assert_eq!(back["to"][1]["service"], "any");
    }

    #[test]
    fn a_name_that_is_too_long_is_refused_with_its_place() {
        let problems = named("a-name-that-is-almost-as-long-as-can-be").err().unwrap_or_default();
        let told: Vec<String> = problems.iter().map(ToString::to_string).collect();
        insta::assert_snapshot!(told.join("\n"));
    }
}
