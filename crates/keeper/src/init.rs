//! The first process inside: it finishes the surroundings, gives up its rights, starts the program, forwards
//! signals and reaps. It is the keeper's own memory after a clone, so no second program is loaded.

use std::ffi::CString;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{AsRawFd, OwnedFd};

use mainyard_keeper::{Ending, Spec, netlink};

use crate::filesystem;
use crate::ordinary_process;
use crate::syscalls::{self, Fault, Pipe, check, control, step, text, unshare};

/// What the program may still do as root inside: owners and modes of its files, ids, signals, low ports.
const KEPT_CAPABILITIES: [u32; 8] = [0, 1, 3, 4, 5, 6, 7, 10];

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

    /// What init said last: how the program ended.
    pub(crate) fn last_word(&self) -> Option<Ending> {
        Ending::parse(&read_line(&self.read))
    }

    pub(crate) fn signal(&self, signal: i32) {
        // SAFETY: no memory is involved; the child is not reaped before the keeper ends its loop.
        unsafe { libc::kill(self.pid as i32, signal) };
    }
}

/// Never returns: the exit of this process is the end of the replica.
pub(crate) fn run(spec: &Spec, parent: Parent, joins: Vec<File>, outputs: [OwnedFd; 2]) -> ! {
    let prepared = if spec.plain { prepare_plain(&parent) } else { prepare(spec, &parent, joins) };
    let code = match prepared.and_then(|()| start(spec, outputs)) {
        Ok(program) => {
            write_line(&parent.write, "running");
            let ending = mind(program, spec.plain.then_some(parent.pid));
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
    ordinary_process::hear_of_the_keepers_end(parent.pid)
}

fn prepare(spec: &Spec, parent: &Parent, joins: Vec<File>) -> Result<(), Fault> {
    die_with_keeper()?;
    for mut group in joins {
        step("join a control group", group.write_all(b"0"))?;
    }
    step("make a control group namespace", unshare(libc::CLONE_NEWCGROUP))?;
    for (key, value) in [("ipv6/conf/default/disable_ipv6", "1"), ("ipv4/ip_unprivileged_port_start", "0")] {
        // A kernel without IPv6 has no such switch.
        match std::fs::write(format!("/proc/sys/net/{key}"), value) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            other => step("set up the network namespace", other)?,
        }
    }
    write_line(&parent.write, "namespaces");
    filesystem::furnish(spec)?;
    let settings = step("open the settings of the namespaces", syscalls::detached_proc())?;
    step("set the host name", set_host_name(&spec.hostname))?;
    wait_for(parent)?;
    step("set up the network", set_up_network(spec))?;

    step("make the user namespace", unshare(libc::CLONE_NEWUSER))?;
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

fn die_with_keeper() -> Result<(), Fault> {
    step("tie the replica to its keeper", control(libc::PR_SET_PDEATHSIG, libc::SIGKILL as libc::c_ulong))
}

fn set_host_name(name: &str) -> std::io::Result<()> {
    // SAFETY: pointer and length belong together.
    check(unsafe { libc::sethostname(name.as_ptr().cast(), name.len()) }.into()).map(drop)
}

fn set_up_network(spec: &Spec) -> std::io::Result<()> {
    let index = interface_index("eth0")?;
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

fn interface_index(name: &str) -> std::io::Result<u32> {
    // SAFETY: the string lives across the call.
    match unsafe { libc::if_nametoindex(text(name).as_ptr()) } {
        0 => Err(std::io::Error::last_os_error()),
        index => Ok(index),
    }
}

fn become_root_inside() -> Result<(), Fault> {
    // SAFETY: raw calls; the library's own would try to tell threads that do not exist.
    unsafe {
        step("drop the groups", check(libc::syscall(libc::SYS_setgroups, 0, 0)))?;
        step("take the group inside", check(libc::syscall(libc::SYS_setresgid, 0, 0, 0)))?;
        step("take the user inside", check(libc::syscall(libc::SYS_setresuid, 0, 0, 0)))?;
    }
    die_with_keeper()
}

#[repr(C)]
struct CapabilityHeader {
    version: u32,
    pid: i32,
}

#[repr(C)]
#[derive(Clone, Copy)]
struct CapabilityData {
    effective: u32,
    permitted: u32,
    inheritable: u32,
}

fn give_up_rights(spec: &Spec) -> Result<(), Fault> {
    for capability in 0..64 {
        if !KEPT_CAPABILITIES.contains(&capability) {
            match control(libc::PR_CAPBSET_DROP, capability.into()) {
                // Past the last one the kernel knows.
                Err(error) if error.raw_os_error() == Some(libc::EINVAL) => break,
                other => step("drop a capability", other)?,
            }
        }
    }
    let kept = KEPT_CAPABILITIES.iter().fold(0, |set, capability| set | 1u32 << capability);
    let header = CapabilityHeader { version: 0x2008_0522, pid: 0 };
    let low = CapabilityData { effective: kept, permitted: kept, inheritable: 0 };
    let high = CapabilityData { effective: 0, permitted: 0, inheritable: 0 };
    // SAFETY: the structures are the kernel's for this version.
    let answer = unsafe { libc::syscall(libc::SYS_capset, &header, [low, high].as_ptr()) };
    step("drop the capabilities", check(answer))?;
    step("forbid new rights", control(libc::PR_SET_NO_NEW_PRIVS, 1))?;
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
        let errno = execute(spec, &program, &argv, &env, &outputs);
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
            return ordinary_process::find_in_image(spec, path, 0);
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

fn execute(spec: &Spec, program: &CString, argv: &[CString], env: &[CString], outputs: &[OwnedFd; 2]) -> i32 {
    let pointers = |list: &[CString]| {
        list.iter().map(|item| item.as_ptr()).chain([std::ptr::null()]).collect::<Vec<_>>()
    };
    let (argv, env) = (pointers(argv), pointers(env));
    let cwd = if spec.cwd.is_empty() { "/" } else { &spec.cwd };
    let cwd = if spec.plain {
        match ordinary_process::find_in_image(spec, cwd, libc::O_DIRECTORY) {
            Ok(found) => found,
            Err(error) => return error.raw_os_error().unwrap_or(libc::ENOENT),
        }
    } else {
        text(cwd)
    };
    // SAFETY: all pointers are to memory that lives until the program replaces it.
    unsafe {
        libc::setsid();
        let null = libc::open(c"/dev/null".as_ptr(), libc::O_RDONLY);
        libc::dup2(null, 0);
        libc::dup2(outputs[0].as_raw_fd(), 1);
        libc::dup2(outputs[1].as_raw_fd(), 2);
        if null > 2 {
            libc::close(null);
        }
        for (kind, most) in limits(spec) {
            // Rights to raise a limit are gone already; a lower one stays.
            let mut limit: libc::rlimit = std::mem::zeroed();
            libc::getrlimit(kind, &mut limit);
            let most = most.min(limit.rlim_max);
            limit = libc::rlimit { rlim_cur: most, rlim_max: most };
            if libc::setrlimit(kind, &limit) < 0 {
                return *libc::__errno_location();
            }
        }
        let mut all = std::mem::zeroed();
        libc::sigfillset(&mut all);
        libc::sigprocmask(libc::SIG_UNBLOCK, &all, std::ptr::null_mut());
        libc::signal(libc::SIGPIPE, libc::SIG_DFL);
        // Opened and entered while that is still allowed: a directory above may shut the program's account out.
        let opened = libc::open(program.as_ptr(), libc::O_PATH | libc::O_CLOEXEC);
        if libc::chdir(cwd.as_ptr()) < 0 {
            return *libc::__errno_location();
        }
        // Without rights there is no other account to change to.
        if !spec.plain || libc::geteuid() == 0 {
            let gids = [spec.gid];
            for answer in [
                libc::syscall(libc::SYS_setgroups, 1, gids.as_ptr()),
                libc::syscall(libc::SYS_setresgid, spec.gid, spec.gid, spec.gid),
                libc::syscall(libc::SYS_setresuid, spec.uid, spec.uid, spec.uid),
            ] {
                if answer < 0 {
                    return *libc::__errno_location();
                }
            }
        }
        if spec.plain {
            let most = libc::rlimit { rlim_cur: spec.memory, rlim_max: spec.memory };
            for answer in [
                libc::setrlimit(libc::RLIMIT_DATA, &most),
                libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL),
                libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0),
            ] {
                if answer < 0 {
                    return *libc::__errno_location();
                }
            }
        }
        libc::execve(program.as_ptr(), argv.as_ptr(), env.as_ptr());
        if *libc::__errno_location() == libc::EACCES && opened >= 0 {
            let empty = c"".as_ptr();
            let (argv, env) = (argv.as_ptr(), env.as_ptr());
            libc::syscall(libc::SYS_execveat, opened, empty, argv, env, libc::AT_EMPTY_PATH);
        }
        *libc::__errno_location()
    }
}

/// What control groups do not hold a process to.
fn limits(spec: &Spec) -> Vec<(libc::__rlimit_resource_t, u64)> {
    let mut limits =
        vec![(libc::RLIMIT_CORE, 0), (libc::RLIMIT_MSGQUEUE, 1 << 20), (libc::RLIMIT_SIGPENDING, 4096)];
    if spec.open_files > 0 {
        limits.push((libc::RLIMIT_NOFILE, spec.open_files));
    }
    limits
}

/// Forwards signals to the program and reaps whatever ends, until the program itself has ended. Where no namespace
/// ends with this process, the keeper's own end is heard as a signal and ends the program at once.
fn mind(program: i32, keeper: Option<u32>) -> Ending {
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
