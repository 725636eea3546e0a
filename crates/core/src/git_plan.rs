//! Following Git: in which order what a commit declares is done, and what waits for a person.
//!
//! Prerequisites come first: workloads that others come after, by how far they lie from those that come after
//! nothing; then the rest; then routes; and last what is removed. Each stage is steady before the next begins.

use std::collections::{BTreeMap, BTreeSet};

use crate::declare::{ChangeKind, ChangeLine, Conflict, Plan, PlanStep, Present, in_full, plan};
use crate::manifest::Declared;
use crate::model::{FollowRule, GoneFromGit, Name, Touched};

/// The plan of a commit, in one environment.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Ahead {
    /// The actions, in the order of their stages.
    pub stages: Vec<Vec<(ChangeLine, PlanStep)>>,
    /// Removals that wait for a person's consent.
    pub asks: Vec<ChangeLine>,
    /// Objects that stay although Git no longer declares them.
    pub kept: Vec<ChangeLine>,
}

impl Ahead {
    /// Everything that is to be done, in words.
    pub fn lines(&self) -> impl Iterator<Item = &ChangeLine> {
        self.stages.iter().flatten().map(|(line, _)| line)
    }
}

/// Works out what a declaration comes to. `remove` says that a person agreed to removals.
///
/// # Errors
/// Every conflict with what others declared.
pub fn ahead(
    declared: &Declared,
    present: &Present,
    rule: &FollowRule,
    remove: bool,
) -> Result<Ahead, Vec<Conflict>> {
    let Plan { steps, lines, .. } = plan(declared, present, true)?;
    let (removals, rest): (Vec<_>, Vec<_>) = lines
        .into_iter()
        .zip(steps)
        .partition(|(line, step)| line.kind == ChangeKind::Remove && !is_replaced(step, declared, present));
    let mut ahead = Ahead::default();
    let order = Order::of(declared);
    let mut stages: BTreeMap<usize, Vec<(ChangeLine, PlanStep)>> = BTreeMap::new();
    for (line, step) in rest {
        stages.entry(order.stage(&step)).or_default().push((line, step));
    }
    let lines = |list: Vec<(ChangeLine, PlanStep)>| list.into_iter().map(|(line, _)| line).collect();
    match rule.gone_from_git {
        _ if removals.is_empty() => {}
        GoneFromGit::Keep => ahead.kept = lines(removals),
        GoneFromGit::Remove if remove || !removes_much(declared, removals.len(), rule) => {
            stages.insert(usize::MAX, removals);
        }
        GoneFromGit::Ask if remove => drop(stages.insert(usize::MAX, removals)),
        GoneFromGit::Ask | GoneFromGit::Remove => ahead.asks = lines(removals),
    }
    ahead.stages = stages.into_values().collect();
    Ok(ahead)
}

/// Whether a removal only makes room: the declaration has a route of another name for the same requests.
fn is_replaced(step: &PlanStep, declared: &Declared, present: &Present) -> bool {
    let PlanStep::RemoveRoute(name) = step else { return false };
    let Some(gone) = present.routes.get(name) else { return false };
    declared.routes.iter().any(|(name, route)| in_full(name, route, present).clashes(&gone.spec))
}

/// Whether so many removals are more of all that was declared than the rule lets pass by itself.
fn removes_much(declared: &Declared, removals: usize, rule: &FollowRule) -> bool {
    let ways = declared.services.len() + declared.routes.len();
    let stay = declared.workloads.len() + declared.secrets.len() + ways;
    removals * 100 > (stay + removals) * rule.remove_at_most as usize
}

/// Which stage a workload is in.
struct Order {
    stages: BTreeMap<Name, usize>,
    rest: usize,
}

impl Order {
    fn of(declared: &Declared) -> Order {
        let mut stages: BTreeMap<Name, usize> = BTreeMap::new();
        for name in declared.workloads.keys() {
            depth(declared, name, &mut stages);
        }
        let named: BTreeSet<&Name> = declared.workloads.values().flat_map(|it| &it.after).collect();
        let rest = named.iter().filter_map(|name| stages.get(*name)).max().map_or(0, |deepest| deepest + 1);
        for (name, stage) in &mut stages {
            if !named.contains(name) {
                *stage = rest.max(*stage);
            }
        }
        Order { stages, rest }
    }

    fn stage(&self, step: &PlanStep) -> usize {
        match step {
            PlanStep::Workload { name, .. } => self.stages.get(name).copied().unwrap_or(self.rest),
            // Names must be found by what calls them when it starts, and so must secrets.
            PlanStep::Secret(..) | PlanStep::Service(..) => 0,
            _ => usize::MAX - 1,
        }
    }
}

/// How many workloads lie before this one at most. The declaration was checked: none comes after itself.
fn depth(declared: &Declared, name: &Name, known: &mut BTreeMap<Name, usize>) -> usize {
    if let Some(depth) = known.get(name) {
        return *depth;
    }
    let before: Vec<Name> =
        declared.workloads.get(name).map(|it| it.after.iter().cloned().collect()).unwrap_or_default();
    let deepest = before.iter().map(|before| depth(declared, before, known) + 1).max().unwrap_or(0);
    known.insert(name.clone(), deepest);
    deepest
}

/// The object that a step changes, as a source would leave it alone.
pub fn touched_by(step: &PlanStep) -> Vec<Touched> {
    match step {
        PlanStep::Workload { name, release, replicas, .. } => {
            let release = release.then(|| Touched::Release(name.clone()));
            release.into_iter().chain(replicas.map(|_| Touched::Replicas(name.clone()))).collect()
        }
        PlanStep::Secret(name, ..) | PlanStep::RemoveSecret(name) => vec![Touched::Secret(name.clone())],
        PlanStep::Service(name, _) | PlanStep::RemoveService(name) => vec![Touched::Service(name.clone())],
        PlanStep::Route(name, _) | PlanStep::RemoveRoute(name) => vec![Touched::Route(name.clone())],
        PlanStep::RemoveWorkload(name) => vec![Touched::Workload(name.clone())],
    }
}

pub mod comparison;
pub mod write_back;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::manifest::{SourceFile, read};

    fn declared(text: &str) -> Declared {
        let text = format!("application = \"lockers\"\n{text}");
        read(&[SourceFile { name: "mainyard.toml".into(), text }], None).expect("valid")
    }

    fn told(text: &str) -> Vec<Vec<String>> {
        let ahead = ahead(&declared(text), &Present::default(), &FollowRule::default(), false);
        let stages = ahead.expect("no conflict").stages;
        stages.iter().map(|stage| stage.iter().map(|(line, _)| line.object.clone()).collect()).collect()
    }

    #[test]
    fn what_others_come_after_comes_first_then_the_rest_then_routes() {
        let text = r#"
            [workload.api]
            image = "lockers/api:1"
            ports = { http = 80 }
            after = ["db", "queue"]
            [workload.queue]
            image = "lockers/queue:1"
            after = ["db"]
            [workload.db]
            image = "lockers/db:1"
            [workload.printer]
            image = "lockers/printer:1"
            [route.api]
            host = "api.test"
            to = [{ service = "api" }]"#;
        assert_eq!(
            told(text),
            [
                vec!["workload db", "service api"],
                vec!["workload queue"],
                vec!["workload api", "workload printer"],
                vec!["route api"],
            ]
        );
    }

    #[test]
    fn without_an_order_workloads_change_in_one_stage() {
        let text = "[workload.a]\nimage = \"l/a:1\"\n[workload.b]\nimage = \"l/b:1\"";
        assert_eq!(told(text), [vec!["workload a", "workload b"]]);
    }

    #[test]
    fn circular_dependencies_are_refused_with_the_circle() {
        let text = "application = \"lockers\"\n[workload.a]\nimage = \"l/a:1\"\nafter = [\"b\"]\n[workload.b]\nimage = \"l/b:1\"\nafter = [\"a\"]\n[workload.c]\nimage = \"l/c:1\"\nafter = [\"bb\"]\n";
        let file = SourceFile { name: "mainyard.toml".into(), text: text.into() };
        let problems = read(&[file], None).expect_err("not valid");
        let told: Vec<String> = problems.iter().map(ToString::to_string).collect();
        assert_eq!(
            told,
            [
                "mainyard.toml:4:9: each waits for the next: `a` after `b` after `a`",
                "mainyard.toml:10:9: `c` comes after `bb`, which is not declared; did you mean `b`?",
            ]
        );
    }
}
