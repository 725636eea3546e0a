//! Logs of replicas that are gone, kept for as long as the record has their release: a folder for each release, a file
//! for each replica.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use mainyard_core::model::{ReleaseId, ReplicaId};

use crate::logs::end_of;

/// So many lines are kept of each replica.
const LINES: usize = 1000;
/// And of so many replicas of a release.
const REPLICAS: usize = 100;

/// The directory of the kept logs.
pub(crate) struct KeptLogs {
    root: PathBuf,
}

impl KeptLogs {
    /// In this folder.
    pub(crate) fn at(root: PathBuf) -> KeptLogs {
        KeptLogs { root }
    }

    /// Keeps the end of a replica's log. Of more replicas than are kept, those that went first stay.
    pub(crate) fn keep(&self, log_dir: &Path, release: &ReleaseId, replica: &ReplicaId) -> io::Result<()> {
        let dir = self.root.join(release.dotted());
        std::fs::create_dir_all(&dir)?;
        if std::fs::read_dir(&dir)?.count() >= REPLICAS {
            return Ok(());
        }
        let text = end_of(&log_dir.join("previous")) + &end_of(&log_dir.join("current"));
        let lines: Vec<&str> = text.lines().collect();
        let mut last = lines[lines.len().saturating_sub(LINES)..].join("\n");
        last.push('\n');
        let partial = dir.join(format!(".{}", replica.short));
        std::fs::write(&partial, last)?;
        std::fs::rename(partial, dir.join(&replica.short))
    }

    /// The files of a release, by replica.
    pub(crate) fn of(&self, release: &ReleaseId) -> Vec<(PathBuf, ReplicaId)> {
        let entries = std::fs::read_dir(self.root.join(release.dotted())).into_iter().flatten().flatten();
        let files = entries.filter_map(|entry| {
            let short = entry.file_name().into_string().ok().filter(|name| !name.starts_with('.'))?;
            Some((entry.path(), ReplicaId::new(release.workload.clone(), short)))
        });
        files.collect()
    }

    /// Removes what is of other releases than these.
    pub(crate) fn only_of(&self, releases: &BTreeSet<ReleaseId>) {
        let stay: BTreeSet<String> = releases.iter().map(ReleaseId::dotted).collect();
        for entry in std::fs::read_dir(&self.root).into_iter().flatten().flatten() {
            if entry.file_name().to_str().is_none_or(|name| !stay.contains(name)) {
                remove(&entry.path());
            }
        }
    }

    /// Removes what is of these releases.
    pub(crate) fn forget(&self, releases: &BTreeSet<ReleaseId>) {
        releases.iter().for_each(|release| remove(&self.root.join(release.dotted())));
    }
}

fn remove(dir: &Path) {
    if let Err(error) = std::fs::remove_dir_all(dir)
        && error.kind() != io::ErrorKind::NotFound
    {
        tracing::warn!(dir = %dir.display(), %error, "kept logs cannot be removed");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_end_of_a_log_outlives_its_replica_and_goes_with_the_release() {
        let dir = tempfile::tempdir().expect("a directory");
        let (log, kept) = (dir.path().join("log"), KeptLogs::at(dir.path().join("kept")));
        std::fs::create_dir(&log).expect("a directory");
        let lines: String = (0..1500).map(|number| format!("{number} o line {number}\n")).collect();
        let (older, newer) = lines.split_at(lines.find("700 o").expect("a line"));
        std::fs::write(log.join("previous"), older).expect("written");
        std::fs::write(log.join("current"), newer).expect("written");
        let release: ReleaseId = "staging/locker-api@7".parse().expect("a release");
        let replica = "staging/locker-api/b3".parse().expect("a replica");
        kept.keep(&log, &release, &replica).expect("kept");
        let files = kept.of(&release);
        assert_eq!(files.iter().map(|(_, id)| id).collect::<Vec<_>>(), [&replica]);
        let text = std::fs::read_to_string(&files[0].0).expect("read");
        assert_eq!((text.lines().count(), text.lines().next()), (1000, Some("500 o line 500")));
        kept.only_of(&BTreeSet::from([release.clone()]));
        assert_eq!(kept.of(&release).len(), 1);
        kept.forget(&BTreeSet::from([release.clone()]));
        assert!(kept.of(&release).is_empty());
    }
}
