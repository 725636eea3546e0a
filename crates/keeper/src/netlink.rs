//! The handful of route-netlink messages (`man 7 rtnetlink`) that make a link, an address, a route.
//!
//! Messages are gathered in a [`Batch`] and sent in one system call; the kernel answers each in order.
//! Written here rather than taken from a package, because the keeper has no async runtime and sends seven
//! messages in its life.

use std::io;
use std::os::fd::OwnedFd;

use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, recv, send, socket_with};

/// The kernel's answer to a message: zero, or what was wrong with it.
const ANSWER: u16 = 2;
const NEWLINK: u16 = 16;
const DELLINK: u16 = 17;
const GETLINK: u16 = 18;
const NEWADDR: u16 = 20;
const NEWROUTE: u16 = 24;
const NEWNEIGH: u16 = 28;

const REQUEST: u16 = 1;
const ACK: u16 = 4;
const CREATE: u16 = 0x400;
const REPLACE: u16 = 0x100;
const ONLY_IF_NEW: u16 = 0x200;

const IFF_UP: u32 = 1;

/// A hardware address that follows from an IPv4 address, locally administered.
pub fn hardware_address(address: [u8; 4]) -> [u8; 6] {
    let [a, b, c, d] = address;
    [0x02, 0x4d, a, b, c, d]
}

/// Messages to send together.
#[derive(Default)]
pub struct Batch {
    buffer: Vec<u8>,
    starts: Vec<usize>,
}

impl Batch {
    /// Makes a veth pair: `name` here with index `index`, and `eth0` in the network namespace of `pid`.
    #[expect(clippy::excessive_nesting, reason = "the message nests so itself")]
    pub fn link_pair(
        &mut self,
        name: &str,
        index: u32,
        here: [u8; 6],
        pid: u32,
        there: [u8; 6],
    ) -> &mut Self {
        self.message(NEWLINK, CREATE | ONLY_IF_NEW, |m| {
            m.link_header(index as i32, IFF_UP);
            m.attribute(3, name_bytes(name).as_slice());
            m.attribute(1, &here);
            m.one_queue();
            m.nest(18, |m| {
                m.attribute(1, b"veth");
                m.nest(2, |m| {
                    m.nest(1, |m| {
                        // The far end is refused while the near one is not there: it is brought up inside.
                        m.link_header(0, 0);
                        m.attribute(3, &name_bytes("eth0"));
                        m.attribute(1, &there);
                        m.one_queue();
                        m.attribute(19, &pid.to_ne_bytes());
                    });
                });
            });
        })
    }

    /// Brings the link with this index up.
    pub fn up(&mut self, index: u32) -> &mut Self {
        self.message(NEWLINK, 0, |m| m.link_header(index as i32, IFF_UP))
    }

    /// Makes a link that came up carry at once: asked about a link, the kernel first does what it would otherwise do
    /// in a queue, at its leisure, losing what is sent until then.
    pub fn settle_link(&mut self, index: u32) -> &mut Self {
        self.message(GETLINK, 0, |m| m.link_header(index as i32, 0))
    }

    /// Removes the link with this index.
    pub fn remove_link(&mut self, index: u32) -> &mut Self {
        self.message(DELLINK, 0, |m| m.link_header(index as i32, 0))
    }

    /// Gives the link an address.
    pub fn address(&mut self, index: u32, address: [u8; 4], prefix: u8) -> &mut Self {
        self.message(NEWADDR, CREATE | REPLACE, |m| {
            m.buffer.extend_from_slice(&[libc::AF_INET as u8, prefix, 0, 0]);
            m.buffer.extend_from_slice(&index.to_ne_bytes());
            m.attribute(1, &address);
            m.attribute(2, &address);
        })
    }

    /// A unicast route over a link, by way of a neighbour where one is given.
    pub fn route(&mut self, to: [u8; 4], prefix: u8, index: u32, via: Option<[u8; 4]>) -> &mut Self {
        let scope = if via.is_some() { libc::RT_SCOPE_UNIVERSE } else { libc::RT_SCOPE_LINK };
        self.route_message(to, prefix, index, via, libc::RT_TABLE_MAIN, scope, libc::RTN_UNICAST)
    }

    /// Makes every address of the range one of this namespace's own.
    pub fn local_range(&mut self, to: [u8; 4], prefix: u8, index: u32) -> &mut Self {
        self.route_message(
            to,
            prefix,
            index,
            None,
            libc::RT_TABLE_LOCAL,
            libc::RT_SCOPE_HOST,
            libc::RTN_LOCAL,
        )
    }

    /// Makes every address that no other route leads to one of this namespace's own.
    pub fn local_default(&mut self, index: u32) -> &mut Self {
        self.route_message([0; 4], 0, index, None, libc::RT_TABLE_MAIN, libc::RT_SCOPE_HOST, libc::RTN_LOCAL)
    }

    /// Answers callers of an address of the range that it is not there, where no longer prefix leads to it.
    pub fn unreachable_range(&mut self, to: [u8; 4], prefix: u8) -> &mut Self {
        let scope = libc::RT_SCOPE_UNIVERSE;
        self.route_message(to, prefix, 0, None, libc::RT_TABLE_MAIN, scope, libc::RTN_UNREACHABLE)
    }

    #[allow(clippy::too_many_arguments, reason = "one parameter for each field of the message")]
    fn route_message(
        &mut self,
        to: [u8; 4],
        prefix: u8,
        index: u32,
        via: Option<[u8; 4]>,
        table: u8,
        scope: u8,
        kind: u8,
    ) -> &mut Self {
        self.message(NEWROUTE, CREATE | REPLACE, |m| {
            let protocol = libc::RTPROT_STATIC;
            m.buffer.extend_from_slice(&[libc::AF_INET as u8, prefix, 0, 0, table, protocol, scope, kind]);
            m.buffer.extend_from_slice(&0u32.to_ne_bytes());
            if prefix > 0 {
                m.attribute(1, &to);
            }
            if index > 0 {
                m.attribute(4, &index.to_ne_bytes());
            }
            if let Some(via) = via {
                m.attribute(5, &via);
            }
        })
    }

    /// A neighbour that need not be asked for.
    pub fn neighbour(&mut self, index: u32, address: [u8; 4], hardware: [u8; 6]) -> &mut Self {
        self.message(NEWNEIGH, CREATE | REPLACE, |m| {
            m.buffer.extend_from_slice(&[libc::AF_INET as u8, 0, 0, 0]);
            m.buffer.extend_from_slice(&index.to_ne_bytes());
            m.buffer.extend_from_slice(&0x80u16.to_ne_bytes()); // permanent
            m.buffer.extend_from_slice(&[0, 0]);
            m.attribute(1, &address);
            m.attribute(2, &hardware);
        })
    }

    fn message(&mut self, kind: u16, flags: u16, body: impl FnOnce(&mut Self)) -> &mut Self {
        let start = self.buffer.len();
        self.starts.push(start);
        self.buffer.extend_from_slice(&[0; 4]);
        self.buffer.extend_from_slice(&kind.to_ne_bytes());
        self.buffer.extend_from_slice(&(flags | REQUEST | ACK).to_ne_bytes());
        self.buffer.extend_from_slice(&(self.starts.len() as u32).to_ne_bytes());
        self.buffer.extend_from_slice(&[0; 4]);
        body(self);
        let length = (self.buffer.len() - start) as u32;
        self.buffer[start..start + 4].copy_from_slice(&length.to_ne_bytes());
        self.pad();
        self
    }

    /// One queue each way, said in so many words: left out, the kernel makes one for each processor, and takes all but one
    /// away again, waiting each time until nobody looks, while no other link can be made.
    fn one_queue(&mut self) {
        self.attribute(31, &1u32.to_ne_bytes());
        self.attribute(32, &1u32.to_ne_bytes());
    }

    fn link_header(&mut self, index: i32, flags: u32) {
        self.buffer.extend_from_slice(&[0; 4]);
        self.buffer.extend_from_slice(&index.to_ne_bytes());
        self.buffer.extend_from_slice(&flags.to_ne_bytes());
        self.buffer.extend_from_slice(&flags.to_ne_bytes());
    }

    fn attribute(&mut self, kind: u16, value: &[u8]) {
        self.nest(kind, |m| m.buffer.extend_from_slice(value));
    }

    fn nest(&mut self, kind: u16, body: impl FnOnce(&mut Self)) {
        let start = self.buffer.len();
        self.buffer.extend_from_slice(&[0; 2]);
        self.buffer.extend_from_slice(&kind.to_ne_bytes());
        body(self);
        let length = (self.buffer.len() - start) as u16;
        self.buffer[start..start + 2].copy_from_slice(&length.to_ne_bytes());
        self.pad();
    }

    fn pad(&mut self) {
        self.buffer.resize(self.buffer.len().next_multiple_of(4), 0);
    }

    /// Sends all messages into the calling thread's network namespace; the first refusal is the error.
    pub fn send(&self) -> io::Result<()> {
        // No protocol is NETLINK_ROUTE, whose number is 0.
        let flags = SocketFlags::CLOEXEC;
        let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, None)?;
        self.exchange(&socket)
    }

    fn exchange(&self, socket: &OwnedFd) -> io::Result<()> {
        send(socket, &self.buffer, SendFlags::empty())?;
        let mut answer = [0u8; 8192];
        let mut open = self.starts.len();
        while open > 0 {
            let (got, _) = recv(socket, &mut answer, RecvFlags::empty())?;
            let mut rest = &answer[..got];
            while rest.len() >= 20 {
                let word =
                    |at: usize| i32::from_ne_bytes([rest[at], rest[at + 1], rest[at + 2], rest[at + 3]]);
                let kind = u16::from_ne_bytes([rest[4], rest[5]]);
                let length = (word(0) as usize).next_multiple_of(4);
                if kind == ANSWER {
                    match -word(16) {
                        0 => open -= 1,
                        errno => return Err(io::Error::from_raw_os_error(errno)),
                    }
                }
                rest = rest.get(length..).unwrap_or_default();
            }
        }
        Ok(())
    }
}

fn name_bytes(name: &str) -> Vec<u8> {
    let mut bytes = name.as_bytes().to_vec();
    bytes.push(0);
    bytes
}
