//! Images from the packages that this machine's distribution has installed: no network is needed.
//!
//! The files of the packages, and of all that they depend on, are taken as the package manager lists them. What installing
//! them made besides — accounts, caches — is not there, except for what every program expects: the usual directories and
//! links, those of alternatives (`cc`, `java`), `/etc/passwd` and `/etc/group` with the accounts that are asked for.
//!
//! Only files that everyone on the machine may read are taken: nothing secret of it gets into an image. The same packages
//! make the same layer.

mod alternatives;
mod database;

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use mainyard_images::{FileEntry, Layer, Package};

pub use database::{Installed, PackageDatabase};

/// Documentation and translations, which no program needs to run; licences stay.
const LEFT_OUT: [&str; 7] = [
    "usr/share/doc/",
    "usr/share/man/",
    "usr/share/info/",
    "usr/share/locale/",
    "usr/share/lintian/",
    "usr/share/bug/",
    "usr/share/doc-base/",
];
/// Directories that every program expects, with their modes.
const DIRECTORIES: [(&str, u32); 11] = [
    ("etc", 0o755),
    ("home", 0o755),
    ("root", 0o700),
    ("run", 0o755),
    ("tmp", 0o1777),
    ("usr", 0o755),
    ("usr/bin", 0o755),
    ("usr/lib", 0o755),
    ("usr/sbin", 0o755),
    ("var", 0o755),
    ("var/tmp", 0o1777),
];
/// Directories of the root that are links to those below `usr`.
const LINKS: [(&str, &str); 4] =
    [("bin", "usr/bin"), ("lib", "usr/lib"), ("lib64", "usr/lib64"), ("sbin", "usr/sbin")];

/// Files that installing a package makes, and that programs need: the authorities that certificates are checked by.
const MADE: [(&str, &str); 2] = [
    ("ca-certificates", "/etc/ssl/certs/ca-certificates.crt"),
    ("ca-certificates-java", "/etc/ssl/certs/java/cacerts"),
];

/// Why no image can be made.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The machine has no such package manager.
    #[error("the packages of this machine cannot be read: {0}")]
    NoDatabase(String),
    /// A package is not installed.
    #[error("the package {0} is not installed on this machine")]
    Missing(String),
    /// A file cannot be read.
    #[error("{0}: {1}")]
    File(PathBuf, std::io::Error),
}

/// What goes into an image.
#[derive(Debug, Clone, Default)]
pub struct Wanted<'a> {
    /// Packages, which come with all that they depend on.
    pub packages: &'a [&'a str],
    /// Packages that stay out, with what only they need; `perl*` stands for all whose name begins so.
    pub without: &'a [&'a str],
    /// Accounts besides root: name and id.
    pub accounts: &'a [(&'a str, u32)],
}

/// The files of an image, and what they are from.
#[derive(Debug)]
pub struct Base {
    /// One layer with all files.
    pub layer: Layer,
    /// The packages, by name.
    pub packages: Vec<Package>,
}

/// Gathers the files of installed packages.
///
/// # Errors
/// When a package is not installed, or a file cannot be read.
pub fn gather(wanted: &Wanted<'_>) -> Result<Base, Error> {
    let database = PackageDatabase::read()?;
    let packages = database.with_dependencies(wanted.packages, wanted.without)?;
    let mut tree = Tree::new(wanted.accounts);
    for package in &packages {
        for path in database.files_of(package)? {
            tree.take(&path)?;
        }
    }
    for (_, path) in MADE.iter().filter(|(name, _)| packages.iter().any(|it| it.name == *name)) {
        tree.take(Path::new(path))?;
    }
    for alternative in alternatives::Alternative::all()? {
        tree.link(&alternative);
    }
    let packages =
        packages.iter().map(|it| Package { name: it.name.clone(), version: it.version.clone() }).collect();
    Ok(Base { layer: tree.into_layer(), packages })
}

/// The files so far, by their path in the image.
struct Tree {
    entries: BTreeMap<PathBuf, FileEntry>,
}

impl Tree {
    fn new(accounts: &[(&str, u32)]) -> Tree {
        let mut tree = Tree { entries: BTreeMap::new() };
        for (path, mode) in DIRECTORIES {
            tree.put(FileEntry::Dir(format!("{path}/"), mode), path);
        }
        for (path, target) in LINKS {
            tree.put(FileEntry::Link(path.to_owned(), target.to_owned()), path);
        }
        let (mut users, mut groups) =
            ("root:x:0:0:root:/root:/bin/sh\n".to_owned(), "root:x:0:\n".to_owned());
        for (name, id) in accounts {
            users += &format!("{name}:x:{id}:{id}::/home:/bin/sh\n");
            groups += &format!("{name}:x:{id}:\n");
        }
        let files = [
            ("etc/passwd", users),
            ("etc/group", groups),
            ("etc/nsswitch.conf", "passwd: files\ngroup: files\nhosts: files dns\n".to_owned()),
        ];
        for (path, text) in files {
            tree.put(FileEntry::File(path.to_owned(), text.into_bytes(), 0o644), path);
        }
        tree
    }

    fn put(&mut self, entry: FileEntry, path: impl AsRef<Path>) {
        self.entries.entry(path.as_ref().to_owned()).or_insert(entry);
    }

    /// Takes one file of the machine.
    fn take(&mut self, path: &Path) -> Result<(), Error> {
        let inside = placed(path);
        let text = inside.to_string_lossy().into_owned();
        let is_licence = text.ends_with("/copyright");
        if text.is_empty() || LEFT_OUT.iter().any(|left| text.starts_with(left)) && !is_licence {
            return Ok(());
        }
        let found = match fs::symlink_metadata(path) {
            // Left out when the package was installed, or removed since.
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            other => other.map_err(|error| Error::File(path.to_owned(), error))?,
        };
        let mode = found.permissions().mode() & 0o7777;
        let is_readable = mode & 0o004 != 0;
        let entry = if found.is_symlink() {
            let target = fs::read_link(path).map_err(|error| Error::File(path.to_owned(), error))?;
            FileEntry::Link(text, target.to_string_lossy().into_owned())
        } else if found.is_dir() {
            FileEntry::Dir(format!("{text}/"), mode)
        } else if found.is_file() && is_readable {
            let content = fs::read(path).map_err(|error| Error::File(path.to_owned(), error))?;
            FileEntry::File(text, content, mode)
        } else {
            return Ok(());
        };
        self.parents(&inside);
        self.put(entry, inside);
        Ok(())
    }

    /// Puts the links of a name in, where the tree has what may stand behind it.
    fn link(&mut self, alternative: &alternatives::Alternative) {
        for (link, target) in alternative.links(|path| self.entries.contains_key(&placed(path))) {
            let inside = placed(&link);
            self.parents(&inside);
            let entry = FileEntry::Link(inside.display().to_string(), target.display().to_string());
            self.put(entry, inside);
        }
    }

    /// Directories above a file that no package lists before it.
    fn parents(&mut self, path: &Path) {
        let above: Vec<PathBuf> = path.ancestors().skip(1).map(Path::to_owned).collect();
        for dir in above.into_iter().rev().filter(|dir| !dir.as_os_str().is_empty()) {
            self.put(FileEntry::Dir(format!("{}/", dir.display()), 0o755), &dir);
        }
    }

    fn into_layer(self) -> Layer {
        self.entries.into_values().collect()
    }
}

/// Where a file of the machine lies in an image: what packages list below `/bin` and `/lib` lies below `/usr`.
fn placed(path: &Path) -> PathBuf {
    let inside = path.strip_prefix("/").unwrap_or(path);
    let inside: PathBuf = inside.components().filter(|part| part.as_os_str() != ".").collect();
    let first = inside.components().next().map(|part| part.as_os_str().to_string_lossy().into_owned());
    let linked = LINKS.iter().find(|(name, _)| first.as_deref() == Some(*name));
    match linked {
        Some((name, target)) => match inside.strip_prefix(name) {
            Ok(rest) if !rest.as_os_str().is_empty() => Path::new(target).join(rest),
            // The directory itself is the link.
            _ => PathBuf::new(),
        },
        None => inside,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_packages_list_below_lib_lies_below_usr() {
        let at = |path: &str| placed(Path::new(path)).to_string_lossy().into_owned();
        assert_eq!(at("/lib/x86_64-linux-gnu/libc.so.6"), "usr/lib/x86_64-linux-gnu/libc.so.6");
        assert_eq!(
            (at("/lib"), at("/."), at("/etc/hosts.allow")),
            (String::new(), String::new(), "etc/hosts.allow".to_owned())
        );
        assert_eq!(at("/library"), "library");
    }

    #[test]
    fn what_others_may_not_read_stays_out() {
        let dir = tempfile_dir();
        let (open, secret) = (dir.join("open"), dir.join("secret"));
        for (path, mode) in [(&open, 0o644), (&secret, 0o600)] {
            fs::write(path, "x").expect("a file");
            fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("a mode");
        }
        let mut tree = Tree::new(&[("records", 999)]);
        tree.take(&open).expect("taken");
        tree.take(&secret).expect("passed over");
        let names: Vec<String> = tree.entries.keys().map(|path| path.display().to_string()).collect();
        assert!(names.iter().any(|name| name.ends_with("/open")), "{names:?}");
        assert!(!names.iter().any(|name| name.ends_with("/secret")), "{names:?}");
        fs::remove_dir_all(dir).expect("removed");
    }

    fn tempfile_dir() -> PathBuf {
        let dir = std::env::temp_dir().join(format!("base-images-{}", std::process::id()));
        fs::create_dir_all(&dir).expect("a directory");
        dir
    }
}
