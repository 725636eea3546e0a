//! Layers on disk are read again from time to time: one that the disk changed is noticed before a replica is started from it.
//!
//! A broken layer is moved aside and fetched again. What was moved aside stays as long as a replica may have it mounted.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use mainyard_images::{LayerState, sums_of_layer, verify_layer};

/// Bytes a second that are read: slower than a disk, so that replicas do not feel it.
const RATE: f64 = 64.0 * 1024.0 * 1024.0;
/// The ending of a directory that was moved aside, and of the file that says who may have it mounted.
const BROKEN: &str = "broken";
const USERS: &str = "users";

/// Waits so that no more than `RATE` is read.
struct Pace {
    began: Instant,
    read: f64,
}

impl Pace {
    fn keep(&mut self, bytes: usize) {
        self.read += bytes as f64;
        let due = Duration::from_secs_f64(self.read / RATE);
        if let Some(ahead) = due.checked_sub(self.began.elapsed()) {
            std::thread::sleep(ahead);
        }
    }
}

/// Reads a layer; gives what is wrong with it.
pub(super) fn fault_of(layer: &Path) -> Option<String> {
    let mut pace = Pace { began: Instant::now(), read: 0.0 };
    match verify_layer(layer, |bytes| pace.keep(bytes)) {
        Ok(LayerState::Broken { file, how }) => Some(format!("{} {how}", file.display())),
        Ok(LayerState::Whole { files, bytes }) => {
            tracing::debug!(layer = %layer.display(), files, bytes, "an unpacked layer is whole");
            None
        }
        Ok(LayerState::Unknown) => None,
        // It is gone since, or the disk gives no answer at all.
        Err(error) => layer.is_dir().then(|| error.to_string()),
    }
}

/// Moves a layer aside, which these replicas may have mounted.
pub(super) fn move_aside(layer: &Path, users: &BTreeSet<String>) -> std::io::Result<()> {
    let number = (0..).find(|number| !aside(layer, *number).exists()).unwrap_or(0);
    let aside = aside(layer, number);
    std::fs::write(users_of(&aside), serde_json::to_vec(users)?)?;
    std::fs::rename(layer, &aside)?;
    match std::fs::remove_file(sums_of_layer(layer)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

fn aside(layer: &Path, number: u32) -> PathBuf {
    layer.with_extension(format!("{BROKEN}-{number}"))
}

fn users_of(aside: &Path) -> PathBuf {
    let mut name = aside.as_os_str().to_owned();
    name.push(format!(".{USERS}"));
    PathBuf::from(name)
}

/// Whether this is a layer that was moved aside, or belongs to one, and one of the replicas that run may have it mounted.
pub(super) fn is_mounted(path: &Path, running: &BTreeSet<String>) -> bool {
    let text = path.to_string_lossy();
    let aside = text.strip_suffix(&format!(".{USERS}")).unwrap_or(&text);
    let is_aside = Path::new(aside).extension().is_some_and(|it| it.to_string_lossy().starts_with(BROKEN));
    if !is_aside {
        return false;
    }
    let users = std::fs::read(users_of(Path::new(aside))).ok();
    let users: BTreeSet<String> =
        users.and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default();
    users.iter().any(|user| running.contains(user))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_moved_aside_stays_as_long_as_its_users_run() {
        let dir = tempfile::tempdir().expect("a directory");
        let layer = dir.path().join("0a1b");
        std::fs::create_dir(&layer).expect("a layer");
        let users = BTreeSet::from(["staging/api/a0".to_owned()]);
        move_aside(&layer, &users).expect("moved");
        assert!(!layer.exists());
        std::fs::create_dir(&layer).expect("fetched again");
        move_aside(&layer, &BTreeSet::new()).expect("moved once more");
        let mut found: Vec<_> = std::fs::read_dir(dir.path()).expect("a directory").flatten().collect();
        found.sort_by_key(std::fs::DirEntry::file_name);
        let mounted = |running: &BTreeSet<String>| {
            let names = found.iter().filter(|entry| is_mounted(&entry.path(), running));
            names.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect::<Vec<_>>()
        };
        assert_eq!(mounted(&users), ["0a1b.broken-0", "0a1b.broken-0.users"]);
        assert!(mounted(&BTreeSet::new()).is_empty());
    }
}
