//! Code over ssh: each connection is handed to the system's own ssh server, which lets in a client with a registered key, and
//! runs nothing but this program's `ssh session`.
//!
//! As root the server runs in a mount namespace with accounts of its own: the machine's have no part in it, and its account
//! owns nothing.

use std::fs::{File, OpenOptions, Permissions};
use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use mainyard_control::SshSession;

use super::accounts::Account;
use crate::data_dir::DataDir;
use crate::terminal::Failure;

/// The system's ssh server.
const SERVER: &str = "/usr/sbin/sshd";
/// Connections at once, those among them that nobody has signed in on yet.
const CONNECTIONS: usize = 48;
/// Where a connection's own files are, in its namespace.
const OWN: &str = "/run/mainyard";
/// The account that clients name.
pub(super) const USER: &str = "code";
/// What the server may do: let in by a key, and run the command that stands beside it.
const RULES: &str = "StrictModes no\nPidFile none\nUsePAM no\nUseDNS no\nPasswordAuthentication no\n\
    KbdInteractiveAuthentication no\nPubkeyAuthentication yes\nPermitTTY no\nX11Forwarding no\nAllowTcpForwarding no\n\
    AllowAgentForwarding no\nAllowStreamLocalForwarding no\nPermitTunnel no\nPermitUserRC no\nPrintMotd no\n\
    PrintLastLog no\nAcceptEnv GIT_PROTOCOL\nLoginGraceTime 20\nMaxAuthTries 6\nMaxSessions 1\n\
    ClientAliveInterval 15\nClientAliveCountMax 4\nLogLevel ERROR\n";

fn is_root() -> bool {
    // SAFETY: no memory is involved.
    unsafe { libc::geteuid() == 0 }
}

/// The account of sessions, where it is one of its own.
pub(super) fn account(instance: &str) -> Option<u32> {
    Account::Code.id(instance)
}

/// The name that clients sign in under.
pub(super) fn user() -> String {
    if is_root() { USER.to_owned() } else { std::env::var("USER").unwrap_or_else(|_| USER.to_owned()) }
}

/// The host key's fingerprint, as `ssh-keygen -l` shows it. The key is made where there is none.
pub(super) fn host_key(place: &DataDir) -> Result<String, Failure> {
    if !Path::new(SERVER).exists() {
        return Err(Failure::refused(format!(
            "--ssh needs the system's ssh server, and there is no {SERVER}; on Debian: apt-get install openssh-server"
        )));
    }
    let failed = |error: &dyn std::fmt::Display| Failure::failed(format!("the host key for ssh: {error}"));
    let (dir, key) = (place.file("ssh"), key_file(place));
    std::fs::create_dir_all(&dir).map_err(|error| failed(&error))?;
    std::fs::set_permissions(&dir, Permissions::from_mode(0o700)).map_err(|error| failed(&error))?;
    let keygen = |words: &[&std::ffi::OsStr]| -> Result<String, Failure> {
        let done = Command::new("ssh-keygen").args(words).output().map_err(|error| failed(&error))?;
        if !done.status.success() {
            return Err(failed(&String::from_utf8_lossy(&done.stderr).trim()));
        }
        Ok(String::from_utf8_lossy(&done.stdout).into_owned())
    };
    if !key.exists() {
        let words = ["-q", "-t", "ed25519", "-N", "", "-C", "main-yard", "-f"].map(std::ffi::OsStr::new);
        keygen(&[&words[..], &[key.as_os_str()]].concat())?;
    }
    let shown = keygen(&[std::ffi::OsStr::new("-lf"), key.as_os_str()])?;
    let fingerprint = shown.split(' ').find(|word| word.starts_with("SHA256:"));
    fingerprint.map(str::to_owned).ok_or_else(|| failed(&format!("ssh-keygen shows {shown:?}")))
}

fn key_file(place: &DataDir) -> PathBuf {
    place.file("ssh").join("host_key")
}

/// Where control listens for sessions, and the keys that it writes.
pub(super) fn door(place: &DataDir) -> PathBuf {
    place.file("code").join("door")
}

pub(super) fn keys(place: &DataDir) -> PathBuf {
    place.file("code").join("keys")
}

/// Takes connections, for as long as this process lives.
pub(super) fn listen(place: &DataDir, address: SocketAddr) -> Result<(), Failure> {
    let listener = TcpListener::bind(address).map_err(|error| {
        let other = SocketAddr::new(address.ip(), address.port().saturating_add(10));
        Failure::refused(format!(
            "{address} cannot be listened on for ssh: {error}\nChoose another address: --ssh {other}"
        ))
    })?;
    let (data, open) = (place.data.clone(), Arc::new(AtomicUsize::new(0)));
    let spawned = std::thread::Builder::new().name("ssh".to_owned()).spawn(move || {
        for stream in listener.incoming().flatten() {
            // One too many is closed at once: its client says so.
            if open.fetch_add(1, Ordering::SeqCst) >= CONNECTIONS {
                open.fetch_sub(1, Ordering::SeqCst);
                continue;
            }
            let (data, open_now) = (data.clone(), Arc::clone(&open));
            let begun = std::thread::Builder::new().name("ssh connection".to_owned()).spawn(move || {
                if let Err(error) = hand_over(&data, stream) {
                    eprintln!("a connection over ssh could not be taken: {error}");
                }
                open_now.fetch_sub(1, Ordering::SeqCst);
            });
            if begun.is_err() {
                open.fetch_sub(1, Ordering::SeqCst);
            }
        }
    });
    spawned.map(drop).map_err(|error| Failure::failed(format!("connections over ssh are not taken: {error}")))
}

/// Begins a process for a connection, and waits until it has ended.
fn hand_over(data: &Path, stream: TcpStream) -> io::Result<()> {
    let log = OpenOptions::new().create(true).append(true).open(data.join("logs/ssh.log"))?;
    let (input, output): (OwnedFd, OwnedFd) = (stream.try_clone()?.into(), stream.into());
    let mut command = Command::new("/proc/self/exe");
    command.arg0("mainyard").arg("--data").arg(data).args(["ssh", "connection"]);
    command.env_clear().stdin(input).stdout(output).stderr(log);
    command.spawn()?.wait().map(drop)
}

/// Becomes the ssh server of one connection, which is standard input and output.
pub(crate) fn connection(place: &DataDir, instance: &str) -> Failure {
    match become_server(place, instance) {
        Ok(never) => match never {},
        Err(error) => Failure::failed(format!("the ssh server of a connection cannot be begun: {error}")),
    }
}

enum Never {}

fn become_server(place: &DataDir, instance: &str) -> io::Result<Never> {
    let keys = std::fs::read_to_string(self::keys(place)).unwrap_or_default();
    let config = match (account(instance), Account::SshServer.id(instance)) {
        (Some(account), Some(server)) => in_namespace(place, &keys, account, server)?,
        _ => in_folder(place, &keys)?,
    };
    let mut server = Command::new(SERVER);
    server.arg("-i").arg("-e").arg("-f").arg(config).env_clear().env("PATH", "/usr/bin:/bin");
    Err(server.exec())
}

/// The lines of `authorized_keys`: a client with the key gets this command, and nothing else.
fn authorized(keys: &str, session: &str) -> String {
    let line = |(fingerprint, key): (&str, &str)| {
        let plain = fingerprint.bytes().all(|byte| byte.is_ascii_alphanumeric() || b":+/".contains(&byte));
        plain.then(|| format!("restrict,command=\"{session} {fingerprint}\" {key}\n"))
    };
    keys.lines().filter_map(|text| text.split_once(' ')).filter_map(line).collect()
}

fn write(path: &Path, text: &str, mode: u32) -> io::Result<()> {
    let mut options = OpenOptions::new();
    let mut file = options.write(true).create(true).truncate(true).mode(mode).open(path)?;
    file.set_permissions(Permissions::from_mode(mode))?;
    file.write_all(text.as_bytes())
}

/// As an ordinary account: it is its own user, with files beside the host key.
fn in_folder(place: &DataDir, keys: &str) -> io::Result<PathBuf> {
    let dir = place.file("ssh");
    let quoted = |path: &Path| format!("'{}'", path.display());
    let session =
        format!("{} ssh session --door {}", quoted(&std::env::current_exe()?), quoted(&door(place)));
    let (authorized_keys, config) = (dir.join("authorized_keys"), dir.join("config"));
    write(&authorized_keys, &authorized(keys, &session), 0o600)?;
    let (key, user) = (key_file(place), user());
    let text = format!(
        "{RULES}AllowUsers {user}\nHostKey \"{}\"\nAuthorizedKeysFile \"{}\"\n",
        key.display(),
        authorized_keys.display()
    );
    write(&config, &text, 0o600)?;
    Ok(config)
}

/// As root: a mount namespace with accounts of its own, and in it this program and the way to control.
fn in_namespace(place: &DataDir, keys: &str, account: u32, server: u32) -> io::Result<PathBuf> {
    let host_key = std::fs::read_to_string(key_file(place))?;
    // SAFETY: no memory is involved.
    check(unsafe { libc::unshare(libc::CLONE_NEWNS) })?;
    mount(Path::new("none"), Path::new("/"), "", libc::MS_REC | libc::MS_PRIVATE)?;
    // Opened in this namespace, and before anything is hidden by what is mounted here.
    let path_only = |path: &Path| OpenOptions::new().read(true).custom_flags(libc::O_PATH).open(path);
    let (program, door) = (path_only(&std::env::current_exe()?)?, path_only(&door(place))?);
    mount(Path::new("tmpfs"), Path::new("/run"), "tmpfs", libc::MS_NOSUID | libc::MS_NODEV)?;
    let own = Path::new(OWN);
    for dir in [Path::new("/run/sshd"), own] {
        std::fs::create_dir(dir)?;
        std::fs::set_permissions(dir, Permissions::from_mode(0o755))?;
    }
    let bind = |from: &File, name: &str| -> io::Result<()> {
        let (from, at) = (PathBuf::from(format!("/proc/self/fd/{}", from.as_raw_fd())), own.join(name));
        File::create(&at)?;
        mount(&from, &at, "", libc::MS_BIND)
    };
    bind(&program, "session")?;
    bind(&door, "door")?;
    let accounts = format!(
        "root:*:0:0::/:/usr/sbin/nologin\nsshd:*:{server}:{server}::/run/sshd:/usr/sbin/nologin\n\
         {USER}:*:{account}:{account}::/:/bin/sh\n"
    );
    let groups = format!("root:*:0:\nsshd:*:{server}:\n{USER}:*:{account}:\n");
    for (name, text) in [("passwd", accounts), ("group", groups)] {
        let file = own.join(name);
        write(&file, &text, 0o644)?;
        mount(&file, &Path::new("/etc").join(name), "", libc::MS_BIND)?;
    }
    write(&own.join("host_key"), &host_key, 0o600)?;
    let session = format!("{OWN}/session ssh session --door {OWN}/door");
    write(&own.join("authorized_keys"), &authorized(keys, &session), 0o644)?;
    let config = own.join("config");
    let text = format!(
        "{RULES}AllowUsers {USER}\nPermitRootLogin no\nHostKey {OWN}/host_key\nAuthorizedKeysFile {OWN}/authorized_keys\n"
    );
    write(&config, &text, 0o600)?;
    Ok(config)
}

fn check(result: libc::c_int) -> io::Result<()> {
    if result == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

fn mount(from: &Path, at: &Path, kind: &str, flags: libc::c_ulong) -> io::Result<()> {
    let text = |path: &Path| std::ffi::CString::new(path.as_os_str().as_bytes()).map_err(io::Error::other);
    let (from, at) = (text(from)?, text(at)?);
    let kind = std::ffi::CString::new(kind).map_err(io::Error::other)?;
    // SAFETY: the texts live across the call; no data is given.
    check(unsafe { libc::mount(from.as_ptr(), at.as_ptr(), kind.as_ptr(), flags, std::ptr::null()) })
        .map_err(|error| io::Error::other(format!("mount {}: {error}", at.to_string_lossy())))
}

/// What the ssh server runs for somebody whom it let in: brings the client of Git and control together.
pub(crate) fn session(key: &str, door: &Path) -> Result<(), Failure> {
    let failed = |error: io::Error| Failure::failed(format!("the platform does not answer: {error}"));
    let variable = |name: &str| std::env::var(name).unwrap_or_default();
    let asked = SshSession {
        key: key.to_owned(),
        command: variable("SSH_ORIGINAL_COMMAND"),
        protocol: variable("GIT_PROTOCOL"),
    };
    let mut control = UnixStream::connect(door).map_err(failed)?;
    let line = serde_json::to_string(&asked).map_err(|error| Failure::failed(error.to_string()))?;
    control.write_all(format!("{line}\n").as_bytes()).map_err(failed)?;
    let mut to = control.try_clone().map_err(failed)?;
    std::thread::spawn(move || {
        let _ = copy(&mut io::stdin().lock(), &mut to);
        let _ = to.shutdown(std::net::Shutdown::Write);
    });
    copy(&mut control, &mut io::stdout().lock()).map_err(failed)
}

/// Copies what comes as soon as it does.
fn copy(from: &mut impl Read, to: &mut impl Write) -> io::Result<()> {
    let mut piece = vec![0; 64 << 10];
    loop {
        match from.read(&mut piece)? {
            0 => return Ok(()),
            length => {
                to.write_all(&piece[..length])?;
                to.flush()?;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_gets_its_command_and_nothing_else() {
        let lines = authorized(
            "SHA256:a+b/c ssh-ed25519 AAAA\nSHA256:\"x ssh-rsa BBBB\nnonsense\n",
            "/run/x ssh session",
        );
        assert_eq!(lines, "restrict,command=\"/run/x ssh session SHA256:a+b/c\" ssh-ed25519 AAAA\n");
    }
}
