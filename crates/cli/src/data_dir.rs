//! Where the platform on this machine keeps things, and how a client finds it.

use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::args::Arguments;
use crate::terminal::Failure;

/// The layout of a data directory that this version makes and reads.
const LAYOUT: &str = "1";

/// A data directory, and where to call.
#[derive(Debug, Clone)]
pub(crate) struct DataDir {
    /// The data directory.
    pub data: PathBuf,
    url: Option<String>,
}

/// The address and token for a client, left by `start` for the account that started it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Call {
    /// The API's address.
    pub url: String,
    /// The bearer token; on the platform's machine it stands in a file of its own.
    #[serde(skip)]
    pub token: String,
}

/// The file of the token that `start` makes for the first member.
pub(crate) const CLIENT_TOKEN: &str = "client-token";

impl DataDir {
    pub(crate) fn of(arguments: &Arguments) -> DataDir {
        let data = arguments.data.clone().unwrap_or_else(default_data);
        let data = std::path::absolute(&data).unwrap_or(data);
        DataDir { data, url: arguments.url.clone() }
    }

    pub(crate) fn file(&self, name: &str) -> PathBuf {
        self.data.join(name)
    }

    /// Makes the directory, or checks that it is of this version.
    pub(crate) fn prepare(&self) -> Result<(), Failure> {
        let shown = self.data.display();
        std::fs::create_dir_all(&self.data)
            .map_err(|error| Failure::failed(format!("cannot make {shown}: {error}")))?;
        self.close()?;
        let file = self.file("layout");
        match std::fs::read_to_string(&file) {
            Ok(found) if found.trim() == LAYOUT => Ok(()),
            Ok(found) => Err(Failure::refused(format!(
                "{shown} was made by another version of Main Yard (layout {}, this one reads {LAYOUT})\n\
                 Use that version, or choose another place with --data",
                found.trim()
            ))),
            Err(_) => {
                let others = std::fs::read_dir(&self.data).into_iter().flatten().flatten().next();
                if let Some(other) = others {
                    let other = other.file_name();
                    return Err(Failure::refused(format!(
                        "{shown} holds other things already, such as {}\nChoose an empty place with --data",
                        other.display()
                    )));
                }
                write_whole(&file, LAYOUT.as_bytes(), 0o644)
            }
        }
    }

    /// Closes the directory to every other account. PostgreSQL's gets its way through when its server is opened.
    fn close(&self) -> Result<(), Failure> {
        let closed = std::fs::Permissions::from_mode(0o700);
        std::fs::set_permissions(&self.data, closed).map_err(|error| {
            Failure::failed(format!("cannot close {} to other accounts: {error}", self.data.display()))
        })
    }

    /// A short word that tells this platform from others on the machine.
    pub(crate) fn instance(&self) -> Result<String, Failure> {
        self.secret("instance", 4)
    }

    /// A secret kept in a file of the data directory.
    pub(crate) fn secret(&self, name: &str, bytes: usize) -> Result<String, Failure> {
        let file = self.file(name);
        if let Ok(found) = std::fs::read_to_string(&file)
            && !found.trim().is_empty()
        {
            return Ok(found.trim().to_owned());
        }
        let mut chance = vec![0; bytes];
        getrandom::fill(&mut chance).map_err(|error| Failure::failed(error.to_string()))?;
        let text: String = chance.iter().map(|byte| format!("{byte:02x}")).collect();
        write_whole(&file, text.as_bytes(), 0o600)?;
        Ok(text)
    }

    /// How to call the platform.
    pub(crate) fn call(&self) -> Result<Call, Failure> {
        let kept: Option<Call> = std::fs::read(self.file("client.json"))
            .ok()
            .and_then(|bytes| serde_json::from_slice(&bytes).ok());
        let own =
            || std::fs::read_to_string(self.file(CLIENT_TOKEN)).ok().map(|token| token.trim().to_owned());
        let token = std::env::var("MAINYARD_TOKEN").ok().or_else(own);
        match (self.url.clone().or(kept.map(|call| call.url)), token) {
            (Some(url), Some(token)) if is_url(&url) => {
                Ok(Call { url: url.trim_end_matches('/').to_owned(), token })
            }
            (Some(url), Some(_)) => Err(Failure::usage(format!(
                "{url:?} is no address of a platform: write http://127.0.0.1:8700, or https://HOST:PORT"
            ))),
            (Some(url), None) => {
                Err(Failure::refused(format!("no token for {url}: give it in MAINYARD_TOKEN")))
            }
            (None, _) => Err(Failure::unreachable(format!(
                "no platform is known in {}\nStart one with: mainyard start    or say where it is: MAINYARD_URL, --data",
                self.data.display()
            ))),
        }
    }
}

fn is_url(text: &str) -> bool {
    let url = reqwest::Url::parse(text);
    url.is_ok_and(|url| matches!(url.scheme(), "http" | "https") && url.host().is_some())
}

fn default_data() -> PathBuf {
    // SAFETY: no memory is involved.
    if unsafe { libc::geteuid() } == 0 {
        return PathBuf::from("/var/lib/mainyard");
    }
    let home = || std::env::var_os("HOME").map(|home| Path::new(&home).join(".local/share"));
    std::env::var_os("XDG_DATA_HOME")
        .map(PathBuf::from)
        .or_else(home)
        .unwrap_or_else(|| ".".into())
        .join("mainyard")
}

/// Writes a file whole or not at all.
pub(crate) fn write_whole(path: &Path, content: &[u8], mode: u32) -> Result<(), Failure> {
    let partial = path.with_extension("partial");
    let write = || -> std::io::Result<()> {
        // Never readable for others, not even before its mode is set.
        let _ = std::fs::remove_file(&partial);
        let mut options = std::fs::OpenOptions::new();
        let mut file = options.write(true).create_new(true).mode(0o600).open(&partial)?;
        std::io::Write::write_all(&mut file, content)?;
        std::fs::set_permissions(&partial, std::fs::Permissions::from_mode(mode))?;
        std::fs::rename(&partial, path)
    };
    write().map_err(|error| Failure::failed(format!("cannot write {}: {error}", path.display())))
}

fn default_environment_file() -> Option<PathBuf> {
    let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
    let config = config.or_else(|| Some(Path::new(&std::env::var_os("HOME")?).join(".config")))?;
    Some(config.join("mainyard").join("environment"))
}

/// The environment that a bare name belongs to.
pub(crate) fn default_environment() -> Option<String> {
    let text = std::fs::read_to_string(default_environment_file()?).ok()?;
    Some(text.trim().to_owned()).filter(|text| !text.is_empty())
}

/// Says which environment is the default, or takes the default away.
pub(crate) fn show_default_environment(none: bool) -> Result<(), Failure> {
    match default_environment() {
        None => println!("no environment is the default; choose one with: mainyard use staging"),
        Some(name) if none => {
            forget_default_environment()?;
            println!("{name} is no longer the default: write names in full, such as {name}/locker-api");
        }
        Some(name) => println!("{name} is the default: `locker-api` means `{name}/locker-api`"),
    }
    Ok(())
}

/// Takes the default away.
pub(crate) fn forget_default_environment() -> Result<(), Failure> {
    let Some(file) = default_environment_file() else { return Ok(()) };
    std::fs::remove_file(&file)
        .map_err(|error| Failure::failed(format!("cannot remove {}: {error}", file.display())))
}

/// Makes an environment the default.
pub(crate) fn use_environment(name: &str) -> Result<(), Failure> {
    let file = default_environment_file()
        .ok_or_else(|| Failure::failed("there is no home directory to keep it in"))?;
    let dir = file.parent().unwrap_or(Path::new("/"));
    std::fs::create_dir_all(dir)
        .map_err(|error| Failure::failed(format!("cannot make {}: {error}", dir.display())))?;
    write_whole(&file, name.as_bytes(), 0o644)
}
