//! A network outside the machine, for tests of the way out: a namespace with one host, which is reached over a link of its own.
//! It needs root, and is gone with the thread that holds it, so also after a test that failed.

use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddrV4, TcpListener, TcpStream, UdpSocket};
use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::mpsc::{Sender, channel};

use mainyard_keeper::netlink::{Batch, hardware_address};

type Act = Box<dyn FnOnce() + Send>;

/// The host outside.
#[derive(Debug)]
pub struct Outside {
    /// Its address.
    pub host: Ipv4Addr,
    /// The machine's own address on the link to it.
    pub machine: Ipv4Addr,
    acts: Sender<Act>,
}

fn index_of(link: &str) -> u32 {
    let name = std::ffi::CString::new(link).expect("no zero byte");
    // SAFETY: the string lives across the call.
    unsafe { libc::if_nametoindex(name.as_ptr()) }
}

impl Outside {
    /// A new one, at addresses that no other of this process has (198.18.0.0/15 is kept for measurements, RFC 2544).
    pub fn new() -> Outside {
        static NEXT: AtomicU8 = AtomicU8::new(0);
        let number = NEXT.fetch_add(1, Ordering::SeqCst);
        let third = (std::process::id() % 250) as u8;
        let at = |last: u8| Ipv4Addr::new(198, 18 + number % 2, third.wrapping_add(number / 2), last);
        let (machine, host) = (at(1), at(7));
        let link = format!("my-out-{}-{number}", std::process::id() % 10_000);
        let (acts, asked) = channel::<Act>();
        let (ready, made) = channel();
        let (linked, go_on) = channel();
        std::thread::spawn(move || {
            // SAFETY: no memory is involved; only this thread is moved.
            let moved = unsafe { libc::unshare(libc::CLONE_NEWNET) };
            assert_eq!(moved, 0, "a network namespace: {}", std::io::Error::last_os_error());
            // SAFETY: no arguments, no memory.
            ready.send(unsafe { libc::gettid() } as u32).expect("waited for");
            go_on.recv().expect("the link is there");
            let far = index_of("eth0");
            let furnished = Batch::default().up(1).up(far).address(far, host.octets(), 24).send();
            furnished.expect("the host has its address");
            ready.send(0).expect("waited for");
            asked.into_iter().for_each(|act| act());
        });
        let thread = made.recv().expect("the namespace is there");
        let (here, there) = (hardware_address(machine.octets()), hardware_address(host.octets()));
        Batch::default().link_pair(&link, 0, here, thread, there).send().expect("a link");
        let near = index_of(&link);
        Batch::default().up(near).address(near, machine.octets(), 24).send().expect("the machine's address");
        linked.send(()).expect("taken");
        made.recv().expect("the host is there");
        Outside { host, machine, acts }
    }

    fn there<T: Send + 'static>(&self, act: impl FnOnce() -> T + Send + 'static) -> T {
        let (done, result) = channel();
        self.acts.send(Box::new(move || drop(done.send(act())))).expect("the host is there");
        result.recv().expect("it was done")
    }

    /// Gives every connection to a port of the host to a function, each on a thread of its own.
    pub fn serve(&self, port: u16, each: impl Fn(TcpStream) + Send + Sync + Copy + 'static) {
        let at = SocketAddrV4::new(self.host, port);
        self.there(move || {
            let listener = TcpListener::bind(at).expect("a port of the host");
            std::thread::spawn(move || {
                for stream in listener.incoming().flatten() {
                    std::thread::spawn(move || each(stream));
                }
            });
        });
    }

    /// Answers questions about names (RFC 1035, over UDP) at port 53 of the host.
    pub fn resolve(&self, answer: impl Fn(&[u8]) -> Option<Vec<u8>> + Send + 'static) {
        let at = SocketAddrV4::new(self.host, 53);
        self.there(move || {
            let socket = UdpSocket::bind(at).expect("the port of a resolver");
            std::thread::spawn(move || {
                let mut question = [0; 1500];
                while let Ok((length, peer)) = socket.recv_from(&mut question) {
                    let answer = answer(&question[..length]).unwrap_or_default();
                    let _ = socket.send_to(&answer, peer);
                }
            });
        });
    }
}

impl Default for Outside {
    fn default() -> Outside {
        Outside::new()
    }
}

/// Answers one request over HTTP with who asked, and ends the connection.
pub fn tell_the_peer(mut stream: TcpStream) {
    let mut request = [0; 4096];
    let _ = stream.read(&mut request);
    let body = format!("outside saw {}\n", stream.peer_addr().expect("a peer").ip());
    let length = body.len();
    let _ = write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: {length}\r\nconnection: close\r\n\r\n{body}");
}

/// Reads until the other side ends, and says nothing.
pub fn be_silent(mut stream: TcpStream) {
    while matches!(stream.read(&mut [0; 4096]), Ok(1..)) {}
}
