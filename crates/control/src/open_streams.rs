//! How many streams each member reads at once: each costs control work for as long as it is open.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use mainyard_api::Problem;

/// Consoles, clients and programs of one member together.
const MOST: u32 = 64;

/// The streams that are open now, by member.
#[derive(Debug, Clone, Default)]
pub(crate) struct OpenStreams(Arc<Mutex<BTreeMap<String, u32>>>);

/// One open stream; it is counted until it is dropped.
#[derive(Debug)]
pub(crate) struct OpenStream {
    member: String,
    all: OpenStreams,
}

impl OpenStreams {
    /// Counts one more stream of a member.
    ///
    /// # Errors
    /// When the member has as many open as one may have.
    pub(crate) fn open(&self, member: &str) -> Result<OpenStream, Problem> {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let count = open.entry(member.to_owned()).or_default();
        if *count >= MOST {
            return Err(Problem::too_many_streams(MOST));
        }
        *count += 1;
        Ok(OpenStream { member: member.to_owned(), all: self.clone() })
    }
}

impl Drop for OpenStream {
    fn drop(&mut self) {
        let mut open = self.all.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = open.get_mut(&self.member) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.member);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_member_has_a_limit_of_its_own_and_a_closed_stream_makes_room() {
        let streams = OpenStreams::default();
        let mut open: Vec<OpenStream> = (0..MOST).map(|_| streams.open("mira").expect("room")).collect();
        let refused = streams.open("mira").expect_err("too many");
        assert_eq!((refused.status, refused.code.word()), (429, "too-many-streams"));
        streams.open("noor").expect("another member");
        drop(open.pop());
        open.push(streams.open("mira").expect("room again"));
        drop(open);
        assert!(streams.0.lock().expect("not poisoned").is_empty());
    }
}
