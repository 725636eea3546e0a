//! How the board and a workload look in a terminal.

use comfy_table::{Attribute, Cell, Color, ContentArrangement, Table, presets};
use jiff::Timestamp;
use mainyard_core::cluster::State;
use mainyard_core::model::{
    Name, Origin, Release, Replica, ReplicaState, RolloutState, Signal, Target, Workload,
};
use mainyard_core::routing::{replicas_of, selects};
use serde_json::{Value, json};

use crate::client::Snapshot;
use crate::words::{Paint, age, colours, count, shape};

/// A table without lines, wide enough for what it holds.
pub fn table(headings: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    if colours() {
        table.enforce_styling();
    } else {
        table.force_no_tty();
    }
    table.set_header(headings.iter().map(|text| Cell::new(text).add_attribute(Attribute::Bold)));
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    table
}

/// Prints a table without the blanks at the ends of its lines, which would wrap in a narrow terminal.
pub fn print(table: &Table) {
    table.lines().for_each(|line| println!("{}", line.trim_end()));
}

/// At most this many characters, the last one an ellipsis where some are missing.
fn clipped(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        text.to_owned()
    } else {
        text.chars().take(most - 1).chain(['…']).collect()
    }
}

fn coloured(text: String, signal: Signal) -> Cell {
    Cell::new(text).fg(match signal {
        Signal::Good => Color::DarkGreen,
        Signal::Moving => Color::Blue,
        Signal::Caution => Color::DarkYellow,
        Signal::Fault => Color::DarkRed,
        Signal::Rest => Color::DarkGrey,
    })
}

/// The time of day; with the day, where it is another one.
pub fn moment(at: Timestamp) -> String {
    let zone = jiff::tz::TimeZone::system();
    let (then, now) = (at.to_zoned(zone.clone()), Timestamp::now().to_zoned(zone));
    if then.date() == now.date() {
        then.strftime("%H:%M").to_string()
    } else {
        then.strftime("%-d %b %H:%M").to_string()
    }
}

fn change(origin: &Origin) -> String {
    format!("{} {} by {}", moment(origin.at), origin.act, origin.by)
}

fn ready(state: &State, target: &Target) -> usize {
    replicas_of(&state.replicas, target).filter(|replica| replica.state == ReplicaState::Ready).count()
}

fn current<'a>(state: &'a State, workload: &Workload) -> Option<&'a Release> {
    state.releases.get(&(workload.target.clone(), workload.release))
}

/// Services that select the workload.
fn services_of<'a>(
    state: &'a State,
    workload: &'a Workload,
) -> impl Iterator<Item = &'a mainyard_core::model::Service> {
    let labels = current(state, workload).map(|release| release.spec.labels.clone()).unwrap_or_default();
    state.services.values().filter(move |service| {
        service.target.environment == workload.target.environment
            && selects(&service.select, &workload.target.name, &labels)
    })
}

/// Hosts that lead to the workload.
fn hosts_of(state: &State, workload: &Workload) -> Vec<String> {
    let services: Vec<&Name> = services_of(state, workload).map(|service| &service.target.name).collect();
    let routes =
        state.routes.values().filter(|route| route.target.environment == workload.target.environment);
    routes
        .filter(|route| route.to.iter().any(|(name, _)| services.contains(&name)))
        .map(|route| route.host.clone())
        .collect()
}

fn rate_of(snapshot: &Snapshot, target: &Target) -> f64 {
    let own = target.to_string();
    snapshot.figures.iter().filter(|figure| figure.workload == own).map(|figure| figure.rate).sum()
}

fn is_bad(workload: &Workload) -> bool {
    matches!(workload.state.signal(), Signal::Fault | Signal::Caution)
}

/// One environment's board.
pub fn board(snapshot: &Snapshot, environment: &Name) {
    let state = &snapshot.state;
    let paint = Paint::stdout();
    let here: Vec<&Workload> =
        state.workloads.values().filter(|workload| workload.target.environment == *environment).collect();
    let bad: Vec<&&Workload> = here.iter().filter(|workload| is_bad(workload)).collect();
    let moving = here.iter().filter(|workload| workload.state.signal() == Signal::Moving).count();
    let (mut wanted, mut up) = (0, 0);
    for workload in &here {
        wanted += workload.wanted as usize;
        up += ready(state, &workload.target);
    }
    let needs = match bad.len() {
        0 if moving > 0 => format!("{moving} moving, nothing needs you"),
        0 => "all is well".to_owned(),
        1 => "1 thing needs you".to_owned(),
        many => format!("{many} things need you"),
    };
    let all = format!(
        "{} · {up} of {wanted} replicas ready on {}",
        count(here.len(), "workload"),
        count(state.nodes.len(), "node")
    );
    println!("{}  {}  {}", paint.strong(environment.as_str()), paint.strong(&needs), paint.quiet(&all));
    if here.is_empty() {
        println!(
            "\nnothing is declared here; declare something with: mainyard declare mainyard.toml --in {environment}"
        );
        return;
    }
    if !bad.is_empty() {
        println!();
    }
    for workload in bad {
        let signal = workload.state.signal();
        let why = workload.reason.as_ref().map_or_else(
            || "fewer replicas are ready than wanted".to_owned(),
            |reason| reason.sentence.clone(),
        );
        println!(
            "{}  {}  {why}",
            paint.signal(signal, &format!("{} {:<8}", shape(signal), workload.state.word())),
            paint.strong(workload.target.name.as_str())
        );
    }
    println!();
    let mut rows =
        table(&["WORKLOAD", "STATE", "READY", "RELEASE", "IMAGE", "TRAFFIC", "REACHED AT", "LAST CHANGE"]);
    for workload in here {
        let signal = workload.state.signal();
        let release = current(state, workload);
        let rate = rate_of(snapshot, &workload.target);
        let hosts = hosts_of(state, workload);
        let inside =
            services_of(state, workload).next().map(|service| format!("{} inside", service.target.name));
        let reached = if hosts.is_empty() {
            inside.unwrap_or_else(|| "nothing, it has no port".to_owned())
        } else {
            hosts.join(", ")
        };
        rows.add_row(vec![
            Cell::new(&workload.target.name),
            coloured(format!("{} {}", shape(signal), workload.state), signal),
            Cell::new(format!("{} of {}", ready(state, &workload.target), workload.wanted)),
            Cell::new(release_words(state, workload)),
            Cell::new(release.map_or(String::new(), |release| release.spec.image.tag.clone())),
            Cell::new(if rate > 0.0 { format!("{rate:.1}/s") } else { "-".to_owned() }),
            Cell::new(reached),
            Cell::new(change(&workload.last_change)),
        ]);
    }
    print(&rows);
}

fn release_words(state: &State, workload: &Workload) -> String {
    let rollout = state
        .rollouts
        .get(&(workload.target.clone(), workload.release))
        .filter(|rollout| rollout.state.is_open());
    let same_as = current(state, workload).and_then(|release| release.same_as);
    match (rollout.and_then(|rollout| rollout.from), same_as) {
        (Some(from), _) => format!("{from} → {}", workload.release),
        (None, Some(same)) => format!("{} (same as {same})", workload.release),
        (None, None) => workload.release.to_string(),
    }
}

/// A board as JSON.
pub fn board_json(snapshot: &Snapshot, environment: &Name) -> Value {
    let state = &snapshot.state;
    let here = state.workloads.values().filter(|workload| workload.target.environment == *environment);
    let rows: Vec<Value> = here
        .map(|workload| {
            let release = current(state, workload);
            json!({
                "name": workload.target.name,
                "state": workload.state,
                "signal": workload.state.signal(),
                "reason": workload.reason,
                "wanted": workload.wanted,
                "ready": ready(state, &workload.target),
                "release": workload.release,
                "same_as": release.and_then(|release| release.same_as),
                "image": release.map(|release| release.spec.image.to_string()),
                "requests_per_second": rate_of(snapshot, &workload.target),
                "hosts": hosts_of(state, workload),
                "last_change": workload.last_change,
            })
        })
        .collect();
    json!({"environment": environment, "workloads": rows})
}

/// One workload: the line of what answers now, then rollout, releases, replicas.
pub fn workload(snapshot: &Snapshot, target: &Target) {
    let state = &snapshot.state;
    let paint = Paint::stdout();
    let Some(workload) = state.workloads.get(target) else { return };
    let signal = workload.state.signal();
    let image = current(state, workload).map(|release| release.spec.image.to_string()).unwrap_or_default();
    println!(
        "{}  {}  release {}  {image}",
        paint.strong(&target.to_string()),
        paint.signal(signal, &format!("{} {}", shape(signal), workload.state)),
        release_words(state, workload)
    );
    if let Some(reason) = &workload.reason {
        println!("{}  {}", paint.signal(signal, reason.code.word()), reason.sentence);
    }
    println!();
    line(snapshot, workload, paint);
    if let Some(rollout) = state.rollouts.get(&(target.clone(), workload.release)) {
        let signal = rollout.state.signal();
        let words = rollout.verdict.clone().unwrap_or_else(|| {
            format!("{} requests, {} failed so far", rollout.evidence.served, rollout.evidence.failed)
        });
        println!(
            "\nrollout   {}  {words}",
            paint.signal(signal, &format!("{} {}", shape(signal), rollout.state))
        );
    }
    println!();
    releases(state, target);
    println!();
    replicas(state, target);
}

/// What answers now: ways in, service, a lane for each release.
fn line(snapshot: &Snapshot, workload: &Workload, paint: Paint) {
    let state = &snapshot.state;
    let rate = |way: &dyn Fn(&mainyard_control::WayFigures) -> bool| -> f64 {
        // An empty sum of fractions is -0.
        snapshot.figures.iter().filter(|figure| way(figure)).map(|figure| figure.rate).sum::<f64>() + 0.0
    };
    for service in services_of(state, workload) {
        let key = service.target.to_string();
        let port = snapshot.gateway.rsplit(':').next().unwrap_or("");
        for route in state.routes.values().filter(|r| r.target.environment == service.target.environment) {
            if route.to.iter().any(|(name, _)| *name == service.target.name) {
                let now = rate(&|figure| figure.service == key && figure.way == route.host);
                println!("http://{}:{port} {} ─┐", route.host, paint.quiet(&format!("{now:.1}/s")));
            }
        }
        let inside = rate(&|figure| figure.service == key && figure.inside);
        println!("inside: {} {} ─┤", service.target.name, paint.quiet(&format!("{inside:.1}/s")));
        println!(
            "  └─ service {}  {}",
            paint.strong(service.target.name.as_str()),
            paint.quiet(&service.address.to_string())
        );
    }
    let mut lanes: Vec<_> =
        replicas_of(&state.replicas, &workload.target).map(|replica| replica.release).collect();
    lanes.sort_unstable();
    lanes.dedup();
    if lanes.is_empty() {
        println!(
            "      {} nothing answers: {}",
            paint.quiet("╳"),
            if workload.wanted == 0 { "scaled to 0" } else { "no replica yet" }
        );
    }
    for release in lanes.into_iter().rev() {
        let members: Vec<&Replica> = replicas_of(&state.replicas, &workload.target)
            .filter(|replica| replica.release == release)
            .collect();
        let tag = state
            .releases
            .get(&(workload.target.clone(), release))
            .map(|found| found.spec.image.tag.clone())
            .unwrap_or_default();
        let cells: Vec<String> = members.iter().take(40).map(|replica| cell(replica, paint)).collect();
        let more =
            if members.len() > 40 { format!(" and {} more", members.len() - 40) } else { String::new() };
        let up = members.iter().filter(|replica| replica.state == ReplicaState::Ready).count();
        println!(
            "      ├─ release {release} {tag}  {}{more}  {}",
            cells.concat(),
            paint.quiet(&format!("{up} of {} ready", members.len()))
        );
    }
}

fn cell(replica: &Replica, paint: Paint) -> String {
    let mark = match replica.state {
        ReplicaState::Ready => "▮",
        ReplicaState::Draining => "▯",
        ReplicaState::Failed | ReplicaState::Lost => "✕",
        ReplicaState::Unready => "▵",
        ReplicaState::Ended => "·",
        ReplicaState::Waiting | ReplicaState::Fetching | ReplicaState::Starting => "┆",
    };
    paint.signal(replica.state.signal(), mark)
}

fn releases(state: &State, target: &Target) {
    let mut rows = table(&["RELEASE", "OUTCOME", "IMAGE", "BY", "VERDICT"]);
    let own: Vec<&Release> = state.releases.values().filter(|release| release.workload == *target).collect();
    for release in own.iter().rev().take(10) {
        let rollout = state.rollouts.get(&(target.clone(), release.number));
        let outcome = rollout.map_or(RolloutState::Superseded, |rollout| rollout.state);
        let number = release
            .same_as
            .map_or(release.number.to_string(), |same| format!("{} (same as {same})", release.number));
        rows.add_row(vec![
            Cell::new(number),
            coloured(format!("{} {outcome}", shape(outcome.signal())), outcome.signal()),
            Cell::new(&release.spec.image.tag),
            Cell::new(change(&release.origin)),
            Cell::new(clipped(rollout.and_then(|rollout| rollout.verdict.as_deref()).unwrap_or(""), 84)),
        ]);
    }
    print(&rows);
}

fn replicas(state: &State, target: &Target) {
    let all: Vec<&Replica> = replicas_of(&state.replicas, target).collect();
    if all.is_empty() {
        return;
    }
    let mut rows = table(&["REPLICA", "STATE", "RELEASE", "NODE", "ADDRESS", "AGE", "RESTARTS", "WHY"]);
    for replica in all.iter().take(50) {
        let text = |value: Option<String>| value.unwrap_or_else(|| "-".to_owned());
        rows.add_row(vec![
            Cell::new(&replica.id.short),
            coloured(format!("{} {}", shape(replica.state.signal()), replica.state), replica.state.signal()),
            Cell::new(replica.release),
            Cell::new(text(replica.node.as_ref().map(ToString::to_string))),
            Cell::new(text(replica.address.map(|address| address.to_string()))),
            Cell::new(age(Timestamp::now().duration_since(replica.created))),
            Cell::new(replica.restarts),
            Cell::new(replica.reason.as_ref().map(|reason| reason.sentence.clone()).unwrap_or_default()),
        ]);
    }
    print(&rows);
    if all.len() > 50 {
        println!("and {} more; all of them with --json", all.len() - 50);
    }
}
