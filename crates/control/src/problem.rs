//! Problem documents as answers of the server.

use actix_web::http::StatusCode;
use actix_web::http::header::RETRY_AFTER;
use actix_web::{HttpResponse, ResponseError};
use mainyard_api::Problem;

use crate::blobs::BlobError;
use crate::leader::{ActError, Holder};

/// A problem where the server asks for an error of its own.
#[derive(Debug)]
pub(crate) struct Refused(pub Problem);

impl std::fmt::Display for Refused {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(f)
    }
}

impl ResponseError for Refused {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        respond(&self.0)
    }
}

impl From<Problem> for Refused {
    fn from(problem: Problem) -> Refused {
        Refused(problem)
    }
}

/// The answer with a problem document.
pub(crate) fn respond(problem: &Problem) -> HttpResponse {
    let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut answer = HttpResponse::build(status);
    if let Some(seconds) = problem.retry_after {
        answer.insert_header((RETRY_AFTER, seconds));
    }
    answer.content_type("application/problem+json").json(problem)
}

/// Another control decides.
pub(crate) fn elsewhere(holder: Holder) -> Problem {
    Problem::elsewhere(&holder.name, holder.url)
}

/// The record cannot be reached.
pub(crate) fn of_record(error: mainyard_store::Error) -> Problem {
    Problem::unavailable(error.to_string())
}

impl From<ActError> for Problem {
    fn from(error: ActError) -> Problem {
        match error {
            ActError::Refused(refusal) => refusal.into(),
            ActError::Unwritable(message) => Problem::invalid(message),
            ActError::Record(message) => Problem::unavailable(message),
            ActError::Elsewhere(holder) => elsewhere(holder),
        }
    }
}

/// Why a blob cannot be had.
pub(crate) fn of_blobs(error: BlobError) -> Problem {
    match error {
        BlobError::Unknown(_) => Problem::not_found(error.to_string()),
        BlobError::Disk(
            error @ (mainyard_images::Error::Invalid(_) | mainyard_images::Error::TooLarge(_)),
        ) => Problem::invalid(error.to_string()),
        _ => Problem::unavailable(error.to_string()),
    }
}
