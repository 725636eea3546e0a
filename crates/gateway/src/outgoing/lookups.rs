//! Names outside, for replicas that may look them up.

use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;

use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{Name, RecordType};
use mainyard_core::link::NameOutcome;
use mainyard_core::model::is_never_reached;
use mainyard_core::service_names::DOMAIN;

use super::OutgoingCaller;
use super::dialler::{NotFound, addresses_in};
use crate::serving::Serving;

/// A question about a name outside, and who asks.
#[derive(Debug)]
pub(crate) struct Lookup {
    caller: Arc<OutgoingCaller>,
    name: String,
    asked: Name,
    kind: RecordType,
}

/// Whether a question is about a name outside that the caller may look up. What it may not is counted.
pub(crate) fn question_outside(
    serving: &Serving,
    caller: Ipv4Addr,
    asked: &Name,
    kind: RecordType,
) -> Option<Lookup> {
    let name = asked.to_ascii().trim_end_matches('.').to_ascii_lowercase();
    let is_ours = name == DOMAIN || name.strip_suffix(DOMAIN).is_some_and(|rest| rest.ends_with('.'));
    if is_ours || !name.contains('.') {
        return None;
    }
    let caller = serving.way_out.callers.at(IpAddr::V4(caller))?;
    if !caller.policy.looks_up(&name) {
        serving.way_out.counts.looked_up(&caller.workload, &name, NameOutcome::Refused, Vec::new());
        return None;
    }
    Some(Lookup { caller, name, asked: asked.clone(), kind })
}

impl Lookup {
    /// Asks the machine's resolvers, and puts what they say into the answer.
    pub(crate) async fn fill(self, serving: &Serving, answer: &mut Message) -> ResponseCode {
        let Some(dialler) = serving.way_out.dialler() else { return ResponseCode::NXDomain };
        let way_out = &serving.way_out;
        // Replicas have no IPv6: an address of it would only be tried in vain.
        let found = match self.kind {
            RecordType::AAAA => Err(NotFound::Nothing),
            kind => dialler.resolve(self.asked.clone(), kind).await,
        };
        let workload = &self.caller.workload;
        let (code, outcome, addresses) = match found {
            Ok(records) => {
                let reached = |address: &IpAddr| !is_never_reached(*address);
                let all = addresses_in(&records);
                let given: Vec<Ipv4Addr> = all.iter().filter(|it| reached(it)).filter_map(as_v4).collect();
                way_out.remembered.add(workload, &self.name, &given);
                let records = records
                    .into_iter()
                    .filter(|record| addresses_in(std::slice::from_ref(record)).iter().all(reached));
                answer.add_answers(records);
                (ResponseCode::NoError, NameOutcome::Found, all)
            }
            Err(NotFound::Nothing) => (ResponseCode::NoError, NameOutcome::Nothing, Vec::new()),
            Err(NotFound::Unknown) => (ResponseCode::NXDomain, NameOutcome::Unknown, Vec::new()),
            Err(NotFound::Failed(says)) => {
                tracing::debug!(name = self.name, says, "a name outside was not looked up");
                (ResponseCode::ServFail, NameOutcome::Failed, Vec::new())
            }
        };
        // Programs ask for both kinds of addresses at once; that there is none of the other says nothing.
        if self.kind != RecordType::AAAA {
            way_out.counts.looked_up(workload, &self.name, outcome, addresses);
        }
        code
    }
}

fn as_v4(address: &IpAddr) -> Option<Ipv4Addr> {
    match address {
        IpAddr::V4(address) => Some(*address),
        IpAddr::V6(_) => None,
    }
}
