//! A workload that follows its load: what the load, a person and a file each may change, and how it sleeps and wakes.

use super::*;
use crate::link::WaitingRequests;

fn grows(bounds: &str) -> String {
    MANIFEST.replace("replicas = 3", &format!("replicas = {{ {bounds}, each = {{ open = 10 }} }}"))
}

impl Yard {
    fn wanted(&self) -> u32 {
        self.cluster.state.workloads[&api()].wanted
    }

    fn grow(&mut self, to: u32) {
        self.cluster.at(self.now).grow(&api(), to, "the load asks").expect("it is there");
        self.settle_down();
    }

    fn scale(&mut self, by: &str, to: u32) {
        self.cluster.transaction(by, self.now).scale(&api(), to).expect("taken");
        self.settle_down();
    }

    fn ask(&mut self) {
        let service = api();
        self.cluster.at(self.now).requests_wait(&[WaitingRequests { service, count: 1 }]);
    }
}

#[test]
fn the_load_moves_the_number_within_its_bounds() {
    let mut yard = Yard::new();
    let words = yard.declare(&grows("min = 2, max = 6"), false);
    assert_eq!(words[0], "workload locker-api: 2 × lockers/locker-api:1.4.0, 2 to 6 as the load needs");
    yard.settle_down();
    assert_eq!(yard.backends().len(), 2);
    yard.grow(4);
    assert_eq!((yard.backends().len(), yard.state()), (4, WorkloadState::Steady));
    yard.grow(60);
    assert_eq!(yard.backends().len(), 6);
    yard.grow(0);
    assert_eq!(yard.backends().len(), 2);
    let last = yard.cluster.state.workloads[&api()].growing.as_ref().and_then(|it| it.last.clone());
    assert_eq!(last.expect("a change").to_string(), "shrunk from 6 to 2: the load asks");
    assert_eq!(yard.declare(&grows("min = 2, max = 6"), false), Vec::<String>::new(), "nothing changes");
}

#[test]
fn a_persons_number_holds_until_the_load_is_followed_again() {
    let mut yard = Yard::new();
    yard.declare(&grows("min = 2, max = 6"), false);
    yard.settle_down();
    yard.scale("mira", 2);
    yard.grow(5);
    assert_eq!(yard.wanted(), 2, "also where it is the number that there was");
    yard.scale("mira", 9);
    yard.grow(3);
    assert_eq!(yard.wanted(), 9, "a person knows better than the bounds");
    yard.cluster.transaction("mira", yard.now).follow_load(&api()).expect("it declares a rule");
    assert_eq!(yard.wanted(), 6);
    yard.grow(3);
    assert_eq!(yard.wanted(), 3);
    yard.scale("jon", 5);
    let words = yard.declare(&grows("min = 2, max = 6"), false);
    assert!(
        words[0].starts_with(
            "workload locker-api: replicas follow the load again, 2 to 6 as the load needs (scaled by jon at"
        ),
        "{words:?}"
    );
    yard.grow(4);
    assert_eq!(yard.wanted(), 4);
    let refused = {
        yard.declare(MANIFEST, false);
        yard.cluster.transaction("mira", yard.now).follow_load(&api()).expect_err("there is no rule")
    };
    assert!(refused.message.contains("replicas = { min = 2, max = 20"), "{refused:?}");
    assert_eq!(yard.wanted(), 3);
}

#[test]
fn a_held_workload_does_not_follow_its_load() {
    let mut yard = Yard::new();
    yard.declare(&grows("min = 2, max = 6"), false);
    yard.settle_down();
    yard.cluster.transaction("mira", yard.now).hold(&api(), "looking").expect("held");
    yard.grow(5);
    assert_eq!(yard.wanted(), 2);
    yard.cluster.transaction("mira", yard.now).resume(&api()).expect("resumed");
    yard.grow(5);
    assert_eq!(yard.wanted(), 5);
}

#[test]
fn it_sleeps_and_a_request_wakes_it() {
    let mut yard = Yard::new();
    yard.declare(&grows("min = 0, max = 6"), false);
    yard.settle_down();
    assert_eq!(yard.backends().len(), 1, "it begins awake");
    assert!(yard.table.services["staging/locker-api"].wakes.is_none(), "somebody answers");
    yard.grow(0);
    let entry = &yard.table.services["staging/locker-api"];
    assert_eq!((yard.state(), entry.ports[&80].len()), (WorkloadState::Asleep, 0));
    assert_eq!(entry.wakes.map(|waking| (waking.within.millis(), waking.queue)), Some((30_000, 1000)));
    assert_eq!(entry.reason.as_ref().map(|reason| reason.code.word()), Some("asleep"));
    yard.ask();
    assert_eq!(yard.wanted(), 1);
    yard.settle_down();
    assert_eq!((yard.state(), yard.backends().len()), (WorkloadState::Steady, 1));
    let origin = &yard.cluster.state.workloads[&api()].wanted_origin;
    assert_eq!((origin.by.as_str(), origin.act.as_str()), ("platform", "woken"));
}

#[test]
fn what_a_person_scaled_to_zero_is_off_and_does_not_wake() {
    let mut yard = Yard::new();
    yard.declare(&grows("min = 0, max = 6"), false);
    yard.settle_down();
    yard.scale("mira", 0);
    assert_eq!(yard.state(), WorkloadState::Off);
    assert!(yard.table.services["staging/locker-api"].wakes.is_none());
    yard.ask();
    yard.settle_down();
    assert_eq!((yard.wanted(), yard.state()), (0, WorkloadState::Off));
}

#[test]
fn a_release_of_one_that_sleeps_is_tried_and_one_that_fails_does_not_keep_requests_waiting() {
    let mut yard = Yard::new();
    yard.declare(
        &grows("min = 0, max = 6").replace("ports =", "rollout = { deadline = \"3s\" }\nports ="),
        false,
    );
    yard.settle_down();
    yard.grow(0);
    assert_eq!(yard.state(), WorkloadState::Asleep);
    let image = Some("lockers/locker-api:1.5.0".parse().expect("an image"));
    let request = DeployRequest { image, ..DeployRequest::default() };
    yard.cluster.transaction("mira", yard.now).deploy(&api(), &request).expect("taken");
    yard.settle_down();
    let rollout = yard.cluster.state.newest_rollout(&api()).expect("a rollout");
    assert_eq!((rollout.to, rollout.state), (ReleaseNumber(2), RolloutState::Done));
    assert_eq!(yard.backends().len(), 1);
}
