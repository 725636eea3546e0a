//! One connection to the outside: whether it is allowed, making it, and carrying its bytes.

use std::net::{IpAddr, SocketAddr, SocketAddrV4};
use std::sync::atomic::Ordering;

use mainyard_core::routing::Admission;
use tokio::net::TcpStream;
use tokio_util::io::InspectReader;

use super::counts::refusal;
use super::{Dialler, OutgoingCaller};
use crate::relay::{IDLE, both_ways};
use crate::serving::Serving;
use crate::worker::Forwarder;

/// Whether a connection is allowed, and the name it is told by.
struct Verdict {
    admission: Admission,
    /// The name that its address was given for, where there is one.
    name: Option<String>,
}

/// How a connection ended.
enum Carried {
    /// Both sides ended it.
    ToItsEnd,
    /// It was not allowed, could not be made, broke off, or is allowed no longer: the replica's side is reset.
    Not,
}

impl Forwarder {
    /// A replica dialled an address outside. A connection that is not allowed, or cannot be made, is reset.
    pub(crate) async fn way_out(&self, mut stream: TcpStream, peer: SocketAddr, to: SocketAddrV4) {
        if let Carried::Not = self.pass_out(&mut stream, peer, to).await {
            let _ = stream.set_zero_linger();
        }
    }

    async fn pass_out(&self, stream: &mut TcpStream, peer: SocketAddr, to: SocketAddrV4) -> Carried {
        let serving = &self.serving;
        let (Some(caller), Some(dialler)) =
            (serving.way_out.callers.at(peer.ip()), serving.way_out.dialler())
        else {
            return Carried::Not;
        };
        let verdict = verdict(serving, dialler, &caller, to).await;
        let host = verdict.name.clone().unwrap_or_else(|| to.ip().to_string());
        let count = serving.way_out.counts.of(&caller.workload, format!("{host}:{}", to.port()));
        let rule = match verdict.admission {
            Admission::Allowed(rule) => rule.map(|rule| rule.to_string()),
            Admission::NotListed => {
                count.refused(&refusal(&caller.policy));
                return Carried::Not;
            }
            Admission::Never => {
                count.refused("the machine itself and the platform are never reached");
                return Carried::Not;
            }
        };
        let onward = match dialler.dial(to.into(), serving).await.map(TcpStream::from_std) {
            Ok(Ok(onward)) => onward,
            Ok(Err(error)) => {
                count.failed(&error.to_string());
                return Carried::Not;
            }
            Err(not_dialled) => {
                count.failed(&not_dialled.to_string());
                return Carried::Not;
            }
        };
        let _open = count.made(rule);
        let add = |counter: &std::sync::atomic::AtomicU64, bytes: &[u8]| {
            counter.fetch_add(bytes.len() as u64, Ordering::Relaxed);
        };
        let inner = InspectReader::new(stream, |bytes: &[u8]| add(&count.sent, bytes));
        let outer = InspectReader::new(onward, |bytes: &[u8]| add(&count.received, bytes));
        tokio::select! {
            passed = both_ways(inner, outer, IDLE) => if passed.broken { Carried::Not } else { Carried::ToItsEnd },
            () = self.no_longer_allowed(peer.ip(), to, verdict.name.as_deref()) => Carried::Not,
        }
    }

    /// Ends when the rule that allowed a connection is gone, or the replica is.
    async fn no_longer_allowed(&self, caller: IpAddr, to: SocketAddrV4, name: Option<&str>) {
        let mut installed = self.serving.installed();
        loop {
            let allowed = self.serving.way_out.callers.at(caller).is_some_and(|caller| {
                let admission = caller.policy.admits(IpAddr::V4(*to.ip()), to.port(), name);
                matches!(admission, Admission::Allowed(_))
            });
            if !allowed {
                return;
            }
            if installed.changed().await.is_err() {
                std::future::pending::<()>().await;
            }
        }
    }
}

/// Whether a replica may open a connection to an address.
async fn verdict(serving: &Serving, dialler: &Dialler, caller: &OutgoingCaller, to: SocketAddrV4) -> Verdict {
    let (address, port) = (IpAddr::V4(*to.ip()), to.port());
    let remembered = serving.way_out.remembered.names(&caller.workload, *to.ip());
    let names = remembered.iter().map(String::as_str);
    let admission = caller.policy.admits(address, port, names.clone());
    if admission != Admission::NotListed {
        let named = |name: &&str| match &admission {
            Admission::Allowed(Some(rule)) => rule.names(name),
            _ => true,
        };
        return Verdict { name: names.clone().find(named).map(str::to_owned), admission };
    }
    // A program may have known the address before this gateway ran: the names of its rules are looked up.
    for name in caller.policy.names_for(port) {
        let found = dialler.addresses(name).await.unwrap_or_default();
        if found.contains(&address) {
            serving.way_out.remembered.add(&caller.workload, name, &[*to.ip()]);
            let admission = caller.policy.admits(address, port, [name]);
            return Verdict { admission, name: Some(name.to_owned()) };
        }
    }
    let name = names.clone().next().map(str::to_owned);
    Verdict { admission, name }
}
