//! What a workload reaches outside, in a terminal.

use mainyard_api::{NoQuery, OfTarget};
use mainyard_api::{OutgoingTraffic, ShowOutgoing};
use mainyard_core::link::NameOutcome;
use mainyard_core::model::{Bytes, OutgoingMode, Target};
use mainyard_core::untrusted_text::visible;

use crate::client::Client;
use crate::show;
use crate::terminal::Failure;

/// Destinations, and names, that are shown.
const SHOWN: usize = 12;

/// The way out as control knows it now.
pub(super) async fn read(client: &Client, target: &Target) -> Result<OutgoingTraffic, Failure> {
    client.ask::<ShowOutgoing>(OfTarget::from(target), NoQuery {}).await
}

/// A part of what `show` prints; nothing of a workload that neither may nor tries.
pub(super) fn print(way_out: &OutgoingTraffic) {
    let OutgoingTraffic { mode, rules, enforced, destinations, names } = way_out;
    if *mode == OutgoingMode::Listed && rules.is_empty() && destinations.is_empty() && names.is_empty() {
        return;
    }
    let rules: Vec<String> = rules.iter().map(ToString::to_string).collect();
    let may = match (mode, rules.is_empty()) {
        (OutgoingMode::None, _) => "nothing: its environment has outgoing = none".to_owned(),
        (OutgoingMode::All, _) => "everything outside: its environment has outgoing = all".to_owned(),
        (OutgoingMode::Listed, true) => "nothing: it lists nothing in `outgoing`".to_owned(),
        (OutgoingMode::Listed, false) => rules.join(", "),
    };
    println!("\noutgoing  {may}");
    if !enforced {
        println!("          not held to it: its replicas are ordinary processes of this machine");
    }
    if !destinations.is_empty() {
        let mut rows =
            show::table(&["TO", "OPEN", "MADE", "REFUSED", "FAILED", "SENT", "RECEIVED", "LAST", "SAYS"]);
        for row in destinations.iter().take(SHOWN) {
            rows.add_row([
                visible(&row.destination).into_owned(),
                row.open.to_string(),
                row.made.to_string(),
                row.refused.to_string(),
                row.failed.to_string(),
                Bytes::new(row.sent).to_string(),
                Bytes::new(row.received).to_string(),
                show::to_the_second(row.at),
                row.says.clone().unwrap_or_default(),
            ]);
        }
        show::print(&rows);
        more(destinations.len(), "destination");
    }
    if !names.is_empty() {
        println!();
        let mut rows = show::table(&["LOOKED UP", "ASKED", "LAST", "ANSWER"]);
        for row in names.iter().take(SHOWN) {
            let addresses: Vec<String> = row.addresses.iter().map(ToString::to_string).collect();
            let answer = match row.outcome {
                NameOutcome::Found if addresses.is_empty() => "records of another kind".to_owned(),
                NameOutcome::Found => addresses.join(", "),
                NameOutcome::Nothing => "nothing of the kind".to_owned(),
                NameOutcome::Unknown => "no such name".to_owned(),
                NameOutcome::Refused => "refused: no rule names it".to_owned(),
                NameOutcome::Failed => "the machine's resolvers gave no answer".to_owned(),
            };
            let name = visible(&row.name).into_owned();
            rows.add_row([name, row.asked.to_string(), show::to_the_second(row.at), answer]);
        }
        show::print(&rows);
        more(names.len(), "name");
    }
}

fn more(there: usize, what: &str) {
    if there > SHOWN {
        let rest = there - SHOWN;
        println!("          and {rest} more {what}{}", if rest == 1 { "" } else { "s" });
    }
}
