//! Whom an image's program runs as.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::PathBuf;

use crate::Error;
use crate::unpack::{open_beneath, open_dir};

/// User and group ids.
pub type Users = (u32, u32);

/// What an image's `User` means: numbers as they are, names by the image's own `/etc/passwd` and `/etc/group`.
/// The layers are given the lowest first.
pub fn resolve_user(user: &str, layers: &[PathBuf]) -> Result<Users, Error> {
    let (user, group) = user.split_once(':').map_or((user, None), |(user, group)| (user, Some(group)));
    let table = |file: &str| -> BTreeMap<String, Vec<String>> {
        let text = layers.iter().rev().find_map(|layer| {
            let root = open_dir(layer).ok()?;
            let file = File::from(open_beneath(&root, file, libc::O_RDONLY).ok()?);
            let mut text = String::new();
            file.take(1 << 20).read_to_string(&mut text).ok().map(|_| text)
        });
        let lines = text.unwrap_or_default();
        let fields = |line: &str| line.split(':').map(str::to_owned).collect::<Vec<_>>();
        lines.lines().map(fields).filter(|f| f.len() > 2).map(|f| (f[0].clone(), f)).collect()
    };
    let unknown = |what: &str, name: &str| {
        Error::Invalid(format!("the image runs as {what} {name:?}, which its /etc does not name"))
    };
    let number = |fields: &[String], at: usize| fields.get(at).and_then(|text| text.parse::<u32>().ok());
    let (uid, own_gid) = match user {
        "" => (0, 0),
        text => match text.parse::<u32>() {
            Ok(uid) => {
                let users = table("etc/passwd");
                let known = users.values().find(|fields| number(fields, 2) == Some(uid));
                (uid, known.and_then(|fields| number(fields, 3)).unwrap_or(0))
            }
            Err(_) => {
                let users = table("etc/passwd");
                let fields = users.get(text).ok_or_else(|| unknown("user", text))?;
                number(fields, 2).zip(number(fields, 3)).ok_or_else(|| unknown("user", text))?
            }
        },
    };
    let gid = match group {
        None => own_gid,
        Some(text) => match text.parse::<u32>() {
            Ok(gid) => gid,
            Err(_) => table("etc/group")
                .get(text)
                .and_then(|fields| number(fields, 2))
                .ok_or_else(|| unknown("group", text))?,
        },
    };
    if uid > 65_535 || gid > 65_535 {
        return Err(Error::Invalid(format!("the image runs as {uid}:{gid}; ids up to 65535 are taken")));
    }
    Ok((uid, gid))
}
