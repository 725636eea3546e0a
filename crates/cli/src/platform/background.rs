//! `start --background`: the same command again as a process of its own, listened to until it is ready.

use std::fs::OpenOptions;
use std::io::{BufRead, BufReader, Write};
use std::os::fd::AsRawFd;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::args::Start;
use crate::data_dir::DataDir;
use crate::terminal::Failure;

/// Tells the process that its output is only heard until it is ready.
pub(super) const CHILD: &str = "MAINYARD_BACKGROUND";
/// The line after which nobody listens now.
pub(super) const READY: &str = "\u{4}ready";

/// The background process runs elsewhere.
fn absolute(folder: &std::path::Path) -> std::path::PathBuf {
    std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned())
}

pub(super) fn start(place: &DataDir, start: &Start) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::failed(format!("cannot start in the background: {error}"));
    let mut command = Command::new(std::env::current_exe().map_err(failed)?);
    command.arg("start").arg("--data").arg(&place.data).env(CHILD, "1");
    command.arg("--api").arg(start.api.to_string());
    command.arg("--http").arg(start.http.to_string());
    command.arg("--https").arg(start.https.to_string());
    command.arg("--gateways").arg(start.gateways.to_string());
    if let Some(address) = &start.blobs {
        command.arg("--blobs").arg(address.url());
        command.arg("--blobs-region").arg(&start.blobs_region);
        if let Some(endpoint) = &start.blobs_endpoint {
            command.arg("--blobs-endpoint").arg(endpoint);
        }
    }
    command.arg("--verify-images-every").arg(start.verify_images_every.to_string());
    command.arg("--builds-at-once").arg(start.builds_at_once.to_string());
    for range in &start.proxy_from {
        command.arg("--proxy-from").arg(range.to_string());
    }
    for resolver in &start.resolver {
        command.arg("--resolver").arg(resolver.to_string());
    }
    if let Some(isolation) = start.isolation {
        command.arg("--isolation").arg(isolation.word());
    }
    for allowed in &start.git_allow {
        command.arg("--git-allow").arg(allowed.to_string());
    }
    if let Some(certificate) = &start.api_tls {
        let named = certificate != Path::new(crate::args::LOCAL_AUTHORITY);
        command.arg("--api-tls").args(named.then(|| absolute(certificate)));
    }
    if let Some(key) = &start.api_tls_key {
        command.arg("--api-tls-key").arg(absolute(key));
    }
    for (option, values) in [("--api-name", &start.api_name), ("--local-domain", &start.local_domain)] {
        for value in values {
            command.arg(option).arg(value);
        }
    }
    if let Some(address) = start.ssh {
        command.arg("--ssh").arg(address.to_string());
    }
    if start.no_disk_sync {
        command.arg("--no-disk-sync");
    }
    if start.demo {
        command.arg("--demo").arg("--crowd").arg(start.crowd.to_string());
        command.args(start.database.then_some("--database"));
        command.args(start.code.then_some("--code"));
    }
    command.stdin(Stdio::null()).stdout(Stdio::piped()).current_dir("/");
    // SAFETY: setsid is safe between fork and exec.
    unsafe {
        command.pre_exec(|| {
            libc::setsid();
            Ok(())
        })
    };
    let mut child = command.spawn().map_err(failed)?;
    let output =
        child.stdout.take().ok_or_else(|| Failure::failed("the background process has no output"))?;
    for line in BufReader::new(output).lines() {
        let line = line.map_err(failed)?;
        if line == READY {
            return Ok(());
        }
        // Anyone who reads may have seen enough; the platform comes up all the same.
        let _ = writeln!(std::io::stdout(), "{line}");
    }
    let status = child.wait().map_err(failed)?;
    // It has said why on standard error, which it shares with this process.
    std::process::exit(status.code().unwrap_or(1))
}

/// Lets go of the output that nobody reads now; errors from here on go to the log.
pub(super) fn let_go(log: &Path) {
    println!("{READY}");
    let errors = OpenOptions::new().create(true).append(true).open(log);
    // SAFETY: descriptors of this process, replaced by ones that always can be written to.
    unsafe {
        let null = libc::open(c"/dev/null".as_ptr(), libc::O_RDWR);
        libc::dup2(null, 1);
        libc::dup2(errors.as_ref().map_or(null, |file| file.as_raw_fd()), 2);
        libc::close(null);
    }
}
