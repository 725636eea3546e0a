//! `mainyard.toml`: reading it, checking it, and what it means in one environment.
//!
//! [`keys`] is the one list of what may stand in a file. From it come the checks with their messages
//! (`check`), and the JSON Schema ([`schema`](schema::schema)). [`read()`] puts several files
//! together, lays an environment's own values over the common ones and gives what is [`Declared`].

mod check;
mod constants;
pub mod keys;
mod parse;
pub mod patch;
mod problem;
pub mod schema;
mod semantics;
mod write;

pub use check::is_token;
pub use parse::Document;
pub use patch::{Change, write_back};
pub use problem::{Place, Problem, SourceFile};
pub(crate) use semantics::as_in_files;
pub use semantics::{Declared, DeclaredSecret, DeclaredWorkload, environments, read, read_as};
pub use write::{Written, write, written};
