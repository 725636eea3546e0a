//! Gateways: a table, its turn, and the requests that are open.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;

use mainyard_core::drain::{GATEWAY_LEASE, GatewayView};
use mainyard_core::latency::Latencies;
use mainyard_core::link::Figure;
use mainyard_core::model::ReplicaId;
use mainyard_core::routing::{Backend, Lane, ServiceEntry, Spread, Table};

use crate::parts::{Gateway, Part, Request, node_name};
use crate::world::{Happening, Report, World};

impl Gateway {
    fn backends(&self) -> Vec<(&String, &Vec<Backend>)> {
        self.table
            .services
            .iter()
            .filter_map(|(key, entry)| Some((key, entry.ports.values().next()?)))
            .collect()
    }

    fn holds(&self, replica: &ReplicaId) -> bool {
        self.backends().iter().any(|(_, list)| list.iter().any(|backend| backend.replica == *replica))
    }

    fn view(&self) -> GatewayView {
        let mut open = BTreeMap::new();
        for request in self.open.values().filter(|request| !self.holds(&request.replica)) {
            *open.entry(request.replica.clone()).or_default() += 1;
        }
        GatewayView { confirmed: self.table.version, open }
    }
}

impl World {
    pub(crate) fn gateway_starts(&mut self, gateway: usize) {
        let incarnation = self.new_number();
        self.note(|| format!("gateway {gateway} starts"));
        let it = &mut self.gateways[gateway];
        let kept = it.kept.take();
        *it = Gateway {
            alive: true,
            incarnation,
            table: kept.clone().unwrap_or_default(),
            kept,
            ..Gateway::default()
        };
        self.later(2, Happening::Call { part: Part::Gateway(gateway), incarnation });
        self.later(1000, Happening::Beat { gateway, incarnation });
    }

    pub(crate) fn gateway_dies(&mut self, gateway: usize) {
        self.note(|| format!("gateway {gateway} dies"));
        let it = &mut self.gateways[gateway];
        it.alive = false;
        self.outcome.broken += it.open.len() as u64;
        it.open.clear();
    }

    pub(crate) fn order_gateway(&mut self, gateway: usize, link: u64, table: Table) {
        let it = &mut self.gateways[gateway];
        if !it.alive || it.link.is_none_or(|(_, known)| known != link) {
            return;
        }
        if table.version > it.table.version {
            // On disk first.
            it.kept = Some(table.clone());
            it.table = table;
        }
        self.tell_view(gateway);
    }

    pub(crate) fn beat(&mut self, gateway: usize, incarnation: u64) {
        if self.gateways[gateway].alive && self.gateways[gateway].incarnation == incarnation {
            self.tell_view(gateway);
            if self.gateways[gateway].next_beat <= self.now {
                self.gateways[gateway].next_beat = self.now + 1000;
                self.later(1000, Happening::Beat { gateway, incarnation });
            }
        }
    }

    fn tell_view(&mut self, gateway: usize) {
        let it = &mut self.gateways[gateway];
        let Some((control, _)) = it.link else { return };
        if std::mem::replace(&mut it.in_flight, true) {
            it.wants = true;
            return;
        }
        let (incarnation, view) = (it.incarnation, it.view());
        let served = std::mem::take(&mut it.served).into_iter();
        let figures = served.map(|((replica, release), (requests, failed))| Figure {
            way: "inside".into(),
            inside: true,
            service: replica.workload.clone(),
            replica: Some(replica),
            release: Some(release),
            open: 0,
            requests,
            failed,
            received: 0,
            sent: 0,
            latencies: took(1_600, requests),
            shadow: false,
            other_size: 0,
        });
        let report = Report::Gateway { incarnation, view, figures: figures.collect() };
        self.send_report(control, Part::Gateway(gateway), incarnation, report);
    }

    pub(crate) fn view_reported(&mut self, gateway: usize, taken: bool) {
        let it = &mut self.gateways[gateway];
        it.in_flight = false;
        let wanted = std::mem::take(&mut it.wants);
        if !taken {
            let incarnation = it.incarnation;
            self.later(200, Happening::Beat { gateway, incarnation });
        } else if wanted {
            self.tell_view(gateway);
        }
    }

    pub(crate) fn visit(&mut self, gateway: usize) {
        let wait = if self.quiet() { 1000 } else { self.chance.between(20, 120) };
        self.later(wait, Happening::Visit(gateway));
        let number = self.new_number();
        let it = &mut self.gateways[gateway];
        if !it.alive {
            return;
        }
        it.turn += 1;
        let turn = it.turn;
        let services: Vec<&ServiceEntry> = it.table.services.values().collect();
        if services.is_empty() {
            return;
        }
        let count = services.len() as u64;
        let (entry, turn) = (services[(turn % count) as usize], turn / count);
        let port = entry.ports.keys().next().copied().unwrap_or(80);
        let lanes = entry.lanes(port);
        let shares: Vec<u32> = lanes.iter().map(|lane| lane.share).collect();
        let chosen = Spread::new(&shares).pick(turn).unwrap_or(0);
        let (own, others): (Vec<_>, Vec<_>) =
            lanes.iter().enumerate().partition(|(place, _)| *place == chosen);
        let from = |lane: &Lane<'_>| -> Vec<Backend> {
            let first = turn as usize % lane.backends.len().max(1);
            lane.backends
                .iter()
                .cycle()
                .skip(first)
                .take(lane.backends.len())
                .map(|it| (*it).clone())
                .collect()
        };
        let list: Vec<Backend> =
            own.into_iter().chain(others).flat_map(|(_, lane)| from(lane)).take(4).collect();
        for backend in &list {
            match self.who_answers(&backend.node.to_string(), *backend.address.ip()) {
                // The connection is refused: another one is tried.
                None => {}
                Some(who) if who == backend.replica => {
                    let long = self.chance.percent(3);
                    let wait =
                        if long { self.chance.between(1000, 9000) } else { self.chance.between(1, 300) };
                    let failed = self.fails(backend);
                    let it = &mut self.gateways[gateway];
                    it.open.insert(number, Request { replica: who, release: backend.release, failed });
                    let incarnation = it.incarnation;
                    return self.later(wait, Happening::AnswerEnds { gateway, incarnation, request: number });
                }
                Some(who) => {
                    let meant = &backend.replica;
                    return self.violated(format!(
                        "a request for {meant} is answered by {who}, which has its address"
                    ));
                }
            }
        }
        self.outcome.refused += 1;
    }

    /// One request in ten, of the release that is made so.
    fn fails(&mut self, backend: &Backend) -> bool {
        let release = self.record.state.releases.get(&(backend.replica.workload.clone(), backend.release));
        release.is_some_and(|release| release.spec.image.tag == "1.8.0") && self.chance.percent(10)
    }

    fn who_answers(&self, node: &str, address: Ipv4Addr) -> Option<ReplicaId> {
        let node = (0..self.nodes.len()).find(|at| node_name(*at).as_str() == node)?;
        let mut processes = self.nodes[node].processes.iter();
        let listens = |at: Option<u64>| at.is_some_and(|at| at <= self.now);
        let found = processes.find(|(_, process)| process.address == address && listens(process.listens_at));
        found.map(|(id, _)| id.clone())
    }

    pub(crate) fn answer_ends(&mut self, gateway: usize, incarnation: u64, request: u64) {
        let it = &mut self.gateways[gateway];
        if it.incarnation != incarnation {
            return;
        }
        if let Some(ended) = it.open.remove(&request) {
            self.outcome.answered += 1;
            let counts = &mut self.gateways[gateway].served;
            let (requests, failed) = counts.entry((ended.replica.clone(), ended.release)).or_default();
            (*requests, *failed) = (*requests + 1, *failed + u64::from(ended.failed));
            let last = !self.gateways[gateway].open.values().any(|other| other.replica == ended.replica);
            if last && !self.gateways[gateway].holds(&ended.replica) {
                self.tell_view(gateway);
            }
        }
    }

    /// A process was killed: requests open to it are broken.
    pub(crate) fn break_requests(&mut self, replica: &ReplicaId) {
        for gateway in &mut self.gateways {
            let before = gateway.open.len();
            gateway.open.retain(|_, request| request.replica != *replica);
            self.outcome.broken += (before - gateway.open.len()) as u64;
        }
    }

    /// It is decided that a replica be stopped: no gateway that is heard may hold it in its table, nor have a request
    /// open to it unless the drain limit has passed.
    pub(crate) fn is_stopped(&mut self, replica: &ReplicaId) {
        self.outcome.drained += 1;
        self.note(|| format!("{replica} is to stop"));
        let release = self.record.state.replicas.get(replica).map(|known| {
            let limit = self.record.state.releases.get(&(replica.workload.clone(), known.release));
            (known.since, limit.map_or(0, |release| release.spec.stop.drain.millis()))
        });
        let passed = release
            .is_some_and(|(since, limit)| self.clock().duration_since(since).as_millis() as u64 >= limit);
        for (number, gateway) in self.gateways.iter().enumerate().filter(|(_, gateway)| gateway.alive) {
            let (epoch, heard) = gateway.heard;
            let silent = epoch != self.record.epoch || self.now - heard >= GATEWAY_LEASE.millis();
            let open = gateway.open.values().filter(|request| request.replica == *replica).count();
            let rule = if gateway.holds(replica) && !silent {
                format!("{replica} is stopped while gateway {number} serves by a table that has it")
            } else if open > 0 && !passed && !silent {
                format!(
                    "{replica} is stopped before its drain limit with {open} requests open at gateway {number}"
                )
            } else {
                continue;
            };
            return self.violated(rule);
        }
    }
}

/// So many requests that took the same, in microseconds.
fn took(micros: u64, requests: u64) -> Latencies {
    let mut latencies = Latencies::default();
    latencies.record_many(micros, requests);
    latencies
}
