//! The node's own network namespace.
//!
//! Each replica has a link of its own to it and nothing else: no bridge, no shared segment. A replica's packets
//! can only come from its own address (strict reverse-path filter per link), nothing is forwarded between links,
//! and the only thing that answers inside is the gateway: on the service range, which is local here, and on every address
//! outside the platform's range, which is local too. Whether a way leads out from there is the gateway's decision.

use std::fs::{self, File};
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};

use mainyard_core::address::{self, NODE_ADDRESS, Range, SERVICE_RANGE};
use mainyard_keeper::netlink::Batch;

use crate::{Doing, Error};

/// Interface indexes of replicas' links run up to this one.
pub const LAST_LINK: u32 = 100_000 + 0xffff;

/// A network namespace that is kept by a file.
#[derive(Debug, Clone)]
pub struct NodeNetwork {
    file: PathBuf,
}

impl NodeNetwork {
    /// Opens the namespace that `file` keeps, or makes it.
    ///
    /// # Errors
    /// When the machine does not let this process make or furnish a network namespace.
    pub fn open(file: &Path) -> Result<NodeNetwork, Error> {
        let network = NodeNetwork { file: file.to_owned() };
        if network.exists() {
            // One that an earlier version made has no way out yet.
            network.inside(|| way_out().send().doing("open the way out of the network namespace"))?;
        } else {
            network.make()?;
        }
        Ok(network)
    }

    /// The namespace that `file` keeps, if it does.
    pub fn at(file: &Path) -> NodeNetwork {
        NodeNetwork { file: file.to_owned() }
    }

    /// Whether the file keeps a namespace now; after a restart of the machine it is an ordinary file.
    pub fn exists(&self) -> bool {
        let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
        let path = self.file.display().to_string();
        mounts.lines().any(|line| line.split(' ').nth(4) == Some(path.as_str()))
    }

    /// The file that names the namespace.
    pub fn file(&self) -> &Path {
        &self.file
    }

    fn make(&self) -> Result<(), Error> {
        File::create(&self.file).doing(format!("make {}", self.file.display()))?;
        // A thread of its own, so that the caller stays where it is.
        let file = self.file.clone();
        let made = std::thread::spawn(move || -> Result<(), Error> {
            // SAFETY: no memory is involved; only this thread is moved.
            let moved = unsafe { libc::unshare(libc::CLONE_NEWNET) };
            if moved != 0 {
                return Err(std::io::Error::last_os_error()).doing("make a network namespace");
            }
            furnish()?;
            bind("/proc/thread-self/ns/net", &file).doing("keep the network namespace")
        });
        made.join().unwrap_or_else(|_| {
            Err(std::io::Error::other("the thread ended early")).doing("make the network")
        })
    }

    /// Does something in the namespace, on a thread of its own, so that the caller stays where it is.
    fn inside(&self, act: impl FnOnce() -> Result<(), Error> + Send) -> Result<(), Error> {
        std::thread::scope(|scope| {
            let done = scope.spawn(|| enter(&self.file).and_then(|()| act()));
            done.join().unwrap_or_else(|_| {
                Err(std::io::Error::other("the thread ended early")).doing("change the network")
            })
        })
    }

    /// Lets go of the namespace; it ends with the last process in it.
    pub fn remove(&self) -> Result<(), Error> {
        while self.exists() {
            let path = path_text(&self.file);
            // SAFETY: the string lives across the call.
            if unsafe { libc::umount2(path.as_ptr(), libc::MNT_DETACH) } != 0 {
                return Err(std::io::Error::last_os_error()).doing("release the network namespace");
            }
        }
        match fs::remove_file(&self.file) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(error).doing("remove the network namespace's file")
            }
            _ => Ok(()),
        }
    }
}

fn furnish() -> Result<(), Error> {
    let switches = [
        ("ipv6/conf/default/disable_ipv6", "1"),
        ("ipv4/ip_forward", "0"),
        ("ipv4/conf/all/rp_filter", "1"),
        ("ipv4/conf/default/rp_filter", "1"),
        ("ipv4/conf/all/accept_redirects", "0"),
        ("ipv4/conf/default/accept_redirects", "0"),
        ("ipv4/ip_local_port_range", "15000 64999"),
        ("ipv4/tcp_tw_reuse", "1"),
        ("core/somaxconn", "4096"),
        // The gateway listens here without rights, at services' low ports too.
        ("ipv4/ip_unprivileged_port_start", "0"),
    ];
    for (key, value) in switches {
        match fs::write(format!("/proc/sys/net/{key}"), value) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            other => other.doing(format!("set net/{key}"))?,
        }
    }
    let (range, prefix) = SERVICE_RANGE;
    let loopback = 1;
    Batch::default()
        .up(loopback)
        .address(loopback, NODE_ADDRESS.octets(), 32)
        .local_range(range.octets(), prefix, loopback)
        .send()
        .doing("furnish the network namespace")?;
    way_out().send().doing("open the way out of the network namespace")
}

/// Addresses outside are the node's own: the gateway takes connections to them. Those of the platform's range that no
/// replica has are not there.
fn way_out() -> Batch {
    let ours = Range::PRIVATE.place(std::net::Ipv4Addr::UNSPECIFIED);
    let loopback = 1;
    let mut batch = Batch::default();
    batch.unreachable_range(ours.octets(), 16).local_default(loopback);
    batch
}

/// Puts a mount over a folder with what is in it, on which no set-uid bit and no device file means anything. The
/// machine sees it: it is let go of by [`uncover`].
pub fn cover(dir: &Path) -> Result<(), Error> {
    if NodeNetwork::at(dir).exists() {
        return Ok(());
    }
    let path = path_text(dir);
    let flags = libc::MS_BIND | libc::MS_REMOUNT | libc::MS_NOSUID | libc::MS_NODEV;
    // SAFETY: the string lives across the calls.
    let covered = unsafe {
        let none = std::ptr::null();
        libc::mount(path.as_ptr(), path.as_ptr(), none, libc::MS_BIND, none.cast()) == 0
            && libc::mount(none, path.as_ptr(), none, flags, none.cast()) == 0
    };
    if covered {
        Ok(())
    } else {
        Err(std::io::Error::last_os_error()).doing(format!("cover {}", dir.display()))
    }
}

/// Whether something is mounted at this path.
pub(crate) fn is_mounted(path: &Path) -> bool {
    NodeNetwork::at(path).exists()
}

/// Takes away what [`cover`] put there.
pub fn uncover(dir: &Path) {
    let path = path_text(dir);
    while NodeNetwork::at(dir).exists() {
        // SAFETY: the string lives across the call.
        if unsafe { libc::umount2(path.as_ptr(), libc::MNT_DETACH) } != 0 {
            return;
        }
    }
}

fn bind(from: &str, to: &Path) -> std::io::Result<()> {
    let from = std::ffi::CString::new(from).expect("a constant without zero bytes");
    let to = path_text(to);
    // SAFETY: both strings live across the call.
    let answer =
        unsafe { libc::mount(from.as_ptr(), to.as_ptr(), std::ptr::null(), libc::MS_BIND, std::ptr::null()) };
    if answer == 0 { Ok(()) } else { Err(std::io::Error::last_os_error()) }
}

fn path_text(path: &Path) -> std::ffi::CString {
    use std::os::unix::ffi::OsStrExt;
    std::ffi::CString::new(path.as_os_str().as_bytes()).expect("paths hold no zero byte")
}

/// Moves the calling thread into the namespace that `file` keeps.
pub fn enter(file: &Path) -> Result<(), Error> {
    let opened = File::open(file).doing(format!("open {}", file.display()))?;
    // SAFETY: the descriptor is open for the length of the call.
    if unsafe { libc::setns(opened.as_raw_fd(), libc::CLONE_NEWNET) } == 0 {
        Ok(())
    } else {
        Err(std::io::Error::last_os_error()).doing("enter the node's network namespace")
    }
}

/// The interface index of the node's end of a replica's link.
pub(crate) fn link_index(address: std::net::Ipv4Addr) -> u32 {
    let [.., c, d] = address.octets();
    debug_assert!(address::is_replica(address));
    100_000 + u32::from(c) * 256 + u32::from(d)
}
