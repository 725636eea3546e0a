//! Requests written by hand: what a client library would put right goes out as it is.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Duration;

/// Longest wait for an answer's head.
const PATIENCE: Duration = Duration::from_secs(20);

/// A request.
#[derive(Debug, Clone)]
pub struct Call<'a> {
    /// The method.
    pub method: &'a str,
    /// The target, as it stands in the request line.
    pub target: &'a str,
    /// Header lines without their ends.
    pub headers: Vec<String>,
    /// The body; its length is said.
    pub body: &'a [u8],
}

/// The beginning of an answer.
#[derive(Debug, Clone)]
pub struct Answer {
    /// Its status; 0 where the connection ended without one.
    pub status: u16,
    /// The answer as it was read: the head, and as much of the body as came with it.
    pub text: String,
}

/// Makes a call on a connection of its own and reads the beginning of the answer.
pub fn call(address: SocketAddr, call: &Call<'_>) -> std::io::Result<Answer> {
    let mut stream = TcpStream::connect(address)?;
    stream.set_read_timeout(Some(PATIENCE))?;
    let mut head = format!("{} {} HTTP/1.1\r\n", call.method, call.target);
    for line in &call.headers {
        head.push_str(&format!("{line}\r\n"));
    }
    if !call.body.is_empty() {
        head.push_str(&format!("content-length: {}\r\n", call.body.len()));
    }
    head.push_str("connection: close\r\n\r\n");
    stream.write_all(head.as_bytes())?;
    // One that refuses early may have closed already; what it said is read all the same.
    let _ = stream.write_all(call.body);
    let (mut bytes, mut piece) = (Vec::new(), [0; 4096]);
    loop {
        let head_end = bytes.windows(4).position(|four| four == b"\r\n\r\n");
        let streams = head_end.is_some()
            && !bytes.windows(15).any(|part| part.eq_ignore_ascii_case(b"content-length:"));
        // An answer without a length may go on forever: its head is enough.
        if streams || bytes.len() > 64 << 10 {
            break;
        }
        match stream.read(&mut piece) {
            Ok(0) | Err(_) => break,
            Ok(count) => bytes.extend_from_slice(&piece[..count]),
        }
    }
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let status = text.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0);
    Ok(Answer { status, text })
}
