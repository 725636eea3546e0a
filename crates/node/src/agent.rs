//! The agent's one loop: orders and events in, actions out.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use mainyard_control_client::Control;
use mainyard_core::link::{ImageFetch, NodeOrder, NodeReport, RunOrder};
use mainyard_core::model::{Check, Name, ReleaseId, ReplicaId};
use mainyard_core::node_state::{Action, Leftover, NodeState, Orders};
use mainyard_core::replica_lifecycle::{Do, Ended, Event};
use mainyard_core::routing::hosts_in;
use mainyard_runtime::{Driver, Plain};
use mainyard_sealing::KeyRing;
use tokio::sync::{mpsc, watch};

use crate::builds::{Builds, SCRATCH_NAMES};
use crate::events::Message;
use crate::images::{Images, Prepared, tell_progress};
use crate::keepers::{self, Keeper};
use crate::kept_logs::KeptLogs;
use crate::probes::{Probe, Probes};
use crate::usage::Meter;
use crate::{Config, Error, link, live_files, logs, orders};

mod rounds;

/// Images that no replica has any more are cleared away this often.
const SWEEP_EVERY: Duration = Duration::from_secs(1800);
/// A keeper that an earlier agent started has brought its program up, or given up, within this time.
const BROUGHT_UP_WITHIN: Duration = Duration::from_secs(5);

/// The agent's own state for one replica.
#[derive(Default)]
struct LocalReplica {
    keeper: Option<Keeper>,
    image: Option<Arc<Prepared>>,
    /// The digest of what was started last.
    started: Option<String>,
}

/// Everything the loop works with.
pub(crate) struct Agent {
    config: Config,
    driver: Arc<Driver>,
    images: Images,
    /// How far images are that are being fetched, for control.
    fetches: watch::Sender<Vec<ImageFetch>>,
    probes: Probes,
    inbox: mpsc::UnboundedSender<Message>,
    reports: watch::Sender<Option<NodeReport>>,
    node_state: NodeState,
    held: BTreeMap<ReplicaId, LocalReplica>,
    hosts: HashMap<Name, String>,
    /// Logs of replicas that are gone.
    kept_logs: KeptLogs,
    /// Replicas whose log is to be kept when they go.
    logs_to_keep: BTreeMap<ReplicaId, ReleaseId>,
    keys: KeyRing,
    meter: Meter,
    builds: Builds,
    begun: Instant,
}

pub(crate) async fn run(config: Config) -> Result<(), Error> {
    let io = |doing: &str| {
        let doing = doing.to_owned();
        move |source| Error::Io { doing, source }
    };
    for dir in ["replicas", "logs", "kept-logs", "layers", "trees", "parts", "builds/steps"] {
        std::fs::create_dir_all(config.dir.join(dir)).map_err(io("make the node's directories"))?;
    }
    if matches!(config.means, mainyard_runtime::IsolationMode::Isolated { .. }) {
        // Layers keep the set-uid bits and owners that images say; outside of replicas neither means anything.
        mainyard_runtime::cover(&config.dir.join("layers"))?;
    }
    let driver = Arc::new(Driver::open(&config.dir, &config.means)?);
    let (inbox, mut messages) = mpsc::unbounded_channel();
    let (reports, to_report) = watch::channel(None);
    let probes = Probes::start(Arc::clone(&driver), inbox.clone()).map_err(io("start the probes"))?;
    let incarnation = new_incarnation();
    let renew = Arc::new(tokio::sync::Notify::new());
    let control = Control::at(&config.control, &config.token);
    tokio::spawn(link::follow_orders(
        config.clone(),
        incarnation,
        control.clone(),
        Arc::clone(&renew),
        inbox.clone(),
    ));
    tokio::spawn(link::send_reports(config.clone(), control.clone(), renew, to_report, inbox.clone()));
    let images = Images::new(&config, driver.is_plain(), control.clone());
    let (fetches, to_tell) = watch::channel(Vec::new());
    tokio::spawn(tell_progress(format!("/link/nodes/{}/fetches", config.name), control.clone(), to_tell));
    let builds = Builds::new(&config, Arc::clone(&driver), images.clone(), control.clone());
    let mut agent = Agent {
        driver,
        builds,
        images,
        fetches,
        probes,
        inbox,
        reports,
        node_state: NodeState::new(heard_epoch(&config), incarnation),
        held: BTreeMap::new(),
        hosts: HashMap::new(),
        kept_logs: KeptLogs::at(config.dir.join("kept-logs")),
        logs_to_keep: BTreeMap::new(),
        keys: orders::keys(&config.dir)?,
        meter: Meter::start(&config, control.clone()),
        begun: Instant::now(),
        config,
    };
    agent.find_earlier();
    let mut kills = tokio::time::interval(Duration::from_secs(1));
    let every = |span: Duration| tokio::time::interval_at(tokio::time::Instant::now() + span, span);
    let (mut sweeps, mut looks) =
        (every(SWEEP_EVERY), every(agent.config.verify_every.max(Duration::from_secs(1))));
    loop {
        tokio::select! {
            message = messages.recv() => {
                let Some(message) = message else { return Ok(()) };
                agent.take(message, &control);
                while let Ok(message) = messages.try_recv() {
                    agent.take(message, &control);
                }
            }
            _ = kills.tick() => {
                agent.count_refusals();
                agent.measure();
            }
            _ = sweeps.tick() => agent.sweep_images(),
            _ = looks.tick() => agent.verify_images(),
        }
        if let Some(mut report) = agent.node_state.report() {
            for replica in &mut report.replicas {
                replica.started = agent.held.get(&replica.id).and_then(|held| held.started.clone());
            }
            agent.reports.send_replace(Some(report));
        }
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

    /// Replicas of an earlier agent: adopted if their keeper is alive, started again if not.
    fn find_earlier(&mut self) {
        let entries = std::fs::read_dir(self.config.dir.join("replicas")).into_iter().flatten().flatten();
        for entry in entries {
            let Some(mut order) = orders::read(&entry.path(), &self.keys) else {
                let _ = std::fs::remove_dir_all(entry.path());
                continue;
            };
            // The platform may have been started with other means since.
            order.address = self.driver.range().place(order.address);
            let id = order.id.clone();
            let survivor = mainyard_runtime::find_settled_survivor(&entry.path(), BROUGHT_UP_WITHIN);
            let running = survivor.and_then(|found| Some((found.keeper, found.init?)));
            let left = match keepers::unseen_end(&entry.path()) {
                _ if running.is_some() => Leftover::Running,
                Some(ended) => Leftover::Ended(ended),
                None if orders::was_begun(&entry.path()) && !mainyard_runtime::never_began(&entry.path()) => {
                    Leftover::Begun
                }
                None => Leftover::Nothing,
            };
            let (number, actions) = self.node_state.find(order, left, self.now());
            if let Some((keeper, init)) = running {
                tracing::info!(replica = %id, keeper, "found running");
                keepers::watch_adopted(keeper, id.clone(), number, entry.path(), self.inbox.clone());
                let keeper = Some(Keeper { pid: keeper, init: Some(init) });
                let started = std::fs::read_to_string(started_file(&entry.path())).ok();
                self.held.insert(id, LocalReplica { keeper, image: None, started });
            }
            self.carry_out(actions);
        }
        if let Some(scratch) = self.driver.scratch() {
            let replicas: Vec<String> = self.node_state.replicas().map(|(id, _)| id.dotted()).collect();
            scratch.only(&replicas, &SCRATCH_NAMES);
        }
    }

    fn take(&mut self, message: Message, control: &Control) {
        match message {
            Message::Order(NodeOrder::Replicas { epoch, requests, whole, run, stop, keep_logs }) => {
                if !requests.is_empty() {
                    let requests = requests.join(",");
                    tracing::info!(
                        requests,
                        run = run.len(),
                        stop = stop.len(),
                        "ordered because of requests"
                    );
                }
                self.mark_logs(keep_logs);
                self.take_orders(Orders { epoch, whole, run, stop })
            }
            Message::Order(NodeOrder::Recorded(releases)) => self.kept_logs.only_of(&releases),
            Message::Order(NodeOrder::Forgotten(releases)) => self.kept_logs.forget(&releases),
            Message::Order(NodeOrder::Hosts { environment, text }) => self.take_hosts(environment, text),
            Message::Order(NodeOrder::Log { stream, replicas, kept, only, tail, follow }) => {
                let dirs = replicas.into_iter().map(|id| (self.log_dir_of(&id), id)).collect();
                let mut kept = kept.map(|release| self.kept_logs.of(&release)).unwrap_or_default();
                kept.retain(|(_, id)| only.as_ref().is_none_or(|only| *only == id.short));
                let asked = logs::LineRange { dirs, kept, tail, follow };
                tokio::spawn(logs::send(control.clone(), stream, asked));
            }
            Message::Order(NodeOrder::ChangeFiles { stream, replicas, files }) => {
                let init_of = |id: &ReplicaId| self.held.get(id)?.keeper.as_ref()?.init;
                let replicas = replicas.into_iter().map(|id| (init_of(&id), id));
                let replicas =
                    replicas.map(|(init, id)| (id, init.filter(|_| !self.driver.is_plain()))).collect();
                tokio::spawn(live_files::change(control.clone(), stream, replicas, files));
            }
            Message::Order(NodeOrder::Steps(steps)) => self.builds.take(steps),
            Message::Order(NodeOrder::Beat) => {}
            Message::Linked => self.node_state.linked(),
            Message::Event(id, number, event) if self.node_state.is_current(&id, number) => {
                self.handle(&id, event)
            }
            Message::Prepared(id, number, image) if self.node_state.is_current(&id, number) => {
                self.held.entry(id.clone()).or_default().image = Some(image);
                self.handle(&id, Event::Fetched);
            }
            Message::Started(id, number, keeper, init) if self.node_state.is_current(&id, number) => {
                self.held.entry(id.clone()).or_default().keeper =
                    Some(Keeper { pid: keeper, init: Some(init) });
                self.handle(&id, Event::Running);
            }
            Message::Event(..) | Message::Prepared(..) | Message::Started(..) => {}
            Message::Reported(number, taken) => self.node_state.reported(number, taken),
        }
    }

    /// Remembers whose log is kept when the replica goes.
    fn mark_logs(&mut self, replicas: Vec<ReplicaId>) {
        for id in replicas {
            if let Some(run) = self.node_state.replica(&id) {
                let release = ReleaseId { workload: id.workload.clone(), number: run.order.release };
                self.logs_to_keep.insert(id, release);
            }
        }
    }

    fn take_orders(&mut self, orders: Orders) {
        let epoch = orders.epoch;
        if epoch > self.node_state.epoch()
            && let Err(error) = keep_epoch(&self.config, epoch)
        {
            tracing::error!(%error, "the epoch cannot be kept");
        }
        match self.node_state.take(orders, self.now()) {
            Some(actions) => self.carry_out(actions),
            None => tracing::warn!(epoch, "orders of a control that no longer decides are refused"),
        }
    }

    fn keep_order(&self, order: &RunOrder) -> std::io::Result<()> {
        let dir = self.dir_of(&order.id);
        std::fs::create_dir_all(&dir)?;
        std::fs::create_dir_all(self.log_dir_of(&order.id))?;
        orders::keep(&dir, order, &self.keys)
    }

    /// Ordinary processes read names of services from a file of their own, which is rewritten in place; replicas with a
    /// network of their own ask the node's resolver.
    fn take_hosts(&mut self, environment: Name, text: String) {
        if !self.driver.is_plain() {
            return;
        }
        let text = hosts_in(self.driver.range(), &text);
        for (id, held) in self.held.iter().filter(|(id, _)| id.workload.environment == environment) {
            if held.keeper.is_none() {
                continue;
            }
            if let Err(error) = std::fs::write(Plain::hosts_file(&self.dir_of(id)), &text) {
                tracing::debug!(replica = %id, %error, "the hosts file cannot be renewed");
            }
        }
        self.hosts.insert(environment, text);
    }

    fn handle(&mut self, id: &ReplicaId, event: Event) {
        if let (Event::Ended(ended), Some(run)) = (&event, self.node_state.replica(id)) {
            self.meter.ended(id, &run.order, ended.memory_kills);
        }
        if matches!(event, Event::Ended(_) | Event::CouldNotStart(_))
            && let Some(held) = self.held.get_mut(id)
        {
            held.keeper = None;
        }
        let actions = self.node_state.handle(id, event, self.now());
        self.carry_out(actions);
    }

    fn carry_out(&mut self, actions: Vec<Action>) {
        for action in actions {
            match action {
                Action::Keep(order) => {
                    if let Err(error) = self.keep_order(&order) {
                        tracing::error!(replica = %order.id, %error, "the order cannot be kept");
                    }
                }
                Action::Do(id, number, action) => self.act(&id, number, action),
                Action::Forget(id) => self.forget(&id),
            }
        }
    }

    fn forget(&mut self, id: &ReplicaId) {
        self.held.remove(id);
        self.meter.forget(id);
        if let Some(release) = self.logs_to_keep.remove(id)
            && let Err(error) = self.kept_logs.keep(&self.log_dir_of(id), &release, id)
        {
            tracing::warn!(replica = %id, %error, "its log cannot be kept");
        }
        if let Some(scratch) = self.driver.scratch() {
            scratch.remove(&id.dotted());
        }
        for dir in [self.dir_of(id), self.log_dir_of(id)] {
            if let Err(error) = std::fs::remove_dir_all(&dir)
                && error.kind() != std::io::ErrorKind::NotFound
            {
                tracing::warn!(dir = %dir.display(), %error, "cannot be removed");
            }
        }
    }

    fn act(&mut self, id: &ReplicaId, number: u64, action: Do) {
        let Some(run) = self.node_state.replica(id) else { return };
        let keeper = self.held.get(id).and_then(|held| held.keeper.as_ref());
        match action {
            Do::Fetch => {
                let digest = run.order.digest.clone();
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
            Do::Start => self.start(id, number),
            Do::AskToStop => {
                if let Some(keeper) = keeper {
                    keeper.ask_to_stop();
                } else {
                    // Its image was still on the way: there is no process whose end could be waited for.
                    self.handle(id, Event::Ended(Ended::default()));
                }
            }
            Do::Probe(of, after) => {
                let check = run.order.spec.ready_check();
                self.probe(id, (number, of), after.duration(), check, false);
            }
            Do::ProbeAlive(of, after) => {
                let check = run.order.spec.checks.alive.clone();
                self.probe(id, (number, of), after.duration(), check, true);
            }
            Do::LookAtPorts => {
                if let Some(init) = keeper.and_then(|keeper| keeper.init) {
                    let found = self.driver.listening(init, run.order.address);
                    self.handle(id, Event::Listening(found.open, found.loopback_only));
                }
            }
            Do::WakeAfter(span) => self.wake_after(id, number, span.duration()),
        }
    }

    fn probe(&self, id: &ReplicaId, of: (u64, u32), after: Duration, check: Option<Check>, alive: bool) {
        let (Some(replica), Some(check)) = (self.node_state.replica(id), check) else { return };
        let order = &replica.order;
        let Some(kind) = check.kind(&order.spec.ports) else { return };
        let ((number, run), within, address) = (of, check.within.duration(), order.address);
        let keeper = self.held.get(id).and_then(|held| held.keeper.as_ref());
        // On a network of its own nobody else can answer at its address.
        let init = keeper.and_then(|keeper| keeper.init);
        let check_owner = init.filter(|_| self.driver.is_plain() && !replica.is_ready());
        self.probes.ask(Probe {
            id: id.clone(),
            number,
            run,
            after,
            within,
            kind,
            alive,
            address,
            check_owner,
        });
    }

    fn wake_after(&self, id: &ReplicaId, number: u64, after: Duration) {
        let (id, inbox) = (id.clone(), self.inbox.clone());
        tokio::spawn(async move {
            tokio::time::sleep(after).await;
            let _ = inbox.send(Message::Event(id, number, Event::Wake));
        });
    }

    fn start(&mut self, id: &ReplicaId, number: u64) {
        let run_dir = self.dir_of(id);
        let log_dir = self.log_dir_of(id);
        let Some(replica) = self.node_state.replica(id) else { return };
        let Some(image) = self.held.get(id).and_then(|held| held.image.as_ref()) else {
            // Found at the agent's start with its process gone: the image was never prepared by this agent.
            self.act(id, number, Do::Fetch);
            return;
        };
        let hosts = self
            .hosts
            .get(&id.workload.environment)
            .cloned()
            .unwrap_or_else(|| keepers::own_hosts(&replica.order));
        let run = keepers::run_of(&replica.order, image, hosts, run_dir.clone(), log_dir);
        for name in ["exit", "init", "pid"] {
            let _ = std::fs::remove_file(run_dir.join(name));
        }
        if replica.order.once.is_some() {
            // Anyone who looks later must know that it may have run, whatever happens from here on.
            if let Err(error) = orders::mark_begun(&run_dir) {
                return self.handle(id, Event::CouldNotStart(format!("cannot mark it as begun: {error}")));
            }
        }
        let started = keepers::started(&replica.order, &run);
        // A later agent must be able to tell it as well.
        if let Err(error) = std::fs::write(started_file(&run_dir), &started) {
            tracing::warn!(replica = %id, %error, "what was started cannot be kept");
        }
        match keepers::start(&self.driver, &run, id.clone(), number, self.inbox.clone()) {
            Ok(pid) => {
                let held = self.held.entry(id.clone()).or_default();
                (held.keeper, held.started) = (Some(Keeper { pid, init: None }), Some(started));
            }
            Err(error) => self.handle(id, Event::CouldNotStart(error.to_string())),
        }
    }

    fn count_refusals(&mut self) {
        let running: Vec<ReplicaId> =
            self.held.iter().filter(|(_, held)| held.keeper.is_some()).map(|(id, _)| id.clone()).collect();
        for id in running {
            if let Some(count) = self.driver.memory_kills(&id.dotted()).filter(|count| *count > 0) {
                self.handle(&id, Event::MemoryKills(count));
            }
            if let Some(full) = self.full_disk(&id) {
                self.handle(&id, Event::DiskFull(full));
            }
            if let Some(count) = self.driver.processes_refused(&id.dotted()).filter(|count| *count > 0) {
                self.handle(&id, Event::ProcessesRefused(count));
            }
        }
    }
}

/// The file with the digest of a replica's start.
fn started_file(run_dir: &Path) -> PathBuf {
    run_dir.join("started")
}

/// Tells this agent from those before it.
fn new_incarnation() -> u64 {
    jiff::Timestamp::now().as_microsecond() as u64
}

fn epoch_file(config: &Config) -> PathBuf {
    config.dir.join("epoch")
}

/// The newest control that an earlier agent heard.
fn heard_epoch(config: &Config) -> u64 {
    let kept = std::fs::read_to_string(epoch_file(config)).ok();
    kept.and_then(|text| text.trim().parse().ok()).unwrap_or(0)
}

fn keep_epoch(config: &Config, epoch: u64) -> std::io::Result<()> {
    let partial = config.dir.join("epoch.partial");
    std::fs::write(&partial, epoch.to_string())?;
    std::fs::rename(&partial, epoch_file(config))
}
