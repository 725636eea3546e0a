//! The table as the workers use it, and what is counted while serving.

use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use arc_swap::ArcSwap;
use mainyard_core::drain::GatewayView;
use mainyard_core::link::{Figure, HostChallenge, Private, WaitingRequests};
use mainyard_core::model::{AddressRange, EnvironmentIndex, Name, Target};
use mainyard_core::routing::{Table, TableChange, TableVersion};
use rustls::ClientConfig;
use tokio::sync::{Notify, watch};

use crate::admission::Admission;
use crate::certificates::Certificates;
use crate::counts::{Counts, Ended, EntryPoint};
use crate::guess_limit::GuessLimit;
use crate::installed_table::{InstalledTable, Routing};
use crate::outgoing::WayOut;
use crate::replica::{Open, Replica};
use crate::request_log::RequestLog;
use crate::service::Service;

/// State that all workers share.
#[derive(Debug)]
pub struct Serving {
    /// Tells this gateway from those before it.
    pub incarnation: u64,
    routing: ArcSwap<Routing>,
    lock: Mutex<InstalledTable>,
    /// Threads that send requests on.
    workers: usize,
    https_port: Option<u16>,
    /// Proxies in front, which say who called.
    pub(crate) proxies: Vec<AddressRange>,
    /// Requests that no replica took, and figures of replicas that are known no more.
    unserved: Counts,
    left: Mutex<Vec<Figure>>,
    values: ArcSwap<HashMap<Target, Arc<[u8]>>>,
    certificates: ArcSwap<Certificates>,
    /// What authorities are told that ask for a host.
    challenges: ArcSwap<Vec<HostChallenge>>,
    /// How replicas are checked whose certificates the platform's own authority issued.
    platform_trust: OnceLock<Arc<ClientConfig>>,
    /// GuessLimit at what opens routes.
    pub guesses: GuessLimit,
    admission: OnceLock<Arc<Admission>>,
    /// Requests of the last while.
    pub seen: RequestLog,
    /// Whether something failed since figures were last taken: control should hear of it soon.
    failing: AtomicBool,
    /// Ports of routes that cannot be listened on, and why.
    closed_ports: Mutex<BTreeMap<u16, String>>,
    /// Woken when control should hear from this gateway at once.
    pub changed: Arc<Notify>,
    /// What replicas reach outside.
    pub(crate) way_out: WayOut,
    /// The number of the table in force, for those that wait for the next.
    installed: watch::Sender<TableVersion>,
}

impl Serving {
    /// There is no table yet.
    pub fn new(workers: usize, https_port: Option<u16>) -> Serving {
        Serving {
            incarnation: jiff::Timestamp::now().as_microsecond() as u64,
            routing: ArcSwap::default(),
            lock: Mutex::default(),
            workers: workers.max(1),
            https_port,
            proxies: Vec::new(),
            unserved: Counts::default(),
            left: Mutex::default(),
            values: ArcSwap::default(),
            certificates: ArcSwap::default(),
            challenges: ArcSwap::default(),
            platform_trust: OnceLock::new(),
            guesses: GuessLimit::default(),
            admission: OnceLock::new(),
            seen: RequestLog::new(workers.max(1)),
            failing: AtomicBool::new(false),
            closed_ports: Mutex::default(),
            changed: Arc::default(),
            way_out: WayOut::default(),
            installed: watch::Sender::default(),
        }
    }

    /// With these proxies in front.
    pub fn behind(self, proxies: Vec<AddressRange>) -> Serving {
        Serving { proxies, ..self }
    }

    /// The table in force.
    pub fn routing(&self) -> arc_swap::Guard<Arc<Routing>> {
        self.routing.load()
    }

    /// Ports of routes that cannot be listened on, and why.
    pub fn closed_ports(&self) -> BTreeMap<u16, String> {
        self.closed_ports.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Takes which ports cannot be listened on; control hears of a change at once.
    pub fn tell_closed_ports(&self, closed: BTreeMap<u16, String>) {
        let mut known = self.closed_ports.lock().unwrap_or_else(PoisonError::into_inner);
        if *known != closed {
            for (port, why) in &closed {
                tracing::warn!(port, why, "a route's port cannot be listened on; it is tried again");
            }
            *known = closed;
            self.changed.notify_one();
        }
    }

    /// The port where TLS is taken.
    pub fn https_port(&self) -> Option<u16> {
        self.https_port
    }

    /// The service of this name.
    pub fn service(&self, target: &Target) -> Option<Arc<Service>> {
        self.lock().cell(&target.to_string())?.now()
    }

    /// The index of an environment, where it has a service.
    pub fn environment(&self, name: &Name) -> Option<EnvironmentIndex> {
        self.with_table(|table| {
            table
                .services
                .values()
                .find(|service| service.target.environment == *name)
                .map(|it| it.environment)
        })
    }

    /// How many connections are held.
    pub fn admission(&self) -> &Arc<Admission> {
        self.admission.get_or_init(Arc::default)
    }

    /// Holds connections to the descriptors that this process may have.
    pub fn bound_connections(&self, descriptors: u64) {
        let _ = self.admission.set(Arc::new(Admission::with_descriptors(descriptors)));
    }

    /// Looks at the table itself.
    pub fn with_table<T>(&self, look: impl FnOnce(&Table) -> T) -> T {
        look(&self.lock().table)
    }

    fn lock(&self) -> MutexGuard<'_, InstalledTable> {
        self.lock.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether this table is to be served by instead of the one in force.
    pub fn is_newer(&self, version: TableVersion) -> bool {
        version > self.routing.load().version
    }

    /// Takes a newer table; an older one is refused.
    pub fn take(&self, table: &Table) -> bool {
        let mut lock = self.lock();
        let newer = table.version > lock.table.version;
        if newer {
            let change = table.change_from(&lock.table);
            self.change(&mut lock, &change);
        }
        newer
    }

    /// Takes what changes of the table in force; a change of another one is refused.
    pub fn take_change(&self, change: &TableChange) -> bool {
        let mut lock = self.lock();
        let fits = change.base == lock.table.version && change.version > lock.table.version;
        if fits {
            self.change(&mut lock, change);
        }
        fits
    }

    /// Wakes when another table is in force.
    pub(crate) fn installed(&self) -> watch::Receiver<TableVersion> {
        self.installed.subscribe()
    }

    /// Waits until another table is in force than the receiver has seen; no longer than `again`, where something is to be tried
    /// again.
    pub(crate) async fn next_table(installed: &mut watch::Receiver<TableVersion>, again: Option<Duration>) {
        let changed = installed.changed();
        let _ = match again {
            Some(again) => tokio::time::timeout(again, changed).await.unwrap_or(Ok(())),
            None => changed.await,
        };
    }

    fn change(&self, lock: &mut InstalledTable, change: &TableChange) {
        for (key, after) in &change.outgoing {
            self.way_out.change(lock.table.outgoing.get(key), after.as_ref());
        }
        let routing = lock.change(change, self.workers, &self.routing.load());
        self.routing.store(Arc::new(routing));
        lock.retire(|replica| self.keep_figures(replica));
        self.installed.send_replace(change.version);
        self.changed.notify_one();
    }

    /// Opens a request to a replica, unless it has left meanwhile. The count is raised first and the mark looked
    /// at after; anyone who retires a replica does it the other way round, so one of both always sees the other.
    /// A copy is not told as open: it comes by no way.
    pub fn enter(&self, replica: &Arc<Replica>, by: Option<(&EntryPoint, &Service)>) -> Option<Open> {
        replica.open.fetch_add(1, Ordering::SeqCst);
        if let Some((way, service)) = by {
            replica.counts.open(way, &service.target);
        }
        let by = by.map(|(way, service)| (way.clone(), Arc::clone(&service.target)));
        let open = Open { replica: Arc::clone(replica), changed: Arc::clone(&self.changed), by };
        (!replica.retired.load(Ordering::SeqCst)).then_some(open)
    }

    /// The report for control.
    pub fn view(&self) -> GatewayView {
        let mut lock = self.lock();
        lock.forget(|replica| self.keep_figures(replica));
        let mut open = BTreeMap::new();
        for replica in lock.leaving() {
            *open.entry(replica.backend.replica.clone()).or_default() += replica.open.load(Ordering::SeqCst);
        }
        GatewayView { confirmed: lock.table.version, open }
    }

    /// Counts a request that ended.
    pub fn count(&self, way: &EntryPoint, service: &Target, replica: Option<&Arc<Replica>>, ended: Ended) {
        let counts = replica.map_or(&self.unserved, |replica| &replica.counts);
        counts.add(way, service, ended);
        if ended.failed && !self.failing.swap(true, Ordering::Relaxed) {
            self.changed.notify_one();
        }
    }

    /// The value of a secret that routes let in by.
    pub fn value(&self, secret: &Target) -> Option<Arc<[u8]>> {
        self.values.load().get(secret).cloned()
    }

    /// Certificates that were given.
    pub fn certificates(&self) -> arc_swap::Guard<Arc<Certificates>> {
        self.certificates.load()
    }

    /// What authorities are told that ask for a host.
    pub(crate) fn challenges(&self) -> arc_swap::Guard<Arc<Vec<HostChallenge>>> {
        self.challenges.load()
    }

    /// Forgets kept answers of a route, at this path and below; gives how many.
    pub(crate) fn purge(&self, route: &str, path: &str) -> u64 {
        let lock = self.lock();
        lock.route_of(route).and_then(|route| route.cache.as_ref()).map_or(0, |cache| cache.purge_below(path))
    }

    /// Trusts the platform's own authority from now on.
    pub fn trust_platform(&self, config: ClientConfig) {
        let _ = self.platform_trust.set(Arc::new(config));
    }

    /// How replicas are checked whose certificates the platform's own authority issued.
    pub fn platform_trust(&self) -> Option<Arc<ClientConfig>> {
        self.platform_trust.get().cloned()
    }

    /// Takes what no table holds.
    pub fn take_private(&self, private: Private) {
        let values = private.values.iter().cloned().map(|(secret, value)| (secret, value.0.into()));
        self.values.store(Arc::new(values.collect()));
        self.challenges.store(Arc::new(private.challenges));
        self.certificates.store(Arc::new(Certificates::read(&private.certificates, &self.certificates())));
    }

    /// Whether something failed since figures were last taken.
    pub fn is_failing(&self) -> bool {
        self.failing.load(Ordering::Relaxed)
    }

    /// A request comes for a workload that sleeps; control hears of it at once.
    pub(crate) fn note_waking(&self) {
        self.changed.notify_one();
    }

    /// How many requests wait for a replica now, by service. One that is told to come back counts once.
    pub fn take_waiting(&self) -> Vec<WaitingRequests> {
        let lock = self.lock();
        let waiting = lock.cells().filter_map(|cell| {
            let service = cell.now()?;
            let queued: usize = service.ports.values().map(|port| port.waiting.len()).sum();
            let count = queued as u32 + cell.waking.load(Ordering::SeqCst) + cell.take_knock();
            (count > 0).then(|| WaitingRequests { service: service.target.as_ref().clone(), count })
        });
        waiting.collect()
    }

    /// Takes what was counted since the last call.
    pub fn take_figures(&self) -> Vec<Figure> {
        self.failing.store(false, Ordering::Relaxed);
        let lock = self.lock();
        let mut figures = std::mem::take(&mut *self.left.lock().unwrap_or_else(PoisonError::into_inner));
        figures.extend(self.unserved.take(None, false));
        figures.extend(lock.present().chain(lock.leaving()).flat_map(|replica| replica.take_figures()));
        figures
    }

    /// Counts of a replica that was removed are kept.
    fn keep_figures(&self, replica: &Replica) {
        self.left.lock().unwrap_or_else(PoisonError::into_inner).extend(replica.take_figures());
    }
}

#[cfg(test)]
mod tests;
