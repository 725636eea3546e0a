//! How a board looks in a terminal.

use comfy_table::Cell;
use mainyard_core::model::Signal;
use mainyard_core::views::board::{Board, Row};

use crate::show::{NOT_ISOLATED, change, coloured, print, table};
use crate::terminal::{Paint, count, shape};
use crate::times::local;

/// One environment: what needs a person first, then every workload.
pub(crate) fn board(board: &Board) {
    let paint = Paint::stdout();
    let rows = &board.workloads;
    let moving = rows.iter().filter(|row| row.signal == Signal::Moving).count();
    let (wanted, up) =
        rows.iter().fold((0, 0), |(wanted, up), row| (wanted + row.wanted, up + row.ready.min(row.wanted)));
    let needs = match board.needs.len() {
        0 if moving > 0 => format!("{moving} moving, nothing needs you"),
        0 => "all is well".to_owned(),
        1 => "1 thing needs you".to_owned(),
        many => format!("{many} things need you"),
    };
    let all = format!(
        "{} · {up} of {wanted} replicas ready on {}",
        count(rows.len(), "workload"),
        count(board.nodes as usize, "node")
    );
    let all =
        if board.whole { all } else { format!("{} · {wanted} replicas", count(rows.len(), "workload")) };
    let name = board.environment.as_str();
    println!("{}  {}  {}", paint.strong(name), paint.strong(&needs), paint.quiet(&all));
    for node in &board.not_isolated {
        let mark = paint.signal(Signal::Caution, &format!("{} {NOT_ISOLATED}", shape(Signal::Caution)));
        println!(
            "{mark}  replicas on {node} are ordinary processes; only the memory limit applies, for each process"
        );
    }
    if !board.needs.is_empty() {
        println!();
    }
    for need in &board.needs {
        let command = need.command.as_ref().map(|command| format!("; {command}")).unwrap_or_default();
        println!(
            "{}  {}  {}{command}",
            paint.signal(need.signal, &format!("{} {:<8}", shape(need.signal), need.state)),
            paint.strong(&need.to_string()),
            local(&need.sentence)
        );
    }
    if rows.is_empty() {
        println!(
            "\nnothing is declared here; declare something with: mainyard declare mainyard.toml --in {name}"
        );
        return;
    }
    print_rows(board);
}

/// Every workload in its row.
fn print_rows(board: &Board) {
    let paint = Paint::stdout();
    let rows = &board.workloads;
    println!();
    let mut shown =
        table(&["WORKLOAD", "STATE", "READY", "RELEASE", "IMAGE", "TRAFFIC", "REACHED AT", "LAST CHANGE"]);
    for row in rows {
        let reached = match (row.hosts.is_empty(), row.services.first()) {
            (false, _) => row.hosts.join(", "),
            (true, Some(service)) => format!("{service} inside"),
            (true, None) => "none, it has no port".to_owned(),
        };
        let tag = row.image.as_deref().and_then(|image| image.rsplit(':').next()).unwrap_or_default();
        let rate = row.requests_per_second;
        shown.add_row(vec![
            Cell::new(&row.name),
            coloured(format!("{} {}", shape(row.signal), row.state), row.signal),
            Cell::new(ready(row, board.whole)),
            Cell::new(release(row)),
            Cell::new(tag),
            Cell::new(if rate > 0.0 { format!("{rate:.1}/s") } else { "-".to_owned() }),
            Cell::new(reached),
            Cell::new(change(&row.last_change)),
        ]);
    }
    print(&shown);
    for row in rows.iter().filter(|row| row.leaves) {
        let mark = paint.signal(Signal::Moving, shape(Signal::Moving));
        println!("{mark} {} was removed; it ends when all replicas of its replacement are ready", row.name);
    }
}

fn ready(row: &Row, whole: bool) -> String {
    let bounds = row.bounds.map_or(String::new(), |[min, max]| format!(" ({min} to {max})"));
    // While it moves, both releases are ready at once.
    let ready = if whole { row.ready.min(row.wanted).to_string() } else { "?".to_owned() };
    format!("{ready} of {}{bounds}", row.wanted)
}

fn release(row: &Row) -> String {
    match (row.moves_from, row.same_as) {
        (Some(from), _) => format!("{from} → {}", row.release),
        (None, Some(same)) => format!("{} (same as {same})", row.release),
        (None, None) => row.release.to_string(),
    }
}
