//! Deciding, for as long as the lease is this control's and the record can be written.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, Refusal, Settled};
use mainyard_core::commands::Outcome;
use mainyard_core::growth::Resize;
use mainyard_core::link::{GatewayOrder, GatewayReport, NodeOrder, RunOrder};
use mainyard_core::model::{Name, ReplicaId};
use mainyard_core::record::{Kind, Object};
use mainyard_store::{Entry, Error, LEASE};
use tokio::sync::mpsc;

use super::config::Leader;
use super::growth::LoadWatch;
use super::handle::{ActError, Message, PendingCommand};
use super::private_values::{self, Wanted};
use crate::secret_store::SecretStoreError;

/// How long a burst of reports is gathered before it is settled and written together.
const GATHER: Duration = Duration::from_millis(6);

/// The lease is renewed this often where nothing is written meanwhile.
const RENEW: Duration = Duration::from_secs(LEASE.as_secs() / 4);

/// A change that the record refused is decided again after this time.
const AFTER_A_REFUSAL: Duration = Duration::from_millis(200);

struct Term<'a> {
    leader: &'a Leader,
    cluster: Cluster,
    epoch: u64,
    /// Gateways that called and have no table yet.
    called: BTreeSet<String>,
    /// Nodes that called and have no orders yet.
    called_nodes: BTreeSet<Name>,
    /// The values for gateways that no table holds, as they were sent.
    private: Wanted,
    /// Whether a table was made that no gateway was sent.
    table_unsent: bool,
    /// Workloads whose number of replicas follows their load.
    load: LoadWatch,
    /// The ids of the requests whose commands are being settled.
    requests: Vec<String>,
}

/// Decides until it may or can no more.
pub(super) async fn lead(leader: &Leader, epoch: u64, messages: &mut mpsc::UnboundedReceiver<Message>) {
    let outcome = async {
        match leader.vault.renew().await {
            Ok(0) => {}
            Ok(count) => tracing::info!(count, "secrets were sealed again under the newest key"),
            Err(SecretStoreError::Store(error)) => return Err(error),
            Err(SecretStoreError::Keys(error)) => tracing::error!(error, "secrets cannot all be opened"),
        }
        let (state, number) = leader.store.snapshot().await?;
        *leader.published.write().await = (state.clone(), number);
        leader.latest.send_replace(number);
        let mut cluster = Cluster::new(state, epoch, Timestamp::now());
        cluster.reserve(leader.reserved_hosts.clone(), leader.reserved_ports.clone());
        cluster.at(Timestamp::now()).begin_to_decide();
        let leader = Term {
            leader,
            cluster,
            epoch,
            called: BTreeSet::new(),
            called_nodes: BTreeSet::new(),
            private: Wanted::default(),
            table_unsent: false,
            load: LoadWatch::new(),
            requests: Vec::new(),
        };
        leader.work(messages).await
    };
    if let Err(error) = outcome.await {
        tracing::error!(%error, "the cluster is read again");
    }
}

/// A command that was carried out in memory: who waits for it, and what came of it.
struct Done {
    asked: PendingCommand,
    result: Result<Outcome, Refusal>,
}

impl Done {
    fn answer(self) {
        let _ = self.asked.answer.send(self.result.map_err(ActError::Refused));
    }

    fn fail(self, error: ActError) {
        let _ = self.asked.answer.send(Err(error));
    }
}

impl Term<'_> {
    /// Until the record cannot be written or another control decides.
    async fn work(mut self, messages: &mut mpsc::UnboundedReceiver<Message>) -> Result<(), Error> {
        let mut wake = Some(Timestamp::now());
        let mut renewed = Instant::now();
        loop {
            let pause = wake.map_or(RENEW, |at| {
                let left =
                    at.duration_since(Timestamp::now()).as_millis().clamp(0, RENEW.as_millis() as i128);
                Duration::from_millis(left as u64 + 1)
            });
            let pause = self.load.next_look(self.cluster.state()).map_or(pause, |left| pause.min(left));
            let mut waiting: Vec<Done> = Vec::new();
            match tokio::time::timeout(pause, messages.recv()).await {
                Ok(Some(message)) => {
                    // Reports come in bursts; a person is never kept waiting for one.
                    let hurried = matches!(message, Message::Command(..) | Message::Gateway(..));
                    self.take(message, &mut waiting);
                    if !hurried {
                        tokio::time::sleep(GATHER).await;
                    }
                }
                Ok(None) => return Ok(()),
                Err(_) => {}
            }
            while let Ok(message) = messages.try_recv() {
                self.take(message, &mut waiting);
            }
            self.follow_loads();
            wake = self.settle(&mut renewed, waiting).await?;
        }
    }

    /// Decides what follows, writes it, and only then orders and answers. Gives when to look again.
    async fn settle(
        &mut self,
        renewed: &mut Instant,
        waiting: Vec<Done>,
    ) -> Result<Option<Timestamp>, Error> {
        self.requests = waiting.iter().map(|done| done.asked.request.clone()).collect();
        self.requests.retain(|id| !id.is_empty());
        let settled = self.decide();
        let wake = settled.wake;
        match self.write_and_order(settled, renewed).await {
            Ok(None) => {
                waiting.into_iter().for_each(Done::answer);
                Ok(wake)
            }
            // One of them cannot be written: each is done alone, so that the others are not refused with it.
            Ok(Some(_)) => self.one_by_one(renewed, waiting).await,
            Err(error) => {
                waiting.into_iter().for_each(|done| done.fail(ActError::Record(error.to_string())));
                Err(error)
            }
        }
    }

    /// Gives workloads as many replicas as their load needs.
    fn follow_loads(&mut self) {
        let now = Timestamp::now();
        for (workload, Resize { to, because }) in
            self.load.look(self.cluster.state(), &self.leader.traffic, now)
        {
            tracing::debug!(%workload, to, because, "the load asks for another number of replicas");
            if let Err(refusal) = self.cluster.at(now).grow(&workload, to, &because) {
                tracing::warn!(%workload, %refusal, "a workload does not follow its load");
            }
        }
    }

    /// Decides all that follows from what came in, and tells in the log what that comes to.
    fn decide(&mut self) -> Settled {
        let began = Instant::now();
        let settled = self.cluster.at(Timestamp::now()).settle();
        let took = began.elapsed();
        self.leader.metrics.observe(took);
        for workload in &settled.unsettled {
            tracing::warn!(%workload, "the decisions about this workload do not settle");
            self.leader.metrics.count_unsettled(workload);
        }
        if settled.changes.is_empty() && settled.orders.is_empty() {
            return settled;
        }
        let requests = self.requests.join(",");
        let _span = tracing::info_span!("decision", epoch = self.epoch, requests).entered();
        tracing::debug!(changes = settled.changes.len(), ?took, table = settled.table.is_some(), "decided");
        for change in &settled.changes {
            if let Some(Object::Rollout(rollout)) = &change.object {
                let (workload, release, state) = (&rollout.workload, rollout.to, rollout.state);
                tracing::debug!(%workload, %release, %state, "rollout");
            }
        }
        for (node, orders) in &settled.orders {
            tracing::debug!(%node, run = orders.run.len(), stop = orders.stop.len(), "order");
        }
        settled
    }

    /// Carries a command out in memory.
    fn carry_out(&mut self, asked: PendingCommand) -> Done {
        let (command, by, request) = (asked.command.word(), &asked.by, &asked.request);
        let _span = tracing::info_span!("command", command, by, request).entered();
        let result = self.cluster.carry_out(&asked.command, &asked.by, Timestamp::now());
        match &result {
            Ok(_) => tracing::debug!("carried out"),
            Err(refusal) => tracing::debug!(%refusal, "refused"),
        }
        Done { asked, result }
    }

    /// Carries commands out again that were taken back together, and writes each before the next is done.
    async fn one_by_one(
        &mut self,
        renewed: &mut Instant,
        waiting: Vec<Done>,
    ) -> Result<Option<Timestamp>, Error> {
        let mut waiting = waiting.into_iter();
        while let Some(before) = waiting.next() {
            let done = self.carry_out(before.asked);
            self.requests = vec![done.asked.request.clone()];
            let settled = self.decide();
            match self.write_and_order(settled, renewed).await {
                Ok(None) => done.answer(),
                Ok(Some(refused)) => done.fail(ActError::Unwritable(refused)),
                Err(error) => {
                    let rest = std::iter::once(done).chain(waiting);
                    rest.for_each(|done| done.fail(ActError::Record(error.to_string())));
                    return Err(error);
                }
            }
        }
        // What remains is decided again, without what was taken back.
        Ok(Some(Timestamp::now() + AFTER_A_REFUSAL))
    }

    /// The record cannot hold what was decided: it is as before, and links stay open.
    async fn take_back(&mut self, settled: Settled, refused: &str) {
        tracing::error!(error = refused, "changes were taken back: the record cannot hold them");
        let published = self.leader.published.read().await;
        self.cluster.withdraw(settled, &published.0);
        self.table_unsent = true;
    }

    fn take(&mut self, message: Message, waiting: &mut Vec<Done>) {
        let now = Timestamp::now();
        match message {
            Message::Command(asked) => {
                let done = self.carry_out(*asked);
                waiting.push(done);
            }
            Message::Hello(hello) => {
                self.called_nodes.insert(hello.node.clone());
                self.cluster.at(now).node_called(hello);
            }
            Message::Node(node, report) => self.cluster.at(now).node_reported(&node, report),
            Message::GatewayCalled(gateway, hello) => {
                self.cluster.at(now).gateway_called(&gateway, hello.incarnation);
                self.called.insert(gateway);
            }
            Message::Gateway(
                gateway,
                GatewayReport { incarnation, view, closed_ports, figures, waiting, outgoing },
            ) => {
                self.cluster.at(now).requests_wait(&waiting);
                self.leader.traffic.note_waiting(&gateway, waiting);
                self.cluster.at(now).figures_reported(&figures);
                self.leader.traffic.add(&gateway, &figures);
                self.leader.outgoing.add(&gateway, &outgoing);
                self.cluster.at(now).gateway_confirmed(&gateway, incarnation, view);
                self.cluster.at(now).closed_ports_reported(&gateway, closed_ports);
            }
        }
    }

    /// Gives why the record refused the changes, where it did; then nothing was ordered.
    async fn write_and_order(
        &mut self,
        settled: Settled,
        renewed: &mut Instant,
    ) -> Result<Option<String>, Error> {
        if !settled.changes.is_empty() {
            let entries = match self.leader.store.write(self.epoch, &settled.changes).await {
                Ok(entries) => entries,
                Err(Error::Refused(why)) => {
                    self.take_back(settled, &why).await;
                    return Ok(Some(why));
                }
                Err(error) => return Err(error),
            };
            *renewed = Instant::now();
            self.publish(&settled, &entries).await;
        } else if renewed.elapsed() >= RENEW {
            self.leader.store.renew_lease(self.epoch).await?;
            *renewed = Instant::now();
        }
        let forgotten = settled.forgotten_releases();
        for (environment, text) in settled.hosts {
            self.leader.links.order_all_nodes(&NodeOrder::Hosts { environment, text });
        }
        for node in std::mem::take(&mut self.called_nodes) {
            for (environment, text) in self.cluster.all_hosts() {
                self.leader.links.order_node(&node, NodeOrder::Hosts { environment, text });
            }
            let (run, stop) = (self.cluster.whole_orders(&node), self.cluster.stopping_on(&node));
            self.order(&node, true, run, stop).await?;
            self.leader.links.order_node(&node, NodeOrder::Recorded(self.cluster.recorded_releases()));
        }
        if !forgotten.is_empty() {
            self.leader.links.order_all_nodes(&NodeOrder::Forgotten(forgotten));
        }
        for (node, orders) in settled.orders {
            self.order(&node, false, orders.run, orders.stop).await?;
        }
        // A gateway serves only after the record knows of it.
        let called = std::mem::take(&mut self.called);
        self.send_private(&called, settled.changes.iter().map(|change| change.kind)).await?;
        for gateway in called {
            let table = self.cluster.served().clone();
            self.leader.links.order_gateway(&gateway, GatewayOrder::Table(table));
        }
        if let Some(change) = settled.table {
            let order = if std::mem::take(&mut self.table_unsent) {
                // Gateways do not have the table that this one differs from.
                GatewayOrder::Table(self.cluster.served().clone())
            } else {
                GatewayOrder::Change(change)
            };
            self.leader.links.order_all_gateways(&order);
        }
        Ok(None)
    }

    /// Sends gateways what they need and no table holds: those that called, and all where it changed.
    async fn send_private(
        &mut self,
        called: &BTreeSet<String>,
        mut changed: impl Iterator<Item = Kind>,
    ) -> Result<(), Error> {
        let may_differ = changed
            .any(|kind| matches!(kind, Kind::Route | Kind::Secret | Kind::Certificate | Kind::Authority));
        if called.is_empty() && !may_differ {
            return Ok(());
        }
        let wanted = private_values::wanted(self.cluster.state());
        let changed = wanted != self.private;
        if !changed && (called.is_empty() || wanted.is_empty()) {
            return Ok(());
        }
        let order = match private_values::open(&self.leader.vault, &wanted).await {
            Ok(private) => GatewayOrder::Private(private),
            Err(SecretStoreError::Store(error)) => return Err(error),
            Err(SecretStoreError::Keys(error)) => {
                tracing::error!(error, "what gateways need cannot be opened");
                return Ok(());
            }
        };
        if changed {
            self.leader.links.order_all_gateways(&order);
            self.private = wanted;
        } else {
            called.iter().for_each(|gateway| self.leader.links.order_gateway(gateway, order.clone()));
        }
        Ok(())
    }

    /// Orders a node, with the values of secrets that it needs.
    async fn order(
        &self,
        node: &Name,
        whole: bool,
        mut run: Vec<RunOrder>,
        stop: Vec<ReplicaId>,
    ) -> Result<(), Error> {
        match self.leader.vault.fill(self.cluster.state(), &mut run).await {
            Ok(()) => {}
            Err(SecretStoreError::Store(error)) => return Err(error),
            Err(SecretStoreError::Keys(error)) => tracing::error!(error, "secrets cannot be opened"),
        }
        let keep_logs = self.cluster.whose_logs_stay(&stop);
        let (epoch, requests) = (self.epoch, self.requests.clone());
        let order = NodeOrder::Replicas { epoch, requests, whole, run, stop, keep_logs };
        self.leader.links.order_node(node, order);
        Ok(())
    }

    async fn publish(&self, settled: &Settled, entries: &[Entry]) {
        let mut published = self.leader.published.write().await;
        for change in &settled.changes {
            match &change.object {
                Some(object) => published.0.put(object.clone()),
                None => published.0.remove(change.kind, &change.key),
            }
        }
        if let Some(last) = entries.last() {
            published.1 = last.number;
            self.leader.latest.send_replace(last.number);
        }
    }
}
