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
///
/// It lists what is refused rather than what is allowed: the kernel walks the whole program once for each number
/// when a replica starts, and the short list makes that ten times cheaper. What is not known is refused by one
/// comparison in front.
pub fn program() -> Result<Vec<u8>, String> {
    let mut rules: BTreeMap<i64, Vec<SeccompRule>> =
        refused().into_iter().map(|number| (number, Vec::new())).collect();
    let text = |error: seccompiler::BackendError| error.to_string();
    let condition =
        |operator, value| SeccompCondition::new(0, SeccompCmpArgLen::Dword, operator, value).map_err(text);
    let rule = |conditions| SeccompRule::new(conditions).map_err(text);
    let namespaces = (0..32).map(|bit| 1u64 << bit).filter(|bit| NEW_NAMESPACES & bit != 0);
    let cloning = namespaces.map(|bit| rule(vec![condition(SeccompCmpOp::MaskedEq(bit), bit)?]));
    rules.insert(libc::SYS_clone, cloning.collect::<Result<_, _>>()?);
    let families = [libc::AF_UNIX, libc::AF_INET, libc::AF_INET6, libc::AF_NETLINK];
    let others = families.map(|family| condition(SeccompCmpOp::Ne, family as u64));
    rules.insert(libc::SYS_socket, vec![rule(others.into_iter().collect::<Result<_, _>>()?)?]);

    let arch = TargetArch::try_from(std::env::consts::ARCH).map_err(text)?;
    let refuse = SeccompAction::Errno(libc::EPERM as u32);
    let filter = SeccompFilter::new(rules, SeccompAction::Allow, refuse, arch).map_err(text)?;
    let rest: BpfProgram = filter.try_into().map_err(text)?;
    Ok(first_look().iter().chain(&rest).flat_map(instruction_bytes).collect())
}

/// By the number alone: "not allowed" past the last known one. `clone3` has its flags behind a pointer; told that
/// there is no such call, libraries use `clone`, whose flags can be seen.
fn first_look() -> [sock_filter; 5] {
    let (load_number, jump_equal, jump_greater, answer) = (0x20, 0x15, 0x25, 0x06);
    let error = |errno: i32| 0x0005_0000 | errno as u32;
    [
        sock_filter { code: load_number, jt: 0, jf: 0, k: 0 },
        sock_filter { code: jump_equal, jt: 0, jf: 1, k: libc::SYS_clone3 as u32 },
        sock_filter { code: answer, jt: 0, jf: 0, k: error(libc::ENOSYS) },
        sock_filter { code: jump_greater, jt: 0, jf: 1, k: LAST_KNOWN as u32 },
        sock_filter { code: answer, jt: 0, jf: 0, k: error(libc::EPERM) },
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
        assert!(program.len().is_multiple_of(8) && instructions < 600, "{instructions} instructions");
    }
}
