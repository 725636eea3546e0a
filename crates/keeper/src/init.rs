//! The first process inside: it finishes the surroundings, gives up its rights, starts the program, forwards
//! signals and reaps. It is the keeper's own memory after a clone, so no second program is loaded.

use std::ffi::CString;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::OwnedFd;

use mainyard_keeper::{Ending, Spec, netlink};
use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;
use rustix::net::{AddressFamily, SocketType};
use rustix::process::{Pid, Resource, Rlimit, Signal, getrlimit, kill_process, setrlimit};
use rustix::stdio::{dup2_stderr, dup2_stdin, dup2_stdout};
use rustix::thread::{
    CapabilitySet, CapabilitySets, Gid, Uid, UnshareFlags, remove_capability_from_bounding_set,
    set_capabilities, set_no_new_privs, set_thread_groups, set_thread_res_gid, set_thread_res_uid,
};

use crate::filesystem;
use crate::ordinary_process;
use crate::syscalls::{self, Fault, Pipe, check, end_with_parent, step, text, unshare};

/// Capabilities left to root inside: owners and modes of its files, ids, signals, low ports.
const KEPT_CAPABILITIES: CapabilitySet = CapabilitySet::CHOWN
    .union(CapabilitySet::DAC_OVERRIDE)
    .union(CapabilitySet::FOWNER)
    .union(CapabilitySet::FSETID)
    .union(CapabilitySet::KILL)
    .union(CapabilitySet::SETGID)
    .union(CapabilitySet::SETUID)
    .union(CapabilitySet::NET_BIND_SERVICE);

/// The keeper as init sees it.
pub(crate) struct Parent {
    pub pid: u32,
    pub read: OwnedFd,
    pub write: OwnedFd,
}

/// Init as the keeper sees it.
pub(crate) struct Child {
    pub pid: u32,
    pub read: OwnedFd,
    pub write: OwnedFd,
}

fn read_line(fd: &OwnedFd) -> String {
    let mut line = Vec::new();
    let mut file = File::from(fd.try_clone().expect("a spare descriptor"));
    let mut byte = [0];
    while let Ok(1) = file.read(&mut byte) {
        if byte[0] == b'\n' {
            break;
        }
        line.push(byte[0]);
    }
    String::from_utf8_lossy(&line).into_owned()
}

fn write_line(fd: &OwnedFd, line: &str) {
    let mut file = File::from(fd.try_clone().expect("a spare descriptor"));
    let _ = file.write_all(format!("{line}\n").as_bytes());
}

impl Child {
    /// Waits until init has come as far as `stage`.
    pub(crate) fn expect(&self, stage: &str) -> Result<(), Fault> {
        let line = read_line(&self.read);
        if line == stage {
            return Ok(());
        }
        match line.split_once(' ') {
            Some((errno, step)) if errno.parse::<i32>().is_ok() => {
                Err(Fault { step: step.to_owned().into(), errno: errno.parse().unwrap_or(0) })
            }
            _ => Err(Fault { step: "start the first process inside".into(), errno: libc::ECHILD }),
        }
    }

    pub(crate) fn answer(&self) -> Result<(), Fault> {
        write_line(&self.write, "go");
        Ok(())
    }

    /// Init's last message: how the program ended.
    pub(crate) fn last_word(&self) -> Option<Ending> {
        Ending::parse(&read_line(&self.read))
    }

    pub(crate) fn kill(&self) {
        // The child is not reaped before the keeper ends its loop, so the id is still its own.
        if let Some(pid) = self.pid() {
            let _ = kill_process(pid, Signal::KILL);
        }
    }

    /// Sends a signal by its number, which may be a real-time one; init passes it on to the program.
    pub(crate) fn signal(&self, number: i32) {
        // SAFETY: no memory is involved; the child is not reaped before the keeper ends its loop.
        unsafe { libc::kill(self.pid as i32, number) };
    }

    pub(crate) fn pid(&self) -> Option<Pid> {
        Pid::from_raw(self.pid as i32)
    }
}

/// Never returns: the exit of this process is the end of the replica.
pub(crate) fn run(spec: &Spec, parent: Parent, joins: Vec<File>, outputs: [OwnedFd; 2]) -> ! {
    let prepared = if spec.plain { prepare_plain(&parent) } else { prepare(spec, &parent, joins) };
    let code = match prepared.and_then(|()| start(spec, outputs)) {
        Ok(program) => {
            write_line(&parent.write, "running");
            let ending = supervise(program, spec.plain.then_some(parent.pid));
            if spec.plain {
                ordinary_process::end_children();
            }
            write_line(&parent.write, &ending.to_string());
            0
        }
        Err(Fault { step, errno }) => {
            write_line(&parent.write, &format!("{errno} {step}"));
            1
        }
    };
    // SAFETY: nothing of this copy of the keeper needs tidying.
    unsafe { libc::_exit(code) }
}

fn prepare_plain(parent: &Parent) -> Result<(), Fault> {
    ordinary_process::take_in_orphans()?;
    ordinary_process::end_with_the_keeper(parent.pid)
}

fn prepare(spec: &Spec, parent: &Parent, joins: Vec<File>) -> Result<(), Fault> {
    end_with_parent(Signal::KILL)?;
    step("hide the keeper's words", syscalls::hide_words())?;
    for mut group in joins {
        step("join a control group", group.write_all(b"0"))?;
    }
    step("make a control group namespace", unshare(UnshareFlags::NEWCGROUP))?;
    // Everybody inside may listen on any port, and may ask whether an address answers (ping).
    let everybody = format!("{} {}", spec.id_base, spec.id_base + 65_535);
    for (key, value) in [
        ("ipv6/conf/default/disable_ipv6", "1"),
        ("ipv4/ip_unprivileged_port_start", "0"),
        ("ipv4/ping_group_range", &everybody),
    ] {
        // A kernel without IPv6 has no such switch.
        match std::fs::write(format!("/proc/sys/net/{key}"), value) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            other => step("set up the network namespace", other)?,
        }
    }
    write_line(&parent.write, "namespaces");
    filesystem::furnish(spec)?;
    let settings = step("open the settings of the namespaces", syscalls::detached_proc())?;
    step("set the host name", rustix::system::sethostname(spec.hostname.as_bytes()))?;
    wait_for(parent)?;
    step("set up the network", set_up_network(spec))?;

    step("make the user namespace", unshare(UnshareFlags::NEWUSER))?;
    write_line(&parent.write, "user namespace");
    wait_for(parent)?;
    become_root_inside()?;
    for (key, value) in [("max_inotify_watches", spec.watches), ("max_inotify_instances", 256)] {
        let path = format!("sys/user/{key}");
        step("limit inotify", syscalls::write_below(&settings, &path, &value.to_string()))?;
    }
    drop(settings);
    give_up_rights(spec)
}

fn wait_for(parent: &Parent) -> Result<(), Fault> {
    match read_line(&parent.read).as_str() {
        "go" => Ok(()),
        _ => Err(Fault { step: "wait for the keeper".into(), errno: libc::EPIPE }),
    }
}

fn set_up_network(spec: &Spec) -> std::io::Result<()> {
    if !spec.has_network() {
        return netlink::Batch::default().up(1).send();
    }
    let socket = rustix::net::socket(AddressFamily::INET, SocketType::DGRAM, None)?;
    let index = rustix::net::netdevice::name_to_index(&socket, "eth0")?;
    let near = netlink::hardware_address(spec.neighbour);
    netlink::Batch::default()
        .up(1)
        .up(index)
        .address(index, spec.address, 32)
        .route(spec.neighbour, 32, index, None)
        .route([0; 4], 0, index, Some(spec.neighbour))
        .neighbour(index, spec.neighbour, near)
        .send()
}

fn become_root_inside() -> Result<(), Fault> {
    // For this thread, which is the only one; the C library's own calls would look for others.
    step("drop the groups", set_thread_groups(&[]))?;
    step("take the group inside", set_thread_res_gid(Gid::ROOT, Gid::ROOT, Gid::ROOT))?;
    step("take the user inside", set_thread_res_uid(Uid::ROOT, Uid::ROOT, Uid::ROOT))?;
    // The kernel forgot the signal with the change of account.
    end_with_parent(Signal::KILL)
}

fn give_up_rights(spec: &Spec) -> Result<(), Fault> {
    for number in 0..64 {
        let capability = CapabilitySet::from_bits_retain(1 << number);
        if !KEPT_CAPABILITIES.contains(capability) {
            match remove_capability_from_bounding_set(capability) {
                // Past the last one the kernel knows.
                Err(Errno::INVAL) => break,
                other => step("drop a capability", other)?,
            }
        }
    }
    let sets = CapabilitySets {
        effective: KEPT_CAPABILITIES,
        permitted: KEPT_CAPABILITIES,
        inheritable: CapabilitySet::empty(),
    };
    step("drop the capabilities", set_capabilities(None, sets))?;
    step("forbid new rights", set_no_new_privs(true))?;
    if spec.filter.is_empty() {
        return Ok(());
    }
    let program = libc::sock_fprog {
        len: (spec.filter.len() / size_of::<libc::sock_filter>()) as u16,
        filter: spec.filter.as_ptr() as *mut libc::sock_filter,
    };
    // SAFETY: the filter's bytes are whole instructions and live across the call, which only reads them.
    let answer = unsafe { libc::syscall(libc::SYS_seccomp, libc::SECCOMP_SET_MODE_FILTER, 0, &program) };
    step("set the system call filter", check(answer)).map(drop)
}

/// Forks and starts the program; gives its process id once it runs.
fn start(spec: &Spec, outputs: [OwnedFd; 2]) -> Result<i32, Fault> {
    let program = find_program(spec)?;
    let argv: Vec<CString> = spec.argv.iter().map(|word| text(word)).collect();
    let env: Vec<CString> = spec.env.iter().map(|pair| text(pair)).collect();
    let started = Pipe::new()?;
    // SAFETY: one thread; the child only makes system calls on memory prepared above.
    let pid = unsafe { libc::fork() };
    step("fork", check(pid.into()))?;
    if pid == 0 {
        let error = execute(spec, &program, &argv, &env, &outputs);
        let errno = error.raw_os_error().unwrap_or(libc::ENOENT);
        let _ = File::from(started.write).write_all(&errno.to_ne_bytes());
        // SAFETY: the forked copy ends here.
        unsafe { libc::_exit(127) }
    }
    drop((started.write, outputs));
    let mut errno = [0; 4];
    match File::from(started.read).read(&mut errno) {
        Ok(4) => {
            Err(Fault { step: format!("start {}", spec.argv[0]).into(), errno: i32::from_ne_bytes(errno) })
        }
        _ => Ok(pid),
    }
}

/// The program's path: as given, or found along the replica's own `PATH`.
fn find_program(spec: &Spec) -> Result<CString, Fault> {
    let none = || Fault {
        step: "find a command: the image names none and none is declared".into(),
        errno: libc::ENOENT,
    };
    let name = spec.argv.first().ok_or_else(none)?;
    let lookup = |path: &str| -> std::io::Result<CString> {
        if spec.plain {
            return ordinary_process::find_in_image(spec, path, OFlags::empty());
        }
        std::fs::metadata(path).map(|_| text(path))
    };
    if name.contains('/') {
        // Inside, the kernel's own answer says more than a look beforehand.
        return if spec.plain {
            step(format!("find {name} in the image"), lookup(name))
        } else {
            Ok(text(name))
        };
    }
    let path = spec.env.iter().find_map(|pair| pair.strip_prefix("PATH=")).unwrap_or("/usr/bin:/bin");
    path.split(':')
        .find_map(|dir| lookup(&format!("{dir}/{name}")).ok())
        .ok_or(Fault { step: format!("find {name} in {path}").into(), errno: libc::ENOENT })
}

/// Becomes the program; gives the error if that fails. The caller is a forked copy that only makes system calls here.
fn execute(
    spec: &Spec,
    program: &CString,
    argv: &[CString],
    env: &[CString],
    outputs: &[OwnedFd; 2],
) -> std::io::Error {
    let cwd = if spec.cwd.is_empty() { "/" } else { &spec.cwd };
    let cwd = match spec.plain {
        true => ordinary_process::find_in_image(spec, cwd, OFlags::DIRECTORY),
        false => Ok(text(cwd)),
    };
    let opened = match cwd.and_then(|cwd| prepare_process(spec, program, &cwd, outputs)) {
        Ok(opened) => opened,
        Err(error) => return error,
    };
    let pointers = |list: &[CString]| {
        list.iter().map(|item| item.as_ptr()).chain([std::ptr::null()]).collect::<Vec<_>>()
    };
    let (argv, env) = (pointers(argv), pointers(env));
    // SAFETY: all pointers are to memory that lives until the program replaces it.
    unsafe { libc::execve(program.as_ptr(), argv.as_ptr(), env.as_ptr()) };
    let error = std::io::Error::last_os_error();
    let Some(opened) = opened.filter(|_| error.raw_os_error() == Some(libc::EACCES)) else { return error };
    let (opened, empty, at) = (std::os::fd::AsRawFd::as_raw_fd(&opened), c"".as_ptr(), libc::AT_EMPTY_PATH);
    // SAFETY: as above; the descriptor is open.
    unsafe { libc::syscall(libc::SYS_execveat, opened, empty, argv.as_ptr(), env.as_ptr(), at) };
    std::io::Error::last_os_error()
}

/// The streams, limits, signals, directory and account of the program. Gives the program opened, where it can be.
fn prepare_process(
    spec: &Spec,
    program: &CString,
    cwd: &CString,
    outputs: &[OwnedFd; 2],
) -> std::io::Result<Option<OwnedFd>> {
    // It fails only if this is a group's leader, which changes nothing.
    let _ = rustix::process::setsid();
    dup2_stdin(rustix::fs::open("/dev/null", OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty())?)?;
    dup2_stdout(&outputs[0])?;
    dup2_stderr(&outputs[1])?;
    for (resource, most) in limits(spec) {
        // Rights to raise a limit are gone already; a lower one stays.
        let most = getrlimit(resource).maximum.map_or(most, |maximum| most.min(maximum));
        setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) })?;
    }
    // SAFETY: the set is initialised by sigfillset before it is read.
    unsafe {
        let mut all = std::mem::zeroed();
        libc::sigfillset(&mut all);
        libc::sigprocmask(libc::SIG_UNBLOCK, &all, std::ptr::null_mut());
        libc::signal(libc::SIGPIPE, libc::SIG_DFL);
    }
    // Opened and entered while that is still allowed: a directory above may shut the program's account out.
    let opened = rustix::fs::open(program, OFlags::PATH | OFlags::CLOEXEC, Mode::empty()).ok();
    rustix::process::chdir(cwd)?;
    // Without rights there is no other account to change to.
    if !spec.plain || rustix::process::geteuid().is_root() {
        let (user, group) = (Uid::from_raw(spec.uid), Gid::from_raw(spec.gid));
        let further = spec.member_of.iter().map(|id| Gid::from_raw(*id));
        set_thread_groups(&[group].into_iter().chain(further).collect::<Vec<_>>())?;
        set_thread_res_gid(group, group, group)?;
        set_thread_res_uid(user, user, user)?;
    }
    if spec.plain {
        let most = Some(spec.memory);
        setrlimit(Resource::Data, Rlimit { current: most, maximum: most })?;
        rustix::process::set_parent_process_death_signal(Some(Signal::KILL))?;
        set_no_new_privs(true)?;
    }
    Ok(opened)
}

/// Limits of a process that control groups do not set.
fn limits(spec: &Spec) -> Vec<(Resource, u64)> {
    let mut limits = vec![(Resource::Core, 0), (Resource::Msgqueue, 1 << 20), (Resource::Sigpending, 4096)];
    if spec.open_files > 0 {
        limits.push((Resource::Nofile, spec.open_files));
    }
    limits
}

/// Forwards signals to the program and reaps whatever ends, until the program itself has ended. Where no namespace
/// ends with this process, the keeper's own end is heard as a signal and ends the program at once.
fn supervise(program: i32, keeper: Option<u32>) -> Ending {
    // SAFETY: sets and structures are initialised by the calls that fill them.
    unsafe {
        let mut all = std::mem::zeroed();
        libc::sigfillset(&mut all);
        libc::sigprocmask(libc::SIG_BLOCK, &all, std::ptr::null_mut());
        loop {
            let mut status = 0;
            loop {
                let pid = libc::waitpid(-1, &mut status, libc::WNOHANG);
                if pid == program {
                    let code = libc::WIFEXITED(status).then(|| libc::WEXITSTATUS(status));
                    let signal = libc::WIFSIGNALED(status).then(|| libc::WTERMSIG(status));
                    return Ending { code, signal, memory_kills: 0 };
                }
                if pid <= 0 {
                    break;
                }
            }
            let signal = libc::sigwaitinfo(&all, std::ptr::null_mut());
            if keeper.is_some_and(|keeper| !ordinary_process::is_child_of(keeper)) {
                return Ending { code: None, signal: Some(libc::SIGKILL), memory_kills: 0 };
            }
            if signal > 0 && signal != libc::SIGCHLD {
                libc::kill(program, signal);
            }
        }
    }
}
