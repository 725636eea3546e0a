//! The acts, grouped by what they reach for.

use std::ffi::CString;
use std::fs;
use std::io;
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::unix::fs::symlink;
use std::time::Duration;

type Outcome = (String, String);

fn say<T: std::fmt::Debug>(result: io::Result<T>) -> String {
    match result {
        Ok(value) => format!("done: {value:?}"),
        Err(error) => match error.raw_os_error() {
            Some(number) => format!("refused: {}", name_of(number)),
            None => format!("refused: {:?}", error.kind()),
        },
    }
}

fn name_of(number: i32) -> &'static str {
    match number {
        libc::EPERM => "EPERM, not permitted",
        libc::EACCES => "EACCES, no access",
        libc::ENOENT => "ENOENT, not there",
        libc::ENOSYS => "ENOSYS, no such call",
        libc::EROFS => "EROFS, read-only",
        libc::EINVAL => "EINVAL, not valid",
        libc::ENETUNREACH => "ENETUNREACH, no way there",
        libc::EHOSTUNREACH => "EHOSTUNREACH, not reached",
        libc::ECONNREFUSED => "ECONNREFUSED, nothing listens",
        libc::EADDRNOTAVAIL => "EADDRNOTAVAIL, not an address here",
        libc::ESRCH => "ESRCH, no such process",
        libc::ENOSPC => "ENOSPC, no room",
        libc::ENODEV => "ENODEV, no such device",
        libc::EAFNOSUPPORT => "EAFNOSUPPORT, no such family",
        libc::EAGAIN => "EAGAIN, no more now",
        libc::ENXIO => "ENXIO, no such device",
        _ => "another error",
    }
}

fn c(text: &str) -> CString {
    CString::new(text).expect("no zero byte")
}

fn call(answer: libc::c_long) -> io::Result<i64> {
    if answer < 0 { Err(io::Error::last_os_error()) } else { Ok(answer) }
}

/// Everything, in a fixed order.
pub(crate) fn all(addresses: &[String]) -> Vec<Outcome> {
    let mut list = Vec::new();
    mounts(&mut list);
    processes(&mut list);
    machine(&mut list);
    files(&mut list);
    network(&mut list, addresses);
    limits(&mut list);
    list
}

fn add(list: &mut Vec<Outcome>, name: &str, outcome: String) {
    list.push((name.to_owned(), outcome));
}

fn mounts(list: &mut Vec<Outcome>) {
    let mount = |source: &str, target: &str, kind: &str, flags| {
        let (source, target, kind) = (c(source), c(target), c(kind));
        // SAFETY: the strings live across the call.
        call(
            unsafe { libc::mount(source.as_ptr(), target.as_ptr(), kind.as_ptr(), flags, std::ptr::null()) }
                .into(),
        )
    };
    add(list, "mount a tmpfs", say(mount("x", "/tmp", "tmpfs", 0)));
    add(list, "mount a second proc", say(mount("proc", "/tmp", "proc", 0)));
    add(list, "make /proc/sys writable", say(mount("", "/proc/sys", "", libc::MS_REMOUNT | libc::MS_BIND)));
    // SAFETY: constants only.
    unsafe {
        add(
            list,
            "unmount the mask of /proc/meminfo",
            say(call(libc::umount2(c"/proc/meminfo".as_ptr(), libc::MNT_DETACH).into())),
        );
        add(list, "change the root", say(call(libc::chroot(c"/tmp".as_ptr()).into())));
        add(
            list,
            "open a tree of mounts",
            say(call(libc::syscall(libc::SYS_open_tree, libc::AT_FDCWD, c"/".as_ptr(), 1))),
        );
        add(list, "make a user namespace", say(call(libc::unshare(libc::CLONE_NEWUSER).into())));
        add(list, "make a mount namespace", say(call(libc::unshare(libc::CLONE_NEWNS).into())));
        let flags = libc::CLONE_NEWUSER | libc::SIGCHLD;
        let answer = libc::syscall(libc::SYS_clone, flags, 0, 0, 0, 0);
        if answer == 0 {
            libc::_exit(0);
        }
        add(list, "clone into a user namespace", say(call(answer)));
        add(list, "clone by the newer call", say(call(libc::syscall(libc::SYS_clone3, 0, 0))));
    }
    let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let telling = mounts
        .lines()
        .filter(|line| line.contains("/var/") || line.contains("mainyard") || line.contains("/node/"));
    add(list, "read the machine's paths from the mounts", format!("{} lines tell of one", telling.count()));
    let dir = fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    let outside = dir.lines().filter(|line| line.contains("mainyard")).count();
    add(list, "read the machine's control groups", format!("{outside} lines tell of one"));
}

fn processes(list: &mut Vec<Outcome>) {
    let mut seen: Vec<u32> = fs::read_dir("/proc")
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
        .collect();
    seen.sort_unstable();
    add(list, "see other processes", format!("sees {seen:?}"));
    // SAFETY: no memory is involved.
    unsafe {
        add(list, "trace the first process", say(call(libc::ptrace(libc::PTRACE_ATTACH, 1, 0, 0))));
        add(list, "signal a process outside", say(call(libc::kill(4000, 0).into())));
    }
    add(list, "read the memory of the first process", say(fs::File::open("/proc/1/mem").map(drop)));
    add(list, "enter the first process's root", say(fs::read_dir("/proc/1/root/").map(|dir| dir.count())));
    add(
        list,
        "read the first process's environment",
        say(fs::read("/proc/1/environ").map(|text| text.len())),
    );
}

fn machine(list: &mut Vec<Outcome>) {
    let write = |path: &str| {
        say(fs::OpenOptions::new().write(true).open(path).and_then(|mut f| io::Write::write(&mut f, b"1")))
    };
    add(list, "set a kernel setting", write("/proc/sys/kernel/panic"));
    add(list, "set a network setting", write("/proc/sys/net/ipv4/ip_forward"));
    add(list, "press the kernel's keys", write("/proc/sysrq-trigger"));
    add(list, "write a control group", write("/sys/fs/cgroup/memory/memory.limit_in_bytes"));
    let read = |path: &str| say(fs::read(path).map(|bytes| bytes.len()));
    add(list, "read the kernel's memory", read("/proc/kcore"));
    add(list, "read the kernel's messages", read("/proc/kmsg"));
    add(list, "read the kernel's symbols", read("/proc/kallsyms"));
    add(list, "read the kernel's keys", read("/proc/keys"));
    add(list, "read the machine's command line", read("/proc/cmdline"));
    let total = fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let total = total.lines().next().unwrap_or("").split_whitespace().collect::<Vec<_>>().join(" ");
    add(list, "read the machine's memory size", format!("sees {total}"));
    // SAFETY: pointers are to constants or to values on the stack.
    unsafe {
        add(list, "set the host name", say(call(libc::sethostname(c"x".as_ptr(), 1).into())));
        let time = libc::timespec { tv_sec: 0, tv_nsec: 0 };
        add(list, "set the clock", say(call(libc::clock_settime(libc::CLOCK_REALTIME, &time).into())));
        add(list, "load a module", say(call(libc::syscall(libc::SYS_init_module, 0, 0, c"".as_ptr()))));
        add(list, "load a program into the kernel", say(call(libc::syscall(libc::SYS_bpf, 0, 0, 0))));
        add(list, "use the kernel's key ring", say(call(libc::syscall(libc::SYS_keyctl, 0, -3, 0, 0, 0))));
        add(
            list,
            "watch the machine's performance",
            say(call(libc::syscall(libc::SYS_perf_event_open, 0, 0, 0, 0, 0))),
        );
        add(list, "make a submission ring", say(call(libc::syscall(libc::SYS_io_uring_setup, 1, 0))));
        add(list, "restart the machine", say(call(libc::syscall(libc::SYS_reboot, 0, 0, 0, 0))));
        add(list, "take a port of the processor", say(call(libc::syscall(libc::SYS_ioperm, 0, 1, 1))));
    }
}

fn files(list: &mut Vec<Outcome>) {
    // SAFETY: constants only.
    unsafe {
        let disk = libc::mknod(c"/tmp/disk".as_ptr(), libc::S_IFBLK | 0o600, libc::makedev(254, 0));
        add(list, "make a disk's device", say(call(disk.into())));
        let memory = libc::mknod(c"/tmp/mem".as_ptr(), libc::S_IFCHR | 0o600, libc::makedev(1, 1));
        add(list, "make the memory's device", say(call(memory.into())));
    }
    let mut devices: Vec<String> = fs::read_dir("/dev")
        .into_iter()
        .flatten()
        .flatten()
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .collect();
    devices.sort();
    add(list, "list the devices", devices.join(" "));
    add(list, "open the machine's disk", say(fs::File::open("/dev/vda").map(drop)));
    add(list, "read the machine's passwords", say(fs::read("/etc/shadow").map(|bytes| bytes.len())));
    let _ = symlink("/../../../../etc/shadow", "/tmp/out");
    add(list, "climb out by a link", say(fs::read("/tmp/out").map(|bytes| bytes.len())));
    add(list, "write to the image", say(fs::write("/app/written", b"x")));
    let root = fs::metadata("/").map(|found| {
        use std::os::unix::fs::MetadataExt;
        (found.uid(), found.gid())
    });
    add(list, "own the root directory", say(root));
    let file = fs::File::create("/tmp/handle");
    // SAFETY: the buffer has room for the handle's head.
    let handle = file.and_then(|_| unsafe {
        let mut head = [0u32; 40];
        head[0] = 128;
        let mut id = 0;
        call(libc::syscall(
            libc::SYS_name_to_handle_at,
            libc::AT_FDCWD,
            c"/tmp/handle".as_ptr(),
            head.as_mut_ptr(),
            &mut id,
            0,
        ))
    });
    add(list, "make a handle of a file", say(handle));
    let ids = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let field =
        |key: &str| ids.lines().find_map(|line| line.strip_prefix(key)).unwrap_or("").trim().to_owned();
    add(list, "keep capabilities", field("CapBnd:"));
    add(list, "gain rights by a program", format!("no new rights: {}", field("NoNewPrivs:")));
}

fn network(list: &mut Vec<Outcome>, addresses: &[String]) {
    let mut links: Vec<String> = fs::read_to_string("/proc/net/dev")
        .unwrap_or_default()
        .lines()
        .filter_map(|line| Some(line.split_once(':')?.0.trim().to_owned()))
        .collect();
    links.sort();
    add(list, "list the links", links.join(" "));
    add(list, "take an address that is not its own", say(TcpListener::bind("10.118.16.200:80").map(drop)));
    add(list, "send from a forged address", say(UdpSocket::bind("10.118.32.2:5000").map(drop)));
    // SAFETY: no memory is involved.
    unsafe {
        let raw = |family, kind, protocol| call(libc::socket(family, kind, protocol).into());
        add(list, "open a raw socket", say(raw(libc::AF_INET, libc::SOCK_RAW, libc::IPPROTO_TCP)));
        add(list, "open a packet socket", say(raw(libc::AF_PACKET, libc::SOCK_RAW, 0)));
        add(list, "open a socket to the host of the machine", say(raw(libc::AF_VSOCK, libc::SOCK_STREAM, 0)));
        add(list, "open the kernel's ciphers", say(raw(libc::AF_ALG, libc::SOCK_SEQPACKET, 0)));
        let socket = libc::socket(libc::AF_INET, libc::SOCK_DGRAM, 0);
        let on: i32 = 1;
        let size = size_of::<i32>() as u32;
        let answer =
            libc::setsockopt(socket, libc::SOL_IP, libc::IP_TRANSPARENT, (&raw const on).cast(), size);
        add(list, "act for other addresses", say(call(answer.into())));
    }
    add(list, "listen on a low port", say(TcpListener::bind("0.0.0.0:80").map(drop)));
    for address in addresses {
        let result = address.parse::<SocketAddr>().map_err(io::Error::other);
        let result = result.and_then(|to| TcpStream::connect_timeout(&to, Duration::from_millis(700)));
        add(list, &format!("reach {address}"), say(result.map(drop)));
    }
}

fn limits(list: &mut Vec<Outcome>) {
    let chunk = vec![0u8; 1 << 20];
    let fill = fs::File::create("/tmp/fill").and_then(|mut file| {
        for _ in 0..1024 {
            io::Write::write_all(&mut file, &chunk)?;
        }
        Ok("1 GiB")
    });
    let _ = fs::remove_file("/tmp/fill");
    add(list, "write more than its room", say(fill));
    // SAFETY: no memory is involved; the children end at once.
    let watches = unsafe {
        let fd = libc::inotify_init1(0);
        (0..20_000)
            .take_while(|n| {
                let dir = format!("/tmp/w{n}");
                fs::create_dir(&dir).is_ok()
                    && libc::inotify_add_watch(fd, c(&dir).as_ptr(), libc::IN_CREATE) >= 0
            })
            .count()
    };
    add(list, "take all watches", format!("got {watches}"));
    // SAFETY: each child only waits to be killed.
    let forks = unsafe {
        let mut children = Vec::new();
        while children.len() < 5000 {
            match libc::fork() {
                0 => loop {
                    libc::pause();
                },
                -1 => break,
                pid => children.push(pid),
            }
        }
        for pid in &children {
            libc::kill(*pid, libc::SIGKILL);
            libc::waitpid(*pid, std::ptr::null_mut(), 0);
        }
        children.len()
    };
    add(
        list,
        "start processes without end",
        format!("got {}", if forks < 100 { "fewer than 100" } else { "100 or more" }),
    );
}
