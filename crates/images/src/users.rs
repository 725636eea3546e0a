//! The account that an image's program runs as.

use std::fs::File;
use std::io::Read;
use std::path::PathBuf;

use crate::Error;
use crate::beneath::{open_beneath, open_dir};

/// The largest id: an environment has 65,536 of them.
const LARGEST_ID: u32 = 65_535;

/// The account that an image's program runs as, by the image's own files.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct User {
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
    /// Further groups that the account is a member of.
    pub groups: Vec<u32>,
    /// Its home directory; `/` if the image does not say.
    pub home: String,
}

/// One line of `/etc/passwd` or `/etc/group`, cut at its colons (passwd(5), group(5)).
struct Line(Vec<String>);

impl Line {
    fn name(&self) -> &str {
        &self.0[0]
    }

    fn number(&self, at: usize) -> Option<u32> {
        self.0.get(at)?.parse().ok()
    }

    fn has_member(&self, name: &str) -> bool {
        self.0.get(3).is_some_and(|members| members.split(',').any(|member| member.trim() == name))
    }
}

/// Resolves an image's `User`: numbers as they are, names by the image's own `/etc/passwd` and `/etc/group`.
/// The layers are given the lowest first.
///
/// # Errors
/// When a name is not in these files, or an id is past 65535.
pub fn resolve_user(user: &str, layers: &[PathBuf]) -> Result<User, Error> {
    let (user, group) = user.split_once(':').map_or((user, None), |(user, group)| (user, Some(group)));
    let users = lines_of(layers, "etc/passwd");
    let groups = lines_of(layers, "etc/group");
    let unknown = |what: &str, name: &str| {
        Error::Invalid(format!("the image runs as {what} {name:?}, which its /etc does not list"))
    };
    let user = if user.is_empty() { "0" } else { user };
    let (uid, account) = match user.parse::<u32>() {
        Ok(uid) => (uid, users.iter().find(|line| line.number(2) == Some(uid))),
        Err(_) => {
            let account =
                users.iter().find(|line| line.name() == user).ok_or_else(|| unknown("user", user))?;
            (account.number(2).ok_or_else(|| unknown("user", user))?, Some(account))
        }
    };
    let gid = match group {
        None => account.and_then(|account| account.number(3)).unwrap_or(0),
        Some(text) => match text.parse::<u32>() {
            Ok(gid) => gid,
            Err(_) => {
                let named = groups.iter().find(|line| line.name() == text);
                named.and_then(|line| line.number(2)).ok_or_else(|| unknown("group", text))?
            }
        },
    };
    // A group that is named takes the place of all of the account's own.
    let further = account.filter(|_| group.is_none()).map_or(Vec::new(), |account| {
        let of = groups.iter().filter(|line| line.has_member(account.name()));
        of.filter_map(|line| line.number(2)).filter(|id| *id <= LARGEST_ID && *id != gid).collect()
    });
    if uid > LARGEST_ID || gid > LARGEST_ID {
        return Err(Error::Invalid(format!("the image runs as {uid}:{gid}; ids up to 65535 are allowed")));
    }
    let home = account.and_then(|account| account.0.get(5)).filter(|home| home.starts_with('/'));
    Ok(User { uid, gid, groups: further, home: home.map_or("/", String::as_str).to_owned() })
}

/// The lines of a file of the uppermost layer that has it.
fn lines_of(layers: &[PathBuf], file: &str) -> Vec<Line> {
    let text = layers.iter().rev().find_map(|layer| {
        let root = open_dir(layer).ok()?;
        let file = File::from(open_beneath(&root, file, libc::O_RDONLY).ok()?);
        let mut text = String::new();
        file.take(1 << 20).read_to_string(&mut text).ok().map(|_| text)
    });
    let cut = |line: &str| Line(line.split(':').map(str::to_owned).collect());
    text.unwrap_or_default().lines().map(cut).filter(|line| line.0.len() > 2).collect()
}
