//! Metrics for any collector: OpenMetrics 1.0 (application/openmetrics-text).

use actix_web::HttpResponse;
use jiff::Timestamp;
use mainyard_api::{Problem, ShowMetrics};
use mainyard_core::record::State;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};

use crate::operations::{Call, Operations};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(metrics);
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct ReplicaLabels {
    workload: String,
    release: u32,
    state: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct WorkloadLabels {
    workload: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct CertificateLabels {
    certificate: String,
}

/// Requests by route, service, release and replica; replicas by state; when certificates end; decisions that did not
/// settle.
async fn metrics(call: Call<ShowMetrics>) -> Result<HttpResponse, Problem> {
    let control = &call.control;
    let mut registry = Registry::default();
    control.traffic.register(&mut registry);
    control.outgoing.register(&mut registry);
    control.leader.register(&mut registry);
    register_record(&control.leader.published.read().await.0, Timestamp::now(), &mut registry);
    let mut text = String::new();
    // Writing to a string can't fail; a metric that can't be encoded is our own mistake.
    encode(&mut text, &registry).expect("metrics are encodable");
    Ok(HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(text))
}

fn register_record(state: &State, now: Timestamp, registry: &mut Registry) {
    let replicas = Family::<ReplicaLabels, Gauge>::default();
    for replica in state.replicas.values().filter(|replica| replica.once.is_none()) {
        let labels = ReplicaLabels {
            workload: replica.id.workload.to_string(),
            release: replica.release.0,
            state: replica.state.word(),
        };
        replicas.get_or_create(&labels).inc();
    }
    registry.register("mainyard_replicas", "Replicas by state", replicas);
    let wanted = Family::<WorkloadLabels, Gauge>::default();
    for workload in state.workloads.values() {
        let labels = WorkloadLabels { workload: workload.target.to_string() };
        wanted.get_or_create(&labels).set(i64::from(workload.wanted));
    }
    registry.register("mainyard_replicas_wanted", "Replicas that are wanted", wanted);
    let unready = Family::<WorkloadLabels, Gauge>::default();
    for workload in state.workloads.values() {
        let labels = WorkloadLabels { workload: workload.target.to_string() };
        unready.get_or_create(&labels).set(i64::from(workload.serves_unready));
    }
    registry.register(
        "mainyard_serves_unready",
        "1 where too few replicas pass their check, so that the others are sent requests as well",
        unready,
    );
    let left = Family::<CertificateLabels, Gauge>::default();
    for certificate in state.certificates.values() {
        let labels = CertificateLabels { certificate: certificate.target.to_string() };
        left.get_or_create(&labels).set(certificate.until.duration_since(now).as_secs());
    }
    registry.register_with_unit(
        "mainyard_certificate_left",
        "Time until a certificate ends",
        Unit::Seconds,
        left,
    );
}
