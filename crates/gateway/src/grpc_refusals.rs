//! How gRPC calls are refused (github.com/grpc/grpc, doc/statuscodes.md).

use http::header::{CONTENT_TYPE, HeaderName, HeaderValue};
use http::{Response, StatusCode};
use http_body_util::{Either, Full};

use crate::grpc::{STATUS, TYPE};
use crate::rejections::Refused;
use crate::responses::AnswerBody;

const MESSAGE: HeaderName = HeaderName::from_static("grpc-message");

/// Status codes that a gateway gives.
const DEADLINE_EXCEEDED: u8 = 4;
const PERMISSION_DENIED: u8 = 7;
const RESOURCE_EXHAUSTED: u8 = 8;
const UNIMPLEMENTED: u8 = 12;
const INTERNAL: u8 = 13;
const UNAVAILABLE: u8 = 14;
const UNAUTHENTICATED: u8 = 16;

/// The answer to a call that no replica gets: gRPC tells its own status, and HTTP's is always 200. Of the reason it has only
/// the code, as every answer of the gateway.
pub(crate) fn refused(refused: &Refused) -> Response<AnswerBody> {
    let status = match refused.status {
        StatusCode::GATEWAY_TIMEOUT => DEADLINE_EXCEEDED,
        StatusCode::UNAUTHORIZED => UNAUTHENTICATED,
        StatusCode::FORBIDDEN => PERMISSION_DENIED,
        StatusCode::NOT_FOUND | StatusCode::METHOD_NOT_ALLOWED => UNIMPLEMENTED,
        StatusCode::TOO_MANY_REQUESTS | StatusCode::PAYLOAD_TOO_LARGE => RESOURCE_EXHAUSTED,
        status if status.is_server_error() => UNAVAILABLE,
        _ => INTERNAL,
    };
    let mut answer = Response::new(Either::Right(Full::default()));
    let headers = answer.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(TYPE));
    headers.insert(STATUS, HeaderValue::from(u16::from(status)));
    headers.insert(MESSAGE, HeaderValue::from_static(refused.reason.code.word()));
    if let Some((name, value)) = &refused.header {
        headers.insert(name.clone(), value.clone());
    }
    answer
}

#[cfg(test)]
mod tests {
    use mainyard_core::model::ReasonCode;

    use super::*;

    #[test]
    fn a_refusal_tells_its_status_as_grpc_does() {
        let told = |status: StatusCode| {
            let answer = refused(&Refused::new(status, ReasonCode::Overloaded, "all are busy"));
            assert_eq!(answer.status(), StatusCode::OK);
            answer.headers()[STATUS].to_str().expect("a number").to_owned()
        };
        assert_eq!(
            [503, 504, 502, 404, 401, 403, 429, 400].map(|it| told(StatusCode::from_u16(it).expect("one"))),
            ["14", "4", "14", "12", "16", "7", "8", "13"]
        );
    }
}
