//! Why one request that was served, or refused, went as it did.

use super::{Cause, Facts, Part, Why, WhyPath};
use crate::link::Served;
use crate::model::{Reason, ReasonCode, Signal};
use crate::reasons;

impl Facts<'_> {
    /// Of a request that a gateway remembers.
    pub fn request(&self, served: &Served) -> Why {
        let mut walk = WhyPath::default();
        let Served { method, path, status, .. } = served;
        let host = served.host.as_deref().unwrap_or("");
        let of = format!("request {} ({method} {host}{path})", served.id);
        let scheme = if served.secure { "over TLS" } else { "without TLS" };
        let millis = served.micros as f64 / 1000.0;
        let signal = if *status < 500 { Signal::Good } else { Signal::Fault };
        let unread = path.is_empty() && served.route.is_none();
        let what =
            if unread { "what could not be read".to_owned() } else { format!("{method} {host}{path}") };
        let of = if unread { format!("request {}", served.id) } else { of };
        let says = format!("{what} from {} {scheme}: {status} after {millis:.1} ms", served.peer);
        walk.step(Part::Request, &served.id, Signal::Rest, says);
        match (&served.route, &served.way) {
            (Some(route), way) => {
                let now = if self.has_route(route) { "" } else { "; the route is gone since" };
                walk.step(
                    Part::Route,
                    route,
                    Signal::Good,
                    format!("took {}{now}", way.as_deref().unwrap_or("it")),
                );
            }
            (None, Some(way)) => walk.step(Part::Service, way, Signal::Good, "called from inside"),
            (None, None) => {}
        }
        if served.tried > 0 {
            walk.also.push(format!("{} were tried before without success", served.tried));
        }
        walk.also.push(format!("{} bytes came with it, {} went back", served.received, served.sent));
        let found = match (&served.reason, &served.replica) {
            (Some(Reason { code, sentence }), _) => {
                let fix = reasons::about(*code).fix;
                Err(walk.cut(Part::Gateway, "gateway", *code, sentence.as_str(), fix))
            }
            (None, Some(replica)) => {
                let release = served.release.map_or(0, |release| release.0);
                let says = format!("answered {status}, as release {release}, when its turn came");
                walk.step(Part::Replica, replica, signal, says);
                let sentence = if served.broken {
                    Some(format!("{replica} broke its answer off"))
                } else {
                    (*status >= 500).then(|| format!("{replica} itself answered {status}"))
                };
                sentence.map_or(Ok(()), |sentence| {
                    let fix = format!(
                        "read what it wrote then: mainyard logs {} --replica {}",
                        replica.workload, replica.short
                    );
                    Err(Cause { code: ReasonCode::AnswerBroken, sentence, fix })
                })
            }
            (None, None) => Ok(()),
        };
        let well = walk.steps.last().map(|step| format!("{} {}", step.name, step.says)).unwrap_or_default();
        walk.end(of, found, well)
    }

    fn has_route(&self, key: &str) -> bool {
        key.parse().is_ok_and(|key| self.state.routes.contains_key(&key))
    }
}
