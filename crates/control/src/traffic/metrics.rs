//! What was served since control started, as OpenMetrics 1.0 has it.

use jiff::Timestamp;
use mainyard_core::link::bucket_millis;

use super::{Key, Sum, Traffic};

impl Traffic {
    /// Everything since control started, as OpenMetrics 1.0 has it.
    pub fn metrics(&self) -> String {
        let inner = self.lock();
        let open = inner.open_now(Timestamp::now().as_second());
        let labels = |key: &Key| {
            let from = if key.inside { "inside" } else { "outside" };
            format!(
                "way=\"{}\",from=\"{from}\",service=\"{}\",release=\"{}\",replica=\"{}\"",
                escaped(&key.way),
                key.service,
                key.release,
                key.replica
            )
        };
        let mut text = String::new();
        let mut counter = |name: &str, help: &str, of: &dyn Fn(&Sum) -> u64| {
            text.push_str(&format!("# TYPE {name} counter\n# HELP {name} {help}\n"));
            for (key, sum) in &inner.totals {
                text.push_str(&format!("{name}_total{{{}}} {}\n", labels(key), of(sum)));
            }
        };
        counter("mainyard_requests", "Requests that ended.", &|sum| sum.requests);
        counter(
            "mainyard_requests_failed",
            "Requests without an answer, or with one of 500 and above.",
            &|sum| sum.failed,
        );
        counter("mainyard_received_bytes", "Bytes of the requests' bodies.", &|sum| sum.received);
        counter("mainyard_sent_bytes", "Bytes of the answers' bodies.", &|sum| sum.sent);
        let name = "mainyard_requests_open";
        text.push_str(&format!("# TYPE {name} gauge\n# HELP {name} Requests that are open now.\n"));
        for (key, open) in &open {
            text.push_str(&format!("{name}{{{}}} {open}\n", labels(key)));
        }
        let name = "mainyard_request_seconds";
        text.push_str(&format!(
            "# TYPE {name} histogram\n# UNIT {name} seconds\n# HELP {name} Time until a request ended.\n"
        ));
        for (key, sum) in &inner.totals {
            let (labels, mut seen) = (labels(key), 0);
            for (bucket, count) in &sum.times {
                seen += count;
                let end = bucket_millis(*bucket) / 1000.0;
                text.push_str(&format!("{name}_bucket{{{labels},le=\"{end:.6}\"}} {seen}\n"));
            }
            text.push_str(&format!(
                "{name}_bucket{{{labels},le=\"+Inf\"}} {seen}\n{name}_count{{{labels}}} {seen}\n"
            ));
        }
        text
    }
}

/// A label's value (OpenMetrics 1.0, escaping).
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}
