//! The agent's one loop: orders and events in, actions out.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use mainyard_calling::Control;
use mainyard_core::link::{NodeOrder, NodeReport, ReplicaReport, RunOrder};
use mainyard_core::model::{Check, Name, ReplicaId};
use mainyard_core::replica_run::{Do, Ended, Event, ReplicaRun};
use mainyard_runtime::{Isolation, listening};
use tokio::sync::{mpsc, watch};

use crate::images::{Images, Prepared};
use crate::keepers::{self, Keeper};
use crate::probes::{Probe, Probes};
use crate::{Config, Error, link, logs};

/// What reaches the loop.
pub enum Message {
    /// From control.
    Order(NodeOrder),
    /// The link was made anew: control knows nothing of what happened meanwhile.
    Linked,
    /// Something about a replica; the number is that of its slot, so that what an earlier one of the same name
    /// left behind is not taken for it.
    Event(ReplicaId, u64, Event),
    /// The image is prepared.
    Prepared(ReplicaId, u64, Arc<Prepared>),
    /// The program runs; the process ids of keeper and init.
    Started(ReplicaId, u64, u32, u32),
    /// A report was taken by control, or not.
    Reported(bool),
}

struct Slot {
    number: u64,
    run: ReplicaRun,
    keeper: Option<Keeper>,
    image: Option<Arc<Prepared>>,
    told: Option<ReplicaReport>,
}

/// Everything the loop works with.
pub struct Agent {
    config: Config,
    isolation: Arc<Isolation>,
    images: Images,
    probes: Probes,
    inbox: mpsc::UnboundedSender<Message>,
    reports: watch::Sender<Option<NodeReport>>,
    slots: BTreeMap<ReplicaId, Slot>,
    hosts: HashMap<Name, String>,
    gone: BTreeSet<ReplicaId>,
    /// Replicas about which something happened since control was last told.
    touched: BTreeSet<ReplicaId>,
    begun: Instant,
    next_number: u64,
    linked: bool,
    whole: bool,
    in_flight: bool,
}

pub async fn run(config: Config) -> Result<(), Error> {
    let io = |doing: &str| {
        let doing = doing.to_owned();
        move |source| Error::Io { doing, source }
    };
    for dir in ["replicas", "logs", "layers"] {
        std::fs::create_dir_all(config.dir.join(dir)).map_err(io("make the node's directories"))?;
    }
    let isolation = Arc::new(Isolation::open(&config.dir, &config.groups)?);
    let (inbox, mut messages) = mpsc::unbounded_channel();
    let (reports, to_report) = watch::channel(None);
    let probes = Probes::start(isolation.network().file().to_owned(), inbox.clone())
        .map_err(io("start the probes"))?;
    let control = Control::at(&config.control, &config.token);
    tokio::spawn(link::follow_orders(config.clone(), control.clone(), inbox.clone()));
    tokio::spawn(link::send_reports(config.clone(), control.clone(), to_report, inbox.clone()));
    let images = Images::new(&config, control.clone());
    let mut agent = Agent {
        isolation,
        images,
        probes,
        inbox,
        reports,
        slots: BTreeMap::new(),
        hosts: HashMap::new(),
        gone: BTreeSet::new(),
        touched: BTreeSet::new(),
        begun: Instant::now(),
        next_number: 0,
        linked: false,
        whole: true,
        in_flight: false,
        config,
    };
    agent.find_earlier();
    let mut kills = tokio::time::interval(Duration::from_secs(1));
    loop {
        tokio::select! {
            message = messages.recv() => {
                let Some(message) = message else { return Ok(()) };
                agent.take(message, &control);
                while let Ok(message) = messages.try_recv() {
                    agent.take(message, &control);
                }
            }
            _ = kills.tick() => agent.count_kills(),
        }
        agent.tell();
    }
}

impl Agent {
    fn now(&self) -> u64 {
        self.begun.elapsed().as_millis() as u64
    }

    fn dir_of(&self, id: &ReplicaId) -> PathBuf {
        self.config.dir.join("replicas").join(id.dotted())
    }

    fn log_dir_of(&self, id: &ReplicaId) -> PathBuf {
        self.config.dir.join("logs").join(id.dotted())
    }

    /// What an earlier agent ran: adopted where its keeper lives, begun anew where not.
    fn find_earlier(&mut self) {
        let entries = std::fs::read_dir(self.config.dir.join("replicas")).into_iter().flatten().flatten();
        for entry in entries {
            let order = std::fs::read(entry.path().join("order.json")).ok();
            let Some(order) = order.and_then(|bytes| serde_json::from_slice::<RunOrder>(&bytes).ok()) else {
                let _ = std::fs::remove_dir_all(entry.path());
                continue;
            };
            let id = order.id.clone();
            let survivor = mainyard_runtime::find_survivor(&entry.path());
            let number = self.add(order);
            match survivor.and_then(|found| Some((found.keeper, found.init?))) {
                Some((keeper, init)) => {
                    tracing::info!(replica = %id, keeper, "found running");
                    keepers::watch_adopted(keeper, id.clone(), number, entry.path(), self.inbox.clone());
                    if let Some(slot) = self.slots.get_mut(&id) {
                        slot.keeper = Some(Keeper { pid: keeper, init: Some(init) });
                    }
                    self.handle(&id, Event::Found);
                }
                None => self.handle(&id, Event::Begin),
            }
        }
    }

    fn add(&mut self, order: RunOrder) -> u64 {
        self.next_number += 1;
        let slot = Slot {
            number: self.next_number,
            run: ReplicaRun::new(order.clone()),
            keeper: None,
            image: None,
            told: None,
        };
        self.gone.remove(&order.id);
        self.slots.insert(order.id, slot);
        self.next_number
    }

    fn take(&mut self, message: Message, control: &Control) {
        match message {
            Message::Order(NodeOrder::Replicas { whole, run, stop, .. }) => {
                self.take_orders(whole, run, stop)
            }
            Message::Order(NodeOrder::Hosts { environment, text }) => self.take_hosts(environment, text),
            Message::Order(NodeOrder::Log { stream, replicas, tail, follow }) => {
                let dirs = replicas.into_iter().map(|id| (self.log_dir_of(&id), id)).collect();
                tokio::spawn(logs::send(control.clone(), stream, dirs, tail, follow));
            }
            Message::Order(NodeOrder::Beat) => {}
            Message::Linked => (self.linked, self.whole, self.in_flight) = (true, true, false),
            Message::Event(id, number, event) if self.is_current(&id, number) => self.handle(&id, event),
            Message::Prepared(id, number, image) if self.is_current(&id, number) => {
                if let Some(slot) = self.slots.get_mut(&id) {
                    slot.image = Some(image);
                }
                self.handle(&id, Event::Fetched);
            }
            Message::Started(id, number, keeper, init) if self.is_current(&id, number) => {
                if let Some(slot) = self.slots.get_mut(&id) {
                    slot.keeper = Some(Keeper { pid: keeper, init: Some(init) });
                }
                self.handle(&id, Event::Running);
            }
            Message::Event(..) | Message::Prepared(..) | Message::Started(..) => {}
            Message::Reported(taken) => {
                self.in_flight = false;
                self.linked &= taken;
            }
        }
    }

    fn is_current(&self, id: &ReplicaId, number: u64) -> bool {
        self.slots.get(id).is_some_and(|slot| slot.number == number)
    }

    fn take_orders(&mut self, whole: bool, run: Vec<RunOrder>, mut stop: Vec<ReplicaId>) {
        if whole {
            let wanted: BTreeSet<&ReplicaId> = run.iter().map(|order| &order.id).collect();
            stop = self.slots.keys().filter(|id| !wanted.contains(id)).cloned().collect();
        }
        for id in stop {
            if self.slots.contains_key(&id) {
                self.handle(&id, Event::Stop);
            } else {
                self.gone.insert(id);
            }
        }
        for order in run {
            if self.slots.contains_key(&order.id) {
                continue;
            }
            let id = order.id.clone();
            if let Err(error) = self.keep_order(&order) {
                tracing::error!(replica = %id, %error, "the order cannot be kept");
            }
            self.add(order);
            self.handle(&id, Event::Begin);
        }
    }

    fn keep_order(&self, order: &RunOrder) -> std::io::Result<()> {
        let dir = self.dir_of(&order.id);
        std::fs::create_dir_all(&dir)?;
        std::fs::create_dir_all(self.log_dir_of(&order.id))?;
        std::fs::write(dir.join("order.partial"), serde_json::to_vec(order)?)?;
        std::fs::rename(dir.join("order.partial"), dir.join("order.json"))
    }

    /// Replicas read names of services from a file in their own scratch, which is rewritten in place.
    fn take_hosts(&mut self, environment: Name, text: String) {
        for slot in self.slots.values().filter(|slot| slot.run.order.id.workload.environment == environment) {
            let Some(keeper) = &slot.keeper else { continue };
            let path = format!("/proc/{}/cwd/hosts", keeper.pid);
            if let Err(error) = std::fs::write(&path, &text) {
                tracing::debug!(replica = %slot.run.order.id, %error, "the hosts file cannot be renewed");
            }
        }
        self.hosts.insert(environment, text);
    }

    fn handle(&mut self, id: &ReplicaId, event: Event) {
        let now = self.now();
        let Some(slot) = self.slots.get_mut(id) else { return };
        self.touched.insert(id.clone());
        if matches!(event, Event::Ended(_) | Event::CouldNotStart(_)) {
            slot.keeper = None;
        }
        let list = slot.run.handle(event, now);
        for action in list {
            self.carry_out(id, action);
        }
        if self.slots.get(id).is_some_and(|slot| slot.run.is_gone()) {
            self.forget(id);
        }
    }

    fn forget(&mut self, id: &ReplicaId) {
        self.slots.remove(id);
        for dir in [self.dir_of(id), self.log_dir_of(id)] {
            if let Err(error) = std::fs::remove_dir_all(&dir)
                && error.kind() != std::io::ErrorKind::NotFound
            {
                tracing::warn!(dir = %dir.display(), %error, "cannot be removed");
            }
        }
        self.gone.insert(id.clone());
    }

    fn carry_out(&mut self, id: &ReplicaId, action: Do) {
        let Some(slot) = self.slots.get_mut(id) else { return };
        let number = slot.number;
        match action {
            Do::Fetch => {
                let digest = slot.run.order.digest.clone();
                let (images, inbox, id) = (self.images.clone(), self.inbox.clone(), id.clone());
                if let Some(image) = images.prepared(&digest) {
                    let _ = inbox.send(Message::Prepared(id, number, image));
                    return;
                }
                tokio::spawn(async move {
                    let message = match images.prepare(&digest).await {
                        Ok(image) => Message::Prepared(id, number, image),
                        Err(reason) => Message::Event(id, number, Event::FetchFailed(reason)),
                    };
                    let _ = inbox.send(message);
                });
            }
            Do::Start => self.start(id),
            Do::AskToStop => {
                if let Some(keeper) = &slot.keeper {
                    keeper.ask_to_stop();
                } else {
                    // Its image was still on the way: there is no process whose end could be waited for.
                    self.handle(id, Event::Ended(Ended::default()));
                }
            }
            Do::Probe(run, after) => {
                let check = slot.run.order.spec.ready_check();
                self.probe(id, run, after.duration(), check, false);
            }
            Do::ProbeAlive(run, after) => {
                let check = slot.run.order.spec.checks.alive.clone();
                self.probe(id, run, after.duration(), check, true);
            }
            Do::LookAtPorts => {
                if let Some(init) = slot.keeper.as_ref().and_then(|keeper| keeper.init) {
                    let found = listening(init);
                    self.handle(id, Event::Listening(found.open, found.loopback_only));
                }
            }
            Do::WakeAfter(span) => self.wake_after(id, span.duration()),
        }
    }

    fn probe(&self, id: &ReplicaId, run: u32, after: Duration, check: Option<Check>, alive: bool) {
        let (Some(slot), Some(check)) = (self.slots.get(id), check) else { return };
        let order = &slot.run.order;
        let Some(kind) = check.kind(&order.spec.ports) else { return };
        let (number, within, address) = (slot.number, check.within.duration(), order.address);
        self.probes.ask(Probe { id: id.clone(), number, run, after, within, kind, alive, address });
    }

    fn wake_after(&self, id: &ReplicaId, after: Duration) {
        let Some(slot) = self.slots.get(id) else { return };
        let (id, number, inbox) = (id.clone(), slot.number, self.inbox.clone());
        tokio::spawn(async move {
            tokio::time::sleep(after).await;
            let _ = inbox.send(Message::Event(id, number, Event::Wake));
        });
    }

    fn start(&mut self, id: &ReplicaId) {
        let run_dir = self.dir_of(id);
        let log_dir = self.log_dir_of(id);
        let Some(slot) = self.slots.get(id) else { return };
        let Some(image) = &slot.image else {
            // Found at the agent's start with its process gone: the image was never prepared by this agent.
            self.carry_out(id, Do::Fetch);
            return;
        };
        let hosts = self
            .hosts
            .get(&id.workload.environment)
            .cloned()
            .unwrap_or_else(|| "127.0.0.1 localhost\n".to_owned());
        let run = keepers::run_of(&slot.run.order, image, hosts, run_dir.clone(), log_dir);
        for name in ["exit", "init", "pid"] {
            let _ = std::fs::remove_file(run_dir.join(name));
        }
        let number = slot.number;
        match keepers::start(&self.isolation, &run, id.clone(), number, self.inbox.clone()) {
            Ok(pid) => {
                if let Some(slot) = self.slots.get_mut(id) {
                    slot.keeper = Some(Keeper { pid, init: None });
                }
            }
            Err(error) => self.handle(id, Event::CouldNotStart(error.to_string())),
        }
    }

    fn count_kills(&mut self) {
        let running: Vec<ReplicaId> =
            self.slots.iter().filter(|(_, slot)| slot.keeper.is_some()).map(|(id, _)| id.clone()).collect();
        for id in running {
            if let Some(count) = self.isolation.groups().memory_kills(&id.dotted()).filter(|count| *count > 0)
            {
                self.handle(&id, Event::MemoryKills(count));
            }
        }
    }

    /// Tells control what changed since it was last told, one report at a time.
    fn tell(&mut self) {
        if !self.linked || self.in_flight {
            return;
        }
        let mut report = NodeReport { whole: self.whole, replicas: Vec::new(), gone: Vec::new() };
        let touched = std::mem::take(&mut self.touched);
        let all = self.whole.then(|| self.slots.keys().cloned().collect());
        for id in all.unwrap_or(touched) {
            let Some(slot) = self.slots.get_mut(&id) else { continue };
            let state = slot.run.report();
            if self.whole || slot.told.as_ref() != Some(&state) {
                slot.told = Some(state.clone());
                report.replicas.push(state);
            }
        }
        report.gone = std::mem::take(&mut self.gone).into_iter().collect();
        if report.whole || !report.replicas.is_empty() || !report.gone.is_empty() {
            (self.whole, self.in_flight) = (false, true);
            self.reports.send_replace(Some(report));
        }
    }
}
