//! System call filters (seccomp): programs for the kernel's packet filter machine, in `sock_filter` instructions.
//!
//! A replica's filter names what is allowed and refuses everything else, also what a newer kernel brings. The kernel
//! runs it once for each number when a replica starts, so it is a search tree over ranges of numbers. The filter of
//! one of the platform's parts names what that part has no use for.

use std::io;

use libc::sock_filter;

use crate::system_calls::{allowed, for_builders, for_no_part, for_replicas_and_their_keepers};

/// Flags of `clone` that make namespaces.
const NEW_NAMESPACES: u32 = 0x7e02_0080;

/// The calls that a replica's filter names, but for those whose arguments are looked at.
pub fn allowed_for_replicas() -> Vec<i64> {
    allowed()
}

/// A filter that the kernel takes.
#[derive(Debug, Clone)]
pub struct Filter(Vec<sock_filter>);

const LOAD: u16 = 0x20;
const JUMP: u16 = 0x05;
const EQUAL: u16 = 0x15;
const AT_LEAST: u16 = 0x35;
const HAS_BITS: u16 = 0x45;
const ANSWER: u16 = 0x06;

const ALLOW: u32 = 0x7fff_0000;

fn refuse(errno: i32) -> u32 {
    0x0005_0000 | errno as u32
}

/// Offsets of the fields of `struct seccomp_data`.
const NUMBER: u32 = 0;
const ARCHITECTURE: u32 = 4;
const FIRST_ARGUMENT: u32 = if cfg!(target_endian = "little") { 16 } else { 20 };

#[cfg(target_arch = "x86_64")]
const THIS_ARCHITECTURE: u32 = 0xc000_003e;
#[cfg(target_arch = "aarch64")]
const THIS_ARCHITECTURE: u32 = 0xc000_00b7;

fn instruction(code: u16, k: u32) -> sock_filter {
    sock_filter { code, jt: 0, jf: 0, k }
}

/// Goes on with the next instruction where it holds, and past it where not.
fn unless_past(code: u16, k: u32) -> sock_filter {
    sock_filter { code, jt: 0, jf: 1, k }
}

impl Filter {
    /// For a replica: what is not named is refused. With `ptrace`, its processes may trace each other.
    pub fn for_replicas(ptrace: bool) -> Filter {
        let clone = [
            instruction(LOAD, FIRST_ARGUMENT),
            unless_past(HAS_BITS, NEW_NAMESPACES),
            instruction(ANSWER, refuse(libc::EPERM)),
            instruction(ANSWER, ALLOW),
        ];
        let mut socket = vec![instruction(LOAD, FIRST_ARGUMENT)];
        for family in [libc::AF_UNIX, libc::AF_INET, libc::AF_INET6, libc::AF_NETLINK] {
            socket.extend([unless_past(EQUAL, family as u32), instruction(ANSWER, ALLOW)]);
        }
        socket.push(instruction(ANSWER, refuse(libc::EPERM)));
        // `clone3` has its flags behind a pointer. Told that there is no such call, libraries use `clone`.
        let without = vec![instruction(ANSWER, refuse(libc::ENOSYS))];
        let special =
            [(libc::SYS_clone3, without), (libc::SYS_clone, clone.to_vec()), (libc::SYS_socket, socket)];
        let mut listed = allowed();
        if ptrace {
            listed.extend([libc::SYS_ptrace, libc::SYS_process_vm_readv, libc::SYS_process_vm_writev]);
        }
        Filter::of(&special, &listed, ALLOW, refuse(libc::EPERM))
    }

    /// For a part that starts programs and builds namespaces.
    pub fn for_builders_of_namespaces() -> Filter {
        Filter::of(&[], &for_no_part(), refuse(libc::EPERM), ALLOW)
    }

    /// For the part that starts replicas.
    pub fn for_starters_of_replicas() -> Filter {
        let theirs = for_replicas_and_their_keepers();
        let refused: Vec<i64> = for_no_part().into_iter().filter(|number| !theirs.contains(number)).collect();
        Filter::of(&[], &refused, refuse(libc::EPERM), ALLOW)
    }

    /// For a part that only serves: it starts no program.
    pub fn for_servers() -> Filter {
        let refused = [for_no_part(), for_builders()].concat();
        Filter::of(&[], &refused, refuse(libc::EPERM), ALLOW)
    }

    /// `named` for the numbers that are listed, `others` for all others; special numbers have instructions of their own.
    fn of(special: &[(i64, Vec<sock_filter>)], listed: &[i64], named: u32, others: u32) -> Filter {
        let mut program = vec![
            instruction(LOAD, ARCHITECTURE),
            sock_filter { code: EQUAL, jt: 1, jf: 0, k: THIS_ARCHITECTURE },
            instruction(ANSWER, refuse(libc::EPERM)),
            instruction(LOAD, NUMBER),
        ];
        for (number, own) in special {
            program.push(sock_filter { code: EQUAL, jt: 0, jf: own.len() as u8, k: *number as u32 });
            program.extend(own);
        }
        let mut numbers: Vec<u32> = listed.iter().map(|number| *number as u32).collect();
        numbers.sort_unstable();
        numbers.dedup();
        // Where the answer changes: from each of these on it is the other one.
        let mut changes = Vec::new();
        let mut next = None;
        for number in numbers {
            if next != Some(number) {
                changes.extend(next);
                changes.push(number);
            }
            next = Some(number + 1);
        }
        changes.extend(next);
        search(&changes, 0, [others, named], &mut program);
        Filter(program)
    }

    /// The instructions as the kernel reads them, eight bytes each.
    pub fn bytes(&self) -> Vec<u8> {
        let bytes = self.0.iter().flat_map(|one| {
            let mut bytes = [0; 8];
            bytes[..2].copy_from_slice(&one.code.to_ne_bytes());
            (bytes[2], bytes[3]) = (one.jt, one.jf);
            bytes[4..].copy_from_slice(&one.k.to_ne_bytes());
            bytes
        });
        bytes.collect()
    }

    /// Holds every thread of this process to it, which must have forbidden itself new rights.
    pub fn hold(&self) -> io::Result<()> {
        let program = libc::sock_fprog { len: self.0.len() as u16, filter: self.0.as_ptr().cast_mut() };
        // SAFETY: the program lives across the call, which only reads it.
        let held = unsafe {
            libc::syscall(
                libc::SYS_seccomp,
                libc::SECCOMP_SET_MODE_FILTER,
                libc::SECCOMP_FILTER_FLAG_TSYNC,
                &program,
            )
        };
        match held {
            0 => Ok(()),
            _ => Err(io::Error::last_os_error()),
        }
    }
}

/// A search tree: `answers[n % 2]` holds from the n-th change on.
fn search(changes: &[u32], before: usize, answers: [u32; 2], program: &mut Vec<sock_filter>) {
    if changes.is_empty() {
        program.push(instruction(ANSWER, answers[before % 2]));
        return;
    }
    let middle = changes.len() / 2;
    let mut below = Vec::new();
    search(&changes[..middle], before, answers, &mut below);
    // Offsets of conditional jumps have one byte only.
    program.extend([unless_past(AT_LEAST, changes[middle]), instruction(JUMP, below.len() as u32)]);
    program.extend(below);
    search(&changes[middle + 1..], before + middle + 1, answers, program);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The kernel's verdict for one system call.
    fn answer(filter: &Filter, architecture: u32, number: u32, argument: u32) -> u32 {
        let (mut at, mut value) = (0, 0);
        loop {
            let sock_filter { code, jt, jf, k } = filter.0[at];
            at += 1;
            match code {
                LOAD => {
                    value = match k {
                        NUMBER => number,
                        ARCHITECTURE => architecture,
                        FIRST_ARGUMENT => argument,
                        other => panic!("offset {other}"),
                    };
                }
                JUMP => at += k as usize,
                ANSWER => return k,
                _ => {
                    let holds = match code {
                        EQUAL => value == k,
                        AT_LEAST => value >= k,
                        HAS_BITS => value & k != 0,
                        other => panic!("code {other}"),
                    };
                    at += usize::from(if holds { jt } else { jf });
                }
            }
        }
    }

    #[test]
    fn every_number_is_answered_by_the_list_alone() {
        let filter = Filter::for_replicas(false);
        let allowed: std::collections::BTreeSet<i64> = allowed().into_iter().collect();
        for number in 0..100_000 {
            let found = answer(&filter, THIS_ARCHITECTURE, number, 0);
            match i64::from(number) {
                libc::SYS_clone3 => assert_eq!(found, refuse(libc::ENOSYS)),
                libc::SYS_clone => assert_eq!(found, ALLOW),
                libc::SYS_socket => assert_eq!(found, refuse(libc::EPERM), "AF_UNSPEC"),
                number => assert_eq!(found == ALLOW, allowed.contains(&number), "{number}"),
            }
        }
        for number in [u32::MAX, 0x4000_0000, 0x4000_0001] {
            assert_eq!(answer(&filter, THIS_ARCHITECTURE, number, 0), refuse(libc::EPERM));
        }
        assert_eq!(answer(&filter, 3, 1, 0), refuse(libc::EPERM), "another architecture");
        for flag in (0..32).map(|bit| 1u32 << bit).filter(|bit| NEW_NAMESPACES & bit != 0) {
            let clone = libc::SYS_clone as u32;
            assert_eq!(answer(&filter, THIS_ARCHITECTURE, clone, flag), refuse(libc::EPERM));
        }
        let socket = |family: i32| answer(&filter, THIS_ARCHITECTURE, libc::SYS_socket as u32, family as u32);
        assert_eq!((socket(libc::AF_INET), socket(libc::AF_PACKET)), (ALLOW, refuse(libc::EPERM)));
        assert!(filter.0.len() < 400, "{} instructions", filter.0.len());
        let tracing = Filter::for_replicas(true);
        for number in [libc::SYS_ptrace, libc::SYS_process_vm_readv, libc::SYS_process_vm_writev] {
            assert_eq!(answer(&filter, THIS_ARCHITECTURE, number as u32, 0), refuse(libc::EPERM));
            assert_eq!(answer(&tracing, THIS_ARCHITECTURE, number as u32, 0), ALLOW);
        }
    }

    #[test]
    fn a_server_starts_no_program() {
        let filter = Filter::for_servers();
        for number in [libc::SYS_execve, libc::SYS_ptrace, libc::SYS_mount] {
            assert_eq!(answer(&filter, THIS_ARCHITECTURE, number as u32, 0), refuse(libc::EPERM));
        }
        assert_eq!(answer(&filter, THIS_ARCHITECTURE, libc::SYS_read as u32, 0), ALLOW);
        let builders = Filter::for_builders_of_namespaces();
        assert_eq!(answer(&builders, THIS_ARCHITECTURE, libc::SYS_execve as u32, 0), ALLOW);
    }
}
