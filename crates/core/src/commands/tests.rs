use super::*;

use crate::model::{Name, OutgoingMode};
use crate::record::State;

fn name(text: &str) -> Name {
    text.parse().expect("a name")
}

#[test]
fn a_command_that_was_written_down_does_the_same_when_it_is_carried_out_again() {
    let now: Timestamp = "2026-05-04T09:00:00Z".parse().expect("a moment");
    let commands: [Command; 4] = [
        AddEnvironment { name: name("staging"), domain: None, outgoing: OutgoingMode::None }.into(),
        AddEnvironment {
            name: name("production"),
            domain: Some("lockers.localhost".to_owned()),
            outgoing: OutgoingMode::Listed,
        }
        .into(),
        ChangeEnvironment {
            name: name("production"),
            outgoing: Some(OutgoingMode::All),
            image_rule: None,
            live_changes: None,
        }
        .into(),
        RemoveEnvironment { name: name("staging") }.into(),
    ];
    let mut first = Cluster::new(State::default(), 1, now);
    let mut again = first.clone();
    for command in commands {
        let written = serde_json::to_string(&command).expect("a command is written");
        let outcome = first.carry_out(&command, "mira", now).expect("it is done");
        let read: Command = serde_json::from_str(&written).expect("and read again");
        assert_eq!(again.carry_out(&read, "mira", now).as_ref(), Ok(&outcome), "{written}");
        let told = serde_json::to_string(&outcome).expect("an outcome is written");
        assert_eq!(serde_json::from_str::<Outcome>(&told).expect("and read again"), outcome);
    }
    assert_eq!(first.state, again.state);
    assert_eq!(first.state.environments.len(), 1);
}

#[test]
fn an_outcome_is_of_its_own_kind_only() {
    let outcome = Outcome::AddEnvironment(EnvironmentAdded { name: name("staging") });
    assert!(RemoveEnvironment::outcome_of(outcome.clone()).is_none());
    assert!(AddEnvironment::outcome_of(outcome).is_some());
}
