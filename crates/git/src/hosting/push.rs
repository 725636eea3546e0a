//! What a push asks for, and how it is answered (gitprotocol-pack, "Pushing data to a server"). No I/O but reading.

use tokio::io::AsyncRead;

use super::pkt_line::{self, Band};

/// Refs that one push may change.
const UPDATES: usize = 1_000;
/// Capabilities that are offered. A push names those that it uses.
const CAPABILITIES: &str =
    "report-status side-band-64k delete-refs ofs-delta quiet object-format=sha1 agent=main-yard";
/// The id that stands for "none".
pub const NONE: &str = "0000000000000000000000000000000000000000";

/// A ref that is made, moved or removed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefUpdate {
    /// Its whole name, such as `refs/heads/main`.
    pub name: String,
    /// The commit that it is at, as the client knows it; [`NONE`] where it is made.
    pub old: String,
    /// The commit that it is to be at; [`NONE`] where it is removed.
    pub new: String,
}

impl RefUpdate {
    /// Whether the ref is removed.
    pub fn removes(&self) -> bool {
        self.new == NONE
    }
}

/// A push, without its objects.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushRequest {
    /// What it changes.
    pub updates: Vec<RefUpdate>,
    /// Whether its client shows progress that comes beside the report.
    pub has_bands: bool,
}

/// Why a push cannot be taken at all.
#[derive(Debug, thiserror::Error)]
pub enum PushError {
    /// It ended before it was whole, or is no push.
    #[error("the push cannot be read: {0}")]
    Broken(#[from] std::io::Error),
    /// It asks for something that is not done.
    #[error("{0}")]
    Refused(String),
}

/// The list of refs that a client is shown before it pushes.
pub fn advertisement<'a>(refs: impl IntoIterator<Item = (&'a str, &'a str)>) -> Vec<u8> {
    let mut all = Vec::new();
    let mut capabilities = Some(CAPABILITIES);
    for (name, id) in refs {
        let mut text = format!("{id} {name}");
        if let Some(capabilities) = capabilities.take() {
            text.push('\0');
            text.push_str(capabilities);
        }
        all.extend(pkt_line::line(format!("{text}\n").as_bytes()));
    }
    if capabilities.is_some() {
        all.extend(pkt_line::line(format!("{NONE} capabilities^{{}}\0{CAPABILITIES}\n").as_bytes()));
    }
    all.extend(pkt_line::FLUSH);
    all
}

/// Reads what a push changes. The objects follow in the same stream.
///
/// # Errors
/// When it cannot be read, or asks for what is not done.
pub async fn read_request(from: &mut (impl AsyncRead + Unpin)) -> Result<PushRequest, PushError> {
    let mut request = PushRequest { updates: Vec::new(), has_bands: false };
    while let Some(line) = pkt_line::read(from).await? {
        let text = String::from_utf8(line)
            .map_err(|_| PushError::Refused("a ref's name is no text (UTF-8)".to_owned()))?;
        let (command, capabilities) = text.split_once('\0').unwrap_or((&text, ""));
        request.has_bands |= capabilities.split(' ').any(|it| it.trim() == "side-band-64k");
        if command.starts_with("shallow ") {
            let words =
                "this clone has only a part of its history; get the rest first: git fetch --unshallow";
            return Err(PushError::Refused(words.to_owned()));
        }
        request.updates.push(update(command.trim_end_matches('\n'))?);
        if request.updates.len() > UPDATES {
            return Err(PushError::Refused(format!("one push changes at most {UPDATES} branches and tags")));
        }
    }
    Ok(request)
}

fn update(command: &str) -> Result<RefUpdate, PushError> {
    let mut words = command.splitn(3, ' ');
    let (old, new, name) = (
        words.next().unwrap_or_default(),
        words.next().unwrap_or_default(),
        words.next().unwrap_or_default(),
    );
    if !is_id(old) || !is_id(new) || name.is_empty() {
        return Err(PushError::Refused(format!("{command:?} is no change of a branch or tag")));
    }
    Ok(RefUpdate { name: name.to_owned(), old: old.to_owned(), new: new.to_owned() })
}

/// Whether a text is the id of an object.
fn is_id(text: &str) -> bool {
    text.len() == NONE.len() && text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'))
}

/// The name of a branch or tag that may be pushed: nothing that other programs take for something else.
pub(super) fn is_plain_ref(name: &str) -> bool {
    let rest = name.strip_prefix("refs/heads/").or_else(|| name.strip_prefix("refs/tags/"));
    let part = |part: &str| {
        !part.is_empty() && !part.starts_with(['.', '-']) && !part.ends_with(".lock") && !part.ends_with('.')
    };
    let letter = |letter: char| letter.is_alphanumeric() || "/._-+#=,%()'!".contains(letter);
    rest.is_some_and(|rest| {
        name.len() <= 200 && rest.chars().all(letter) && !rest.contains("..") && rest.split('/').all(part)
    })
}

/// The report on a push: whether its objects were taken, and for each ref whether it was changed, or why not.
pub fn report(unpacked: Result<(), &str>, refs: &[(String, Result<(), String>)], has_bands: bool) -> Vec<u8> {
    let in_a_line = |text: &str| text.replace(['\n', '\0'], " ");
    let first = match unpacked {
        Ok(()) => "unpack ok\n".to_owned(),
        Err(words) => format!("unpack {}\n", in_a_line(words)),
    };
    let mut all = pkt_line::line(first.as_bytes());
    for (name, outcome) in refs {
        let text = match outcome {
            Ok(()) => format!("ok {name}\n"),
            Err(words) => format!("ng {name} {}\n", in_a_line(words)),
        };
        all.extend(pkt_line::line(text.as_bytes()));
    }
    all.extend(pkt_line::FLUSH);
    if has_bands { pkt_line::in_band(Band::Data, &all) } else { all }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ONE: &str = "1111111111111111111111111111111111111111";

    #[tokio::test]
    async fn a_push_names_what_it_changes() {
        let first = format!("{NONE} {ONE} refs/heads/main\0 report-status side-band-64k agent=git/2\n");
        let second = format!("{ONE} {NONE} refs/heads/old");
        let bytes = [
            pkt_line::line(first.as_bytes()),
            pkt_line::line(second.as_bytes()),
            pkt_line::FLUSH.to_vec(),
            b"PACK".to_vec(),
        ];
        let bytes = bytes.concat();
        let mut from = bytes.as_slice();
        let request = read_request(&mut from).await.expect("a push");
        assert_eq!((request.updates.len(), request.has_bands, from), (2, true, &b"PACK"[..]));
        assert!(!request.updates[0].removes() && request.updates[1].removes());
    }

    #[tokio::test]
    async fn what_is_no_push_is_refused() {
        for text in [format!("shallow {ONE}"), format!("{ONE} refs/heads/main"), "x".to_owned()] {
            let bytes = [pkt_line::line(text.as_bytes()), pkt_line::FLUSH.to_vec()].concat();
            assert!(
                matches!(read_request(&mut bytes.as_slice()).await, Err(PushError::Refused(_))),
                "{text}"
            );
        }
        assert!(matches!(read_request(&mut &b"00"[..]).await, Err(PushError::Broken(_))));
    }

    #[test]
    fn only_branches_and_tags_of_plain_names_are_pushed() {
        for name in ["refs/heads/main", "refs/tags/v1.2.0", "refs/heads/mira/form-text"] {
            assert!(is_plain_ref(name), "{name}");
        }
        for name in [
            "HEAD",
            "refs/followed",
            "refs/heads/",
            "refs/heads/../x",
            "refs/heads/-x",
            "refs/heads/a b",
            "refs/heads/.a",
            "refs/heads/a.lock",
            "refs/heads/a\u{7}",
            "refs/heads/a//b",
            "refs/replace/1",
        ] {
            assert!(!is_plain_ref(name), "{name}");
        }
    }

    #[test]
    fn a_report_is_a_line_for_each_ref() {
        let refs =
            [("refs/heads/a".to_owned(), Ok(())), ("refs/heads/b".to_owned(), Err("not\nnow".to_owned()))];
        let text = String::from_utf8(report(Ok(()), &refs, false)).expect("a text");
        assert_eq!(text, "000eunpack ok\n0014ok refs/heads/a\n001cng refs/heads/b not now\n0000");
        assert_eq!(report(Ok(()), &refs, true)[4], Band::Data as u8);
    }

    #[test]
    fn an_empty_repository_shows_what_it_can_do() {
        let text = String::from_utf8(advertisement([])).expect("a text");
        assert!(text.contains("capabilities^{}\0report-status") && text.ends_with("\n0000"), "{text:?}");
        let text = String::from_utf8(advertisement([("refs/heads/main", ONE), ("refs/tags/a", ONE)]));
        assert_eq!(text.expect("a text").matches("side-band-64k").count(), 1);
    }
}
