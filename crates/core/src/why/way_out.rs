//! Why a workload reaches a destination outside, or does not: the environment's part, the workload's list, the name, and
//! a connection that a gateway tried.

use std::net::IpAddr;
use std::str::FromStr;

use super::{Cause, Facts, Found, Part, Why, WhyPath};
use crate::link::{AttemptOutcome, OutgoingAttempt};
use crate::model::{OutgoingMode, ReasonCode, Signal, Target, is_host, is_never_reached};
use crate::routing::{Admission, Policy, outgoing_policy};

/// A destination that somebody asks about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Destination {
    /// A name in lower case, or an address.
    pub host: String,
    /// The port.
    pub port: u16,
}

impl FromStr for Destination {
    type Err = String;

    fn from_str(text: &str) -> Result<Destination, String> {
        let wrong = || {
            format!(
                "{text:?} is not a destination; expected a host or an address and a port, such as mail.example:25"
            )
        };
        let (host, port) = text.rsplit_once(':').ok_or_else(wrong)?;
        let port = port.parse().ok().filter(|port: &u16| *port > 0).ok_or_else(wrong)?;
        let host = host.trim_matches(['[', ']']).trim_end_matches('.').to_ascii_lowercase();
        if host.parse::<IpAddr>().is_err() && !is_host(&host) {
            return Err(wrong());
        }
        Ok(Destination { host, port })
    }
}

impl std::fmt::Display for Destination {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (host, port) = (&self.host, self.port);
        if host.contains(':') { write!(f, "[{host}]:{port}") } else { write!(f, "{host}:{port}") }
    }
}

impl Destination {
    fn address(&self) -> Option<IpAddr> {
        self.host.parse().ok()
    }

    /// Whether the rules allow it, before a name is looked up.
    fn admitted(&self, policy: &Policy) -> Admission {
        match self.address() {
            Some(address) => policy.admits(address, self.port, []),
            // Any address outside stands for those that the name has.
            None => policy.admits(IpAddr::from([192, 0, 2, 1]), self.port, [self.host.as_str()]),
        }
    }
}

impl Facts<'_> {
    /// Whether the rules let a workload try to reach a destination: then a gateway is worth asking.
    ///
    /// # Errors
    /// When there is no such workload.
    pub fn may_reach(&self, workload: &Target, to: &Destination) -> Result<bool, String> {
        Ok(matches!(to.admitted(&self.policy_of(workload)?), Admission::Allowed(_)))
    }

    /// Why a workload reaches a destination outside, or does not; with what a gateway found, where one was asked.
    ///
    /// # Errors
    /// When there is no such workload.
    pub fn way_out(
        &self,
        workload: &Target,
        to: &Destination,
        attempt: Option<&OutgoingAttempt>,
    ) -> Result<Why, String> {
        let policy = self.policy_of(workload)?;
        let mut walk = WhyPath::default();
        let found = self.follow_way_out(&mut walk, workload, to, &policy, attempt);
        let well = walk.steps.last().map(|step| step.says.clone()).unwrap_or_default();
        Ok(walk.end(format!("{workload} to {to}"), found, well))
    }

    fn policy_of(&self, workload: &Target) -> Result<Policy, String> {
        let state = self.state;
        let found = state.workloads.get(workload).ok_or_else(|| {
            let here = state.workloads.keys().filter(|key| key.environment == workload.environment);
            let hint =
                crate::suggestions::did_you_mean(workload.name.as_str(), here.map(|key| key.name.as_str()));
            format!("there is no workload {workload}{hint}")
        })?;
        Ok(outgoing_policy(state, workload, found.release))
    }

    fn follow_way_out(
        &self,
        walk: &mut WhyPath,
        workload: &Target,
        to: &Destination,
        policy: &Policy,
        attempt: Option<&OutgoingAttempt>,
    ) -> Found {
        let environment = &workload.environment;
        let says = match policy.mode {
            OutgoingMode::None => "outgoing = none: nothing outside is reached",
            OutgoingMode::Listed => "outgoing = listed: what a workload lists is reached",
            OutgoingMode::All => "outgoing = all: everything outside is reached",
        };
        if policy.mode == OutgoingMode::None {
            let fix = format!("allow it: mainyard environment outgoing {environment} listed");
            return Err(walk.cut(Part::Environment, environment, ReasonCode::NotListed, says, fix));
        }
        walk.step(Part::Environment, environment, Signal::Good, says);
        rule(walk, workload, to, policy)?;
        if self.state.nodes.values().any(|node| !node.range.is_private()) {
            walk.also.push(
                "replicas of this machine are ordinary processes: no rule keeps them from the network"
                    .to_owned(),
            );
        }
        match attempt {
            Some(attempt) => tried(walk, to, attempt),
            None => {
                let sentence = "no gateway is there that could try it";
                let fix = "look at the gateway's log: mainyard status names it";
                Err(walk.cut(Part::Gateway, "gateway", ReasonCode::GatewaySilent, sentence, fix))
            }
        }
    }
}

/// The rule that allows it.
fn rule(walk: &mut WhyPath, workload: &Target, to: &Destination, policy: &Policy) -> Found {
    match to.admitted(policy) {
        Admission::Allowed(Some(rule)) => {
            walk.step(Part::Rule, workload, Signal::Good, format!("its rule {rule} allows it"));
            Ok(())
        }
        Admission::Allowed(None) => {
            walk.step(Part::Rule, workload, Signal::Good, "needs no rule");
            Ok(())
        }
        Admission::Never => Err(never(
            walk,
            to,
            "the machine itself, its links and the platform's own addresses are never reached",
        )),
        Admission::NotListed => {
            let rules: Vec<String> = policy.rules.iter().map(ToString::to_string).collect();
            let listed = if rules.is_empty() { "nothing".to_owned() } else { rules.join(", ") };
            let sentence = format!("{workload} lists {listed}, not {to}");
            let fix = format!("add \"{to}\" to `outgoing` of the workload, and declare it");
            Err(walk.cut(Part::Rule, workload, ReasonCode::NotListed, sentence, fix))
        }
    }
}

fn never(walk: &mut WhyPath, to: &Destination, sentence: &str) -> Cause {
    let fix = "call a service of this platform by its name, such as http://locker-api";
    walk.cut(Part::Destination, to, ReasonCode::NeverReached, sentence, fix)
}

/// What the gateway found.
fn tried(walk: &mut WhyPath, to: &Destination, attempt: &OutgoingAttempt) -> Found {
    let addresses: Vec<String> = attempt.addresses.iter().map(ToString::to_string).collect();
    let addresses = addresses.join(", ");
    let named = to.address().is_none();
    match &attempt.outcome {
        AttemptOutcome::Unresolved { says } => {
            let sentence = format!("{}: {says}", to.host);
            let fix = "correct the name, or the resolvers in /etc/resolv.conf of the machine";
            return Err(walk.cut(Part::Name, &to.host, ReasonCode::NameUnresolved, sentence, fix));
        }
        AttemptOutcome::NeverReached => {
            let sentence = format!(
                "{} is {addresses}: the machine itself, its links and the platform's own addresses are never reached",
                to.host
            );
            return Err(never(walk, to, &sentence));
        }
        _ if named => {
            let hidden = attempt.addresses.iter().filter(|address| is_never_reached(**address)).count();
            let also = if hidden > 0 { "; some of them are never reached" } else { "" };
            walk.step(Part::Name, &to.host, Signal::Good, format!("is {addresses}{also}"));
        }
        _ => {}
    }
    match &attempt.outcome {
        AttemptOutcome::Answered { address, micros } => {
            let says = format!("{address} took the connection after {:.1} ms", *micros as f64 / 1000.0);
            walk.step(Part::Destination, to, Signal::Good, says);
            Ok(())
        }
        AttemptOutcome::Unreachable { says } => {
            let fix = "look at the destination and at what is between: the rules allow it";
            Err(walk.cut(Part::Destination, to, ReasonCode::Unreachable, says, fix))
        }
        AttemptOutcome::Unresolved { .. } | AttemptOutcome::NeverReached => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cluster::Cluster;
    use crate::manifest::{SourceFile, read};
    use crate::record::State;

    fn ask(mode: &str, to: &str, outcome: Option<AttemptOutcome>) -> String {
        let now = "2026-11-23T14:05:00Z".parse().expect("a time");
        let staging = "staging".parse().expect("a name");
        let mut cluster = Cluster::new(State::default(), 1, now);
        cluster.transaction("mira", now).add_environment(&staging, None).expect("added");
        let mode = serde_json::from_value(mode.into()).expect("a mode");
        cluster.transaction("mira", now).set_outgoing(&staging, mode).expect("set");
        let text = "application = \"lockers\"\n[workload.locker-api]\nimage = \"lockers/locker-api:1.4.0\"\n\
                    outgoing = [\"mail.example:25\", \"192.0.2.0/24:5432\"]\n";
        let file = SourceFile { name: "mainyard.toml".into(), text: text.into() };
        let declared = read(&[file], None).expect("valid");
        cluster.transaction("mira", now).declare(&declared, &staging, false).expect("declared");
        let facts = Facts { state: cluster.state(), http: 8780, https: 8743, gateways: 1, now };
        let workload = "staging/locker-api".parse().expect("a target");
        let to: Destination = to.parse().expect("a destination");
        let addresses = vec![IpAddr::from([192, 0, 2, 7])];
        let attempt = outcome.map(|outcome| OutgoingAttempt { addresses, outcome });
        let why = facts.way_out(&workload, &to, attempt.as_ref()).expect("there");
        let steps = why.steps.iter().map(|step| format!("{:?} {}: {}", step.part, step.name, step.says));
        let steps: Vec<String> = steps.collect();
        format!("{}\n{}: {}\nfix: {}", steps.join("\n"), why.cause.code, why.cause.sentence, why.cause.fix)
    }

    #[test]
    fn each_cause_is_told_with_its_rule() {
        let answered = || Some(AttemptOutcome::Answered { address: [192, 0, 2, 7].into(), micros: 1_250 });
        let unresolved = || Some(AttemptOutcome::Unresolved { says: "no such name".to_owned() });
        let unreachable =
            || Some(AttemptOutcome::Unreachable { says: "192.0.2.7: connection refused".to_owned() });
        let told = [
            ask("listed", "mail.example:25", answered()),
            ask("listed", "mail.example:26", None),
            ask("listed", "192.0.2.9:5432", unreachable()),
            ask("listed", "mail.example:25", unresolved()),
            ask("listed", "mail.example:25", Some(AttemptOutcome::NeverReached)),
            ask("listed", "mail.example:25", None),
            ask("all", "127.0.0.1:8700", None),
            ask("all", "anything.example:443", answered()),
            ask("none", "mail.example:25", None),
        ];
        insta::assert_snapshot!(told.join("\n\n"));
    }

    #[test]
    fn destinations_are_read_as_people_write_them() {
        let read = |text: &str| text.parse::<Destination>().map(|it| it.to_string());
        assert_eq!(read("Mail.Example.:25"), Ok("mail.example:25".to_owned()));
        assert_eq!(read("[2001:db8::7]:25"), Ok("[2001:db8::7]:25".to_owned()));
        for wrong in ["mail.example", "mail.example:0", "a b:25", ":25", "https://mail.example"] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
