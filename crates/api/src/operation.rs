//! The parts of an operation.

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::limits::Limits;
use crate::problem::ProblemCode;

/// The methods that operations use (RFC 9110, section 9; RFC 5789).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum Method {
    /// Reads.
    Get,
    /// Does something.
    Post,
    /// Puts something in its place.
    Put,
    /// Changes a part.
    Patch,
    /// Removes.
    Delete,
}

impl Method {
    /// As it is written in a request.
    pub fn word(self) -> &'static str {
        match self {
            Method::Get => "GET",
            Method::Post => "POST",
            Method::Put => "PUT",
            Method::Patch => "PATCH",
            Method::Delete => "DELETE",
        }
    }
}

impl std::fmt::Display for Method {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

/// The kinds of callers; `docs/security.md` lists the operations of each.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Who {
    /// No credential is asked for.
    Anyone,
    /// A person: a client's token, or the console's session.
    Person,
    /// The node agent whose name the path has.
    Node,
    /// The gateway whose name the path has.
    Gateway,
    /// Any node agent or gateway.
    Part,
}

/// A kind of caller, as a type.
pub trait Caller: 'static {
    /// Which kind.
    const WHO: Who;
}

macro_rules! callers {
    ($($(#[$doc:meta])* $name:ident = $who:ident)*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy)]
        pub struct $name;

        impl Caller for $name {
            const WHO: Who = Who::$who;
        }
    )*};
}
callers! {
    /// Any caller.
    Anyone = Anyone
    /// A person.
    Person = Person
    /// The node agent whose name the path has.
    NodeAgent = Node
    /// The gateway whose name the path has.
    GatewayPart = Gateway
    /// Any node agent or gateway.
    AnyPart = Part
}

/// The type of a request's body.
pub trait Body: 'static {
    /// Media type and schema for the document. `None` if there is no body.
    fn described(schemas: &mut SchemaGenerator) -> Option<(&'static str, Schema)>;

    /// Whether a text is such a body.
    ///
    /// # Errors
    /// Why it is not.
    fn check(_: &str) -> Result<(), String> {
        Ok(())
    }
}

/// No body.
#[derive(Debug, Clone, Copy)]
pub struct NoBody;
/// A JSON document (RFC 8259).
#[derive(Debug, Clone)]
pub struct JsonBody<T>(pub T);
/// Bytes as they are, all at once.
#[derive(Debug, Clone)]
pub struct RawBody(pub Vec<u8>);
/// Bytes as they come.
#[derive(Debug, Clone, Copy)]
pub struct StreamBody;

fn bytes() -> Schema {
    schemars::json_schema!({"type": "string", "format": "binary"})
}

impl Body for NoBody {
    fn described(_: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
        None
    }
}

impl<T: JsonSchema + DeserializeOwned + 'static> Body for JsonBody<T> {
    fn described(schemas: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
        Some(("application/json", schemas.subschema_for::<T>()))
    }

    fn check(text: &str) -> Result<(), String> {
        serde_json::from_str::<T>(text).map(drop).map_err(|error| error.to_string())
    }
}

impl Body for RawBody {
    fn described(_: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
        Some(("application/octet-stream", bytes()))
    }
}

impl Body for StreamBody {
    fn described(_: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
        Some(("application/octet-stream", bytes()))
    }
}

/// The type of a successful answer.
pub trait AnswerKind: 'static {
    /// The status.
    const STATUS: u16 = 200;
    /// Whether it goes on for as long as it is read.
    const ENDLESS: bool = false;
    /// The status with which a page says that it was refused, where it is a page for a browser.
    const REFUSED_BY_PAGE: Option<u16> = None;
    /// Media type and schema for the document. `None` if there is no body.
    fn described(schemas: &mut SchemaGenerator) -> Option<(&'static str, Schema)>;
}

/// A JSON document.
#[derive(Debug)]
pub struct JsonAnswer<T>(std::marker::PhantomData<T>);
/// A JSON document a line, for as long as there are any (application/x-ndjson).
#[derive(Debug)]
pub struct LineAnswer<T>(std::marker::PhantomData<T>);
/// Events as they come (text/event-stream, HTML Living Standard).
#[derive(Debug)]
pub struct EventAnswer;
/// Text of another media type.
#[derive(Debug)]
pub struct TextAnswer;
/// A page for a browser.
#[derive(Debug)]
pub struct PageAnswer;
/// Bytes.
#[derive(Debug)]
pub struct Binary;
/// 204, without a body.
#[derive(Debug)]
pub struct NoContent;
/// 202, without a body: it is done afterwards.
#[derive(Debug)]
pub struct Created;

fn text() -> Schema {
    schemars::json_schema!({"type": "string"})
}

impl<T: JsonSchema + 'static> AnswerKind for JsonAnswer<T> {
    fn described(schemas: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
        Some(("application/json", schemas.subschema_for::<T>()))
    }
}

impl<T: JsonSchema + 'static> AnswerKind for LineAnswer<T> {
    const ENDLESS: bool = true;

    fn described(schemas: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
        // The media type holds many documents; the schema is that of one line.
        let line = schemas.subschema_for::<T>();
        let schema = schemars::json_schema!({"type": "string", "description": "A JSON document a line.", "x-mainyard-line": line});
        Some(("application/x-ndjson", schema))
    }
}

/// An answer that is one JSON document.
pub trait Document: AnswerKind {
    /// The document.
    type Of;
}

impl<T: JsonSchema + 'static> Document for JsonAnswer<T> {
    type Of = T;
}

macro_rules! plain_answers {
    ($($kind:ident: $status:literal, $endless:literal, $described:expr;)*) => {$(
        impl AnswerKind for $kind {
            const STATUS: u16 = $status;
            const ENDLESS: bool = $endless;

            fn described(_: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
                $described
            }
        }
    )*};
}
plain_answers! {
    EventAnswer: 200, true, Some(("text/event-stream", text()));
    TextAnswer: 200, false, Some(("application/openmetrics-text", text()));
    Binary: 200, false, Some(("application/octet-stream", bytes()));
    NoContent: 204, false, None;
    Created: 202, false, None;
}

impl AnswerKind for PageAnswer {
    const REFUSED_BY_PAGE: Option<u16> = Some(401);

    fn described(_: &mut SchemaGenerator) -> Option<(&'static str, Schema)> {
        Some(("text/html", text()))
    }
}

/// One operation of the API.
pub trait Operation: 'static {
    /// Its name in the document.
    const ID: &'static str;
    /// The description; its first line is the summary.
    const DESCRIPTION: &'static str;
    /// Its method.
    const METHOD: Method;
    /// Its path on the server, with names in braces.
    const PATH: &'static str;
    /// Limits on size and time of a call.
    const LIMITS: Limits;
    /// Problems beside those of every operation of its kind.
    const PROBLEMS: &'static [ProblemCode];
    /// A body that is taken, as JSON.
    const EXAMPLE: Option<&'static str>;
    /// The callers that may use it.
    type Caller: Caller;
    /// The path parameters.
    type Path: DeserializeOwned + Serialize + JsonSchema + 'static;
    /// The query parameters.
    type Query: DeserializeOwned + Serialize + JsonSchema + 'static;
    /// The body.
    type Body: Body;
    /// The successful answer.
    type Answer: AnswerKind;
}

/// Whether the texts of a query are as long as its schema says, at most.
///
/// # Errors
/// Which one is longer.
pub fn check_query<O: Operation>(query: &O::Query) -> Result<(), String> {
    let schema = O::Query::json_schema(&mut SchemaGenerator::default()).to_value();
    // A query is a plain struct of ours; taking one that can't be written for an empty one would skip the check.
    let written =
        serde_json::to_value(query).map_err(|error| format!("the query can't be read back: {error}"))?;
    for (key, value) in written.as_object().into_iter().flatten() {
        let most = schema["properties"][key]["maxLength"].as_u64();
        let length = value.as_str().map_or(0, |text| text.chars().count() as u64);
        if let Some(most) = most.filter(|most| length > *most) {
            return Err(format!("{key} has {length} characters; at most {most} are taken"));
        }
    }
    Ok(())
}

/// An operation's path with these names in it, each percent-encoded (RFC 3986, section 2.1).
pub fn path_of<O: Operation>(names: &O::Path) -> String {
    // Paths are plain structs of names: writing one as JSON can't fail.
    let names = serde_json::to_value(names).expect("the names of a path are plain data");
    let mut path = String::new();
    for segment in O::PATH.split('/').skip(1) {
        path.push('/');
        match segment.strip_prefix('{').and_then(|it| it.strip_suffix('}')) {
            Some(name) => {
                let value = &names[name];
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                text.bytes().for_each(|byte| encode(byte, &mut path));
            }
            None => path.push_str(segment),
        }
    }
    path
}

fn encode(byte: u8, to: &mut String) {
    match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b':' => to.push(byte as char),
        other => to.push_str(&format!("%{other:02X}")),
    }
}

/// An operation, told without its types.
#[derive(Debug, Clone, Copy)]
pub struct Described {
    /// Its name.
    pub id: &'static str,
    /// The description.
    pub description: &'static str,
    /// Its method.
    pub method: Method,
    /// Its path.
    pub path: &'static str,
    /// The callers that may use it.
    pub who: Who,
    /// Limits on size and time of a call.
    pub limits: Limits,
    /// Problems beside those of every operation of its kind.
    pub problems: &'static [ProblemCode],
    /// A body that is taken.
    pub example: Option<&'static str>,
    /// The status of a success.
    pub status: u16,
    /// Whether its answer goes on for as long as it is read.
    pub endless: bool,
    /// The status with which a page says that it was refused.
    pub refused_by_page: Option<u16>,
    pub(crate) path_schema: fn(&mut SchemaGenerator) -> Schema,
    pub(crate) query_schema: fn(&mut SchemaGenerator) -> Schema,
    pub(crate) body_schema: fn(&mut SchemaGenerator) -> Option<(&'static str, Schema)>,
    pub(crate) answer_schema: fn(&mut SchemaGenerator) -> Option<(&'static str, Schema)>,
    /// Whether a text is a body that it takes, or why not.
    pub check_body: fn(&str) -> Result<(), String>,
}

impl Described {
    pub(crate) const fn of<O: Operation>() -> Described {
        Described {
            id: O::ID,
            description: O::DESCRIPTION,
            method: O::METHOD,
            path: O::PATH,
            who: <O::Caller as Caller>::WHO,
            limits: O::LIMITS,
            problems: O::PROBLEMS,
            example: O::EXAMPLE,
            status: <O::Answer as AnswerKind>::STATUS,
            endless: <O::Answer as AnswerKind>::ENDLESS,
            refused_by_page: <O::Answer as AnswerKind>::REFUSED_BY_PAGE,
            path_schema: |schemas| O::Path::json_schema(schemas),
            query_schema: |schemas| O::Query::json_schema(schemas),
            body_schema: |schemas| O::Body::described(schemas),
            answer_schema: |schemas| O::Answer::described(schemas),
            check_body: |text| O::Body::check(text),
        }
    }

    /// The example's body.
    ///
    /// # Errors
    /// The media type if it is not JSON.
    pub fn example_body(&self) -> Option<serde_json::Result<Value>> {
        self.example.map(serde_json::from_str)
    }
}

/// Writes operations down, and lists them all.
///
/// Each entry names, in this order: method and path below the API's prefix, caller, path, query, body, limits, answer,
/// further problems, and an example of the body where there is one.
macro_rules! operations {
    ($($(#[doc = $doc:literal])* $name:ident: $method:ident $path:literal {
        caller: $caller:ty, path: $of:ty, query: $query:ty, body: $body:ty, limits: $limits:expr,
        answer: $answer:ty, problems: [$($problem:ident),*] $(, example: $example:literal)? $(,)?
    })*) => {
        $(
            $(#[doc = $doc])*
            #[derive(Debug, Clone, Copy)]
            pub struct $name;

            impl $crate::Operation for $name {
                const ID: &'static str = stringify!($name);
                const DESCRIPTION: &'static str = concat!($($doc, "\n"),*);
                const METHOD: $crate::Method = $crate::Method::$method;
                const PATH: &'static str = $path;
                const LIMITS: $crate::Limits = $limits;
                const PROBLEMS: &'static [$crate::ProblemCode] = &[$($crate::ProblemCode::$problem),*];
                #[allow(unused_assignments, unused_mut)]
                const EXAMPLE: Option<&'static str> = {
                    let mut example = None;
                    $(example = Some($example);)?
                    example
                };
                type Caller = $caller;
                type Path = $of;
                type Query = $query;
                type Body = $body;
                type Answer = $answer;
            }
        )*

        pub(crate) const ALL: &[$crate::Described] = &[$($crate::Described::of::<$name>()),*];
    };
}
pub(crate) use operations;
