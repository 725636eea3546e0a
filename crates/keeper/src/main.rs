//! The keeper's program: reads its specification, builds the surroundings, keeps the replica until it ends.
//!
//! The order matters and is reported in `docs/ARCHITECTURE.md` under "Isolation". In short: everything that needs
//! the machine's rights (mounts, groups, links) is done before the user namespace is entered, so that the
//! replica's root owns none of it.

mod filesystem;
mod init;
mod ordinary_process;
mod output;
mod syscalls;

use std::fs;
use std::io::{Read, Write};
use std::path::Path;

use mainyard_keeper::{Ending, Group, Progress, Spec, netlink};
use syscalls::{Fault, Pipe, step};

fn main() {
    let mut bytes = Vec::new();
    let _ = std::io::stdin().read_to_end(&mut bytes);
    let Some(spec) = Spec::decode(&bytes) else {
        tell(&Progress::Failed { step: "read the specification".into(), errno: libc::EINVAL });
        std::process::exit(2);
    };
    let outcome = keep(&spec);
    remove_groups(&spec.groups);
    match outcome {
        Ok(ending) => tell(&Progress::Ended(ending)),
        Err(Fault { step, errno }) => {
            leave(&spec, "exit", &format!("failed {errno} {step}\n"));
            tell(&Progress::Failed { step: step.into_owned(), errno });
            std::process::exit(1);
        }
    }
}

/// Tells the node agent, if one still listens.
fn tell(progress: &Progress) {
    let _ = writeln!(std::io::stdout(), "{progress}");
}

/// Leaves a small file in the run directory; whole or not at all.
fn leave(spec: &Spec, name: &str, content: &str) {
    let path = Path::new(&spec.run_dir).join(name);
    let partial = path.with_extension("partial");
    if fs::write(&partial, content).is_ok() {
        let _ = fs::rename(&partial, &path);
    }
}

fn keep(spec: &Spec) -> Result<Ending, Fault> {
    syscalls::become_own_session();
    let signals = syscalls::take_signals()?;
    leave(spec, "pid", &format!("{} {}\n", std::process::id(), syscalls::start_time()));
    let mut log = output::Log::open(spec)?;

    if spec.plain {
        ordinary_process::take_in_orphans()?;
    } else {
        syscalls::enter_network(&spec.node_net)?;
        filesystem::stage(spec)?;
    }
    let joins = make_groups(&spec.groups)?;

    let out = Pipe::open_to_all()?;
    let err = Pipe::open_to_all()?;
    let to_init = Pipe::new()?;
    let from_init = Pipe::new()?;

    let keeper = std::process::id();
    let pid = if spec.plain { syscalls::fork()? } else { syscalls::clone_into_namespaces()? };
    if pid == 0 {
        let link = init::Parent { pid: keeper, read: to_init.read, write: from_init.write };
        let outputs = [out.write, err.write];
        drop((to_init.write, from_init.read, out.read, err.read, signals, log));
        init::run(spec, link, joins, outputs);
    }
    drop((joins, out.write, err.write, to_init.read, from_init.write));
    let child = init::Child { pid, read: from_init.read, write: to_init.write };

    if !spec.plain {
        child.expect("namespaces")?;
        if spec.has_network() {
            step("make the network link", connect(spec, pid))?;
        }
        child.answer()?;
        child.expect("user namespace")?;
        if spec.has_network() {
            step("bring the network link up", netlink::Batch::default().settle_link(spec.link).send())?;
        }
        map_ids(spec, pid)?;
        child.answer()?;
    }
    child.expect("running")?;
    join_own(&spec.groups)?;
    leave(spec, "init", &format!("{pid}\n"));
    tell(&Progress::Running(pid));

    let signal = if spec.stop_signal == 0 { libc::SIGTERM } else { spec.stop_signal };
    let stop = output::Stop { signal, grace_ms: spec.grace_ms };
    let ended = output::pump(&mut log, [out.read, err.read], &signals, &child, stop)?;
    if spec.plain {
        ordinary_process::end_children();
    }
    leave_own(&spec.groups);
    let memory_kills = memory_kills(&spec.groups);
    let ending = Ending { memory_kills, ..ended };
    leave(spec, "exit", &format!("{ending}\n"));
    Ok(ending)
}

/// One pair for this replica alone: its end can speak to the node and to nobody else. The kernel clears away the
/// link of a replica that ended in a queue of its own; one that is started again at once may find it still there.
fn connect(spec: &Spec, pid: u32) -> std::io::Result<()> {
    for _ in 0..100 {
        match make_link(spec, pid) {
            Err(error) if matches!(error.raw_os_error(), Some(libc::EEXIST | libc::EBUSY)) => {
                // Whether the kernel's queue or this is quicker does not matter.
                let _ = netlink::Batch::default().remove_link(spec.link).send();
                std::thread::sleep(std::time::Duration::from_millis(5));
            }
            other => return other,
        }
    }
    make_link(spec, pid)
}

fn make_link(spec: &Spec, pid: u32) -> std::io::Result<()> {
    let [_, _, c, d] = spec.address;
    let name = format!("my{c:02x}{d:02x}");
    let near = netlink::hardware_address(spec.neighbour);
    let far = netlink::hardware_address(spec.address);
    netlink::Batch::default()
        .link_pair(&name, spec.link, near, pid, far)
        .route(spec.address, 32, spec.link, None)
        .neighbour(spec.link, spec.address, far)
        .send()
}

fn map_ids(spec: &Spec, pid: u32) -> Result<(), Fault> {
    let map = format!("0 {} 65536\n", spec.id_base);
    for file in ["uid_map", "gid_map"] {
        step("write the id map", fs::write(format!("/proc/{pid}/{file}"), &map))?;
    }
    Ok(())
}

fn make_groups(groups: &[Group]) -> Result<Vec<fs::File>, Fault> {
    let mut joins = Vec::new();
    for group in groups {
        let dir = Path::new(&group.dir);
        step("make a control group", fs::create_dir_all(dir))?;
        for (file, value) in &group.settings {
            step("set a limit", fs::write(dir.join(file), value))?;
        }
        let join = fs::OpenOptions::new().write(true).open(dir.join(&group.join));
        joins.push(step("open a control group", join)?);
    }
    Ok(joins)
}

/// From here on the keeper's own work is charged to the replica, whose output is all of it.
fn join_own(groups: &[Group]) -> Result<(), Fault> {
    for group in groups.iter().filter(|group| group.keeper) {
        step("join the replica's group", fs::write(Path::new(&group.dir).join(&group.join), "0"))?;
    }
    Ok(())
}

/// A group that the keeper is in cannot be removed.
fn leave_own(groups: &[Group]) {
    for group in groups.iter().filter(|group| group.keeper) {
        if let Some(above) = Path::new(&group.dir).parent().and_then(Path::parent) {
            let _ = fs::write(above.join(&group.join), "0");
        }
    }
}

fn memory_kills(groups: &[Group]) -> u64 {
    let Some(group) = groups.iter().find(|group| !group.kills.is_empty()) else { return 0 };
    let text = fs::read_to_string(Path::new(&group.dir).join(&group.kills)).unwrap_or_default();
    let count = text.lines().find_map(|line| line.strip_prefix("oom_kill "));
    count.and_then(|count| count.trim().parse().ok()).unwrap_or(0)
}

/// A group stays busy for a moment after its last process has gone.
fn remove_groups(groups: &[Group]) {
    for group in groups {
        for _ in 0..200 {
            match fs::remove_dir(&group.dir) {
                Err(error) if error.raw_os_error() == Some(libc::EBUSY) => {
                    std::thread::sleep(std::time::Duration::from_millis(2));
                }
                _ => break,
            }
        }
    }
}
