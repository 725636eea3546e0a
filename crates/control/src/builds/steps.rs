//! Commands that nodes run: which node has which, and what it tells of them.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::sync::{Mutex, MutexGuard, PoisonError};

use futures_util::StreamExt;
use mainyard_api::{Problem, ReportStepEnd, ReportStepLines, SendStepLayer};
use mainyard_core::address::{self, STEPS};
use mainyard_core::link::{GatewayOrder, NodeOrder, StepCaller, StepId, StepLine, StepOrder, StepOutcome};
use mainyard_core::model::{Name, OutgoingRule, Target};
use mainyard_images::{Digest, hash_reader};
use tokio::io::AsyncWriteExt;
use tokio::sync::oneshot;

use crate::Control;
use crate::body_limits::of_payload;
use crate::images::no_room;
use crate::links::Links;
use crate::operations::{Call, Operations};
use crate::problem::{of_blobs, of_record};

/// Lines of one step that are kept, and characters of one line.
const LINES: u64 = 50_000;
const LINE_LENGTH: usize = 4_000;
/// The disk is looked at again after so many bytes.
const LOOK_EVERY: usize = 64 << 20;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(lines).mount(layer).mount(end);
}

struct Ordered {
    node: Name,
    order: StepOrder,
    /// What it may reach outside.
    reaches: Vec<OutgoingRule>,
    ended: Option<oneshot::Sender<StepOutcome>>,
}

/// The steps that run, by their ids.
#[derive(Default)]
pub(crate) struct StepsOfNodes(Mutex<BTreeMap<StepId, Ordered>>);

impl StepsOfNodes {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<StepId, Ordered>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Orders a step from a node; its outcome comes through what is given.
    pub(super) fn order(
        &self,
        links: &Links,
        node: &Name,
        mut order: StepOrder,
        reaches: Vec<OutgoingRule>,
    ) -> oneshot::Receiver<StepOutcome> {
        let (ended, outcome) = oneshot::channel();
        {
            let mut all = self.lock();
            if !reaches.is_empty() {
                let is_free = |address: &Ipv4Addr| all.values().all(|it| it.order.address != Some(*address));
                order.address = (0..STEPS).filter_map(address::step).find(is_free);
            }
            all.insert(order.id, Ordered { node: node.clone(), order, reaches, ended: Some(ended) });
        }
        // Gateways first: the step may call as soon as it runs.
        self.tell_gateways(links);
        self.tell(links, node);
        outcome
    }

    /// The step is not wanted any more.
    pub(super) fn take_back(&self, links: &Links, id: StepId) {
        let node = self.lock().remove(&id).map(|ordered| ordered.node);
        if let Some(node) = node {
            self.tell(links, &node);
            self.tell_gateways(links);
        }
    }

    /// Tells the gateways which steps may reach what.
    pub(crate) fn tell_gateways(&self, links: &Links) {
        let callers = {
            let all = self.lock();
            let of = |ordered: &Ordered| {
                let address = ordered.order.address?;
                let counted_as = counted_as(&ordered.order.repository)?;
                Some(StepCaller { address, counted_as, rules: ordered.reaches.clone() })
            };
            all.values().filter_map(of).collect()
        };
        links.order_all_gateways(&GatewayOrder::StepCallers(callers));
    }

    /// Forgets all: another control decides.
    pub(super) fn clear(&self) {
        self.lock().clear();
    }

    /// Tells a node all that it should run.
    pub(crate) fn tell(&self, links: &Links, node: &Name) {
        let all = self.lock();
        let orders =
            all.values().filter(|ordered| ordered.node == *node).map(|ordered| ordered.order.clone());
        links.order_node(node, NodeOrder::Steps(orders.collect()));
    }

    /// How many steps a node runs.
    pub(super) fn count(&self, node: &str) -> usize {
        self.lock().values().filter(|ordered| ordered.node.as_str() == node).count()
    }

    /// Whether a node may tell of this step: another's is none of its business. One that is not known may be of the control
    /// before this one.
    fn may_tell(&self, id: StepId, node: &Name) -> Result<(), Problem> {
        match self.lock().get(&id) {
            Some(ordered) if ordered.node != *node => {
                Err(Problem::not_found(format!("step {id} does not run on {node}")))
            }
            _ => Ok(()),
        }
    }

    fn end(&self, id: StepId, key: &str, outcome: StepOutcome) {
        let mut all = self.lock();
        let sender =
            all.get_mut(&id).filter(|ordered| ordered.order.key == key).and_then(|it| it.ended.take());
        if let Some(sender) = sender {
            let _ = sender.send(outcome);
        }
    }
}

/// What a repository's steps are counted under.
fn counted_as(repository: &str) -> Option<Target> {
    let leaf = repository.rsplit('/').next().unwrap_or(repository);
    let plain: String =
        leaf.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).take(30).collect();
    let name =
        format!("build-{}", plain.split('-').filter(|part| !part.is_empty()).collect::<Vec<_>>().join("-"));
    Some(Target::new(&"builds".parse().ok()?, &name.parse().ok()?))
}

/// A node may tell of a step that it runs, of a build that goes on.
async fn check_teller(control: &Control, id: StepId, node: &Name) -> Result<(), Problem> {
    control.builds.steps.may_tell(id, node)?;
    let build = super::known(control, id.build).await?;
    if build.state.has_ended() {
        return Err(Problem::not_found(format!("build {} has ended", id.build)));
    }
    Ok(())
}

/// Lines as they are kept: not too many, and none too long.
fn kept(lines: Vec<StepLine>) -> Vec<StepLine> {
    let within = lines.into_iter().filter(|line| line.number <= LINES);
    let cut = within.map(|mut line| {
        if line.number == LINES {
            line.source = 'k';
            line.text = format!("a step's first {LINES} lines are kept; those after them are not");
        } else if line.text.len() > LINE_LENGTH {
            line.text = line.text.chars().take(LINE_LENGTH).chain(['…']).collect();
        }
        line
    });
    cut.collect()
}

async fn lines(call: Call<ReportStepLines>) -> Result<(), Problem> {
    crate::agent_api::decides(&call.control)?;
    let id = StepId { build: call.path.build, step: call.path.step };
    check_teller(&call.control, id, &call.path.node).await?;
    let added = call.control.store.add_build_lines(id.build, id.step, &kept(call.body)).await;
    added.map_err(of_record)?;
    call.control.builds.tell_change();
    Ok(())
}

async fn layer(mut call: Call<SendStepLayer>) -> Result<(), Problem> {
    crate::agent_api::decides(&call.control)?;
    let id = StepId { build: call.path.build, step: call.path.step };
    check_teller(&call.control, id, &call.path.node).await?;
    let local = call.control.blobs.local().clone();
    let unavailable = |error: &dyn std::fmt::Display| Problem::unavailable(error.to_string());
    let incoming = local.root().join("incoming");
    let part =
        tempfile::NamedTempFile::new_in(&incoming).map_err(|error| unavailable(&error))?.into_temp_path();
    let mut file = tokio::fs::File::create(&part).await.map_err(|error| unavailable(&error))?;
    let mut since_looked = LOOK_EVERY;
    while let Some(piece) = call.body.next().await {
        let piece = piece.map_err(|error| of_payload(&error))?;
        since_looked += piece.len();
        if since_looked > LOOK_EVERY {
            since_looked = 0;
            if let Some(refused) = no_room(&incoming, 0) {
                return Err(refused);
            }
        }
        file.write_all(&piece).await.map_err(|error| unavailable(&error))?;
    }
    file.flush().await.map_err(|error| unavailable(&error))?;
    let digest = actix_web::web::block(move || -> Result<Digest, mainyard_images::Error> {
        let io = |source| mainyard_images::Error::Io { doing: "read a layer".to_owned(), source };
        let mut hashed = hash_reader(std::fs::File::open(&part).map_err(io)?);
        std::io::copy(&mut hashed, &mut std::io::sink()).map_err(io)?;
        let digest = hashed.digest();
        local.adopt(&part, &digest)?;
        // Nothing lies at its path any more.
        let _ = part.keep();
        Ok(digest)
    });
    let digest = digest.await.map_err(|error| unavailable(&error))?.map_err(|error| unavailable(&error))?;
    call.control.blobs.publish(std::slice::from_ref(&digest)).await.map_err(of_blobs)
}

async fn end(call: Call<ReportStepEnd>) -> Result<(), Problem> {
    crate::agent_api::decides(&call.control)?;
    let id = StepId { build: call.path.build, step: call.path.step };
    check_teller(&call.control, id, &call.path.node).await?;
    let (key, outcome) = (call.body.key, call.body.outcome);
    if let StepOutcome::Made { digest, size } = &outcome {
        let digest = Digest::parse(digest).map_err(|error| Problem::invalid(error.to_string()))?;
        if call.control.blobs.length(&digest).await.map_err(of_blobs)? != Some(*size) {
            return Err(Problem::not_found(format!("the layer {digest} of step {id} did not come")));
        }
        let build = call.control.store.build(id.build).await.map_err(of_record)?;
        let repository = build.and_then(super::read).map(|build| build.image.repository).unwrap_or_default();
        let put = call.control.store.put_build_layer(&key, &repository, &digest.to_string(), *size).await;
        put.map_err(of_record)?;
    }
    call.control.builds.steps.end(id, &key, outcome);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_that_writes_without_end_fills_nothing() {
        let line =
            |number: u64, length: usize| StepLine { number, at: 0, source: 'o', text: "x".repeat(length) };
        let kept = kept(vec![line(0, 10), line(1, 9_000), line(LINES, 5), line(LINES + 1, 5)]);
        let lengths: Vec<usize> = kept.iter().map(|line| line.text.chars().count()).collect();
        assert_eq!((lengths.len(), lengths[0], lengths[1]), (3, 10, LINE_LENGTH + 1));
        assert_eq!(kept[2].source, 'k');
    }
}
