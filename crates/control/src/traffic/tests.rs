use mainyard_core::model::ReleaseNumber;

use super::*;

fn figure(way: &str, release: u32, replica: &str, requests: u64) -> Figure {
    Figure {
        way: way.into(),
        inside: false,
        service: "staging/locker-api".parse().expect("a target"),
        replica: Some(format!("staging/locker-api/{replica}").parse().expect("an id")),
        release: Some(ReleaseNumber(release)),
        open: 0,
        requests,
        failed: 1,
        received: 0,
        sent: 0,
        latencies: took(400, requests),
        shadow: false,
        other_size: 0,
    }
}

fn took(micros: u64, requests: u64) -> Latencies {
    let mut latencies = Latencies::default();
    latencies.record_many(micros, requests);
    latencies
}

fn metrics(traffic: &Traffic) -> String {
    let mut registry = prometheus_client::registry::Registry::default();
    traffic.register(&mut registry);
    let mut text = String::new();
    prometheus_client::encoding::text::encode(&mut text, &registry).expect("encodable");
    text
}

const API: &str = "api.lockers.localhost";

#[test]
fn figures_add_up_by_release_and_in_the_series() {
    let traffic = Traffic::new();
    traffic.add("one", &[figure(API, 1, "a0", 30), figure(API, 2, "a0", 10)]);
    traffic.add("two", &[figure(API, 1, "a0", 20)]);
    let recent = traffic.recent();
    let told: Vec<_> = recent.ways.iter().map(|it| (it.release, it.rate, it.failed)).collect();
    assert_eq!(told, [(1, 5.0, 2), (2, 1.0, 1)]);
    assert!(recent.ways[0].p95.is_some_and(|p95| (p95 - 0.4).abs() < 0.02), "{:?}", recent.ways[0].p95);
    assert_eq!((recent.workloads["staging/locker-api"].rate, recent.routes[API].failed), (6.0, 3));
    assert_eq!((recent.releases.len(), recent.inside.len()), (2, 0));
    let points: u64 = traffic.series()["staging/locker-api"].iter().map(|point| point.requests).sum();
    assert_eq!(points, 60);
    let labels = "way=\"api.lockers.localhost\",from=\"outside\",service=\"staging/locker-api\",release=\"1\",replica=\"staging/locker-api/a0\"";
    let metrics = metrics(&traffic);
    for line in [
        format!("mainyard_requests_total{{{labels}}} 50\n"),
        format!("mainyard_requests_failed_total{{{labels}}} 2\n"),
        format!("mainyard_request_seconds_bucket{{le=\"0.001\",{labels}}} 50\n"),
        format!("mainyard_request_seconds_bucket{{le=\"+Inf\",{labels}}} 50\n"),
        format!("mainyard_request_seconds_count{{{labels}}} 50\n"),
    ] {
        assert!(metrics.contains(&line), "{line} is not in\n{metrics}");
    }
}

#[test]
fn rows_are_grouped_as_asked_with_percentiles_of_all_their_requests() {
    let traffic = Traffic::new();
    let mut slow = figure(API, 1, "a1", 100);
    slow.latencies = took(102_400, 100);
    let www = figure("www.lockers.localhost", 1, "a0", 5);
    traffic.add("one", &[figure(API, 1, "a0", 100), slow, www, figure(API, 2, "b0", 10)]);
    let told = |facets: &[Facet], of: Option<&str>| {
        let rows = traffic.grouped_by(&facets.iter().copied().collect(), of);
        let named = |row: &TrafficRow| {
            let now = &row.now;
            format!("{} {} {} {} {}", now.way, now.service, now.release, now.replica, now.rate)
        };
        rows.iter().map(named).collect::<Vec<_>>()
    };
    let all = [
        told(&[Facet::Route], None),
        told(&[Facet::Service], Some("staging")),
        told(&[Facet::Release], Some("staging/locker-api")),
        told(&[Facet::Replica], None),
        told(&[Facet::Route, Facet::Release], None),
        told(&[Facet::Service], Some("stag")),
    ];
    insta::assert_debug_snapshot!(all);
    let rows = traffic.grouped_by(&BTreeSet::from([Facet::Service]), None);
    let is_about =
        |told: Option<f64>, millis: f64| told.is_some_and(|told| (told / millis - 1.0).abs() < 0.04);
    assert!(is_about(rows[0].now.p50, 0.4) && is_about(rows[0].now.p95, 102.4), "{:?}", rows[0].now);
    assert_eq!(rows[0].points.iter().map(|point| point.requests).sum::<u64>(), 215);
}

#[test]
fn what_is_open_is_the_last_word_of_each_gateway() {
    let traffic = Traffic::new();
    let open = |open, requests| Figure { open, failed: 0, ..figure(API, 1, "a0", requests) };
    let told = || traffic.recent().ways.iter().map(|it| it.open).sum::<u32>();
    traffic.add("one", &[open(4, 0)]);
    traffic.add("two", &[open(3, 0)]);
    assert_eq!(told(), 7);
    traffic.add("one", &[open(1, 3)]);
    assert_eq!(told(), 4);
    assert!(metrics(&traffic).contains("replica=\"staging/locker-api/a0\"} 4\n"));
    let rows = traffic.grouped_by(&BTreeSet::from([Facet::Route]), None);
    assert_eq!((rows[0].now.open, rows[0].now.rate), (4, 0.3));
    traffic.add("one", &[open(0, 1)]);
    traffic.add("two", &[open(0, 3)]);
    assert_eq!(told(), 0);
}

#[test]
fn replicas_are_taken_together_where_there_are_very_many() {
    let traffic = Traffic::new();
    let many: Vec<Figure> = (0..APART + 50).map(|at| figure(API, 1, &format!("r{at}"), 1)).collect();
    traffic.add("one", &many);
    assert_eq!(traffic.grouped_by(&BTreeSet::from([Facet::Release]), None)[0].points[0].requests, 2_050);
    let inner = traffic.lock();
    assert_eq!(inner.steps[0].1.len(), APART + 1);
}
