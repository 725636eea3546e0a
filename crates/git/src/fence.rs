//! Running `git` so that what it reads can do nothing.

use std::ffi::{OsStr, OsString};
use std::io::Write as _;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use crate::allowed::{AllowList, AllowedAddress};
use crate::error::Error;
use sandbox::{Plan, View, Visible};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::{Child, Command};

/// By what a repository lets the platform in.
#[derive(Clone, Default)]
pub struct Access {
    /// Name or token, or a key.
    pub let_in: Option<Credential>,
    /// Authorities that the server's certificate is checked against instead of the system's, as PEM.
    pub authority: Option<String>,
}

/// Name and token, or a key.
#[derive(Clone)]
pub enum Credential {
    /// Over https.
    Token {
        /// Whom it belongs to.
        user: String,
        /// The token.
        token: String,
    },
    /// Over ssh.
    Key {
        /// The private key.
        key: Vec<u8>,
        /// Hosts that are trusted, as `known_hosts` has them.
        known_hosts: String,
    },
}

/// Surroundings in which `git` is run.
#[derive(Debug, Clone)]
pub struct Fence {
    dir: PathBuf,
    /// Which repositories may be reached.
    pub allowed: AllowList,
    sandbox: Option<View>,
    /// How long one call may take.
    pub time: Duration,
    /// How much of one repository is kept, in MiB.
    pub size: u64,
}

/// Settings that no repository and no account may override. `safe.directory` is for folders of this machine, which are
/// looked at against the owner's list before.
const CONFIG: &str = "[safe]\n\tdirectory = *\n[core]\n\thooksPath = /dev/null\n\tfsmonitor = false\n\tsymlinks = false\n\
    [protocol]\n\tallow = never\n[protocol \"https\"]\n\tallow = always\n[protocol \"ssh\"]\n\tallow = always\n\
    [protocol \"file\"]\n\tallow = always\n[submodule]\n\trecurse = false\n[fetch]\n\trecurseSubmodules = false\n\
    [transfer]\n\tfsckObjects = true\n[fetch \"fsck\"]\n\tmissingSpaceBeforeDate = warn\n\tzeroPaddedFilemode = warn\n\
    [http]\n\tlowSpeedLimit = 1000\n\tlowSpeedTime = 20\n\tfollowRedirects = false\n[gc]\n\tautoDetach = false\n\
    [user]\n\tname = Main Yard\n\temail = main-yard@localhost\n";

/// Said on the command line, which no repository's configuration can override: nothing of it names a program.
const OVERRIDES: [&str; 10] = [
    "core.hooksPath=/dev/null",
    "core.alternateRefsCommand=true",
    "core.fsmonitor=false",
    "core.sshCommand=ssh",
    "core.attributesFile=/dev/null",
    "core.pager=cat",
    "diff.external=",
    "gc.auto=0",
    "receive.autogc=false",
    "credential.helper=",
];

impl Fence {
    /// Surroundings kept in this folder, in which `git` runs as an account that owns nothing else. Only root can give
    /// it one; without it, `git` has what the calling account has.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn with_account(dir: &Path, account: u32) -> Result<Fence, Error> {
        let here = |error| Error::Here { path: dir.display().to_string(), error };
        let fence = Fence::new(dir)?;
        let sandbox = View::new(&fence.dir, account).map_err(here)?;
        Ok(Fence { sandbox: Some(sandbox), ..fence })
    }

    /// Surroundings kept in this folder, which only this account reads.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn new(dir: &Path) -> Result<Fence, Error> {
        let here = |error| Error::Here { path: dir.display().to_string(), error };
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(dir).map_err(here)?;
        std::fs::write(dir.join("config"), CONFIG).map_err(here)?;
        let (time, size) = (Duration::from_secs(60), 512);
        // The sandbox has it at the same place, whatever links lead there.
        let dir = std::fs::canonicalize(dir).map_err(here)?;
        Ok(Fence { dir, allowed: AllowList::default(), sandbox: None, time, size })
    }

    /// The directory of the repository of this name.
    pub fn repository(&self, name: &str) -> PathBuf {
        self.dir.join(format!("{}.git", name.replace('/', ".")))
    }

    /// Whether a URL may be followed.
    ///
    /// # Errors
    /// When it may not.
    pub async fn may_follow(&self, url: &str) -> Result<(), Error> {
        self.reach(url).await.map(drop)
    }

    /// Looking a host's address up may take long, so it is done aside.
    async fn reach(&self, url: &str) -> Result<AllowedAddress, Error> {
        let (allowed, url) = (self.allowed.clone(), url.to_owned());
        let checked = tokio::task::spawn_blocking(move || allowed.check(&url)).await;
        checked.map_err(|error| Error::NotRun(std::io::Error::other(error)))?
    }

    /// Hands what was made for `git` to its account.
    pub(crate) fn own(&self, path: &Path) -> Result<(), Error> {
        let here = |error| Error::Here { path: path.display().to_string(), error };
        self.sandbox.as_ref().map_or(Ok(()), |sandbox| sandbox.own(path).map_err(here))
    }

    fn command(&self, repository: &Path, visible: Visible<'_>) -> Result<Command, Error> {
        let mut command = Command::new("git");
        command.env_clear().current_dir(repository);
        command.env("PATH", "/usr/local/bin:/usr/bin:/bin").env("LC_ALL", "C.UTF-8").env("HOME", "/nowhere");
        command.env("GIT_DIR", repository).env("GIT_CONFIG_NOSYSTEM", "1");
        command.env("GIT_CONFIG_GLOBAL", self.dir.join("config")).env("GIT_TERMINAL_PROMPT", "0");
        command
            .env("GIT_ASKPASS", "/bin/false")
            .env("SSH_ASKPASS", "/bin/false")
            .env("GIT_ATTR_NOSYSTEM", "1");
        command.env("GIT_OPTIONAL_LOCKS", "0").env("GIT_NO_REPLACE_OBJECTS", "1");
        for setting in OVERRIDES {
            command.arg("-c").arg(setting);
        }
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        command.process_group(0).kill_on_drop(true);
        let here = |error| Error::Here { path: repository.display().to_string(), error };
        let plan = match &self.sandbox {
            Some(sandbox) => {
                sandbox.own(repository).map_err(here)?;
                let config = self.dir.join("config");
                let mut visible = visible;
                visible.own.push(repository);
                visible.read.push(&config);
                Some(sandbox.plan(&visible, repository).map_err(here)?)
            }
            None => None,
        };
        let largest = self.size << 20;
        // SAFETY: system calls on what was prepared before; nothing allocates between fork and exec.
        unsafe {
            command.pre_exec(move || {
                let limit = libc::rlimit { rlim_cur: largest, rlim_max: largest };
                if libc::setrlimit(libc::RLIMIT_FSIZE, &limit) != 0 {
                    return Err(std::io::Error::last_os_error());
                }
                plan.as_ref().map_or(Ok(()), Plan::carry_out)
            });
        }
        Ok(command)
    }

    /// Begins `git` on a repository of its own, with pipes to it and from it. It ends when what is given here is dropped.
    pub(crate) fn spawn(
        &self,
        repository: &Path,
        words: &[&str],
        env: &[(&str, OsString)],
    ) -> Result<Child, Error> {
        let mut command = self.command(repository, Visible::default())?;
        command.args(words).envs(env.iter().map(|(name, value)| (name, value))).stdin(Stdio::piped());
        command.spawn().map_err(Error::NotRun)
    }

    /// Runs `git` on a repository of its own; gives what it printed.
    pub(crate) async fn run(
        &self,
        repository: &Path,
        words: &[impl AsRef<OsStr>],
        input: &[u8],
    ) -> Result<Vec<u8>, Error> {
        let mut command = self.command(repository, Visible::default())?;
        command.args(words);
        self.end(command, words, input).await
    }

    /// Runs `git` with what lets it in to another repository.
    pub(crate) async fn run_let_in(
        &self,
        repository: &Path,
        url: &str,
        words: &[impl AsRef<OsStr>],
        access: &Access,
    ) -> Result<Vec<u8>, Error> {
        let reached = self.reach(url).await?;
        let here = |error| Error::Here { path: self.dir.display().to_string(), error };
        // What lets in is in files and variables that only this account reads, never among the words of a command.
        let kept = tempfile::tempdir_in(&self.dir).map_err(here)?;
        let private = |name: &str, bytes: &[u8]| -> Result<PathBuf, Error> {
            let path = kept.path().join(name);
            let mut options = std::fs::OpenOptions::new();
            let file = options.write(true).create_new(true).mode(0o600).open(&path);
            file.and_then(|mut file| file.write_all(bytes)).map_err(here)?;
            Ok(path)
        };
        let mut settings: Vec<(&str, String)> = Vec::new();
        let pushes = words.first().is_some_and(|word| word.as_ref() == "push");
        let mut visible = Visible { own: vec![kept.path()], ..Visible::default() };
        let mut ssh_to = None;
        match &reached {
            AllowedAddress::Folder(folder) => visible.folder = Some((folder, pushes)),
            AllowedAddress::Https { resolve } => {
                visible.network = true;
                settings.push(("http.curloptResolve", resolve.clone()));
            }
            AllowedAddress::Ssh { address, known_as } => {
                visible.network = true;
                ssh_to = Some(format!("-o HostName={address} -o HostKeyAlias='{known_as}'"));
            }
        }
        let mut ssh_command = None;
        match &access.let_in {
            Some(Credential::Token { user, token }) => {
                use base64::Engine as _;
                let basic = base64::engine::general_purpose::STANDARD.encode(format!("{user}:{token}"));
                settings.push(("http.extraHeader", format!("Authorization: Basic {basic}")));
            }
            Some(Credential::Key { key, known_hosts }) => {
                let mut key = key.clone();
                if !key.ends_with(b"\n") {
                    key.push(b'\n');
                }
                let (key, hosts) = (private("key", &key)?, private("known_hosts", known_hosts.as_bytes())?);
                let ssh = format!(
                    "ssh -F /dev/null -i '{}' -o IdentitiesOnly=yes -o IdentityAgent=none -o BatchMode=yes \
                     -o StrictHostKeyChecking=yes -o UserKnownHostsFile='{}' -o GlobalKnownHostsFile=/dev/null \
                     -o ConnectTimeout=15 -o LogLevel=ERROR {}",
                    key.display(),
                    hosts.display(),
                    ssh_to.as_deref().unwrap_or_default()
                );
                ssh_command = Some(ssh);
            }
            None => {}
        }
        if let Some(authority) = &access.authority {
            settings.push((
                "http.sslCAInfo",
                private("authority.pem", authority.as_bytes())?.display().to_string(),
            ));
        }
        self.own(kept.path())?;
        let mut command = self.command(repository, visible)?;
        let (act, rest) = words.split_first().map_or((None, words), |(act, rest)| (Some(act), rest));
        command.args(act);
        if let AllowedAddress::Folder(_) = reached {
            // The other side of a folder runs here too, with the folder's own configuration, which cannot override this.
            let overrides: Vec<String> = OVERRIDES.iter().map(|setting| format!("-c {setting}")).collect();
            let side = if pushes { "receive-pack" } else { "upload-pack" };
            command.arg(format!("--{side}=git {} {side}", overrides.join(" ")));
        }
        command.args(rest);
        if let Some(ssh) = ssh_command {
            command.env("GIT_SSH_COMMAND", ssh);
        }
        command.env("GIT_CONFIG_COUNT", settings.len().to_string());
        for (number, (key, value)) in settings.iter().enumerate() {
            command.env(format!("GIT_CONFIG_KEY_{number}"), key);
            command.env(format!("GIT_CONFIG_VALUE_{number}"), value);
        }
        self.end(command, words, b"").await
    }

    /// Runs a command on an index of its own, so that several may be written at once.
    pub(crate) async fn run_on_index(
        &self,
        repository: &Path,
        index: &Path,
        words: &[&str],
        input: &[u8],
    ) -> Result<String, Error> {
        let mut command = self.command(repository, Visible::default())?;
        command.env("GIT_INDEX_FILE", index).args(words);
        let out = self.end(command, words, input).await?;
        Ok(String::from_utf8_lossy(&out).trim().to_owned())
    }

    async fn end(
        &self,
        mut command: Command,
        words: &[impl AsRef<OsStr>],
        input: &[u8],
    ) -> Result<Vec<u8>, Error> {
        let act = words.first().map_or(String::new(), |word| word.as_ref().to_string_lossy().into_owned());
        if !input.is_empty() {
            command.stdin(Stdio::piped());
        }
        let mut child = command.spawn().map_err(Error::NotRun)?;
        let group = child.id();
        let (mut stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let (mut out, mut said) = (Vec::new(), Vec::new());
        let most = self.size << 20;
        let work = async {
            let feed = async {
                if let Some(mut pipe) = stdin.take() {
                    // A reader that leaves says itself why.
                    let _ = pipe.write_all(input).await;
                }
            };
            let hear = async {
                match stdout {
                    Some(pipe) => pipe.take(most).read_to_end(&mut out).await.map(drop),
                    None => Ok(()),
                }
            };
            let complaints = async {
                match stderr {
                    Some(pipe) => pipe.take(64 * 1024).read_to_end(&mut said).await.map(drop),
                    None => Ok(()),
                }
            };
            let ((), heard, complained) = tokio::join!(feed, hear, complaints);
            heard.and(complained)?;
            child.wait().await
        };
        let ended = tokio::time::timeout(self.time, work).await;
        let status = match ended {
            Ok(status) => status.map_err(Error::NotRun)?,
            Err(_) => {
                if let Some(group) = group {
                    // SAFETY: no memory is involved; the group is of the process that was just begun and not waited for.
                    unsafe { libc::kill(-(group as i32), libc::SIGKILL) };
                }
                child.wait().await.map_err(Error::NotRun)?;
                return Err(Error::Late { act, seconds: self.time.as_secs() });
            }
        };
        if status.success() { Ok(out) } else { Err(Error::Said { act, said: in_short(&said) }) }
    }
}

/// Git's message, without its hints for people at a terminal.
pub(crate) fn in_short(said: &[u8]) -> String {
    let text = String::from_utf8_lossy(said);
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let hints = ["hint:", "Please make sure", "and the repository exists", "Warning: Permanently"];
    let telling: Vec<&str> = lines.filter(|line| !hints.iter().any(|hint| line.starts_with(hint))).collect();
    let last: Vec<&str> = telling.iter().rev().take(3).rev().copied().collect();
    let line = last.join("; ").replace("fatal: ", "").replace("error: ", "");
    if line.is_empty() { "it ended without a word".to_owned() } else { line.chars().take(400).collect() }
}
