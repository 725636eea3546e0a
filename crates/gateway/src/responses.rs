//! Building the answer for a visitor.

use bytes::Bytes;
use http_body_util::{Either, Full};

use crate::compress::Zipped;
use crate::response_body::CountedBody;

/// An answer's body on its way: a replica's, as it is or compressed, or the gateway's own.
pub(crate) type AnswerBody = Either<Either<CountedBody, Zipped>, Full<Bytes>>;
