//! A kept answer on its way to another visitor.

use bytes::Bytes;
use http::header::{ACCEPT_RANGES, CONTENT_LENGTH, ETAG, HeaderName, HeaderValue, IF_NONE_MATCH};
use http::{Method, Request, Response, StatusCode, response};
use http_body_util::{Either, Full};

use crate::compress::{self, Coding};
use crate::responses::AnswerBody;

/// Whether an answer comes from the cache (RFC 9211).
const CACHE_STATUS: HeaderName = HeaderName::from_static("cache-status");

/// The answer for a visitor that takes this coding; one that has it already is told so.
pub(crate) fn given_again<B>(
    mut head: response::Parts,
    body: Bytes,
    request: &Request<B>,
    coding: Option<Coding>,
) -> Response<AnswerBody> {
    let asked = request.headers();
    head.headers.insert(CACHE_STATUS, HeaderValue::from_static("mainyard; hit"));
    head.headers.remove(ACCEPT_RANGES);
    let weak = |tag: &str| tag.trim().trim_start_matches("W/").to_owned();
    let own = head.headers.get(ETAG).and_then(|tag| tag.to_str().ok()).map(weak);
    let named = asked.get_all(IF_NONE_MATCH).iter().filter_map(|value| value.to_str().ok());
    let mut named = named.flat_map(|value| value.split(',')).map(weak);
    let known = own.is_some_and(|own| named.any(|tag| tag == own || tag == "*"));
    let coding = coding.filter(|_| compress::fits(&head));
    if let Some(coding) = coding {
        compress::mark(&mut head.headers, coding);
    }
    let body = match (known, request.method()) {
        (true, _) => {
            head.status = StatusCode::NOT_MODIFIED;
            head.headers.remove(CONTENT_LENGTH);
            Bytes::new()
        }
        (false, &Method::HEAD) => Bytes::new(),
        _ => coding.map_or(body.clone(), |coding| coding.whole(&body)),
    };
    Response::from_parts(head, Either::Right(Full::from(body)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_visitor_that_has_it_is_told_so() {
        let status = |tag| {
            let (mut asked, mut kept) = (Request::new(()), Response::new(()));
            asked.headers_mut().insert(IF_NONE_MATCH, HeaderValue::from_static(tag));
            kept.headers_mut().insert(ETAG, HeaderValue::from_static("\"7\""));
            let head = kept.into_parts().0;
            given_again(head, Bytes::from_static(b"x"), &asked, None).status().as_u16()
        };
        let statuses = [status("\"7\""), status("W/\"7\""), status("\"8\", \"7\""), status("\"8\"")];
        assert_eq!(statuses, [304, 304, 304, 200]);
    }
}
