//! A record of 5,000 routes, 2,000 workloads and 20,000 replicas: how long it takes from a report that a replica is no longer
//! ready until the table's change that takes it out is there to be sent.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::time::Instant;

use jiff::Timestamp;
use mainyard_core::address::Range;
use mainyard_core::cluster::Cluster;
use mainyard_core::drain::GatewayView;
use mainyard_core::link::{NodeHello, NodeReport, ReplicaReport};
use mainyard_core::manifest::{SourceFile, read};
use mainyard_core::model::{Bytes, Cpu, ImageRecord, Name, Origin, ReplicaState};
use mainyard_core::record::State;

const WORKLOADS: usize = 2_000;
const REPLICAS: usize = 10;
const ROUTES: usize = 5_000;
const NODES: usize = 20;
const ROUNDS: usize = 100;

fn name(text: &str) -> Name {
    text.parse().expect("a name")
}

fn manifest() -> String {
    let mut text = "application = \"large\"\n".to_owned();
    for number in 0..WORKLOADS {
        let _ = write!(
            text,
            "[workload.w{number}]\nimage = \"large/w:1\"\nreplicas = {REPLICAS}\nports = {{ http = 8080 }}\n\
             reserve = {{ cpu = 0.001, memory = \"1 MiB\" }}\n"
        );
    }
    for number in 0..ROUTES {
        let to = number % WORKLOADS;
        let _ =
            write!(text, "[route.r{number}]\nhost = \"h{number}.test\"\nto = [{{ service = \"w{to}\" }}]\n");
    }
    text
}

#[expect(clippy::too_many_lines, reason = "measurements, one after the other")]
fn main() {
    let now = Timestamp::from_second(1_000_000).expect("in range");
    let mut cluster = Cluster::new(State::default(), 1, now);
    cluster.at(now).gateway_called("gateway-1", 1);
    cluster.transaction("bench", now).add_environment(&name("staging"), None).expect("a new environment");
    for number in 0..NODES {
        cluster.at(now).node_called(NodeHello {
            node: name(&format!("node-{number}")),
            incarnation: 1,
            cpu: Cpu::from_milli(100_000),
            memory: Bytes::mib(1_000_000),
            range: Range::PRIVATE,
        });
    }
    cluster.at(now).add_image(ImageRecord {
        image: "large/w:1".parse().expect("an image"),
        digest: "sha256:1".into(),
        size: 1,
        layers: 1,
        origin: Origin::new("bench", "added", now),
        named: None,
        signed_by: Default::default(),
    });
    let files = [SourceFile { name: "mainyard.toml".into(), text: manifest() }];
    let begun = Instant::now();
    let declared =
        read(&files, Some(&name("staging"))).unwrap_or_else(|problems| panic!("not valid: {}", problems[0]));
    println!("read: {:.0} ms", begun.elapsed().as_secs_f64() * 1000.0);
    let begun = Instant::now();
    cluster.transaction("bench", now).declare(&declared, &name("staging"), false).expect("taken");
    println!("declared: {:.0} ms", begun.elapsed().as_secs_f64() * 1000.0);
    let mut numbers: BTreeMap<Name, u64> = BTreeMap::new();
    let mut ready = Vec::new();
    loop {
        let begun = Instant::now();
        let settled = cluster.at(now).settle();
        println!(
            "settled: {:.0} ms, {} changes",
            begun.elapsed().as_secs_f64() * 1000.0,
            settled.changes.len()
        );
        let mut orders = 0;
        for (node, order) in settled.orders {
            let reports = order.run.iter().map(|run| ReplicaReport::of(run.id.clone(), ReplicaState::Ready));
            let replicas: Vec<_> = reports.collect();
            orders += replicas.len();
            ready.extend(replicas.iter().map(|report| (node.clone(), report.id.clone())));
            let number = numbers.entry(node.clone()).or_default();
            *number += 1;
            let report = NodeReport {
                incarnation: 1,
                number: *number,
                whole: *number == 1,
                replicas,
                ..NodeReport::default()
            };
            cluster.at(now).node_reported(&node, report);
        }
        if let Some(made) = settled.table {
            let view = GatewayView { confirmed: made.version, open: BTreeMap::new() };
            cluster.at(now).gateway_confirmed("gateway-1", 1, view);
        }
        if orders == 0 && ready.len() == WORKLOADS * REPLICAS {
            break;
        }
    }
    let mut times = Vec::new();
    for round in 0..ROUNDS {
        let (node, id) = ready[round * 197 % ready.len()].clone();
        let number = numbers.entry(node.clone()).or_default();
        *number += 1;
        let replicas = vec![ReplicaReport::of(id, ReplicaState::Unready)];
        let report =
            NodeReport { incarnation: 1, number: *number, whole: false, replicas, ..NodeReport::default() };
        let begun = Instant::now();
        cluster.at(now).node_reported(&node, report);
        let settled = cluster.at(now).settle();
        let change = settled.table.expect("a table was made");
        let line = serde_json::to_vec(&change).expect("JSON");
        times.push(begun.elapsed().as_secs_f64() * 1000.0);
        assert!(line.len() < 10_000, "{} bytes", line.len());
    }
    times.sort_by(f64::total_cmp);
    println!(
        "of {ROUTES} routes and {} replicas, from a report until the table's change is there: {:.1} ms median, {:.1} ms at most of {ROUNDS}",
        ready.len(),
        times[ROUNDS / 2],
        times[ROUNDS - 1]
    );
}
