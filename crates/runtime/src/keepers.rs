//! The keeper's program, and the command that starts one.

use std::fs::{self, File};
use std::io::{Seek, Write};
use std::os::fd::FromRawFd;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use mainyard_keeper::Spec;

use crate::{Doing, Error};

static KEEPER: &[u8] = include_bytes!(env!("KEEPER"));

/// Writes the keeper's program into the node's directory, where it is not there already.
pub(crate) fn write_keeper(dir: &Path) -> Result<PathBuf, Error> {
    let keeper = dir.join("keeper");
    write_program(&keeper, KEEPER).doing("write out the keeper")?;
    Ok(keeper)
}

/// The command that starts a keeper: its specification comes on standard input, its progress on standard output.
pub(crate) fn keeper_command(keeper: &Path, spec: &Spec) -> Result<Command, Error> {
    let mut input = memory_file().doing("make a memory file")?;
    input
        .write_all(&spec.encode())
        .and_then(|()| input.rewind())
        .doing("write the keeper's specification")?;
    let mut command = Command::new(keeper);
    command.env_clear().stdin(Stdio::from(input)).stdout(Stdio::piped()).stderr(Stdio::null());
    Ok(command)
}

fn write_program(path: &Path, content: &[u8]) -> std::io::Result<()> {
    if fs::read(path).is_ok_and(|found| found == content) {
        return Ok(());
    }
    // Renamed into place: the old one may be running.
    let partial = path.with_extension("partial");
    fs::write(&partial, content)?;
    fs::set_permissions(&partial, fs::Permissions::from_mode(0o700))?;
    fs::rename(partial, path)
}

fn memory_file() -> std::io::Result<File> {
    // SAFETY: the name is a constant; the descriptor is new and owned by the file.
    unsafe {
        let fd = libc::memfd_create(c"keeper".as_ptr(), libc::MFD_CLOEXEC);
        if fd < 0 { Err(std::io::Error::last_os_error()) } else { Ok(File::from_raw_fd(fd)) }
    }
}
