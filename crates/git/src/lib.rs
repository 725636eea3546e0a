//! Git as the platform uses it: Debian's `git`, run in fenced surroundings, reads what others wrote.
//!
//! Nobody is asked anything, no hook runs, no submodule is fetched and no filter is applied: a repository is kept bare,
//! and files are read from its objects. Calls are limited in time, and what they may keep is limited in size.

mod allowed;
mod branch;
mod error;
mod fence;
pub mod hosting;
mod making;
mod reading;

pub use allowed::{AllowList, Allowed};
pub use branch::{Written, difference, push, write_branch};
pub use error::Error;
pub use fence::{Access, Credential, Fence};
pub use making::{NewCommit, make_repository};
pub use reading::{Commit, Fault, Found, Look, look, read, remove};
