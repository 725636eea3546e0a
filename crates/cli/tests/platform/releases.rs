//! Scaling, moving to releases good and bad, and back, with visitors all the while.

use std::io::{BufReader, Read, Write};
use std::net::TcpStream;

use crate::common::{Platform, Visitors, isolated, read_answer, request, shared_snapshots, until};

const API: &str = "api.staging.lockers.localhost";

#[test]
fn no_request_is_lost_over_rollout_scale_and_rollback() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let visitors = Visitors::start(platform.http, API, 6);
    let done = platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    assert!(
        done.contains("done: release 2 runs with 3 replicas ready") && done.contains("; 0 of "),
        "{done}"
    );
    platform.ok(&["scale", "staging/locker-api", "12"]);
    let answering: std::collections::BTreeSet<String> =
        (0..120).map(|_| platform.get(API, "/who").json()["replica"].to_string()).collect();
    assert_eq!(answering.len(), 12, "each of them answers: {answering:?}");
    platform.ok(&["scale", "staging/locker-api", "2"]);
    let back = platform.ok(&["rollback", "staging/locker-api"]);
    assert!(back.contains("release 3 (same as 1)"), "{back}");
    let seen = visitors.finish();
    let failed: Vec<_> = seen.iter().filter(|(kind, _)| kind.starts_with("failed")).collect();
    assert_eq!(failed, Vec::<(&String, &usize)>::new());
    assert!(seen["1.4.0"] > 20 && seen["1.5.0"] > 20, "{seen:?}");
    // The verdict and the gateway's table leave control at the same moment, on different ways.
    until("visitors are back at 1.4.0", || {
        (platform.get(API, "/who").json()["version"] == "1.4.0").then_some(())
    });

    let compared = platform.ok(&["compare", "staging/locker-api@1", "staging/locker-api@2"]);
    assert!(compared.contains("image") && compared.contains("1.5.0"), "{compared}");
    let same = platform.ok(&["compare", "staging/locker-api@1", "staging/locker-api@3"]);
    assert!(same.ends_with("are the same\n"), "{same}");
    let unknown = platform.run(&["compare", "staging/locker-api@1", "staging/locker-api@9"]);
    assert!(unknown.code == 3 && unknown.err.contains("kept are 1, 2, 3"), "{unknown:?}");
}

#[test]
fn each_bad_release_has_its_own_reason_and_the_old_one_serves() {
    let _shared = shared_snapshots().bind_to_scope();
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let visitors = Visitors::start(platform.http, API, 2);
    let said = platform.run(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.6.1"]);
    assert_eq!(said.code, 1, "{said:?}");
    insta::assert_snapshot!("deploy_to_another_port", platform.tidy(&said.err));
    let releases = platform.ok(&["releases", "staging/locker-api"]);
    assert!(releases.contains("▲ went-back  image 1.4.0 → 1.6.1"), "{releases}");
    let seen = visitors.finish();
    assert_eq!(
        seen.keys().filter(|kind| kind.starts_with("failed")).collect::<Vec<_>>(),
        Vec::<&String>::new(),
        "{seen:?}"
    );
    // One that the kernel kills takes the requests along that are open in it, and answers late before: nobody asks here,
    // so that its end is what is seen.
    let unvisited = "application = \"unvisited\"\n[workload.unvisited]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 3\n\
                     ports = { http = 8080 }\nlimits = { memory = \"64 MiB\" }\nchecks = { ready = { path = \"/ready\" } }\n";
    let file = platform.dir.path().join("unvisited.toml");
    std::fs::write(&file, unvisited).expect("a file");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
    let said = platform.run(&["deploy", "staging/unvisited", "--image", "lockers/locker-api:1.7.0"]);
    assert_eq!(said.code, 1, "{said:?}");
    let told = if isolated() {
        "out-of-memory: release 2 went back: the kernel killed it for memory"
    } else {
        "keeps-ending: release 2 went back: ended"
    };
    assert!(said.err.contains(told), "{said:?}");
    // The replicas of the release that went back go; what they wrote is kept with it.
    platform.workload("staging/unvisited", |w| w["state"] == "steady");
    let kept = platform.ok(&["logs", "staging/unvisited@2", "--tail", "1000"]);
    assert!(kept.contains("locker-api 1.7.0 starts") && !kept.contains("1.4.0"), "{kept}");
    platform.workload("staging/locker-api", |w| w["state"] == "steady" && w["release"] == 1);

    let missing = platform.run(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.4.1"]);
    assert_eq!(missing.code, 3);
    insta::assert_snapshot!("deploy_an_image_that_is_not_there", missing.err);
    let same = platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.4.0"]);
    assert!(same.contains("nothing would differ"), "{same}");
    let text = "application = \"lockers\"\n[workload.slot-planner]\nimage = \"lockers/locker-api:1.4.0\"\n\
                limits = { memory = \"900 GiB\" }\nreserve = { memory = \"900 GiB\" }\n";
    let file = platform.dir.path().join("large.toml");
    std::fs::write(&file, text).expect("a file");
    let room = platform.run(&["declare", &file.display().to_string(), "--in", "staging"]);
    assert_eq!(room.code, 1, "{room:?}");
    assert!(
        room.err.contains("no-room: a replica asks for 0.01 cpu and 900 GiB; free: node-1 has"),
        "{room:?}"
    );
}

#[test]
fn bodies_stream_both_ways_and_upgrades_pass() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let length = 48usize << 20;
    let down = platform.get(API, &format!("/bytes/{length}"));
    assert_eq!((down.status, down.body.len()), (200, length));
    let head = format!(
        "POST /count HTTP/1.1\r\nhost: {API}\r\ncontent-length: {length}\r\nconnection: close\r\n\r\n"
    );
    assert_eq!(request(platform.http, API, &head, &vec![b'.'; length]).text(), format!("{length}\n"));
    let chunked = format!(
        "POST /count HTTP/1.1\r\nhost: {API}\r\ntransfer-encoding: chunked\r\nconnection: close\r\n\r\n"
    );
    assert_eq!(
        request(platform.http, API, &chunked, b"5\r\nhello\r\n6\r\n world\r\n0\r\n\r\n").text(),
        "11\n"
    );
    // The gateway's memory stays flat: it never holds a body.
    let gateway = platform.part("gateway")[0];
    let status = std::fs::read_to_string(format!("/proc/{gateway}/status")).expect("its status");
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).expect("its peak");
    let peak: u64 = peak.split_whitespace().next().and_then(|kib| kib.parse().ok()).expect("a number");
    assert!(peak < 100 * 1024, "{peak} KiB at its peak, with bodies of 48 MiB");

    let mut stream = TcpStream::connect(platform.http).expect("a connection");
    let ask = format!(
        "GET /live HTTP/1.1\r\nhost: {API}\r\nconnection: Upgrade\r\nupgrade: websocket\r\nsec-websocket-version: 13\r\n\
         sec-websocket-key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
    );
    stream.write_all(ask.as_bytes()).expect("sent");
    let mut reader = BufReader::new(stream.try_clone().expect("the same connection"));
    let answer = read_answer(&mut reader).expect("an answer");
    assert_eq!(answer.status, 101);
    assert_eq!(answer.headers["sec-websocket-accept"], "s3pPLMBiTxaQ9kYGzzhZRbK+xOo=");
    stream.write_all(&[0x81, 0x85, 0, 0, 0, 0, b'h', b'e', b'l', b'l', b'o']).expect("sent");
    let mut frame = [0; 7];
    reader.read_exact(&mut frame).expect("an echo");
    assert_eq!(&frame, b"\x81\x05hello");

    let headers = platform.get(API, "/headers").text();
    assert!(
        headers.contains("x-forwarded-proto: http\n") && headers.contains("x-forwarded-for: 127.0.0.1\n"),
        "{headers}"
    );
}
