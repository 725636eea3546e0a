//! Figures for anyone who gathers them: OpenMetrics 1.0 (application/openmetrics-text).

use actix_web::HttpResponse;
use jiff::Timestamp;
use mainyard_api::{Problem, ShowMetrics};

use crate::operations::{Call, Operations};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(metrics);
}

/// Requests by route, service, release and replica; replicas by state; when certificates end.
async fn metrics(call: Call<ShowMetrics>) -> Result<HttpResponse, Problem> {
    let control = &call.control;
    let mut text = control.traffic.metrics();
    let published = control.leader.published.read().await;
    let state = &published.0;
    text.push_str("# TYPE mainyard_replicas gauge\n# HELP mainyard_replicas Replicas by state.\n");
    let mut counts = std::collections::BTreeMap::new();
    for replica in state.replicas.values().filter(|replica| replica.once.is_none()) {
        *counts.entry((&replica.id.workload, replica.release, replica.state.word())).or_insert(0u32) += 1;
    }
    for ((workload, release, state), count) in counts {
        text.push_str(&format!(
            "mainyard_replicas{{workload=\"{workload}\",release=\"{release}\",state=\"{state}\"}} {count}\n"
        ));
    }
    text.push_str(
        "# TYPE mainyard_replicas_wanted gauge\n# HELP mainyard_replicas_wanted Replicas that are wanted.\n",
    );
    for workload in state.workloads.values() {
        text.push_str(&format!(
            "mainyard_replicas_wanted{{workload=\"{}\"}} {}\n",
            workload.target, workload.wanted
        ));
    }
    let name = "mainyard_certificate_left_seconds";
    text.push_str(&format!(
        "# TYPE {name} gauge\n# UNIT {name} seconds\n# HELP {name} Time until a certificate ends.\n"
    ));
    let now = Timestamp::now();
    for certificate in state.certificates.values() {
        let left = certificate.until.duration_since(now).as_secs();
        text.push_str(&format!("{name}{{certificate=\"{}\"}} {left}\n", certificate.target));
    }
    text.push_str("# EOF\n");
    Ok(HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(text))
}
