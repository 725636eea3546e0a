//! Memory in the kernel's buffers: connections whose other end never reads.

use std::io::{ErrorKind, Write as _};
use std::net::{TcpListener, TcpStream};

/// Connections that are filled. Each holds some MiB, where nothing limits them.
const CONNECTIONS: usize = 200;

/// The bound of the attempt, so that a machine without the limit survives: 256 MiB.
const ENOUGH: usize = 256 << 20;

/// Fills the buffers of connections to itself and returns how many bytes the kernel took.
pub(crate) fn filled() -> std::io::Result<usize> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let (mut kept, mut taken) = (Vec::new(), 0);
    while kept.len() < CONNECTIONS && taken < ENOUGH {
        let mut writer = TcpStream::connect(listener.local_addr()?)?;
        let (reader, _) = listener.accept()?;
        writer.set_nonblocking(true)?;
        taken += fill(&mut writer)?;
        kept.push((writer, reader));
    }
    Ok(taken)
}

/// Writes until the kernel takes no more.
fn fill(writer: &mut TcpStream) -> std::io::Result<usize> {
    let piece = vec![7; 64 << 10];
    let mut taken = 0;
    while taken < ENOUGH {
        match writer.write(&piece) {
            Ok(count) => taken += count,
            Err(error) if error.kind() == ErrorKind::WouldBlock => break,
            Err(error) => return Err(error),
        }
    }
    Ok(taken)
}
