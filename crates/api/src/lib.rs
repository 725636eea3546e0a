//! The API, as types: every operation with its request, its answer and its problems.
//!
//! Each operation is written down once, as an implementation of [`Operation`] made by `operations!`. Control serves it,
//! the client calls it, and [`openapi::document`] describes it, all from that one place. The types that travel are here or
//! in the core; nothing here reads a socket.

mod areas;
mod limits;
pub mod openapi;
mod operation;
mod parameters;
mod problem;

pub use areas::*;
pub use limits::Limits;
pub use operation::{
    AnswerKind, AnyPart, Anyone, Binary, Body, Caller, Created, Described, Document, EventAnswer,
    GatewayPart, JsonAnswer, JsonBody, LineAnswer, Method, NoBody, NoContent, NodeAgent, Operation,
    PageAnswer, Person, RawBody, StreamBody, TextAnswer, Who, check_query, path_of,
};
pub use parameters::*;
pub use problem::{Problem, ProblemCode};

/// The path prefix of the API.
pub const PREFIX: &str = "/api/v1";

/// The id of a request: in the answer, in control's log, and in the logs of nodes that were ordered because of it.
pub const REQUEST_ID: &str = "x-request-id";

/// Until when the caller waits, in milliseconds since 1970 UTC: a request that is read later is not carried out.
pub const WAITS_UNTIL: &str = "mainyard-waits-until";
