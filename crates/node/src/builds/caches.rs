//! Folders that outlive builds, by repository and name. Each has a quota; those that were not used for longest go when
//! there are too many, and those that nobody used for two weeks.

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use mainyard_core::model::{Bytes, Name};
use mainyard_images::Digest;
use mainyard_runtime::DiskScratch;

/// The scratch of a cache is named so.
pub(super) const PREFIX: &str = "cache.";
/// The most that one cache may hold, and all of them.
const LIMIT: Bytes = Bytes::mib(8 << 10);
const ALL: Bytes = Bytes::mib(20 << 10);
/// One that nobody used for so long goes.
const KEPT: Duration = Duration::from_secs(14 * 24 * 3600);

/// The caches of a node.
pub(super) struct Caches {
    /// A file for each, whose time says when it was used last.
    dir: PathBuf,
}

/// The name of a cache's scratch: no other repository's cache has it.
pub(super) fn scratch_name(repository: &str, cache: &Name) -> String {
    let digest = Digest::of(format!("{repository}\n{cache}").as_bytes());
    format!("{PREFIX}{}", &digest.hex()[..24])
}

impl Caches {
    pub(super) fn at(dir: PathBuf) -> Caches {
        Caches { dir }
    }

    /// The folder of a cache, made where it is missing.
    pub(super) fn open(
        &self,
        scratch: &DiskScratch,
        repository: &str,
        cache: &Name,
    ) -> Result<PathBuf, String> {
        let name = scratch_name(repository, cache);
        std::fs::create_dir_all(&self.dir)
            .and_then(|()| std::fs::write(self.dir.join(&name), format!("{repository} {cache}\n")))
            .map_err(|error| format!("the cache {cache} cannot be noted: {error}"))?;
        scratch.keep(&name, LIMIT).map_err(|error| error.to_string())
    }

    /// Removes caches by rule. Those of this repository stay: it is at work.
    pub(super) fn sweep(&self, scratch: &DiskScratch, at_work: &[String]) {
        let mut all: Vec<(SystemTime, String, u64)> = Vec::new();
        for name in scratch.named(PREFIX) {
            let used = last_used(&self.dir.join(&name));
            all.push((used, name.clone(), scratch.written(&name).map_or(0, Bytes::bytes)));
        }
        all.sort();
        let mut held: u64 = all.iter().map(|(.., size)| size).sum();
        for (used, name, size) in all {
            let is_old = used.elapsed().is_ok_and(|age| age > KEPT);
            if at_work.contains(&name) || !is_old && held <= ALL.bytes() {
                continue;
            }
            tracing::info!(name, size, "a cache of builds was removed");
            scratch.remove(&name);
            let _ = std::fs::remove_file(self.dir.join(&name));
            held -= size;
        }
    }
}

fn last_used(mark: &Path) -> SystemTime {
    std::fs::metadata(mark).and_then(|found| found.modified()).unwrap_or(SystemTime::UNIX_EPOCH)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_two_repositories_share_a_cache() {
        let cache = |name: &str| name.parse::<Name>().expect("a name");
        let one = scratch_name("lockers/api", &cache("deps"));
        assert_eq!(one, scratch_name("lockers/api", &cache("deps")));
        assert_ne!(one, scratch_name("lockers/api", &cache("target")));
        assert_ne!(one, scratch_name("lockers/web", &cache("deps")));
    }
}
