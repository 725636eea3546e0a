use super::*;
use crate::model::{EnvironmentIndex, ReasonCode, ReleaseNumber, ReleaseSpec};

fn order(extra: &str) -> RunOrder {
    let spec: ReleaseSpec =
        serde_json::from_str(&format!(r#"{{"image":"lockers/locker-api:1.4.0"{extra}}}"#)).expect("a spec");
    RunOrder {
        once: None,
        secrets: Default::default(),
        values: Vec::new(),
        id: "staging/locker-api/a0".parse().expect("an id"),
        release: ReleaseNumber(1),
        environment: EnvironmentIndex::new(1).expect("in range"),
        spec,
        digest: "sha256:0".into(),
        address: [10, 118, 16, 2].into(),
    }
}

fn running(extra: &str) -> ReplicaRun {
    let mut run = ReplicaRun::new(order(extra));
    assert_eq!(run.handle(Event::Begin, 0), [Do::Fetch]);
    assert_eq!(run.handle(Event::Fetched, 1), [Do::Start]);
    run.handle(Event::Running, 2);
    run
}

const PORT: &str = r#","ports":{"http":8080}"#;

fn end(code: i32) -> Event {
    Event::Ended(Ended { code: Some(code), told: true, ..Ended::default() })
}

fn shown(run: &ReplicaRun) -> String {
    let report = run.report();
    format!("{}{}", report.state, report.reason.map(|reason| format!(" {reason}")).unwrap_or_default())
}

#[test]
fn the_start_time_is_reported_only_of_runs_seen_from_their_beginning() {
    let mut run = running(PORT);
    assert_eq!(run.report().ready_after, None);
    run.handle(Event::Probed(run.run_number(), Ok(())), 402);
    assert_eq!(run.report().ready_after, Some(Span::from_millis(400)));
    // Unready for a while and ready again says nothing of a start.
    run.handle(Event::Probed(run.run_number(), Ok(())), 90_000);
    assert_eq!(run.report().ready_after, Some(Span::from_millis(400)));
    let mut found = ReplicaRun::new(order(PORT));
    found.handle(Event::Found, 0);
    found.handle(Event::Probed(found.run_number(), Ok(())), 5);
    assert_eq!((found.report().state, found.report().ready_after), (ReplicaState::Ready, None));
}

#[test]
fn an_adopted_replica_is_reported_only_after_a_probe() {
    let mut run = running(PORT);
    assert!(!run.is_unsure());
    run.handle(Event::Found, 0);
    assert!(run.is_unsure());
    let number = run.run_number();
    run.handle(Event::Probed(number, Err(ProbeFault::Late)), 10);
    assert!(run.is_unsure(), "once is no proof");
    run.handle(Event::Probed(number, Ok(())), 20);
    assert!(!run.is_unsure());
    assert_eq!(run.report().state, ReplicaState::Ready);
}

#[test]
fn it_is_probed_at_once_and_then_often_until_it_is_ready() {
    let mut run = running(PORT);
    let mut waited = 0;
    for now in 0..6 {
        let list = run.handle(Event::Probed(1, Err(ProbeFault::Refused)), 3 + now);
        let [Do::Probe(1, pause)] = list[..] else { panic!("{list:?}") };
        waited += pause.millis();
    }
    assert!(waited < 40, "six tries within {waited} ms");
    run.handle(Event::Probed(1, Ok(())), 50);
    assert_eq!(shown(&run), "ready");
}

#[test]
fn listening_on_another_port_is_reported_and_becomes_a_fault_at_the_deadline() {
    let mut run = running(PORT);
    run.handle(Event::Probed(1, Err(ProbeFault::Refused)), 1600);
    run.handle(Event::Listening(vec![9090], vec![]), 60_000);
    assert_eq!(
        shown(&run),
        "starting not-listening: nothing listens on 8080 yet; the process listens on 9090",
        "without a time of its own, only the rollout's deadline ends the wait"
    );
    let mut run = running(PORT);
    run.order.spec.checks.start_within = Some(crate::model::Span::from_millis(1500));
    let asked = run.handle(Event::Probed(1, Err(ProbeFault::Refused)), 1600);
    assert_eq!(asked[0], Do::LookAtPorts);
    run.handle(Event::Listening(vec![9090], vec![]), 1601);
    assert_eq!(shown(&run), "failed port-silent: nothing listens on 8080; the process listens on 9090");
    run.handle(Event::Probed(1, Err(ProbeFault::Refused)), 4000);
    assert!(shown(&run).contains("port-silent"), "a refused probe does not hide the better fact");
    run.handle(Event::Probed(1, Ok(())), 5000);
    assert_eq!(shown(&run), "ready", "it may still come");
}

#[test]
fn loopback_only_and_no_listener_have_different_reasons() {
    let mut run = running(PORT);
    run.handle(Event::Listening(vec![], vec![8080]), 2000);
    assert!(shown(&run).contains("open on loopback only"));
    let mut run = running(PORT);
    run.handle(Event::Listening(vec![], vec![]), 4000);
    assert!(shown(&run).contains("nothing listens on 8080 yet; the process listens on no port"));
}

#[test]
fn pauses_grow_and_the_reason_names_code_and_last_lines() {
    let mut run = running("");
    let (mut pauses, mut now) = (Vec::new(), 10);
    for _ in 0..8 {
        let [Do::WakeAfter(pause)] = run.handle(end(78), now)[..] else { panic!("a pause") };
        pauses.push(pause.millis() / 1000);
        assert_eq!(
            run.handle(Event::Wake, now + pause.millis() - 1),
            [],
            "a wake that was asked for by an earlier run"
        );
        now += pause.millis();
        assert_eq!(run.handle(Event::Wake, now), [Do::Start]);
        run.handle(Event::Running, now);
        now += 1;
    }
    let begun = now - 1;
    assert_eq!(pauses, [1, 2, 4, 8, 16, 32, 60, 60]);
    assert_eq!(shown(&run), "failed keeps-ending: ended 8 times, the last with exit code 78");
    run.handle(Event::Wake, begun + UNCHECKED_READY_AFTER);
    assert!(shown(&run).starts_with("ready keeps-ending"), "it runs, and the trouble is not forgotten yet");
    run.handle(Event::Wake, begun + TROUBLE_FORGOTTEN_AFTER);
    assert_eq!(shown(&run), "ready");
}

#[test]
fn a_memory_kill_is_reported_from_the_kernels_count() {
    let mut run = running(r#","limits":{"memory":"64 MiB"}"#);
    let killed = Event::Ended(Ended { signal: Some(9), memory_kills: 1, told: true, ..Ended::default() });
    run.handle(killed, 100);
    assert_eq!(
        shown(&run),
        "failed out-of-memory: the kernel killed it for memory once; its limit is 64 MiB"
    );
    run.handle(Event::Wake, 1100);
    run.handle(Event::Running, 1101);
    run.handle(Event::MemoryKills(2), 1200);
    assert!(shown(&run).contains("3 times"), "a child that was killed counts too: {}", shown(&run));
}

#[test]
fn a_ready_replica_is_unready_after_three_failures_and_comes_back() {
    let mut run = running(PORT);
    run.handle(Event::Probed(1, Ok(())), 3);
    for now in [1000, 2000] {
        run.handle(Event::Probed(1, Err(ProbeFault::Status(503))), now);
        assert_eq!(shown(&run), "ready");
    }
    run.handle(Event::Probed(1, Err(ProbeFault::Status(503))), 2500);
    assert_eq!(shown(&run), "unready check-fails: a connection to 8080 answers 503");
    run.handle(Event::Probed(1, Ok(())), 2600);
    assert_eq!(shown(&run), "ready");
}

#[test]
fn a_stopping_replica_never_restarts() {
    let mut run = running(PORT);
    assert_eq!(run.handle(Event::Stop, 10), [Do::AskToStop]);
    assert_eq!(run.handle(Event::Wake, 11), []);
    assert_eq!(run.handle(Event::Probed(1, Ok(())), 12), []);
    assert_eq!(run.handle(end(0), 20), []);
    assert!(run.is_gone());

    let mut pausing = running("");
    pausing.handle(end(1), 10);
    assert_eq!(pausing.handle(Event::Stop, 11), []);
    assert!(pausing.is_gone(), "nothing of it runs, so nothing is waited for");
}

#[test]
fn probe_results_of_an_earlier_run_are_ignored() {
    let mut run = running(PORT);
    run.handle(end(1), 10);
    run.handle(Event::Wake, 1010);
    run.handle(Event::Running, 1011);
    run.handle(Event::Probed(1, Ok(())), 1012);
    assert_ne!(run.report().state, ReplicaState::Ready);
    run.handle(Event::Probed(2, Ok(())), 1013);
    assert_eq!(run.report().state, ReplicaState::Ready);
}

#[test]
fn one_lost_keeper_is_not_a_fault_of_the_release_and_many_are() {
    let mut run = running(PORT);
    let mut now = 0;
    for lost in 1..=5 {
        run.handle(Event::Ended(Ended::default()), now + 10);
        let code = run.report().reason.expect("a reason").code;
        assert_eq!(code, if lost < 5 { ReasonCode::KeeperLost } else { ReasonCode::KeepsEnding }, "{lost}");
        now += 40_000;
        run.handle(Event::Wake, now);
        run.handle(Event::Running, now + 1);
    }
}

#[test]
fn without_the_value_of_a_secret_it_waits_and_begins_when_the_value_comes() {
    let mut order = order(r#","settings":{"DB_PASSWORD":{"secret":"db-password"}}"#);
    let secret: crate::model::Name = "db-password".parse().expect("a name");
    order.secrets.insert(secret.clone(), 2);
    let mut run = ReplicaRun::new(order.clone());
    assert_eq!(run.handle(Event::Begin, 0), []);
    let lacks =
        "failed secret-missing: control sent no value of secret db-password version 2; its own log says why";
    assert_eq!(shown(&run), lacks);
    assert_eq!(run.complete(order.clone()), []);
    let value = crate::model::SecretValue(b"open".to_vec());
    order.values.push(crate::model::Given { secret, version: 2, value });
    assert_eq!(run.complete(order.clone()), [Do::Fetch]);
    assert_eq!(shown(&run), "fetching");
    assert_eq!(run.complete(order), [], "it came already");
}

#[test]
fn a_run_first_runs_once_and_its_outcome_is_reported() {
    let once = || {
        let mut order = order(PORT);
        order.once = Some(crate::model::Once { incarnation: Some(7) });
        let mut run = ReplicaRun::new(order);
        assert_eq!(run.handle(Event::Begin, 0), [Do::Fetch]);
        assert_eq!(run.handle(Event::Fetched, 1), [Do::Start]);
        let limit = crate::model::Span::from_secs(600);
        assert_eq!(run.handle(Event::Running, 2), [Do::WakeAfter(limit)], "it is not probed");
        assert_eq!(shown(&run), "ready");
        run
    };
    let outcome = |run: &ReplicaRun| run.report().outcome.map(|it| (it.state, it.how)).expect("an outcome");
    let mut passed = once();
    assert_eq!(passed.handle(end(0), 90_000), []);
    assert_eq!(outcome(&passed), (FirstState::Passed, "exit code 0".to_owned()));
    assert_eq!(passed.handle(Event::Wake, 200_000), [], "and never again");
    assert_eq!(passed.handle(Event::Stop, 200_001), []);
    assert!(passed.is_gone());
    let mut failed = once();
    failed.handle(end(3), 90_000);
    assert_eq!(outcome(&failed), (FirstState::Failed, "ended with exit code 3".to_owned()));
    let mut late = once();
    assert_eq!(late.handle(Event::Wake, 500_000), []);
    assert_eq!(late.handle(Event::Wake, 600_002), [Do::AskToStop]);
    assert_eq!(late.handle(Event::Wake, 600_003), [], "once is enough");
    late.handle(end(0), 600_100);
    assert_eq!(outcome(&late), (FirstState::Failed, "did not end within 10m, and was ended".to_owned()));
    let mut unknown = once();
    unknown.handle(Event::Ended(Ended::default()), 90_000);
    assert_eq!(outcome(&unknown).0, FirstState::Unknown);
    let mut refused = ReplicaRun::new(once().order);
    refused.handle(Event::Begin, 0);
    refused.handle(Event::Fetched, 1);
    refused.handle(Event::CouldNotStart("cannot find it".to_owned()), 2);
    assert_eq!(outcome(&refused), (FirstState::Failed, "could not be started: cannot find it".to_owned()));
}

#[test]
fn what_ended_an_earlier_run_is_no_reason_once_a_run_lasts() {
    let mut run = running(PORT);
    run.handle(Event::Ended(Ended { signal: Some(9), told: true, memory_kills: 1, ..Ended::default() }), 100);
    run.handle(Event::Wake, 10_000);
    run.handle(Event::Running, 10_100);
    let probe = |run: &mut ReplicaRun, at| {
        let number = run.run_number();
        run.handle(Event::Probed(number, Err(ProbeFault::Status(500))), at);
    };
    probe(&mut run, 13_500);
    assert_eq!(run.report().reason.map(|it| it.code), Some(ReasonCode::OutOfMemory), "it may end so again");
    probe(&mut run, 25_000);
    assert_eq!(run.report().reason.map(|it| it.code), Some(ReasonCode::CheckFails));
}

#[test]
fn ready_and_not_ready_in_turns_is_a_reason_of_its_own_until_it_has_been_well_for_a_while() {
    let mut run = running(PORT);
    let code = |run: &ReplicaRun| run.report().reason.map(|reason| reason.code);
    let mut now = 0;
    let mut turn = |run: &mut ReplicaRun| {
        now += 2000;
        run.handle(Event::Probed(1, Ok(())), now);
        for _ in 0..3 {
            now += 1000;
            run.handle(Event::Probed(1, Err(ProbeFault::Status(503))), now);
        }
        now
    };
    turn(&mut run);
    assert_eq!(code(&run), Some(ReasonCode::CheckFails), "once may happen");
    turn(&mut run);
    let last = turn(&mut run);
    assert_eq!((run.report().state, code(&run)), (ReplicaState::Unready, Some(ReasonCode::Flapping)));
    run.handle(Event::Probed(1, Ok(())), last + 1000);
    let report = run.report();
    assert_eq!((report.state, code(&run)), (ReplicaState::Ready, Some(ReasonCode::Flapping)));
    insta::assert_snapshot!(report.reason.expect("its reason").sentence, @r"it was ready and was not again 3 times in the last 5 minutes; the last failed check: a connection to 8080 answers 503");
    run.handle(Event::Probed(1, Ok(())), last + FLAPS_WITHIN);
    assert_eq!(code(&run), None);
}

#[test]
fn a_late_answer_is_reported_with_its_time_and_the_limit() {
    let mut run = running(&format!(r#"{PORT},"checks":{{"ready":{{"path":"/up","within":"1s"}}}}"#));
    let late = |run: &mut ReplicaRun, now| {
        run.handle(Event::Probed(1, Err(ProbeFault::Late)), now);
        run.report().reason.map(|reason| reason.sentence).unwrap_or_default()
    };
    let silent = late(&mut run, 4000);
    run.handle(Event::AnsweredLate(1, Span::from_millis(2340)), 5000);
    let slow = late(&mut run, 6000);
    // Nearly as late is the same to a person, and is not written down again.
    run.handle(Event::AnsweredLate(1, Span::from_millis(2900)), 7000);
    assert_eq!(late(&mut run, 8000), slow);
    insta::assert_snapshot!(format!("{silent}\n{slow}"), @r"GET /up on 8080 is not answered within 1s, which the check allows
GET /up on 8080 is answered after 2300ms; the check allows 1s");
}

#[test]
fn a_process_limit_is_reported_while_it_is_hit_and_when_the_count_grows() {
    let mut run = running(&format!(r#"{PORT},"limits":{{"processes":16}}"#));
    run.handle(Event::Probed(1, Ok(())), 100);
    let sentence = |run: &ReplicaRun| run.report().reason.map(|reason| reason.sentence).unwrap_or_default();
    run.handle(Event::ProcessesRefused(1), 200);
    insta::assert_snapshot!(sentence(&run), @r"the kernel refused it another process or thread once; its limit is 16");
    let first = sentence(&run);
    run.handle(Event::ProcessesRefused(2), 300);
    let second = sentence(&run);
    assert_ne!(first, second);
    run.handle(Event::ProcessesRefused(3), 400);
    assert_eq!(sentence(&run), second);
    run.handle(Event::Wake, 300 + TROUBLE_FORGOTTEN_AFTER);
    assert_eq!(sentence(&run), second, "it went on meanwhile");
    run.handle(Event::Wake, 400 + TROUBLE_FORGOTTEN_AFTER);
    assert_eq!(sentence(&run), "");
    run.handle(Event::ProcessesRefused(4), 900_000);
    assert_ne!(sentence(&run), "", "it begins again");
}
