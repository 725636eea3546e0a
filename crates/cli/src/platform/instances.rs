//! Which parts run: one of each, and one or several gateways.

use crate::args::Part;

impl Part {
    /// In the order in which they are started.
    pub(crate) const ALL: [Part; 3] = [Part::Control, Part::Node, Part::Gateway];

    pub(crate) fn word(self) -> &'static str {
        match self {
            Part::Control => "control",
            Part::Node => "node",
            Part::Gateway => "gateway",
        }
    }
}

/// One of the parts that are to run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Instance {
    pub part: Part,
    /// From 1; of most parts there is one.
    pub number: u32,
}

impl Instance {
    /// All that should run, in the order in which they are started.
    pub(super) fn all(gateways: u32) -> Vec<Instance> {
        let of = |part| {
            (1..=if part == Part::Gateway { gateways } else { 1 })
                .map(move |number| Instance { part, number })
        };
        Part::ALL.into_iter().flat_map(of).collect()
    }

    /// How control knows it: the name that its token is for. Control itself has none.
    pub(super) fn part_name(self) -> Option<String> {
        match self.part {
            Part::Control => None,
            Part::Node => Some(format!("node/{}", super::parts::node_name())),
            Part::Gateway => Some(format!("gateway/gateway-{}", self.number)),
        }
    }

    /// Its name: that of its log, and of a gateway its directory.
    pub(super) fn name(self) -> String {
        match self.number {
            1 => self.part.word().to_owned(),
            number => format!("{}-{number}", self.part.word()),
        }
    }
}
