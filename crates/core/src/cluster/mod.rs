//! The whole platform as one value: commands and reports go in, changes and orders come out.
//!
//! [`Cluster`] holds the record's objects and what is known only now (which gateway confirmed which table). A
//! command changes it in memory; [`Cluster::settle`] then decides everything that follows and hands out what is
//! to be written, ordered and served. The caller writes first and orders after, so that nothing is done that is
//! not recorded. What the record cannot hold is taken back ([`Cluster::withdraw`]); where the record is away, the caller
//! throws the value away and reads the record again.

mod acts;
mod applications;
mod aside;
mod bindings;
mod certificates;
mod declaring;
mod first_runs;
mod following;
mod hear;
mod heard;
mod held;
mod marks;
mod objects;
mod promoting;
mod releasing;
mod secrets;
mod settle;
mod sources;
mod steering;
mod tabling;
mod withdraw;

pub(crate) use acts::ends;
pub use acts::{AddedImage, MadeRelease, Refusal, RefusalKind};
pub use heard::{Declarations, Looked};
pub use held::Cluster;
pub use objects::{Change, Kind, Object, State};
pub use promoting::{Promoted, promoted};
pub use releasing::{DeployRequest, Goal, WentTo};
pub use secrets::{SealedValue, Versioned};
pub use settle::{NodeOrders, Settled};
pub use sources::{NewSource, Reach, reach};

#[cfg(test)]
mod tests;
