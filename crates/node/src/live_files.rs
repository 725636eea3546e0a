//! Files of a running replica, changed from outside: seen by its program at once, gone when it is started again.
//!
//! The replica may do with its files what it likes meanwhile, so every path is resolved by the kernel as the replica itself
//! would (openat2, `RESOLVE_IN_ROOT`), and only on the file system of its root. A file is put in its place whole.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::OwnedFd;

use mainyard_control_client::Control;
use mainyard_core::link::{LiveFile, LiveFiles, LiveOutcome};
use mainyard_core::model::ReplicaId;
use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags};
use rustix::io::Errno;
use rustix::thread::CapabilitySet;

/// Changes files of replicas, each with the process id of its init, and tells how that went.
pub(crate) async fn change(
    control: Control,
    stream: u64,
    replicas: Vec<(ReplicaId, Option<u32>)>,
    files: LiveFiles,
) {
    let changed = tokio::task::spawn_blocking(move || {
        let change = |(id, init)| change_in(id, init, &files);
        let lines = replicas.into_iter().map(change).filter_map(|it| serde_json::to_string(&it).ok());
        lines.map(|line| line + "\n").collect::<String>()
    });
    let Ok(lines) = changed.await else { return };
    if let Err(error) = control.stream(&format!("/link/streams/{stream}"), lines.into()).await {
        tracing::warn!(%error, stream, "cannot tell how changing files went");
    }
}

fn change_in(id: ReplicaId, init: Option<u32>, files: &LiveFiles) -> LiveOutcome {
    let mut outcome = LiveOutcome::of(id);
    let Some(init) = init else {
        outcome.failed = Some("its program does not run".to_owned());
        return outcome;
    };
    // The thread becomes another user, and ends as that.
    let done = std::thread::scope(|scope| {
        let thread = scope.spawn(|| Root::of(init).and_then(|root| root.change(files, &mut outcome)));
        thread.join().unwrap_or_else(|_| Err("its node failed in the middle".to_owned()))
    });
    outcome.failed = done.err();
    outcome
}

/// The root of a replica's files.
struct Root(OwnedFd);

impl Root {
    /// Opens it, and makes this thread the replica's own root user, who owns what it writes.
    fn of(init: u32) -> Result<Root, String> {
        let failed = |doing: &str, error: io::Error| format!("cannot {doing}: {error}");
        let owner = |map: &str| {
            let text = std::fs::read_to_string(format!("/proc/{init}/{map}"));
            root_in(&text.map_err(|error| failed("read its users", error))?)
                .ok_or_else(|| "it has no user root".to_owned())
        };
        let (user, group) = (owner("uid_map")?, owner("gid_map")?);
        let path = format!("/proc/{init}/root");
        let root = rustix::fs::open(path, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        let root = root.map_err(|error| failed("open its root", error.into()))?;
        // SAFETY: both set a number of this thread alone.
        unsafe {
            libc::setfsgid(group);
            libc::setfsuid(user);
        }
        // With another user these rights were given up; files of every user of the replica are changed.
        let rights = CapabilitySet::DAC_OVERRIDE | CapabilitySet::FOWNER | CapabilitySet::DAC_READ_SEARCH;
        let raised = rustix::thread::capabilities(None).and_then(|mut sets| {
            sets.effective |= rights;
            rustix::thread::set_capabilities(None, sets)
        });
        raised.map_err(|error| failed("act as its root user", error.into()))?;
        Ok(Root(root))
    }

    fn change(&self, files: &LiveFiles, outcome: &mut LiveOutcome) -> Result<(), String> {
        for file in &files.files {
            let path = match self.is_folder(&file.path) {
                true => format!("{}/{}", file.path.trim_end_matches('/'), file.name),
                false => file.path.clone(),
            };
            match self.write(&path, file).map_err(|error| in_words("write", &path, error))? {
                true => outcome.written.push(path),
                false => outcome.same += 1,
            }
        }
        for path in &files.remove {
            match self.remove(path) {
                Ok(()) => outcome.removed.push(path.clone()),
                Err(Errno::NOENT) => {}
                Err(error) => return Err(in_words("remove", path, error.into())),
            }
        }
        Ok(())
    }

    fn open(&self, path: &str, flags: OFlags) -> Result<OwnedFd, Errno> {
        let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_MAGICLINKS | ResolveFlags::NO_XDEV;
        rustix::fs::openat2(&self.0, path, flags | OFlags::CLOEXEC, Mode::empty(), resolve)
    }

    fn is_folder(&self, path: &str) -> bool {
        self.open(path, OFlags::PATH | OFlags::DIRECTORY).is_ok()
    }

    /// The folder of a path, which is made where it is missing, and the name in it.
    fn folder<'a>(&self, path: &'a str, make: bool) -> Result<(OwnedFd, &'a str), Errno> {
        let (above, name) = path.rsplit_once('/').ok_or(Errno::INVAL)?;
        let open = || self.open(if above.is_empty() { "/" } else { above }, OFlags::PATH | OFlags::DIRECTORY);
        match open() {
            Err(Errno::NOENT) if make && !above.is_empty() => {
                let (parent, folder) = self.folder(above, true)?;
                match rustix::fs::mkdirat(&parent, folder, Mode::from_raw_mode(0o755)) {
                    Ok(()) | Err(Errno::EXIST) => Ok((open()?, name)),
                    Err(error) => Err(error),
                }
            }
            opened => Ok((opened?, name)),
        }
    }

    /// Whether it had to be written.
    fn write(&self, path: &str, file: &LiveFile) -> io::Result<bool> {
        let (folder, name) = self.folder(path, true)?;
        let mode = Mode::from_raw_mode(if file.executable { 0o755 } else { 0o644 });
        if is_same(&folder, name, file, mode)? {
            return Ok(false);
        }
        let partial = format!(".{name}.partial");
        let _ = rustix::fs::unlinkat(&folder, &partial, AtFlags::empty());
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mut made = File::from(rustix::fs::openat(&folder, &partial, flags, mode)?);
        let put = made.write_all(&file.content).and_then(|()| {
            rustix::fs::fchmod(&made, mode)?;
            Ok(rustix::fs::renameat(&folder, &partial, &folder, name)?)
        });
        if put.is_err() {
            let _ = rustix::fs::unlinkat(&folder, &partial, AtFlags::empty());
        }
        put.map(|()| true)
    }

    fn remove(&self, path: &str) -> Result<(), Errno> {
        let (folder, name) = self.folder(path, false)?;
        rustix::fs::unlinkat(&folder, name, AtFlags::empty())
    }
}

/// Whether that file is there, with that very content.
fn is_same(folder: &OwnedFd, name: &str, file: &LiveFile, mode: Mode) -> io::Result<bool> {
    // Whatever the replica made of it is not waited for.
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let Ok(there) = rustix::fs::openat(folder, name, flags, Mode::empty()) else { return Ok(false) };
    let found = rustix::fs::fstat(&there)?;
    let is_file = FileType::from_raw_mode(found.st_mode) == FileType::RegularFile;
    if !is_file
        || found.st_size as u64 != file.content.len() as u64
        || Mode::from_raw_mode(found.st_mode) != mode
    {
        return Ok(false);
    }
    let mut content = Vec::with_capacity(file.content.len());
    File::from(there).take(file.content.len() as u64 + 1).read_to_end(&mut content)?;
    Ok(content == file.content)
}

/// The number that the root user of a namespace has outside of it (user_namespaces(7)).
fn root_in(map: &str) -> Option<u32> {
    map.lines().find_map(|line| {
        let mut numbers = line.split_whitespace();
        (numbers.next()? == "0").then(|| numbers.next()?.parse().ok())?
    })
}

fn in_words(doing: &str, path: &str, error: io::Error) -> String {
    match Errno::from_io_error(&error) {
        Some(Errno::ROFS) => {
            format!("cannot {doing} {path}: its root is read only, as its workload says (read_only)")
        }
        Some(Errno::XDEV) => format!(
            "cannot {doing} {path}: it is in a volume or another mount; only files of the image are changed"
        ),
        Some(Errno::NOSPC | Errno::DQUOT) => format!("cannot {doing} {path}: its disk is full (limits.disk)"),
        Some(Errno::ISDIR) => format!("cannot {doing} {path}: it is a folder there"),
        Some(Errno::NOTDIR) => format!("cannot {doing} {path}: what is above it is a file there"),
        Some(Errno::LOOP) => format!("cannot {doing} {path}: links lead in a circle"),
        _ => format!("cannot {doing} {path}: {error}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_root_user_of_a_namespace_is_found() {
        assert_eq!(root_in("         0    1000000      65536\n"), Some(1_000_000));
        assert_eq!(root_in("1 100 1\n0 7 1\n"), Some(7));
        assert_eq!(root_in(""), None);
    }
}
