//! More is asked than replicas can take: what they take at once is bounded, some wait, others are refused, and work goes on.

use std::collections::BTreeMap;
use std::io::{BufReader, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, mpsc};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::place::{Gateway, Place, Replica, read_request, replica};

const OK: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nok";
const BROKEN: &[u8] = b"HTTP/1.1 500 Oh\r\ncontent-length: 0\r\n\r\n";

/// A service whose replicas take so much.
fn service(replicas: &[&Replica], capacity: Value) -> Gateway {
    let backends = replicas.iter().enumerate().map(|(number, replica)| {
        json!({"replica": format!("staging/api/a{number}"), "release": 1, "node": "node-1", "address": replica.address, "capacity": capacity})
    });
    let ports = json!({"ports": {"80": backends.collect::<Vec<_>>()}});
    Place::default().service_with("api", &[], ports).api(json!({})).open()
}

/// Asks once on a connection of its own; gives the status, the head and how long it took.
fn ask(gateway: &Gateway) -> (u16, String, Duration) {
    let begun = Instant::now();
    let answer = gateway.send(b"GET / HTTP/1.1\r\nhost: a.test\r\nconnection: close\r\n\r\n");
    (answer.status, answer.head, begun.elapsed())
}

/// How many requests may go on.
type Gate = (Mutex<usize>, Condvar);

/// A replica that answers each request when the test lets it, and tells that it has one.
fn held() -> (Replica, mpsc::Receiver<()>, Arc<Gate>) {
    let (told, telling) = mpsc::channel();
    let let_go = Arc::new((Mutex::new(0usize), Condvar::new()));
    let gate = Arc::clone(&let_go);
    let holding = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a second handle"));
        while read_request(&mut reader).is_some() {
            let _ = told.send(());
            let (count, changed) = &*gate;
            let mut count =
                changed.wait_while(count.lock().expect("the gate"), |count| *count == 0).expect("the gate");
            *count -= 1;
            if stream.write_all(OK).is_err() {
                return;
            }
        }
    });
    (holding, telling, let_go)
}

fn open_gate((count, changed): &Gate, by: usize) {
    *count.lock().expect("the gate") += by;
    changed.notify_all();
}

#[test]
fn a_replica_gets_as_many_as_it_takes_some_wait_and_others_are_refused_at_once() {
    let (holding, told, gate) = held();
    let gateway = Arc::new(service(&[&holding], json!({"requests": 2, "queue": 1, "queue_time": "10s"})));
    let (ended, results) = mpsc::channel();
    let visit = || {
        let (gateway, ended) = (Arc::clone(&gateway), ended.clone());
        std::thread::spawn(move || ended.send(ask(&gateway)))
    };
    for _ in 0..2 {
        visit();
        told.recv_timeout(Duration::from_secs(10)).expect("a request");
    }
    // Of two more, one waits and the other is refused.
    (0..2).for_each(|_| drop(visit()));
    let (status, head, took) = results.recv_timeout(Duration::from_secs(10)).expect("a refusal");
    assert!(status == 503 && took < Duration::from_millis(500), "{status} after {took:?}");
    assert!(head.to_lowercase().contains("retry-after: 10"), "{head}");
    assert!(told.try_recv().is_err(), "it works on no third one");
    open_gate(&gate, 3);
    for _ in 0..3 {
        assert_eq!(results.recv_timeout(Duration::from_secs(10)).expect("an answer").0, 200);
    }
}

#[test]
fn who_waits_too_long_is_refused_with_the_reason() {
    let (holding, told, gate) = held();
    let gateway = Arc::new(service(&[&holding], json!({"requests": 1, "queue": 5, "queue_time": "300ms"})));
    std::thread::scope(|scope| {
        let first = scope.spawn(|| ask(&gateway));
        told.recv_timeout(Duration::from_secs(10)).expect("a request");
        let answer = gateway
            .send(b"GET / HTTP/1.1\r\nhost: a.test\r\naccept: application/json\r\nconnection: close\r\n\r\n");
        let text = String::from_utf8_lossy(&answer.body).into_owned();
        assert_eq!(answer.status, 503, "{text}");
        assert!(text.contains("\"overloaded\""), "{text}");
        open_gate(&gate, 1);
        assert_eq!(first.join().expect("it ends").0, 200);
    });
}

#[test]
fn streams_keep_nobody_waiting() {
    let streaming = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a second handle"));
        while let Some(read) = read_request(&mut reader) {
            if read.head[0].contains("/news") {
                let _ =
                    stream.write_all(b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n5\r\nfirst\r\n");
                // It goes on until the visitor leaves.
                let _ = read_request(&mut reader);
                return;
            }
            if stream.write_all(OK).is_err() {
                return;
            }
        }
    });
    let gateway = service(&[&streaming], json!({"requests": 1, "queue": 0, "queue_time": "1s"}));
    let mut reader = TcpStream::connect(gateway.http).expect("a connection");
    reader.write_all(b"GET /news HTTP/1.1\r\nhost: a.test\r\n\r\n").expect("sent");
    let mut head = [0; 15];
    std::io::Read::read_exact(&mut reader, &mut head).expect("an answer");
    assert_eq!(&head, b"HTTP/1.1 200 OK");
    assert_eq!(ask(&gateway).0, 200, "the only place is free again");
}

/// A replica that works on so many at once, each for so long, and the most that it had at once.
fn working(workers: usize, time: Duration) -> (Replica, Arc<AtomicUsize>) {
    let (free, most) = (Arc::new((Mutex::new(workers), Condvar::new())), Arc::new(AtomicUsize::new(0)));
    let (inside, told) = (AtomicUsize::new(0), Arc::clone(&most));
    let working = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a second handle"));
        while read_request(&mut reader).is_some() {
            told.fetch_max(inside.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
            let (count, changed) = &*free;
            *changed.wait_while(count.lock().expect("workers"), |count| *count == 0).expect("workers") -= 1;
            std::thread::sleep(time);
            *count.lock().expect("workers") += 1;
            changed.notify_one();
            inside.fetch_sub(1, Ordering::SeqCst);
            if stream.write_all(OK).is_err() {
                return;
            }
        }
    });
    (working, most)
}

/// Asks so many times a second for so long, whether or not answers come; gives how many were answered by status, and the
/// longest time of those that were answered well.
fn arrivals(gateway: &Arc<Gateway>, per_second: u32, seconds: u32) -> (BTreeMap<u16, usize>, Duration) {
    let begun = Instant::now();
    let all: Vec<_> = (0..per_second * seconds)
        .map(|number| {
            let at = begun + Duration::from_secs(1) / per_second * number;
            let gateway = Arc::clone(gateway);
            std::thread::sleep(at.saturating_duration_since(Instant::now()));
            std::thread::spawn(move || ask(&gateway))
        })
        .collect();
    let (mut counts, mut longest) = (BTreeMap::new(), Duration::ZERO);
    for (status, _, took) in all.into_iter().map(|one| one.join().expect("it ends")) {
        *counts.entry(status).or_default() += 1;
        longest = longest.max(if status == 200 { took } else { Duration::ZERO });
    }
    (counts, longest)
}

#[test]
fn at_four_times_its_capacity_a_service_answers_as_many_as_at_its_best_and_in_time() {
    // Together 160 a second.
    let (one, most) = working(4, Duration::from_millis(50));
    let (two, _) = working(4, Duration::from_millis(50));
    let gateway = Arc::new(service(&[&one, &two], json!({"queue": 20, "queue_time": "500ms"})));
    let (at_rest, _) = arrivals(&gateway, 80, 2);
    assert_eq!(at_rest.get(&200), Some(&160), "{at_rest:?}");
    let (counts, longest) = arrivals(&gateway, 640, 4);
    let answered = counts.get(&200).copied().unwrap_or(0);
    assert!(answered >= 4 * 160 * 9 / 10, "{counts:?}");
    assert_eq!(counts.len(), 2, "others are refused: {counts:?}");
    assert!(counts.contains_key(&503), "{counts:?}");
    // The queue's time, and what the replica needs for what it was given.
    assert!(longest < Duration::from_millis(2500), "{longest:?}");
    assert!(most.load(Ordering::SeqCst) <= 64, "{most:?} at once");
    let (after, longest) = arrivals(&gateway, 80, 1);
    assert_eq!(after.get(&200), Some(&80), "it is well again: {after:?}");
    assert!(longest < Duration::from_millis(1000), "{longest:?}");
}

#[test]
fn a_replica_that_answers_errors_is_given_less_and_one_that_recovers_gets_its_part_again() {
    let is_broken = Arc::new(AtomicBool::new(true));
    let (well, _) = working(100, Duration::ZERO);
    let count = Arc::new(AtomicUsize::new(0));
    let (broken, counted) = (Arc::clone(&is_broken), Arc::clone(&count));
    let failing = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a second handle"));
        while read_request(&mut reader).is_some() {
            counted.fetch_add(1, Ordering::SeqCst);
            let answer = if broken.load(Ordering::SeqCst) { BROKEN } else { OK };
            if stream.write_all(answer).is_err() {
                return;
            }
        }
    });
    let gateway = service(&[&well, &failing], json!({"queue": 20, "queue_time": "1s"}));
    let statuses = |times: usize| (0..times).filter(|_| ask(&gateway).0 == 500).count();
    let failed = statuses(200);
    assert!((5..60).contains(&failed), "{failed} of 200, where its part is 100");
    is_broken.store(false, Ordering::SeqCst);
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(20) {
        let before = count.load(Ordering::SeqCst);
        statuses(40);
        if count.load(Ordering::SeqCst) - before >= 18 {
            return;
        }
    }
    panic!("it never gets its part again");
}

#[test]
fn a_replica_of_few_threads_keeps_some_for_its_checks_and_none_for_connections_that_nobody_uses() {
    const THREADS: usize = 40;
    let open = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&open);
    let few = replica(move |mut stream| {
        let held = counted.fetch_add(1, Ordering::SeqCst);
        let mut reader = BufReader::new(stream.try_clone().expect("a second handle"));
        // Beyond them it closes a connection at once.
        while held < THREADS && read_request(&mut reader).is_some() {
            std::thread::sleep(Duration::from_millis(20));
            if stream.write_all(OK).is_err() {
                break;
            }
        }
        counted.fetch_sub(1, Ordering::SeqCst);
    });
    let gateway = Arc::new(service(&[&few], json!({"queue": 1000, "queue_time": "5s"})));
    // Each asks again as soon as it is answered.
    let broken: usize = std::thread::scope(|scope| {
        let visit = || (0..25).filter(|_| ask(&gateway).0 != 200).count();
        let visitors: Vec<_> = (0..200).map(|_| scope.spawn(visit)).collect();
        visitors.into_iter().map(|visitor| visitor.join().expect("it ends")).sum()
    });
    assert!(broken < 500, "{broken} of 5000 failed while the limit was found");
    let held = open.load(Ordering::SeqCst);
    assert!(held < THREADS, "{held} connections after the load");
    let begun = Instant::now();
    while open.load(Ordering::SeqCst) > 4 {
        assert!(begun.elapsed() < Duration::from_secs(20), "{open:?} are still open");
        std::thread::sleep(Duration::from_millis(50));
    }
}
