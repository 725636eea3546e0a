//! The table as the workers use it, and what is counted while serving.

use std::collections::{BTreeMap, HashMap};
use std::net::Ipv4Addr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arc_swap::ArcSwap;
use mainyard_core::drain::GatewayView;
use mainyard_core::link::Figure;
use mainyard_core::model::{EnvironmentIndex, Reason, Target};
use mainyard_core::routing::{Backend, Spread, Table, TableVersion};
use tokio::sync::Notify;

use crate::counts::{Counts, Way};
use crate::replica::{Open, Replica};
use crate::turns::{Lane, Port, Turns};

/// A service.
#[derive(Debug)]
pub struct Service {
    /// Where and under which name.
    pub target: Target,
    /// Its environment's index.
    pub environment: EnvironmentIndex,
    /// Its address inside.
    pub address: Ipv4Addr,
    /// By service port.
    pub ports: BTreeMap<u16, Port>,
    /// Why there is no replica.
    pub reason: Option<Reason>,
}

/// A host's route.
#[derive(Debug)]
pub struct Host {
    /// Its name.
    pub name: Arc<str>,
    /// Services by share.
    pub services: Vec<Arc<Service>>,
    /// How requests are spread over them.
    pub spread: Spread,
    /// Counts requests, across tables.
    pub turns: Arc<Turns>,
}

/// A table, ready to serve by.
#[derive(Debug, Default)]
pub struct Routing {
    /// Its number.
    pub version: TableVersion,
    /// Outside hosts.
    pub hosts: HashMap<String, Host>,
    /// Services by their address inside.
    pub inside: HashMap<Ipv4Addr, Arc<Service>>,
}

/// What all workers share.
#[derive(Debug)]
pub struct Serving {
    /// Tells this gateway from those before it.
    pub life: u64,
    routing: ArcSwap<Routing>,
    known: Mutex<HashMap<String, Arc<Replica>>>,
    turns: Mutex<HashMap<String, Arc<Turns>>>,
    /// Threads that send requests on.
    workers: usize,
    /// Requests that no replica took, and figures of replicas that are known no more.
    unserved: Counts,
    left: Mutex<Vec<Figure>>,
    /// Whether something failed since figures were last taken: control should hear of it soon.
    failing: AtomicBool,
    /// Woken when control should hear from this gateway at once.
    pub changed: Arc<Notify>,
}

impl Serving {
    /// Nothing to serve yet.
    pub fn new(workers: usize) -> Serving {
        Serving {
            life: jiff::Timestamp::now().as_microsecond() as u64,
            routing: ArcSwap::default(),
            known: Mutex::default(),
            turns: Mutex::default(),
            workers: workers.max(1),
            unserved: Counts::default(),
            left: Mutex::default(),
            failing: AtomicBool::new(false),
            changed: Arc::default(),
        }
    }

    /// The table in force.
    pub fn routing(&self) -> arc_swap::Guard<Arc<Routing>> {
        self.routing.load()
    }

    /// The service as a newer table has it; `None` when there is no newer table, or it has no such service.
    pub fn newer(&self, service: &Arc<Service>) -> Option<Arc<Service>> {
        let routing = self.routing();
        let found = routing.inside.get(&service.address).filter(|found| found.target == service.target)?;
        (!Arc::ptr_eq(found, service)).then(|| Arc::clone(found))
    }

    /// Whether this table is to be served by instead of the one in force.
    pub fn is_newer(&self, table: &Table) -> bool {
        table.version > self.routing.load().version
    }

    /// Takes a newer table; an older one is refused.
    pub fn take(&self, table: &Table) -> bool {
        if !self.is_newer(table) {
            return false;
        }
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
        // Only what this table needs goes on being counted.
        let mut counting: HashMap<String, Arc<Turns>> = HashMap::new();
        let mut turn = |key: String| {
            let known = turns.get(&key).cloned().unwrap_or_else(|| Arc::new(Turns::new(self.workers)));
            Arc::clone(counting.entry(key).or_insert(known))
        };
        let mut present: HashMap<String, Arc<Replica>> = HashMap::new();
        let mut services: HashMap<&str, Arc<Service>> = HashMap::new();
        let mut inside = HashMap::new();
        for (key, entry) in &table.services {
            let mut ports = BTreeMap::new();
            for port in entry.ports.keys() {
                let mut find = |backend: &Backend| {
                    // A replica that goes on as another release's counts anew.
                    let id = format!("{} {} {}", backend.replica, backend.release, backend.address);
                    let replica = known.get(&id).filter(|replica| !replica.retired.load(Ordering::SeqCst));
                    let replica = replica.cloned().or_else(|| present.get(&id).cloned());
                    let replica = replica.unwrap_or_else(|| Arc::new(Replica::new(backend.clone())));
                    present.insert(id, Arc::clone(&replica));
                    replica
                };
                let shadows = entry.shadows(*port).into_iter().map(&mut find).collect();
                let (mut lanes, mut shares) = (Vec::new(), Vec::new());
                for lane in entry.lanes(*port) {
                    let replicas = lane.backends.iter().map(|backend| {
                        // A replica that goes on as another release's counts anew.
                        let id = format!("{} {} {}", backend.replica, backend.release, backend.address);
                        let replica =
                            known.get(&id).filter(|replica| !replica.retired.load(Ordering::SeqCst));
                        let replica = replica.cloned().or_else(|| present.get(&id).cloned());
                        let replica = replica.unwrap_or_else(|| Arc::new(Replica::new((*backend).clone())));
                        present.insert(id, Arc::clone(&replica));
                        replica
                    });
                    let replicas: Vec<Arc<Replica>> = replicas.collect();
                    let release = lane.backends.first().map_or(0, |backend| backend.release.0);
                    lanes.push(Lane { replicas, turns: turn(format!("{key}:{port}@{release}")) });
                    shares.push(lane.share);
                }
                let spread = Spread::new(&shares);
                let turns = turn(format!("{key}:{port}"));
                ports.insert(*port, Port { lanes, spread, turns, shadows });
            }
            let service = Arc::new(Service {
                target: entry.target.clone(),
                environment: entry.environment,
                address: entry.address,
                ports,
                reason: entry.reason.clone(),
            });
            inside.insert(entry.address, Arc::clone(&service));
            services.insert(key, service);
        }
        let hosts = table.hosts.iter().map(|(name, host)| {
            let to = host
                .to
                .iter()
                .filter_map(|(key, share)| Some((Arc::clone(services.get(key.as_str())?), *share)));
            let (services, shares): (_, Vec<u32>) = to.unzip();
            let (spread, turns) = (Spread::new(&shares), turn(name.clone()));
            (name.clone(), Host { name: name.as_str().into(), services, spread, turns })
        });
        let routing = Routing { version: table.version, hosts: hosts.collect(), inside };
        *turns = counting;
        self.routing.store(Arc::new(routing));
        // Only now, when no thread can find it in the table any more: see `enter`.
        known.retain(|id, replica| {
            let stays = present.contains_key(id);
            if !stays {
                replica.retired.store(true, Ordering::SeqCst);
            }
            let kept = stays || replica.open.load(Ordering::SeqCst) > 0;
            if !kept {
                self.keep_figures(replica);
            }
            kept
        });
        known.extend(present);
        self.changed.notify_one();
        true
    }

    /// Opens a request to a replica, unless it has left meanwhile. The count is raised first and the mark looked
    /// at after; whoever retires a replica does it the other way round, so one of both always sees the other.
    pub fn enter(&self, replica: &Arc<Replica>) -> Option<Open> {
        replica.open.fetch_add(1, Ordering::SeqCst);
        let open = Open { replica: Arc::clone(replica), changed: Arc::clone(&self.changed) };
        (!replica.retired.load(Ordering::SeqCst)).then_some(open)
    }

    /// What control is told.
    pub fn view(&self) -> GatewayView {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let confirmed = self.routing.load().version;
        known.retain(|_, replica| {
            let kept = !replica.retired.load(Ordering::SeqCst) || replica.open.load(Ordering::SeqCst) > 0;
            if !kept {
                self.keep_figures(replica);
            }
            kept
        });
        let retired = known.values().filter(|replica| replica.retired.load(Ordering::SeqCst));
        let mut open = BTreeMap::new();
        for replica in retired {
            *open.entry(replica.backend.replica.clone()).or_default() += replica.open.load(Ordering::SeqCst);
        }
        GatewayView { confirmed, open }
    }

    /// Counts a request that ended.
    pub fn count(
        &self,
        way: &Way,
        service: &Target,
        replica: Option<&Arc<Replica>>,
        failed: bool,
        micros: u64,
    ) {
        let counts = replica.map_or(&self.unserved, |replica| &replica.counts);
        counts.add(way, service, failed, micros);
        if failed && !self.failing.swap(true, Ordering::Relaxed) {
            self.changed.notify_one();
        }
    }

    /// Whether something failed since figures were last taken.
    pub fn is_failing(&self) -> bool {
        self.failing.load(Ordering::Relaxed)
    }

    /// Takes what was counted since the last call.
    pub fn take_figures(&self) -> Vec<Figure> {
        self.failing.store(false, Ordering::Relaxed);
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let mut figures = std::mem::take(&mut *self.left.lock().unwrap_or_else(PoisonError::into_inner));
        figures.extend(self.unserved.take(None, false));
        figures.extend(known.values().flat_map(|replica| replica.take_figures()));
        figures
    }

    /// What a replica that is let go has counted is kept.
    fn keep_figures(&self, replica: &Replica) {
        self.left.lock().unwrap_or_else(PoisonError::into_inner).extend(replica.take_figures());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mainyard_core::model::{ReleaseNumber, ReplicaId};
    use mainyard_core::routing::ServiceEntry;

    fn table(counter: u64, shorts: &[&str]) -> Table {
        let target: Target = "staging/locker-api".parse().expect("a target");
        let backends = shorts.iter().enumerate().map(|(n, short)| Backend {
            replica: ReplicaId::new(target.clone(), (*short).to_owned()),
            release: ReleaseNumber(1),
            node: "node-1".parse().expect("a name"),
            address: std::net::SocketAddrV4::new([10, 118, 16, 2 + n as u8].into(), 8080),
        });
        let ports = BTreeMap::from([(80, backends.collect())]);
        let address = [10, 118, 0, 16].into();
        let environment = EnvironmentIndex::new(1).expect("in range");
        let entry = ServiceEntry { target, environment, address, ports, splits: vec![], reason: None };
        Table {
            version: TableVersion { epoch: 1, counter },
            services: BTreeMap::from([("staging/locker-api".to_owned(), entry)]),
            ..Table::default()
        }
    }

    fn replicas(serving: &Serving) -> Vec<Arc<Replica>> {
        let routing = serving.routing();
        let service = routing.inside.values().next().expect("a service");
        let port = &service.ports[&80];
        port.in_turn(0, port.lanes[0].replicas.len()).cloned().collect()
    }

    #[test]
    fn an_older_table_is_refused() {
        let serving = Serving::new(1);
        assert!(serving.take(&table(5, &["a0"])));
        assert!(!serving.take(&table(5, &["a0", "a1"])));
        assert!(!serving.take(&table(4, &[])));
        assert_eq!(replicas(&serving).len(), 1);
    }

    #[test]
    fn a_replica_that_left_is_entered_no_more_and_its_open_requests_are_told() {
        let serving = Serving::new(1);
        serving.take(&table(1, &["a0", "a1"]));
        let first = replicas(&serving).into_iter().find(|r| r.backend.replica.short == "a0").expect("a0");
        let open = serving.enter(&first).expect("it is in the table");
        serving.take(&table(2, &["a1"]));
        assert!(serving.enter(&first).is_none());
        assert_eq!(serving.view().open.get(&first.backend.replica), Some(&1));
        drop(open);
        assert_eq!(serving.view().open, BTreeMap::new());
    }

    #[test]
    fn a_request_that_was_led_by_an_old_table_finds_the_service_in_the_new_one() {
        let serving = Serving::new(1);
        serving.take(&table(1, &["a0"]));
        let old = Arc::clone(serving.routing().inside.values().next().expect("a service"));
        assert!(serving.newer(&old).is_none());
        serving.take(&table(2, &["a1"]));
        assert!(serving.enter(&old.ports[&80].lanes[0].replicas[0]).is_none());
        let new = serving.newer(&old).expect("a newer one");
        assert!(serving.enter(&new.ports[&80].lanes[0].replicas[0]).is_some());
    }

    #[test]
    fn what_was_served_is_told_once_also_of_replicas_that_left() {
        let serving = Serving::new(1);
        serving.take(&table(1, &["a0"]));
        let replica = replicas(&serving)[0].clone();
        let way = Way { name: "api.lockers.localhost".into(), inside: false };
        let service: Target = "staging/locker-api".parse().expect("a target");
        for failed in [false, true, false] {
            serving.count(&way, &service, Some(&replica), failed, 900);
        }
        serving.count(&way, &service, None, true, 100);
        serving.take(&table(2, &["a1"]));
        let figures = serving.take_figures();
        let told: Vec<_> = figures.iter().map(|it| (it.replica.is_some(), it.requests, it.failed)).collect();
        assert_eq!(told, [(true, 3, 1), (false, 1, 1)]);
        assert_eq!(serving.take_figures(), []);
    }

    #[test]
    fn of_a_thousand_requests_a_release_gets_its_share_and_another_replica_is_tried_where_one_is_gone() {
        let serving = Serving::new(2);
        let mut split = table(1, &["a0", "a1", "b0"]);
        let entry = split.services.values_mut().next().expect("a service");
        entry.ports.get_mut(&80).expect("a port")[2].release = ReleaseNumber(2);
        let workload = entry.target.clone();
        let share = mainyard_core::routing::Split {
            workload,
            release: ReleaseNumber(2),
            per_mille: 37,
            shadow: false,
        };
        entry.splits.push(share);
        serving.take(&split);
        let routing = serving.routing();
        let port = &routing.inside.values().next().expect("a service").ports[&80];
        for worker in [0, 1, 0] {
            let firsts = (0..1000).filter_map(|_| port.in_turn(worker, 4).next());
            let new = firsts.filter(|replica| replica.backend.release == ReleaseNumber(2)).count();
            assert_eq!(new, 37, "of any thousand of one worker");
        }
        let tried: Vec<&str> = loop {
            let list: Vec<_> = port.in_turn(0, 4).collect();
            if list[0].backend.replica.short == "b0" {
                break list.iter().map(|replica| replica.backend.replica.short.as_str()).collect();
            }
        };
        assert_eq!(tried, ["b0", "a0", "a1"]);
    }

    #[test]
    fn the_turn_goes_on_across_tables() {
        let serving = Serving::new(1);
        serving.take(&table(1, &["a0", "a1", "a2"]));
        let mut seen = BTreeMap::new();
        for round in 0..300 {
            if round == 100 {
                serving.take(&table(2, &["a0", "a1", "a2"]));
            }
            *seen.entry(replicas(&serving)[0].backend.replica.short.clone()).or_insert(0) += 1;
        }
        assert!(seen.values().all(|count| *count == 100), "{seen:?}");
    }
}
