//! Taking tables: what of the present one stays, what is made again, and which replicas leave.

use std::collections::{BTreeMap, HashMap};
use std::net::Ipv4Addr;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use mainyard_core::model::Enter;
use mainyard_core::routing::{
    Backend, Finder, RouteEntry, ServiceEntry, Spread, Table, TableChange, TableVersion,
};

use crate::backend_order::{Lane, Port, Turns};
use crate::cache::Cache;
use crate::limiter::Limiter;
use crate::replica::Replica;
use crate::route::{Change, Drilled, Route};
use crate::service::{Cell, Service};

/// A table, ready to serve by.
#[derive(Debug, Default)]
pub struct Routing {
    /// Its number.
    pub version: TableVersion,
    /// Finds routes.
    pub finder: Arc<Finder<Arc<Route>>>,
    /// Services by their address inside.
    pub inside: Arc<HashMap<Ipv4Addr, Arc<Cell>>>,
    /// Routes by host whose TLS is passed through.
    pub untouched: Arc<HashMap<String, Arc<Route>>>,
    /// Routes that take a port of the gateway.
    pub by_port: Arc<BTreeMap<u16, Arc<Route>>>,
}

/// Everything that the table in force is made of.
#[derive(Debug, Default)]
pub(crate) struct InstalledTable {
    /// The table itself.
    pub table: Table,
    /// Replicas of the table, and how many lists of it each is in.
    known: HashMap<String, (Arc<Replica>, u32)>,
    /// Replicas that left and have requests open, or had until a moment ago.
    leaving: Vec<Arc<Replica>>,
    cells: HashMap<String, Arc<Cell>>,
    /// Of services that went with the last change: emptied once nobody is led by the routes before it.
    emptied: Vec<Arc<Cell>>,
    routes: HashMap<String, Arc<Route>>,
}

impl InstalledTable {
    /// Makes a change of the table. Services change at once; gives the routing to serve by from now on, after which
    /// [`InstalledTable::retire`] is due.
    pub(crate) fn change(&mut self, change: &TableChange, workers: usize, now: &Routing) -> Routing {
        let mut addresses = false;
        for (key, entry) in &change.services {
            let before = self.table.services.get(key).cloned();
            addresses |= before.as_ref().map(|it| it.address) != entry.as_ref().map(|it| it.address);
            let cell = self.cells.entry(key.clone()).or_default().clone();
            let made = entry.as_ref().map(|entry| {
                let old = cell.now();
                Arc::new(self.service(entry, old.as_deref(), workers))
            });
            match made {
                Some(made) => cell.put(Some(made)),
                // Routes that lead there are served by until the new routing is in place.
                None => self.emptied.extend(self.cells.remove(key)),
            }
            for backend in before.iter().flat_map(|entry| entry.ports.values().flatten()) {
                if let Some((_, uses)) = self.known.get_mut(&id(backend)) {
                    *uses -= 1;
                }
            }
        }
        for (key, entry) in &change.routes {
            match entry {
                Some(entry) => match self.route(key, entry, workers) {
                    Some(route) => drop(self.routes.insert(key.clone(), Arc::new(route))),
                    None => tracing::error!(key, "a route of the table has no environment"),
                },
                None => drop(self.routes.remove(key)),
            }
        }
        let applied = self.table.apply(change);
        debug_assert!(applied, "anyone who calls has looked at the versions");
        let finder = if change.routes.is_empty() {
            Arc::clone(&now.finder)
        } else {
            Arc::new(Finder::new(self.routes.values().map(|route| (&route.spec, Arc::clone(route)))))
        };
        let inside = if addresses { Arc::new(self.by_address()) } else { Arc::clone(&now.inside) };
        let tls = if change.routes.is_empty() {
            Arc::clone(&now.untouched)
        } else {
            let untouched = self.routes.values().filter(|route| route.spec.is_untouched());
            Arc::new(
                untouched.filter_map(|route| Some((route.spec.host.clone()?, Arc::clone(route)))).collect(),
            )
        };
        let ports = if change.routes.is_empty() {
            Arc::clone(&now.by_port)
        } else {
            let with_port = self.routes.values();
            Arc::new(with_port.filter_map(|route| Some((route.spec.port?, Arc::clone(route)))).collect())
        };
        Routing { version: self.table.version, finder, inside, untouched: tls, by_port: ports }
    }

    fn by_address(&self) -> HashMap<Ipv4Addr, Arc<Cell>> {
        let services = self.table.services.iter();
        services.filter_map(|(key, entry)| Some((entry.address, Arc::clone(self.cells.get(key)?)))).collect()
    }

    /// The service of this name, as `environment/name`.
    pub(crate) fn cell(&self, key: &str) -> Option<Arc<Cell>> {
        self.cells.get(key).cloned()
    }

    /// Every service.
    pub(crate) fn cells(&self) -> impl Iterator<Item = &Arc<Cell>> {
        self.cells.values()
    }

    /// Replicas that are in no list any more are marked; what let go of them goes to `told`. Only when no thread can find
    /// them in the table any more: see [`crate::serving::Serving::enter`].
    pub(crate) fn retire(&mut self, mut told: impl FnMut(&Replica)) {
        self.emptied.drain(..).for_each(|cell| cell.put(None));
        let leaving = &mut self.leaving;
        self.known.retain(|_, (replica, uses)| {
            if *uses == 0 {
                replica.retired.store(true, Ordering::SeqCst);
                leaving.push(Arc::clone(replica));
            }
            *uses > 0
        });
        self.forget(&mut told);
    }

    /// Lets go of replicas that left and have nothing open.
    pub(crate) fn forget(&mut self, mut told: impl FnMut(&Replica)) {
        self.leaving.retain(|replica| {
            let kept = replica.open.load(Ordering::SeqCst) > 0;
            if !kept {
                told(replica);
            }
            kept
        });
    }

    /// Replicas of the table.
    pub(crate) fn present(&self) -> impl Iterator<Item = &Arc<Replica>> {
        self.known.values().map(|(replica, _)| replica)
    }

    /// A route by its name.
    pub(crate) fn route_of(&self, key: &str) -> Option<&Arc<Route>> {
        self.routes.get(key)
    }

    /// Replicas that left and have something open.
    pub(crate) fn leaving(&self) -> impl Iterator<Item = &Arc<Replica>> {
        self.leaving.iter()
    }

    fn replica(&mut self, backend: &Backend) -> Arc<Replica> {
        let (replica, _) =
            self.known.entry(id(backend)).or_insert_with(|| (Arc::new(Replica::new(backend.clone())), 0));
        Arc::clone(replica)
    }

    fn service(&mut self, entry: &ServiceEntry, old: Option<&Service>, workers: usize) -> Service {
        let fresh = || Arc::new(Turns::new(workers));
        for backend in entry.ports.values().flatten() {
            self.replica(backend);
            if let Some((_, uses)) = self.known.get_mut(&id(backend)) {
                *uses += 1;
            }
        }
        let mut ports = BTreeMap::new();
        for number in entry.ports.keys() {
            let before = old.and_then(|old| old.ports.get(number));
            let shadows = entry.shadows(*number).into_iter().map(|backend| self.replica(backend)).collect();
            let (mut lanes, mut shares) = (Vec::new(), Vec::new());
            for lane in entry.lanes(*number) {
                let replicas: Vec<_> = lane.backends.iter().map(|backend| self.replica(backend)).collect();
                let release = |list: &[Arc<Replica>]| list.first().map(|replica| replica.backend.release);
                let same = before.and_then(|before| {
                    before.lanes.iter().find(|lane| release(&lane.replicas) == release(&replicas))
                });
                let turns = same.map_or_else(fresh, |lane| Arc::clone(&lane.turns));
                lanes.push(Lane { replicas, turns });
                shares.push(lane.share);
            }
            let spread = Spread::new(&shares);
            let turns = before.map_or_else(fresh, |before| Arc::clone(&before.turns));
            let (tcp, h2) = (entry.tcp.contains(number), entry.h2.contains(number));
            let waiting = before.map_or_else(Arc::default, |before| Arc::clone(&before.waiting));
            let capacities = || lanes.iter().flat_map(|lane| &lane.replicas).map(|it| it.backend.capacity);
            let queue = capacities().map(|it| it.queue as usize).sum();
            let queue_time = capacities().map(|it| it.queue_time.duration()).max().unwrap_or_default();
            let port = Port { lanes, spread, turns, shadows, tcp, h2, waiting, queue, queue_time };
            port.serve_what_waits();
            ports.insert(*number, port);
        }
        let callers = [entry.environment].iter().chain(&entry.open_to).copied().collect();
        Service {
            target: entry.target.clone().into(),
            callers,
            address: entry.address,
            ports,
            reason: entry.reason.clone(),
            wakes: entry.wakes,
        }
    }

    fn route(&mut self, key: &str, entry: &RouteEntry, workers: usize) -> Option<Route> {
        let before = self.routes.get(key);
        let legs = entry
            .to
            .iter()
            .filter_map(|leg| Some(((Arc::clone(self.cells.get(&leg.service)?), leg.port), leg.share)));
        let (legs, shares): (Vec<_>, Vec<u32>) = legs.unzip();
        let spec = entry.spec.clone();
        let kept = before.and_then(|before| before.limiter.clone());
        let limiter = spec.rate.clone().map(|rate| match kept {
            Some(kept) if kept.rate == rate => kept,
            _ => Arc::new(Limiter::new(rate)),
        });
        let only_public = spec.enter != Enter::Open
            || spec.tls.as_ref().is_some_and(|tls| tls.client_certificates.is_some());
        // What is kept was made under other rules where anything of the route changed.
        let kept = before.filter(|before| before.spec == spec).and_then(|before| before.cache.clone());
        let cache = kept.or_else(|| Some(Arc::new(Cache::new(spec.cache.clone()?, only_public))));
        // Keys begin with an environment; one that does not came from a damaged table and leads nowhere.
        let environment = key.split('/').next().and_then(|name| name.parse().ok())?;
        Some(Route {
            key: key.into(),
            environment,
            at: spec.at().into(),
            legs,
            spread: Spread::new(&shares),
            turns: before.map_or_else(|| Arc::new(Turns::new(workers)), |before| Arc::clone(&before.turns)),
            limiter,
            request: Change::of(&spec.change.request),
            answer: Change::of(&spec.change.answer),
            hsts: spec.tls.as_ref().and_then(|tls| tls.hsts.as_ref()?.header().parse().ok()),
            drilled: Drilled::default(),
            cache,
            spec,
        })
    }
}

/// A replica that goes on as another release's counts again.
fn id(backend: &Backend) -> String {
    format!("{} {} {}", backend.replica, backend.release, backend.address)
}
