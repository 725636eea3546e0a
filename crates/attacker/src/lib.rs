//! Attempts of an attacker at the API, made from its operations: every way to write each path, by every kind of
//! caller, and what must come back. An operation that is added is tried the moment it exists.

mod calls;
mod spellings;

pub use calls::{Answer, Call, call};
pub use spellings::{Spelling, spellings};

use mainyard_api::{Described as Operation, Method, Who};

/// Kinds of callers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Caller {
    /// Shows no credential.
    None,
    /// Shows a token that nobody has.
    Wrong,
    /// Shows a token that was good once.
    Expired,
    /// A console's session, from the console's own page.
    Session,
    /// A console's session, from another site's page.
    ForeignPage,
    /// A client's token.
    Client,
    /// The part whose name the path has, or any part where it has none.
    Part,
    /// Another part.
    OtherPart,
}

impl Caller {
    /// All kinds.
    pub const ALL: [Caller; 8] = [
        Caller::None,
        Caller::Wrong,
        Caller::Expired,
        Caller::Session,
        Caller::ForeignPage,
        Caller::Client,
        Caller::Part,
        Caller::OtherPart,
    ];

    /// Those who try every way to write a path: one of each level of rights, or all kinds where
    /// `MAINYARD_ATTACK=long` asks for the long attack.
    pub fn with_spellings() -> &'static [Caller] {
        match std::env::var("MAINYARD_ATTACK").as_deref() {
            Ok("long") => &Caller::ALL,
            _ => &[Caller::None, Caller::Client, Caller::Part],
        }
    }

    /// Whether the API knows who it is.
    pub fn is_known(self) -> bool {
        !matches!(self, Caller::None | Caller::Wrong | Caller::Expired)
    }
}

/// The answer that must come back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Expected {
    /// 401.
    NotSignedIn,
    /// 403.
    NotAllowed,
    /// 400: the path is not in its normal form.
    BadPath,
    /// The operation's own answer: none of the above.
    LetIn,
}

/// The answer that an operation must give to a caller that writes its path plainly.
pub fn expected(operation: &Operation, caller: Caller) -> Expected {
    use Caller::{Client, Expired, ForeignPage, None, OtherPart, Part, Session, Wrong};
    use Expected::{LetIn, NotAllowed, NotSignedIn};
    let changes = operation.method != Method::Get;
    match (operation.who, caller) {
        (Who::Anyone, _) => LetIn,
        (_, None | Wrong | Expired) => NotSignedIn,
        (Who::Person, Client | Session) => LetIn,
        // A page elsewhere cannot read an answer; what changes something is refused.
        (Who::Person, ForeignPage) if changes => NotAllowed,
        (Who::Person, ForeignPage) => LetIn,
        (Who::Person, Part | OtherPart) => NotAllowed,
        (Who::Node | Who::Gateway | Who::Part, Client | Session | ForeignPage) => NotAllowed,
        (Who::Node | Who::Gateway | Who::Part, Part) => LetIn,
        (Who::Node | Who::Gateway, OtherPart) => NotAllowed,
        (Who::Part, OtherPart) => LetIn,
    }
}

/// The table of who may call what, as `docs/security.md` has it.
pub fn table(operations: &[Operation]) -> String {
    let mut rows: Vec<String> = operations
        .iter()
        .map(|it| {
            let who = match it.who {
                Who::Anyone if it.path.contains("/pushes/") => "a sender that signs with the source's secret",
                Who::Anyone => "anyone",
                Who::Person => "people: a client's token, or a session",
                Who::Node => "the node agent of that name",
                Who::Gateway => "the gateway of that name",
                Who::Part => "any part of the platform",
            };
            format!("| `{} {}` | {who} | {} |", it.method, it.path, size(it.limits.body))
        })
        .collect();
    rows.sort();
    format!("| operation | who may call it | largest body |\n|---|---|---|\n{}\n", rows.join("\n"))
}

fn size(bytes: u64) -> String {
    let units = ["B", "KiB", "MiB", "GiB", "TiB"];
    let (mut rest, mut unit) = (bytes, 0);
    while rest >= 1024 && rest.is_multiple_of(1024) && unit + 1 < units.len() {
        (rest, unit) = (rest / 1024, unit + 1);
    }
    format!("{rest} {}", units[unit])
}
