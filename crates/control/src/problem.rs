//! Errors as problem documents (RFC 9457).

use actix_web::error::{JsonPayloadError, PayloadError};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, ResponseError};
use mainyard_core::cluster::{Refusal, RefusalKind};
use mainyard_core::manifest::Problem as FileProblem;
use serde::{Deserialize, Serialize};

use crate::leader::{ActError, Holder};

/// A problem document.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Problem {
    /// A URI that names the kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What happened, and what would help.
    pub detail: String,
    /// A word for programs.
    pub code: String,
    /// Where to ask instead, when another control decides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub holder: Option<String>,
    /// Seconds after which it may be tried again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<u64>,
    /// For declarations: everything that is wrong, each with its place.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(value_type = Vec<Object>)]
    pub problems: Vec<FileProblem>,
}

impl Problem {
    fn new(status: StatusCode, code: &str, title: &str, detail: impl Into<String>) -> Problem {
        Problem {
            kind: format!("urn:mainyard:problem:{code}"),
            title: title.to_owned(),
            status: status.as_u16(),
            detail: detail.into(),
            code: code.to_owned(),
            holder: None,
            retry_after: None,
            problems: Vec::new(),
        }
    }

    pub fn not_found(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::NOT_FOUND, "not-found", "There is nothing of that name", detail)
    }

    pub fn invalid(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "invalid", "This is not valid", detail)
    }

    pub fn conflict(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::CONFLICT, "conflict", "This cannot be done as things are", detail)
    }

    pub fn unauthorized(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::UNAUTHORIZED, "not-signed-in", "Who is asking?", detail)
    }

    pub fn forbidden(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::FORBIDDEN, "not-allowed", "Not allowed", detail)
    }

    pub fn unavailable(detail: impl Into<String>) -> Problem {
        Problem::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "record-unreachable",
            "The record cannot be reached",
            detail,
        )
    }

    /// RFC 9110, section 15.5.20: asked of a control that does not decide.
    pub fn elsewhere(holder: Holder) -> Problem {
        let detail = format!("{} decides now: ask {}", holder.name, holder.url);
        let title = "Another control decides";
        let problem = Problem::new(StatusCode::MISDIRECTED_REQUEST, "another-decides", title, detail);
        Problem { holder: Some(holder.url), ..problem }
    }

    /// RFC 9110, section 15.5.9.
    pub fn given_up() -> Problem {
        Problem::new(
            StatusCode::REQUEST_TIMEOUT,
            "given-up",
            "The caller waits no more",
            "this was read after its caller had stopped waiting; nothing was changed",
        )
    }

    /// RFC 9110, section 15.5.1: the path is written in a way that could be read as another.
    pub fn bad_path(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::BAD_REQUEST, "bad-path", "The path is not written as it should be", detail)
    }

    /// RFC 9110, section 15.5.6.
    pub fn no_such_method(method: &str, allowed: &str) -> Problem {
        let title = "The path has no such method";
        let detail = format!("{method} is nothing that can be done here; possible: {allowed}");
        Problem::new(StatusCode::METHOD_NOT_ALLOWED, "no-such-method", title, detail)
    }

    /// RFC 9110, section 15.5.20: the request is for a host that this platform does not answer for.
    pub fn other_host() -> Problem {
        let title = "Another host is meant";
        let detail = "the API answers only to the addresses and names that it was started with; to add a name: \
                      mainyard start --api-name NAME";
        Problem::new(StatusCode::MISDIRECTED_REQUEST, "other-host", title, detail)
    }

    /// RFC 6585, section 4; `wait` in milliseconds.
    pub fn too_many_attempts(wait: u64) -> Problem {
        let seconds = wait.div_ceil(1000);
        let detail = format!("signing in failed too often; try again in {seconds} s");
        let problem =
            Problem::new(StatusCode::TOO_MANY_REQUESTS, "too-many-attempts", "Too many attempts", detail);
        Problem { retry_after: Some(seconds), ..problem }
    }

    /// RFC 9110, section 15.5.9: the body came too slowly.
    pub fn too_slow() -> Problem {
        let detail = "the body did not come in time; nothing was changed";
        Problem::new(StatusCode::REQUEST_TIMEOUT, "too-slow", "The request came too slowly", detail)
    }

    /// RFC 4918, section 11.5.
    pub fn no_space(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::INSUFFICIENT_STORAGE, "no-space", "The disk has no room for this", detail)
    }

    /// What a part of the server says that knows no problem documents.
    pub fn of_status(status: StatusCode, detail: impl Into<String>) -> Problem {
        match status {
            StatusCode::PAYLOAD_TOO_LARGE => {
                Problem::too_large("the body is longer than this operation takes")
            }
            StatusCode::NOT_FOUND => Problem::not_found(detail),
            _ => Problem::invalid(detail),
        }
    }

    pub fn too_large(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "This is too large", detail)
    }

    /// Everything that is wrong with a declaration.
    pub fn files(problems: Vec<FileProblem>) -> Problem {
        let count = problems.len();
        let detail = if count == 1 {
            "1 problem in the declaration".to_owned()
        } else {
            format!("{count} problems in the declaration")
        };
        Problem { problems, ..Problem::invalid(detail) }
    }
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.detail)
    }
}

impl ResponseError for Problem {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let mut answer = HttpResponse::build(self.status_code());
        if let Some(seconds) = self.retry_after {
            answer.insert_header((actix_web::http::header::RETRY_AFTER, seconds));
        }
        answer.content_type("application/problem+json").json(self)
    }
}

impl From<ActError> for Problem {
    fn from(error: ActError) -> Problem {
        match error {
            ActError::Refused(Refusal { kind, message }) => match kind {
                RefusalKind::NotFound => Problem::not_found(message),
                RefusalKind::Conflict => Problem::conflict(message),
                RefusalKind::Invalid => Problem::invalid(message),
            },
            ActError::Unwritable(message) => Problem::invalid(message),
            ActError::Record(message) => Problem::unavailable(message),
            ActError::Elsewhere(holder) => Problem::elsewhere(holder),
        }
    }
}

impl From<mainyard_store::Error> for Problem {
    fn from(error: mainyard_store::Error) -> Problem {
        Problem::unavailable(error.to_string())
    }
}

/// A body that cannot be read.
pub fn body(error: JsonPayloadError, _: &HttpRequest) -> actix_web::Error {
    match &error {
        JsonPayloadError::Payload(PayloadError::Overflow)
        | JsonPayloadError::Overflow { .. }
        | JsonPayloadError::OverflowKnownLength { .. } => {
            return Problem::too_large("the body is longer than this operation takes").into();
        }
        JsonPayloadError::Payload(PayloadError::Io(error))
            if error.kind() == std::io::ErrorKind::TimedOut =>
        {
            return Problem::too_slow().into();
        }
        JsonPayloadError::Payload(PayloadError::Io(error))
            if error.kind() == std::io::ErrorKind::InvalidData =>
        {
            return Problem::invalid("the body holds U+0000, which the record cannot hold").into();
        }
        _ => {}
    }
    let JsonPayloadError::Deserialize(error) = error else {
        return Problem::invalid(format!("the request's body cannot be read: {error}")).into();
    };
    // Where JSON ends to be JSON the place helps; where a value is wrong, only what is wrong with it does.
    let words = error.to_string();
    let words = match error.classify() {
        serde_json::error::Category::Data => words.split(" at line ").next().unwrap_or(&words).to_owned(),
        _ => format!("the body is not JSON: {words}"),
    };
    Problem::invalid(words).into()
}

/// A path that cannot be read.
pub fn path(error: actix_web::error::PathError, _: &HttpRequest) -> actix_web::Error {
    Problem::not_found(told_by(&error)).into()
}

/// A query that cannot be read.
pub fn query(error: actix_web::error::QueryPayloadError, _: &HttpRequest) -> actix_web::Error {
    Problem::invalid(told_by(&error)).into()
}

/// What a reader says is enough; which one it was is of no interest.
fn told_by(error: &dyn std::fmt::Display) -> String {
    let words = error.to_string();
    words.split_once(" error: ").map_or(words.clone(), |(_, rest)| rest.to_owned())
}
