//! Steering connections that leave the platform's range to one listener, whatever address and port they ask for.
//!
//! A program of 24 instructions (`BPF_PROG_TYPE_SK_LOOKUP`, Linux 5.9) is asked by the kernel which socket takes a
//! connection that arrives in the node's network. It leaves all but TCP over IPv4 alone, and what goes to the platform's
//! own range; the rest it gives to the listener. The accepted socket's local address tells where the caller wanted to go.
//! Nothing is translated, so there is no state to keep, and no rule of a packet filter to clean up: the kernel takes the
//! program out when its last holder ends.

use std::fs::File;
use std::io;
use std::net::TcpListener;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::path::Path;

use mainyard_core::address::Range;

use crate::{Doing, Error};

/// Commands of `bpf(2)`.
const MAP_CREATE: libc::c_long = 0;
const MAP_UPDATE_ELEM: libc::c_long = 2;
const PROG_LOAD: libc::c_long = 5;
const LINK_CREATE: libc::c_long = 28;

const MAP_TYPE_SOCKMAP: u32 = 15;
const PROG_TYPE_SK_LOOKUP: u32 = 30;
const ATTACH_SK_LOOKUP: u32 = 36;

/// Functions of the kernel.
const MAP_LOOKUP_ELEM: i32 = 1;
const SK_RELEASE: i32 = 86;
const SK_ASSIGN: i32 = 124;

/// What the kernel shows of a connection (`struct bpf_sk_lookup`).
const FAMILY: i16 = 8;
const PROTOCOL: i16 = 12;
const LOCAL_ADDRESS: i16 = 40;

#[repr(C)]
#[derive(Clone, Copy)]
struct Instruction {
    code: u8,
    registers: u8,
    offset: i16,
    immediate: i32,
}

const fn instruction(code: u8, to: u8, from: u8, offset: i16, immediate: i32) -> Instruction {
    Instruction { code, registers: to | from << 4, offset, immediate }
}

const LOAD_WORD: u8 = 0x61;
const STORE_WORD: u8 = 0x62;
const LOAD_MAP: u8 = 0x18;
const COPY: u8 = 0xbf;
const SET: u8 = 0xb7;
const ADD: u8 = 0x07;
const AND_WORD: u8 = 0x54;
const IF_EQUAL_WORD: u8 = 0x16;
const IF_EQUAL: u8 = 0x15;
const IF_OTHER: u8 = 0x55;
const CALL: u8 = 0x85;
const EXIT: u8 = 0x95;

/// Holds connections steered for as long as it lives.
#[derive(Debug)]
pub struct SocketSteering {
    _link: OwnedFd,
}

impl SocketSteering {
    /// Steers the connections that arrive in the network namespace that `network` keeps to a listener there.
    ///
    /// # Errors
    /// When the kernel has no such programs, or this process may not load one.
    pub fn to(listener: &TcpListener, network: &Path) -> Result<SocketSteering, Error> {
        let map = socket_map(listener).doing("make a map of sockets")?;
        let program = load(&program(map.as_raw_fd())).doing("load the steering of connections")?;
        let namespace = File::open(network).doing(format!("open {}", network.display()))?;
        let link = attach(&program, &namespace).doing("attach the steering of connections")?;
        Ok(SocketSteering { _link: link })
    }
}

fn program(map: i32) -> [Instruction; 24] {
    let [first, second, ..] = Range::PRIVATE.place(std::net::Ipv4Addr::UNSPECIFIED).octets();
    // Addresses are in memory as on the wire, whatever the machine's order is.
    let word = |bytes: [u8; 4]| u32::from_ne_bytes(bytes) as i32;
    // Jumps lead to the second last instruction; each counts from the one after it.
    let to_end = |at: i16| 22 - (at + 1);
    [
        instruction(COPY, 6, 1, 0, 0),
        instruction(LOAD_WORD, 2, 6, FAMILY, 0),
        instruction(IF_OTHER, 2, 0, to_end(2), libc::AF_INET),
        instruction(LOAD_WORD, 2, 6, PROTOCOL, 0),
        instruction(IF_OTHER, 2, 0, to_end(4), libc::IPPROTO_TCP),
        instruction(LOAD_WORD, 2, 6, LOCAL_ADDRESS, 0),
        instruction(AND_WORD, 2, 0, 0, word([255, 255, 0, 0])),
        instruction(IF_EQUAL_WORD, 2, 0, to_end(7), word([first, second, 0, 0])),
        instruction(STORE_WORD, 10, 0, -4, 0),
        // A map is named by two instructions.
        instruction(LOAD_MAP, 1, 1, 0, map),
        instruction(0, 0, 0, 0, 0),
        instruction(COPY, 2, 10, 0, 0),
        instruction(ADD, 2, 0, 0, -4),
        instruction(CALL, 0, 0, 0, MAP_LOOKUP_ELEM),
        instruction(IF_EQUAL, 0, 0, to_end(14), 0),
        instruction(COPY, 7, 0, 0, 0),
        instruction(COPY, 1, 6, 0, 0),
        instruction(COPY, 2, 7, 0, 0),
        instruction(SET, 3, 0, 0, 0),
        instruction(CALL, 0, 0, 0, SK_ASSIGN),
        instruction(COPY, 1, 7, 0, 0),
        instruction(CALL, 0, 0, 0, SK_RELEASE),
        // Go on: with the socket that was given, or as if nobody had been asked.
        instruction(SET, 0, 0, 0, 1),
        instruction(EXIT, 0, 0, 0, 0),
    ]
}

/// One call of `bpf(2)`, whose arguments are these words of 32 bits.
fn bpf(command: libc::c_long, words: &[u32]) -> io::Result<libc::c_long> {
    let mut arguments = [0u64; 16];
    // SAFETY: both are plain memory; the caller gives no more words than there is room for.
    let taken = unsafe {
        assert!(words.len() <= 32, "the kernel's arguments fit");
        std::ptr::copy_nonoverlapping(words.as_ptr(), arguments.as_mut_ptr().cast(), words.len());
        libc::syscall(libc::SYS_bpf, command, arguments.as_ptr(), size_of_val(&arguments))
    };
    if taken < 0 { Err(io::Error::last_os_error()) } else { Ok(taken) }
}

fn descriptor(command: libc::c_long, words: &[u32]) -> io::Result<OwnedFd> {
    let made = bpf(command, words)?;
    // SAFETY: the descriptor that comes back is new and nobody else's; the kernel closes it on exec.
    Ok(unsafe { OwnedFd::from_raw_fd(made as i32) })
}

fn halves(pointer: u64) -> [u32; 2] {
    let bytes = pointer.to_ne_bytes();
    [0, 4].map(|at| u32::from_ne_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]))
}

/// A map with one place, where the listener is.
fn socket_map(listener: &TcpListener) -> io::Result<OwnedFd> {
    let (key_size, value_size, entries) = (4, 8, 1);
    let map = descriptor(MAP_CREATE, &[MAP_TYPE_SOCKMAP, key_size, value_size, entries])?;
    let (key, value) = (0u32, listener.as_raw_fd() as u64);
    let [key_low, key_high] = halves(&raw const key as u64);
    let [value_low, value_high] = halves(&raw const value as u64);
    // The map, a gap, then where key and value are.
    bpf(MAP_UPDATE_ELEM, &[map.as_raw_fd() as u32, 0, key_low, key_high, value_low, value_high])?;
    Ok(map)
}

fn load(program: &[Instruction]) -> io::Result<OwnedFd> {
    let license = c"MIT";
    let [code_low, code_high] = halves(program.as_ptr() as u64);
    let [license_low, license_high] = halves(license.as_ptr() as u64);
    let mut words =
        vec![PROG_TYPE_SK_LOOKUP, program.len() as u32, code_low, code_high, license_low, license_high];
    // No log, any kernel, no flags, no name, no device; then what it is to be attached as.
    words.resize(17, 0);
    words.push(ATTACH_SK_LOOKUP);
    descriptor(PROG_LOAD, &words)
}

fn attach(program: &OwnedFd, namespace: &File) -> io::Result<OwnedFd> {
    descriptor(LINK_CREATE, &[program.as_raw_fd() as u32, namespace.as_raw_fd() as u32, ATTACH_SK_LOOKUP, 0])
}
