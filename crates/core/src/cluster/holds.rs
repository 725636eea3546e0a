//! The mark of a hold, of a workload or of a source.

use super::{Refusal, RefusalKind, Transaction};
use crate::model::{HoldMark, Target};

impl Transaction<'_> {
    /// The mark of a hold, and its cause: of a workload or a source that is not held already, with a reason.
    pub(super) fn mark_held(
        &mut self,
        target: &Target,
        already: Option<&HoldMark>,
        because: &str,
    ) -> Result<HoldMark, Refusal> {
        if let Some(HoldMark { because, origin }) = already {
            let message = format!("{target} is {origin} already, because {because}");
            return Refusal::new(RefusalKind::Conflict, message);
        }
        if because.trim().is_empty() {
            return Refusal::new(RefusalKind::Invalid, "a hold needs a reason: --because \"…\"");
        }
        self.act("held");
        Ok(HoldMark { because: because.trim().to_owned(), origin: self.cause.clone() })
    }
}
