//! When a replica that left the table may be stopped: not after a time, but when every gateway that still
//! counts has said so.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{ReplicaId, Span};
use crate::routing::TableVersion;

/// A gateway that has reported nothing for this long no longer counts.
pub const GATEWAY_LEASE: Span = Span::from_secs(10);

/// Control's knowledge of one gateway.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct GatewayView {
    /// The newest table it works by.
    pub confirmed: TableVersion,
    /// Requests still open to replicas that are no longer in that table.
    pub open: BTreeMap<ReplicaId, u32>,
}

/// A replica that left the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leaving {
    /// The first table without it.
    pub left_at: TableVersion,
    /// When that was.
    pub since: Timestamp,
    /// How long its open requests may take.
    pub limit: Span,
}

/// Whether the replica may be asked to stop now.
///
/// ```
/// use mainyard_core::drain::{GatewayView, Leaving, may_stop};
/// use mainyard_core::model::Span;
/// use mainyard_core::routing::TableVersion;
///
/// let at = |second| jiff::Timestamp::from_second(second).unwrap();
/// let version = |counter| TableVersion { epoch: 1, counter };
/// let replica = "staging/locker-api/a0".parse().unwrap();
/// let leaving = Leaving { left_at: version(5), since: at(100), limit: Span::from_secs(30) };
/// let view = |counter| GatewayView { confirmed: version(counter), ..GatewayView::default() };
///
/// // The gateway still works by an older table, and then confirms the one that the replica left.
/// assert!(!may_stop(&replica, &leaving, [(&view(4), at(100))], at(101)));
/// assert!(may_stop(&replica, &leaving, [(&view(5), at(101))], at(101)));
/// ```
pub fn may_stop<'a>(
    replica: &ReplicaId,
    leaving: &Leaving,
    gateways: impl IntoIterator<Item = (&'a GatewayView, Timestamp)>,
    now: Timestamp,
) -> bool {
    let limit_passed = now >= leaving.since + leaving.limit.signed();
    gateways.into_iter().all(|(gateway, heard)| {
        let silent = now >= heard + GATEWAY_LEASE.signed();
        let confirmed = gateway.confirmed >= leaving.left_at;
        let idle = gateway.open.get(replica).is_none_or(|open| *open == 0);
        // A silent gateway may still hold requests: it is given the whole drain limit, then not waited for.
        if silent { limit_passed } else { confirmed && (idle || limit_passed) }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_second(seconds).expect("in range")
    }

    fn version(counter: u64) -> TableVersion {
        TableVersion { epoch: 1, counter }
    }

    #[test]
    fn waits_for_every_gateway_and_for_open_requests() {
        let id: ReplicaId = "staging/locker-api/a0".parse().expect("an id");
        let leaving = Leaving { left_at: version(5), since: at(100), limit: Span::from_secs(30) };
        let view = |counter, open: u32| GatewayView {
            confirmed: version(counter),
            open: BTreeMap::from([(id.clone(), open)]),
        };
        let may = |gateways: &[(GatewayView, i64)], now| {
            may_stop(&id, &leaving, gateways.iter().map(|(view, heard)| (view, at(*heard))), at(now))
        };
        assert!(may(&[], 100), "no gateway, nobody to wait for");
        assert!(may(&[(view(5, 0), 100)], 101));
        assert!(!may(&[(view(4, 0), 100)], 101), "has not confirmed");
        assert!(!may(&[(view(4, 0), 129)], 131), "has not confirmed, limit or not");
        assert!(!may(&[(view(5, 1), 120)], 121), "a request is open");
        assert!(may(&[(view(5, 1), 129)], 130), "the limit has passed");
        assert!(!may(&[(view(5, 0), 100), (view(4, 0), 90)], 101), "silent, but may still serve");
        assert!(may(&[(view(5, 0), 129), (view(4, 0), 90)], 130), "silent past the limit");
        let newer =
            GatewayView { confirmed: TableVersion { epoch: 2, counter: 0 }, ..GatewayView::default() };
        assert!(may(&[(newer, 100)], 101), "a later epoch's table is later");
    }
}
