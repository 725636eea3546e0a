//! The simulated world: its parts, its clock, and what is still to happen.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap, VecDeque};

use jiff::Timestamp;
use mainyard_core::link::{Figure, NodeReport};
use mainyard_core::model::{ReleaseNumber, ReplicaId, Target};
use mainyard_core::node_state::Orders;
use mainyard_core::replica_lifecycle::Event as RunEvent;
use mainyard_core::routing::Table;

use crate::chance::Chance;
use crate::parts::{Control, Gateway, Node, Part, View};
use crate::record::Record;

/// Faults end at this time, and people rest; in milliseconds.
pub(crate) const FAULTS_UNTIL: u64 = 40_000;
/// By then the platform must have settled.
pub(crate) const END: u64 = 130_000;
pub(crate) const CONTROLS: usize = 2;
pub(crate) const NODES: usize = 2;
pub(crate) const GATEWAYS: usize = 2;

/// A part's report.
#[derive(Debug, Clone)]
pub(crate) enum Report {
    Node(NodeReport),
    Gateway { incarnation: u64, view: View, figures: Vec<Figure> },
}

impl Report {
    /// The number by which a node knows it.
    pub(crate) fn number(&self) -> u64 {
        match self {
            Report::Node(report) => report.number,
            Report::Gateway { .. } => 0,
        }
    }
}

/// A scheduled event.
#[derive(Debug, Clone)]
pub(crate) enum Happening {
    /// A control starts, or tries for the lease, or settles although nothing came.
    ControlStarts(usize),
    Lease {
        control: usize,
        incarnation: u64,
    },
    Settle {
        control: usize,
        incarnation: u64,
    },
    /// A frozen control is noticed.
    Silence {
        control: usize,
        incarnation: u64,
    },
    /// A part starts, or calls control.
    PartStarts(Part),
    Call {
        part: Part,
        incarnation: u64,
    },
    Hello {
        control: usize,
        part: Part,
        incarnation: u64,
        link: u64,
    },
    /// Along a link: lost when the link is another one by then.
    OrderNode {
        node: usize,
        link: u64,
        orders: Orders,
    },
    OrderGateway {
        gateway: usize,
        link: u64,
        table: Box<Table>,
    },
    /// Reports are requests of their own: they may be lost, late, or come twice. Nobody waits for the answer to
    /// an echo.
    Report {
        control: usize,
        part: Part,
        incarnation: u64,
        report: Box<Report>,
        echo: bool,
    },
    Reported {
        part: Part,
        incarnation: u64,
        number: u64,
        taken: bool,
    },
    /// A gateway tells what it works by, changed or not.
    Beat {
        gateway: usize,
        incarnation: u64,
    },
    /// At a node.
    NodeState {
        node: usize,
        incarnation: u64,
        id: ReplicaId,
        number: u64,
        event: RunEvent,
    },
    Probe {
        node: usize,
        incarnation: u64,
        id: ReplicaId,
        number: u64,
        run: u32,
    },
    ProcessEnds {
        node: usize,
        id: ReplicaId,
        process: u64,
        signal: i32,
    },
    /// At a gateway.
    Visit(usize),
    AnswerEnds {
        gateway: usize,
        incarnation: u64,
        request: u64,
    },
    Person,
    Fault,
}

struct Due {
    at: u64,
    order: u64,
    happening: Happening,
}

impl PartialEq for Due {
    fn eq(&self, other: &Due) -> bool {
        (self.at, self.order) == (other.at, other.order)
    }
}
impl Eq for Due {}
impl PartialOrd for Due {
    fn partial_cmp(&self, other: &Due) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Due {
    fn cmp(&self, other: &Due) -> std::cmp::Ordering {
        (self.at, self.order).cmp(&(other.at, other.order))
    }
}

/// Figures of one run.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Things that happened.
    pub happenings: u64,
    /// Requests that were answered.
    pub answered: u64,
    /// Requests that found nobody ready.
    pub refused: u64,
    /// Requests that were broken by a fault: a process that was killed, a gateway that died.
    pub broken: u64,
    /// Acts of people that were acknowledged.
    pub acts: u64,
    /// Replicas that were stopped after their drain.
    pub drained: u64,
    /// Rollouts that came to their end.
    pub rollouts: u64,
    /// Those of them that went back.
    pub went_back: u64,
    /// Commands that were run before a release served.
    pub first_runs: u64,
    /// Those of them whose end nobody knew.
    pub first_unknown: u64,
    /// Epochs: how often a control took over.
    pub epochs: u64,
}

/// The platform and everything around it.
pub(crate) struct World {
    pub now: u64,
    /// The only source of chance.
    pub seed: u64,
    /// From then on people and faults rest.
    pub calm_from: u64,
    pub chance: Chance,
    pub record: Record,
    pub controls: Vec<Control>,
    pub nodes: Vec<Node>,
    pub gateways: Vec<Gateway>,
    pub outcome: Outcome,
    /// Numbers for lives, links, processes and requests.
    pub count: u64,
    /// Acknowledged: the number that was asked for last, and every release with its image.
    pub wanted: BTreeMap<Target, u32>,
    pub released: Vec<(Target, ReleaseNumber, String)>,
    /// Releases whose command that comes before they serve was begun.
    pub begun_once: BTreeSet<(Target, ReleaseNumber)>,
    /// When each replica was made.
    pub born: BTreeMap<ReplicaId, Timestamp>,
    /// How each version of a secret is kept.
    pub versions: BTreeMap<(Target, u32), String>,
    /// Services that answered at some time; those that do not, since when, and in which epoch that was seen.
    pub answered: BTreeSet<Target>,
    pub dark: BTreeMap<Target, (u64, u64)>,
    /// The first rule that was broken.
    pub broken: Option<String>,
    queue: BinaryHeap<Reverse<Due>>,
    order: u64,
    trace: VecDeque<String>,
}

impl World {
    /// The platform of a seed, before anything happened.
    pub(crate) fn new(seed: u64) -> World {
        World {
            now: 0,
            seed,
            calm_from: FAULTS_UNTIL,
            chance: Chance::new(seed),
            record: Record::default(),
            controls: (0..CONTROLS).map(|_| Control::default()).collect(),
            nodes: (0..NODES).map(|_| Node::default()).collect(),
            gateways: (0..GATEWAYS).map(|_| Gateway::default()).collect(),
            outcome: Outcome::default(),
            count: 0,
            wanted: BTreeMap::new(),
            released: Vec::new(),
            begun_once: BTreeSet::new(),
            born: BTreeMap::new(),
            versions: BTreeMap::new(),
            answered: BTreeSet::new(),
            dark: BTreeMap::new(),
            broken: None,
            queue: BinaryHeap::new(),
            order: 0,
            trace: VecDeque::new(),
        }
    }

    /// When the next thing happens; `None` where nothing is left.
    pub(crate) fn next_at(&self) -> Option<u64> {
        self.queue.peek().map(|Reverse(due)| due.at)
    }

    /// Takes the next thing that happens; the clock goes on to it.
    pub(crate) fn take_next(&mut self) -> Option<Happening> {
        let Reverse(due) = self.queue.pop()?;
        self.now = due.at;
        self.outcome.happenings += 1;
        Some(due.happening)
    }

    /// Lets something happen after so many milliseconds.
    pub(crate) fn later(&mut self, after: u64, happening: Happening) {
        self.order += 1;
        self.queue.push(Reverse(Due { at: self.now + after, order: self.order, happening }));
    }

    /// A new number.
    pub(crate) fn new_number(&mut self) -> u64 {
        self.count += 1;
        self.count
    }

    pub(crate) fn clock(&self) -> Timestamp {
        Timestamp::from_millisecond(1_000_000_000_000 + self.now as i64).unwrap_or(Timestamp::UNIX_EPOCH)
    }

    pub(crate) fn quiet(&self) -> bool {
        self.now >= self.calm_from
    }

    /// Remembers what happened, for the report.
    pub(crate) fn note(&mut self, words: impl FnOnce() -> String) {
        let line = format!("{:>7} ms  {}", self.now, words());
        self.trace.push_back(line);
        if self.trace.len() > 120 {
            self.trace.pop_front();
        }
    }

    /// A rule was broken.
    pub(crate) fn violated(&mut self, rule: String) {
        self.note(|| format!("BROKEN: {rule}"));
        self.broken.get_or_insert(rule);
    }

    /// The figures of the run, or the rule that was broken with the last events before it.
    pub(crate) fn finish(mut self) -> Result<Outcome, String> {
        let Some(rule) = self.broken.take() else { return Ok(self.outcome) };
        let trace: Vec<String> = self.trace.into_iter().collect();
        Err(format!("seed {}: {rule}\n  {}", self.seed, trace.join("\n  ")))
    }
}
