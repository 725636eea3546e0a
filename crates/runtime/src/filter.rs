//! The system call filter: what a replica has no use for and the machine would rather not answer.
//!
//! Everything that is not known here is refused too, so a newer kernel's calls stay shut until someone has
//! looked at them.

use std::collections::BTreeMap;

use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule,
    TargetArch, sock_filter,
};

/// The highest system call number that was looked at.
const LAST_KNOWN: i64 = 470;

const NEW_NAMESPACES: u64 = 0x7e02_0080;

fn refused() -> Vec<i64> {
    let mut list = vec![
        // mounts and roots
        libc::SYS_mount,
        libc::SYS_umount2,
        libc::SYS_pivot_root,
        libc::SYS_chroot,
        libc::SYS_open_tree,
        libc::SYS_move_mount,
        libc::SYS_fsopen,
        libc::SYS_fsconfig,
        libc::SYS_fsmount,
        libc::SYS_fspick,
        libc::SYS_mount_setattr,
        libc::SYS_swapon,
        libc::SYS_swapoff,
        libc::SYS_quotactl,
        libc::SYS_open_by_handle_at,
        libc::SYS_name_to_handle_at,
        // namespaces and other processes
        libc::SYS_unshare,
        libc::SYS_setns,
        libc::SYS_ptrace,
        libc::SYS_process_vm_readv,
        libc::SYS_process_vm_writev,
        libc::SYS_process_madvise,
        libc::SYS_kcmp,
        libc::SYS_pidfd_getfd,
        // the kernel itself
        libc::SYS_init_module,
        libc::SYS_finit_module,
        libc::SYS_delete_module,
        libc::SYS_kexec_load,
        libc::SYS_reboot,
        libc::SYS_bpf,
        libc::SYS_perf_event_open,
        libc::SYS_userfaultfd,
        libc::SYS_syslog,
        libc::SYS_acct,
        libc::SYS_lookup_dcookie,
        libc::SYS_fanotify_init,
        libc::SYS_io_uring_setup,
        libc::SYS_io_uring_enter,
        libc::SYS_io_uring_register,
        // keys, clocks, names
        libc::SYS_add_key,
        libc::SYS_request_key,
        libc::SYS_keyctl,
        libc::SYS_settimeofday,
        libc::SYS_clock_settime,
        libc::SYS_clock_adjtime,
        libc::SYS_adjtimex,
        libc::SYS_sethostname,
        libc::SYS_setdomainname,
        libc::SYS_vhangup,
        // memory of the whole machine
        libc::SYS_move_pages,
        libc::SYS_migrate_pages,
        libc::SYS_mbind,
        libc::SYS_set_mempolicy,
    ];
    #[cfg(target_arch = "x86_64")]
    list.extend([libc::SYS_iopl, libc::SYS_ioperm, libc::SYS_kexec_file_load, libc::SYS_modify_ldt]);
    list
}

/// The filter as the kernel takes it: instructions of eight bytes each.
pub fn program() -> Result<Vec<u8>, String> {
    let refused = refused();
    let mut rules: BTreeMap<i64, Vec<SeccompRule>> = (0..=LAST_KNOWN)
        .filter(|number| !refused.contains(number))
        .map(|number| (number, Vec::new()))
        .collect();
    let text = |error: seccompiler::BackendError| error.to_string();
    let when = |argument, operator, value| {
        SeccompCondition::new(argument, SeccompCmpArgLen::Dword, operator, value)
            .and_then(|condition| SeccompRule::new(vec![condition]))
            .map_err(text)
    };
    rules.insert(libc::SYS_clone, vec![when(0, SeccompCmpOp::MaskedEq(NEW_NAMESPACES), 0)?]);
    let families = [libc::AF_UNIX, libc::AF_INET, libc::AF_INET6, libc::AF_NETLINK];
    let families = families.map(|family| when(0, SeccompCmpOp::Eq, family as u64));
    rules.insert(libc::SYS_socket, families.into_iter().collect::<Result<_, _>>()?);
    // The flags of this one are behind a pointer; told that it is missing, libraries use the one above.
    rules.remove(&libc::SYS_clone3);

    let arch = TargetArch::try_from(std::env::consts::ARCH).map_err(text)?;
    let refuse = SeccompAction::Errno(libc::EPERM as u32);
    let filter = SeccompFilter::new(rules, refuse, SeccompAction::Allow, arch).map_err(text)?;
    let rest: BpfProgram = filter.try_into().map_err(text)?;
    Ok(missing(libc::SYS_clone3).iter().chain(&rest).flat_map(instruction_bytes).collect())
}

/// "No such system call" for this number, and on with whatever follows for the others.
fn missing(number: i64) -> [sock_filter; 3] {
    let (load_number, jump_equal, answer) = (0x20, 0x15, 0x06);
    let no_such_call = 0x0005_0000 | libc::ENOSYS as u32;
    [
        sock_filter { code: load_number, jt: 0, jf: 0, k: 0 },
        sock_filter { code: jump_equal, jt: 0, jf: 1, k: number as u32 },
        sock_filter { code: answer, jt: 0, jf: 0, k: no_such_call },
    ]
}

fn instruction_bytes(instruction: &sock_filter) -> [u8; 8] {
    let mut bytes = [0; 8];
    bytes[..2].copy_from_slice(&instruction.code.to_ne_bytes());
    bytes[2] = instruction.jt;
    bytes[3] = instruction.jf;
    bytes[4..].copy_from_slice(&instruction.k.to_ne_bytes());
    bytes
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_filter_is_one_the_kernel_takes() {
        let program = super::program().expect("a filter");
        let instructions = program.len() / 8;
        assert!(program.len().is_multiple_of(8) && instructions < 4096, "{instructions} instructions");
    }
}
