//! A large table: 5,000 routes and 20,000 replicas. How long a look-up takes beside that of a small table, how long a change
//! takes until requests follow it, and the memory that it takes. Then, where seconds are given in `MAINYARD_FUZZ`, mutated
//! requests and tables for so long: nothing may fall over, and what passes must be read the same by another reader.

use std::hint::black_box;
use std::net::Ipv4Addr;
use std::time::{Duration, Instant};

use mainyard_core::http_framing::{FramerAction, Framing};
use mainyard_core::model::{ReleaseNumber, ReplicaId, RouteSpec, Target};
use mainyard_core::routing::{
    Backend, Capacity, Finder, LegEntry, MatchInput, RouteEntry, ServiceEntry, Table, TableVersion,
};

const REPLICAS: usize = 20_000;
const SERVICES: usize = 2_000;

fn service(number: usize, first: usize, count: usize) -> (String, ServiceEntry) {
    let target: Target = format!("staging/s{number}").parse().expect("a target");
    let backend = |place: usize| Backend {
        replica: ReplicaId::new(target.clone(), format!("a{place}")),
        release: ReleaseNumber(1),
        node: "node-1".parse().expect("a name"),
        address: std::net::SocketAddrV4::new(Ipv4Addr::from(0x0a76_1000 + (first + place) as u32), 8080),
        capacity: Capacity::default(),
    };
    let backends: Vec<Backend> = (0..count).map(backend).collect();
    let address = Ipv4Addr::from(0x0a76_0010 + number as u32);
    let entry = serde_json::json!({"target": target, "environment": 1, "address": address, "ports": {"80": backends}, "reason": null});
    (target.to_string(), serde_json::from_value(entry).expect("an entry"))
}

fn table(routes: usize) -> Table {
    let each = REPLICAS / SERVICES;
    let services = (0..SERVICES).map(|number| service(number, number * each, each));
    let route = |number: usize| {
        let name = format!("s{}", number % SERVICES).parse().expect("a name");
        // Half of them share one host, each with a path of its own.
        let host = if number.is_multiple_of(2) { "one.test".to_owned() } else { format!("h{number}.test") };
        let path = if number.is_multiple_of(2) { format!("/p{number}/v1") } else { "/".to_owned() };
        let spec = RouteSpec { path, ..RouteSpec::plain(Some(host), name) };
        let to = vec![LegEntry { service: format!("staging/s{}", number % SERVICES), port: 80, share: 100 }];
        (format!("staging/r{number}"), RouteEntry { spec, to })
    };
    let version = TableVersion { epoch: 1, counter: 1 };
    Table {
        version,
        services: services.collect(),
        routes: (0..routes).map(route).collect(),
        ..Table::default()
    }
}

fn look_up(routes: usize) -> f64 {
    let table = table(routes);
    let finder = Finder::new(table.routes.values().map(|route| (&route.spec, &route.spec)));
    let last = (routes - 1) / 2 * 2;
    let path = format!("/p{last}/v1/parcels/17/open");
    let asked = MatchInput { host: "one.test", path: &path, method: "GET", header: |_: &str| None };
    let begun = Instant::now();
    for _ in 0..200_000 {
        black_box(finder.find(black_box(&asked)).expect("found"));
    }
    begun.elapsed().as_nanos() as f64 / 200_000.0
}

fn memory() -> u64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok()).unwrap_or(0)
}

fn main() {
    let (small, large) = (look_up(10), look_up(5_000));
    println!(
        "look-up by host and path: {small:.0} ns of 10 routes, {large:.0} ns of 5,000: {:.2} times",
        large / small
    );
    let before = memory();
    let serving = mainyard_gateway::Serving::new(2, None);
    let mut known = table(5_000);
    let begun = Instant::now();
    serving.take(&known);
    println!(
        "whole table of 5,000 routes and {REPLICAS} replicas: taken in {:.1} ms, {} MiB of memory",
        begun.elapsed().as_secs_f64() * 1000.0,
        (memory() - before) / 1024
    );
    let mut times = Vec::new();
    for round in 2..102 {
        let mut next = known.clone();
        next.version.counter = round;
        let (key, entry) = service(round as usize * 7 % SERVICES, round as usize * 50, 10);
        next.services.insert(key, entry);
        // What control does, what travels, and what the gateway does.
        let begun = Instant::now();
        let change = next.change_from(&known);
        let line = serde_json::to_vec(&change).expect("JSON");
        let read = serde_json::from_slice(&line).expect("read back");
        assert!(serving.take_change(&read));
        times.push(begun.elapsed().as_secs_f64() * 1000.0);
        known = next;
    }
    times.sort_by(f64::total_cmp);
    println!(
        "one service changed, until requests follow it: {:.1} ms median, {:.1} ms at most of 100",
        times[50], times[99]
    );
    if let Some(seconds) = std::env::var("MAINYARD_FUZZ").ok().and_then(|text| text.parse().ok()) {
        fuzz(Duration::from_secs(seconds));
    }
}

/// SplitMix64.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    fn below(&mut self, end: usize) -> usize {
        (self.next() % end.max(1) as u64) as usize
    }

    fn mutate(&mut self, bytes: &mut Vec<u8>) {
        const PIECES: [&[u8]; 12] = [
            b"\r\n",
            b"\n",
            b"\r",
            b"\0",
            b" ",
            b"\t",
            b"Content-Length: 3\r\n",
            b"Transfer-Encoding: chunked\r\n",
            b"Host: a.test\r\n",
            b"3\r\nabc\r\n0\r\n\r\n",
            b":",
            b"%2e",
        ];
        for _ in 0..1 + self.below(4) {
            let at = self.below(bytes.len() + 1);
            match self.below(4) {
                0 if at < bytes.len() => bytes[at] = self.next() as u8,
                1 if at < bytes.len() => drop(bytes.remove(at)),
                2 => bytes.truncate(at),
                _ => {
                    let piece = PIECES[self.below(PIECES.len())];
                    bytes.splice(at..at, piece.iter().copied());
                }
            }
        }
    }
}

fn fuzz(time: Duration) {
    let seeds: [&[u8]; 3] = [
        b"GET /a HTTP/1.1\r\nHost: a.test\r\nX: y\r\n\r\nGET /b HTTP/1.1\r\nHost: a.test\r\n\r\n",
        b"POST /a HTTP/1.1\r\nHost: a.test\r\nContent-Length: 3\r\n\r\nabcGET /b HTTP/1.1\r\nHost: a.test\r\n\r\n",
        b"POST /a HTTP/1.1\r\nHost: a.test\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\nGET /b HTTP/1.1\r\nHost: a.test\r\n\r\n",
    ];
    let mut small = table(3);
    small.services.retain(|key, _| ["staging/s0", "staging/s1"].contains(&key.as_str()));
    let whole = serde_json::to_vec(&small).expect("JSON");
    let (mut chance, begun) = (Chance(1), Instant::now());
    let (mut runs, mut heads, mut tables) = (0u64, 0u64, 0u64);
    while begun.elapsed() < time {
        let mut bytes = seeds[chance.below(seeds.len())].to_vec();
        chance.mutate(&mut bytes);
        heads += hold(&bytes);
        let mut text = whole.clone();
        chance.mutate(&mut text);
        if let Ok(table) = serde_json::from_slice::<Table>(&text) {
            mainyard_gateway::Serving::new(1, None).take(&table);
            tables += 1;
        }
        runs += 1;
    }
    println!(
        "mutated for {} s: {runs} connections and as many tables, {tables} of which could still be read and were taken; {heads} heads passed and were read the same by another reader",
        time.as_secs()
    );
}

/// Every head that passes is read by another reader, which must find the same end, and no body that is framed otherwise.
fn hold(bytes: &[u8]) -> u64 {
    let (mut framing, mut rest, mut heads) = (Framing::default(), bytes, 0);
    loop {
        let in_head = framing.is_between();
        match framing.look(rest) {
            Ok(FramerAction::Pass(count)) => {
                if in_head {
                    let mut headers = [httparse::EMPTY_HEADER; 110];
                    let mut request = httparse::Request::new(&mut headers);
                    let read = request.parse(&rest[..count]).expect("another reader reads it too");
                    assert_eq!(read, httparse::Status::Complete(count), "{}", String::from_utf8_lossy(bytes));
                    let named = |name: &str| {
                        request.headers.iter().filter(|it| it.name.eq_ignore_ascii_case(name)).count()
                    };
                    assert!(named("content-length") + named("transfer-encoding") <= 1 && named("host") == 1);
                    heads += 1;
                }
                rest = &rest[count..];
            }
            Ok(FramerAction::Drop(count)) => rest = &rest[count..],
            Ok(FramerAction::More) | Err(_) => return heads,
        }
    }
}
