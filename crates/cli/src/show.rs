//! How a workload looks in a terminal.

use comfy_table::{Attribute, Cell, Color, ContentArrangement, Table, presets};
use jiff::Timestamp;
use mainyard_core::model::{
    HoldMark, LiveChange, Origin, Purpose, Release, Replica, ReplicaState, Rollout, RolloutState, Shadowing,
    Signal, Target, Workload,
};
use mainyard_core::record::State;
use mainyard_core::routing::{all_of, replicas_of};

use crate::client::Snapshot;
use crate::entry_points::{ready_behind, replicas_behind, routes_to, services_of};
use crate::terminal::{Paint, age, colours, shape};
use crate::times::local;

/// A table without lines: as wide as what it holds, or as the terminal, where that is narrower.
pub(crate) fn table(headings: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
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
pub(crate) fn print(table: &Table) {
    // In colours the blanks of a heading lie before the mark that ends its colour.
    const END: &str = "\x1b[0m";
    for line in table.lines() {
        match line.trim_end().strip_suffix(END) {
            Some(coloured) => println!("{}{END}", coloured.trim_end()),
            None => println!("{}", line.trim_end()),
        }
    }
}

/// At most this many characters, the last one an ellipsis where some are missing.
pub(crate) fn clipped(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        text.to_owned()
    } else {
        text.chars().take(most - 1).chain(['…']).collect()
    }
}

pub(crate) fn coloured(text: String, signal: Signal) -> Cell {
    Cell::new(text).fg(match signal {
        Signal::Good => Color::DarkGreen,
        Signal::Moving => Color::Blue,
        Signal::Caution => Color::DarkYellow,
        Signal::Fault => Color::DarkRed,
        Signal::Rest => Color::DarkGrey,
    })
}

/// The time of day with its zone; with the day, where it is another one.
pub(crate) fn moment(at: Timestamp) -> String {
    let zone = jiff::tz::TimeZone::system();
    let (then, now) = (at.to_zoned(zone.clone()), Timestamp::now().to_zoned(zone));
    if then.date() == now.date() {
        then.strftime("%H:%M %Z").to_string()
    } else {
        then.strftime("%-d %b %H:%M %Z").to_string()
    }
}

/// The same to the second.
pub(crate) fn to_the_second(at: Timestamp) -> String {
    let zone = jiff::tz::TimeZone::system();
    let then = at.to_zoned(zone.clone());
    let today = then.date() == Timestamp::now().to_zoned(zone).date();
    then.strftime(if today { "%H:%M:%S %Z" } else { "%-d %b %H:%M:%S %Z" }).to_string()
}

pub(crate) fn change(origin: &Origin) -> String {
    let from = origin.commit.as_deref().map(mainyard_core::model::short_commit);
    let from = from.map_or(String::new(), |commit| format!(" from {commit}"));
    format!("{} {} by {}{from}", moment(origin.at), origin.act, origin.by)
}

fn current<'a>(state: &'a State, workload: &Workload) -> Option<&'a Release> {
    state.releases.get(&(workload.target.clone(), workload.release))
}

fn release_words(state: &State, workload: &Workload) -> String {
    let rollout = state.open_rollout(&workload.target);
    let same_as = current(state, workload).and_then(|release| release.same_as);
    match (rollout, same_as) {
        (Some(Rollout { state: RolloutState::GoingBack, from: Some(from), to, .. }), _) => {
            format!("{to} → {from}")
        }
        (Some(Rollout { from: Some(from), to, .. }), _) => format!("{from} → {to}"),
        (_, Some(same)) => format!("{} (same as {same})", workload.release),
        (_, None) => workload.release.to_string(),
    }
}

/// "8 (same as 6)".
pub(crate) fn release_number(release: &Release) -> String {
    release.same_as.map_or(release.number.to_string(), |same| format!("{} (same as {same})", release.number))
}

/// One workload: the line of what answers now, then rollout, releases, replicas.
pub(crate) fn workload(snapshot: &Snapshot, target: &Target) {
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
        println!("{}  {}", paint.signal(signal, reason.code.word()), local(&reason.sentence));
    }
    if let Some(growing) = &workload.growing {
        let again = growing
            .by_hand
            .as_ref()
            .map(|_| format!("; it does again with: mainyard scale {target} --by-load"));
        println!("{}{}", local(&growing.to_string()), again.unwrap_or_default());
    }
    if workload.leaves {
        let mark = paint.signal(Signal::Moving, shape(Signal::Moving));
        println!("{mark} removed; it ends when all replicas of its replacement are ready");
    }
    if let Some(HoldMark { because, origin }) = &workload.held {
        let mark = paint.signal(Signal::Caution, &format!("{} held", shape(Signal::Caution)));
        println!("{mark}  {because}, {}; it goes on with: mainyard resume {target}", change(origin));
    }
    let sources = state.sources.values().filter(|source| source.target.environment == target.environment);
    for left in sources.flat_map(|source| source.yields.iter().map(move |left| (source, left))) {
        let (source, left) = left;
        if left.what.workload() == Some(&target.name) {
            let mark = paint.signal(Signal::Caution, &format!("{} held", shape(Signal::Caution)));
            println!(
                "{mark}  the source {} leaves {} alone: {}; it follows again with: mainyard resume {target}",
                source.target,
                left.what,
                change(&left.origin)
            );
        }
    }
    println!();
    line(snapshot, workload, paint);
    if let Some(rollout) = state.newest_rollout(target) {
        let signal = rollout.state.signal();
        let words = rollout.verdict.clone().unwrap_or_else(|| so_far(rollout, workload));
        println!(
            "\nrollout   {}  {words}",
            paint.signal(signal, &format!("{} {}", shape(signal), rollout.state))
        );
        if let Some(first) = &rollout.first {
            println!("run_first  {}", first.words());
        }
    }
    println!();
    releases(state, target);
    println!();
    replicas(snapshot, target);
}

/// How far a rollout is, without a verdict yet: its step, its share, its shadow, and what was answered.
fn so_far(rollout: &Rollout, workload: &Workload) -> String {
    let mut words = Vec::new();
    if let Some(reason) = &rollout.reason {
        words.push(local(&reason.sentence));
    }
    // The last step, with all requests, is not among those that are declared.
    let steps = workload.rule.steps.len();
    if steps > 0 && rollout.purpose == Purpose::Change {
        words.push(format!("step {} of {}", (rollout.step as usize + 1).min(steps + 1), steps + 1));
    }
    if let Some(share) = rollout.share {
        words.push(format!("{} % of requests", f64::from(share) / 10.0));
    }
    let copies = &rollout.evidence.copies;
    match rollout.shadow {
        Shadowing::Copying => words.push(format!(
            "shadow: {} copies of requests answered, {} failed",
            copies.requests, copies.failed
        )),
        Shadowing::Passed if copies.requests > 0 => {
            words.push(format!("shadow passed with {} copies", copies.requests));
        }
        _ => {}
    }
    let new = &rollout.evidence.new;
    words.push(format!("{} answered by release {}, {} failed so far", new.requests, rollout.to, new.failed));
    words.join("; ")
}

/// The answering side of a workload: ways in, service, a lane for each release.
fn line(snapshot: &Snapshot, workload: &Workload, paint: Paint) {
    let state = &snapshot.state;
    let rate = |way: &dyn Fn(&mainyard_api::WayFigures) -> bool| -> String {
        // An empty sum of fractions is -0.
        let sum =
            snapshot.figures.ways.iter().filter(|figure| way(figure)).map(|figure| figure.rate).sum::<f64>()
                + 0.0;
        // What was served in the past is not kept.
        if snapshot.as_of.is_some() { String::new() } else { paint.quiet(&format!("{sum:.1}/s ")) }
    };
    for service in services_of(snapshot, &workload.target) {
        let key = service.target.to_string();
        for route in state.routes.values().filter(|r| r.target.environment == service.target.environment) {
            if route.spec.to.iter().any(|leg| leg.service == service.target.name) {
                let now = rate(&|figure| figure.service == key && figure.way == route.spec.at());
                let url = snapshot.url_of(route);
                println!("{url} {now}─┐");
            }
        }
        let inside = rate(&|figure| figure.service == key && figure.inside);
        println!("inside: {} {inside}─┤", service.target.name);
        println!(
            "  └─ service {}  {}",
            paint.strong(service.target.name.as_str()),
            paint.quiet(&state.inside_address(service).to_string())
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
            match workload.wanted {
                0 if workload.is_asleep() => "asleep; the next request wakes it",
                0 => "scaled to 0",
                _ => "no replica yet",
            }
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
            "      ├─ release {release} {tag}  {}{more}  {}{}",
            cells.concat(),
            paint.quiet(&format!("{up} of {} ready", members.len())),
            if members.iter().all(|replica| state.isolates(replica)) {
                String::new()
            } else {
                paint.signal(Signal::Caution, &format!(", {NOT_ISOLATED}"))
            }
        );
    }
}

fn cell(replica: &Replica, paint: Paint) -> String {
    let mark = match replica.state {
        ReplicaState::Ready => "▮",
        ReplicaState::Draining => "▯",
        ReplicaState::SetAside => "▲",
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
        rows.add_row(vec![
            Cell::new(release_number(release)),
            coloured(format!("{} {outcome}", shape(outcome.signal())), outcome.signal()),
            Cell::new(&release.spec.image.tag),
            Cell::new(change(&release.origin)),
            Cell::new(clipped(rollout.and_then(|rollout| rollout.verdict.as_deref()).unwrap_or(""), 84)),
        ]);
    }
    print(&rows);
}

/// Said wherever a replica is shown that nothing keeps from the machine.
pub(crate) const NOT_ISOLATED: &str = "not isolated";

fn node_words(state: &State, replica: &Replica) -> String {
    match &replica.node {
        None => "-".to_owned(),
        Some(node) if state.isolates(replica) => node.to_string(),
        Some(node) => format!("{node}, {NOT_ISOLATED}"),
    }
}

/// Answers of a replica in the last ten seconds: how many a second, how many failed, and the times.
fn answered(snapshot: &Snapshot, replica: &Replica) -> [String; 3] {
    let id = replica.id.to_string();
    let own: Vec<_> = snapshot.figures.ways.iter().filter(|figure| figure.replica == id).collect();
    if own.is_empty() {
        return ["-".to_owned(), "-".to_owned(), "-".to_owned()];
    }
    let most = |of: fn(&mainyard_api::WayFigures) -> Option<f64>| {
        own.iter().filter_map(|figure| of(figure)).fold(0.0, f64::max)
    };
    let rate: f64 = own.iter().map(|figure| figure.rate).sum();
    let failed: u64 = own.iter().map(|figure| figure.failed).sum();
    let times = [most(|figure| figure.p50), most(|figure| figure.p95), most(|figure| figure.p99)];
    let times = times.map(|millis| format!("{millis:.1}")).join(" · ");
    [format!("{rate:.1}/s"), failed.to_string(), format!("{times} ms")]
}

fn replicas(snapshot: &Snapshot, target: &Target) {
    let state = &snapshot.state;
    let aside = all_of(&state.replicas, target).filter(|replica| replica.aside.is_some());
    let all: Vec<&Replica> = replicas_of(&state.replicas, target).chain(aside).collect();
    if all.is_empty() {
        return;
    }
    let mut rows = table(&[
        "REPLICA",
        "STATE",
        "RELEASE",
        "NODE",
        "ADDRESS",
        "AGE",
        "RESTARTS",
        "ANSWERS",
        "FAILED",
        "P50 · P95 · P99",
        "WHY",
    ]);
    for replica in all.iter().take(50) {
        let text = |value: Option<String>| value.unwrap_or_else(|| "-".to_owned());
        let [rate, failed, times] = answered(snapshot, replica);
        rows.add_row(vec![
            Cell::new(&replica.id.short),
            coloured(format!("{} {}", shape(replica.state.signal()), replica.state), replica.state.signal()),
            Cell::new(replica.release),
            Cell::new(node_words(state, replica)),
            Cell::new(text(replica.address.map(|address| address.to_string()))),
            Cell::new(age(snapshot.at().duration_since(replica.created))),
            Cell::new(replica.restarts),
            Cell::new(rate),
            Cell::new(failed),
            Cell::new(times),
            Cell::new(why_so(snapshot, replica)),
        ]);
    }
    print(&rows);
    if all.len() > 50 {
        println!("and {} more; all of them with --json", all.len() - 50);
    }
}

/// Why a replica is in its state; of one whose image is on its way, how far that is.
fn why_so(snapshot: &Snapshot, replica: &Replica) -> String {
    let changed = replica.changed.as_ref().map(LiveChange::words);
    if let Some(reason) = &replica.reason {
        return [Some(reason.sentence.clone()), changed].into_iter().flatten().collect::<Vec<_>>().join("; ");
    }
    if let Some(changed) = changed {
        return changed;
    }
    let release = snapshot.state.releases.get(&(replica.id.workload.clone(), replica.release));
    let image = release.and_then(|release| release.digest.as_deref());
    let fetch = snapshot.fetches.iter().find(|it| {
        replica.state == ReplicaState::Fetching
            && Some(it.fetch.image.as_str()) == image
            && replica.node.as_ref() == Some(&it.node)
    });
    fetch.map(|fetch| fetch.says.clone()).unwrap_or_default()
}

/// One route: how it is reached, where it leads, and everything else that is declared of it.
pub(crate) fn route(snapshot: &Snapshot, route: &mainyard_core::model::Route) {
    let state = &snapshot.state;
    let paint = Paint::stdout();
    let url = snapshot.url_of(route);
    println!("{}  {url}", paint.strong(&format!("route {}", route.target)));
    println!("leads to  {}", mainyard_core::declare::leads_to(&route.spec));
    for (service, ready) in ready_behind(snapshot, route) {
        let words = match ready {
            None => paint.signal(Signal::Fault, "which is not there"),
            Some(0) => paint.signal(Signal::Fault, "no replica is ready behind it"),
            Some(count) => format!("{count} ready"),
        };
        println!("          {service}: {words}");
    }
    if let Some(why) = route.spec.port.and_then(|port| state.closed_port(port)) {
        println!(
            "          {}",
            paint.signal(Signal::Fault, &format!("the gateway cannot listen there: {why}"))
        );
    }
    for (key, value) in mainyard_core::difference::keys_of(&route.spec) {
        if !["host", "port", "to"].contains(&key.as_str()) {
            println!("{key:<9} {value}");
        }
    }
    println!("with      the application {}, {}", route.application, change(&route.origin));
}

/// One service: where it is, who answers for it, and what its selector nearly matches.
pub(crate) fn service(snapshot: &Snapshot, target: &mainyard_core::model::Target) {
    let state = &snapshot.state;
    let Some(service) = state.services.get(target) else { return };
    let paint = Paint::stdout();
    let inside = state.inside_address(service);
    println!("{}  {inside}", paint.strong(&format!("service {target}")));
    let ports = service.spec.ports.iter().map(|(number, port)| format!("{number} → {port}"));
    println!("ports     {}", ports.collect::<Vec<_>>().join(", "));
    println!("selects   {}", mainyard_core::declare::selector(&service.spec.select));
    println!("called    {0}, {0}.{1}, {0}.{1}.internal", target.name, target.environment);
    if !service.spec.open_to.is_empty() {
        let names: Vec<String> = service.spec.open_to.iter().map(ToString::to_string).collect();
        println!("open to   {}", names.join(", "));
    }
    for route in routes_to(snapshot, service) {
        println!("route     {}", route.reached_at);
    }
    for near in mainyard_core::why::near_misses(state, service) {
        println!("{} {near}", paint.signal(Signal::Caution, &format!("{} nearly ", shape(Signal::Caution))));
    }
    let mut rows = table(&["REPLICA", "STATE", "NODE", "ADDRESS", "RELEASE", "REASON"]);
    let behind = replicas_behind(snapshot, service);
    for replica in &behind {
        let signal = replica.state.signal();
        rows.add_row([
            Cell::new(&replica.id),
            coloured(format!("{} {}", shape(signal), replica.state.word()), signal),
            Cell::new(replica.node.as_ref().map_or("-", |node| node.as_str())),
            Cell::new(replica.address.map_or("-".to_owned(), |address| address.to_string())),
            Cell::new(replica.release),
            Cell::new(replica.reason.as_ref().map_or("", |reason| reason.sentence.as_str())),
        ]);
    }
    println!();
    if !behind.is_empty() {
        print(&rows);
    } else {
        println!("no replica is behind it; ask: mainyard why service:{target}");
    }
}
