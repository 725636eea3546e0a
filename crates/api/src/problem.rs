//! Problem documents (RFC 9457).

use mainyard_core::cluster::{Refusal, RefusalKind};
use mainyard_core::manifest::Problem as FileProblem;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

macro_rules! codes {
    ($($(#[doc = $doc:literal])* $name:ident = $word:literal, $status:literal, $title:literal;)*) => {
        /// The kind of problem, as a word for programs.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        pub enum ProblemCode {
            $($(#[doc = $doc])* #[serde(rename = $word)] $name,)*
        }

        impl ProblemCode {
            /// Every code.
            pub const ALL: &[ProblemCode] = &[$(ProblemCode::$name,)*];

            /// As it is written.
            pub fn word(self) -> &'static str {
                match self { $(ProblemCode::$name => $word,)* }
            }

            /// The HTTP status that it comes with.
            pub fn status(self) -> u16 {
                match self { $(ProblemCode::$name => $status,)* }
            }

            /// The kind of problem in words.
            pub fn title(self) -> &'static str {
                match self { $(ProblemCode::$name => $title,)* }
            }
        }
    };
}

codes! {
    /// The path is written in a way that could be read as another (RFC 9110, section 15.5.1).
    BadPath = "bad-path", 400, "The path is not in its normal form";
    /// No credential was shown, or none that is known.
    NotSignedIn = "not-signed-in", 401, "Sign in first";
    /// The credential does not allow it.
    NotAllowed = "not-allowed", 403, "Not allowed";
    /// Nothing has this name.
    NotFound = "not-found", 404, "Nothing has this name";
    /// The path has no such method (RFC 9110, section 15.5.6).
    NoSuchMethod = "no-such-method", 405, "The path has no such method";
    /// The request was read after its caller had stopped waiting (RFC 9110, section 15.5.9).
    GivenUp = "given-up", 408, "The caller no longer waits";
    /// The body came too slowly (RFC 9110, section 15.5.9).
    TooSlow = "too-slow", 408, "The request came too slowly";
    /// It cannot be done as things are.
    Conflict = "conflict", 409, "This conflicts with the present state";
    /// The body is larger than the operation takes.
    TooLarge = "too-large", 413, "The request is too large";
    /// Another control decides; `holder` says where to ask (RFC 9110, section 15.5.20).
    AnotherDecides = "another-decides", 421, "Another control decides";
    /// The request is for a host that this platform does not answer for (RFC 9110, section 15.5.20).
    OtherHost = "other-host", 421, "The request is for another host";
    /// The request is not valid.
    Invalid = "invalid", 422, "The request is not valid";
    /// Signing in failed too often (RFC 6585, section 4).
    TooManyAttempts = "too-many-attempts", 429, "Too many attempts";
    /// The member reads as many streams as one may read at once (RFC 6585, section 4).
    TooManyStreams = "too-many-streams", 429, "Too many streams are open";
    /// The record cannot be reached, or control is starting.
    RecordUnreachable = "record-unreachable", 503, "The record cannot be reached";
    /// The disk has no room (RFC 4918, section 11.5).
    NoSpace = "no-space", 507, "The disk has no room for this";
}

/// A problem document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Problem {
    /// A URI that names the kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// The error, and how to fix it.
    pub detail: String,
    /// A word for programs.
    pub code: ProblemCode,
    /// The URL of the control that leads, if it is another one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub holder: Option<String>,
    /// Seconds after which it may be tried again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<u64>,
    /// For declarations: everything that is wrong, each with its place.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<FileProblem>,
}

impl Problem {
    /// A problem of this kind.
    pub fn new(code: ProblemCode, detail: impl Into<String>) -> Problem {
        Problem {
            kind: format!("urn:mainyard:problem:{}", code.word()),
            title: code.title().to_owned(),
            status: code.status(),
            detail: detail.into(),
            code,
            holder: None,
            retry_after: None,
            problems: Vec::new(),
        }
    }

    /// Nothing has this name.
    pub fn not_found(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::NotFound, detail)
    }

    /// The request is not valid.
    pub fn invalid(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::Invalid, detail)
    }

    /// It cannot be done as things are.
    pub fn conflict(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::Conflict, detail)
    }

    /// No credential, or none that is known.
    pub fn unauthorized(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::NotSignedIn, detail)
    }

    /// The credential does not allow it.
    pub fn forbidden(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::NotAllowed, detail)
    }

    /// The record cannot be reached.
    pub fn unavailable(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::RecordUnreachable, detail)
    }

    /// The path is written in a way that could be read as another.
    pub fn bad_path(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::BadPath, detail)
    }

    /// The body is larger than the operation takes.
    pub fn too_large(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::TooLarge, detail)
    }

    /// The disk has no room.
    pub fn no_space(detail: impl Into<String>) -> Problem {
        Problem::new(ProblemCode::NoSpace, detail)
    }

    /// Another control decides.
    pub fn elsewhere(name: &str, url: String) -> Problem {
        let problem = Problem::new(ProblemCode::AnotherDecides, format!("{name} decides now: ask {url}"));
        Problem { holder: Some(url), ..problem }
    }

    /// The request was read after its caller had stopped waiting.
    pub fn given_up() -> Problem {
        let detail = "the caller stopped waiting before this was read; nothing was changed";
        Problem::new(ProblemCode::GivenUp, detail)
    }

    /// The path has no such method.
    pub fn no_such_method(method: &str, allowed: &str) -> Problem {
        let detail = format!("{method} is not allowed here; allowed: {allowed}");
        Problem::new(ProblemCode::NoSuchMethod, detail)
    }

    /// The request is for a host that this platform does not answer for.
    pub fn other_host() -> Problem {
        let detail = "the API answers only to the addresses and names that it was started with; to add a name: \
                      mainyard start --api-name NAME";
        Problem::new(ProblemCode::OtherHost, detail)
    }

    /// Signing in failed too often; `wait` in milliseconds.
    pub fn too_many_attempts(wait: u64) -> Problem {
        let seconds = wait.div_ceil(1000);
        let detail = format!("signing in failed too often; try again in {seconds} s");
        Problem { retry_after: Some(seconds), ..Problem::new(ProblemCode::TooManyAttempts, detail) }
    }

    /// A member reads `most` streams already.
    pub fn too_many_streams(most: u32) -> Problem {
        let detail = format!("you read {most} streams already; close a console or a client that follows");
        Problem { retry_after: Some(5), ..Problem::new(ProblemCode::TooManyStreams, detail) }
    }

    /// The body came too slowly.
    pub fn too_slow() -> Problem {
        Problem::new(ProblemCode::TooSlow, "the body did not come in time; nothing was changed")
    }

    /// Everything that is wrong with a declaration.
    pub fn files(problems: Vec<FileProblem>) -> Problem {
        let detail = match problems.len() {
            1 => "1 problem in the declaration".to_owned(),
            count => format!("{count} problems in the declaration"),
        };
        Problem { problems, ..Problem::invalid(detail) }
    }
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.detail)
    }
}

impl std::error::Error for Problem {}

impl From<Refusal> for Problem {
    fn from(Refusal { kind, message }: Refusal) -> Problem {
        match kind {
            RefusalKind::NotFound => Problem::not_found(message),
            RefusalKind::Conflict => Problem::conflict(message),
            RefusalKind::Invalid => Problem::invalid(message),
        }
    }
}
