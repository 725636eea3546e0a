//! Bytes that are carried both ways, and how that ended.

use std::cell::Cell;
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadHalf, WriteHalf};

/// Bytes that are read at once.
const PIECE: usize = 16 * 1024;

/// Bytes carried by a connection that is passed on unread.
pub(crate) struct Passed {
    /// Bytes from the visitor.
    pub received: u64,
    /// Bytes to the visitor.
    pub sent: u64,
    /// Whether the replica's side broke off, instead of ending.
    pub broken: bool,
}

/// A connection on which nothing goes either way for so long is closed.
pub(crate) const IDLE: Duration = Duration::from_secs(3600);

/// Carries bytes both ways until both sides have ended, one breaks off, or nothing goes by for `idle`.
pub(crate) async fn both_ways(
    visitor: impl AsyncRead + AsyncWrite,
    replica: impl AsyncRead + AsyncWrite,
    idle: Duration,
) -> Passed {
    let (from_visitor, to_visitor) = tokio::io::split(visitor);
    let (from_replica, to_replica) = tokio::io::split(replica);
    let (received, sent) = (Cell::new(0), Cell::new(0));
    let carried = async {
        tokio::try_join!(
            one_way(from_visitor, to_replica, &received, Side::Visitor),
            one_way(from_replica, to_visitor, &sent, Side::Replica)
        )
    };
    let silent = async {
        let mut seen = (0, 0);
        loop {
            tokio::time::sleep(idle).await;
            let now = (received.get(), sent.get());
            if now == std::mem::replace(&mut seen, now) {
                return;
            }
        }
    };
    let broken = tokio::select! {
        ended = carried => matches!(ended, Err(Side::Replica)),
        () = silent => false,
    };
    Passed { received: received.get(), sent: sent.get(), broken }
}

/// The side that broke a connection off.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Side {
    Visitor,
    Replica,
}

impl Side {
    fn other(self) -> Side {
        match self {
            Side::Visitor => Side::Replica,
            Side::Replica => Side::Visitor,
        }
    }
}

async fn one_way(
    mut from: ReadHalf<impl AsyncRead>,
    mut to: WriteHalf<impl AsyncWrite>,
    bytes: &Cell<u64>,
    reads: Side,
) -> Result<(), Side> {
    let mut buffer = vec![0; PIECE];
    loop {
        let read = from.read(&mut buffer).await.map_err(|_| reads)?;
        if read == 0 {
            return to.shutdown().await.map_err(|_| reads.other());
        }
        to.write_all(&buffer[..read]).await.map_err(|_| reads.other())?;
        // What TLS still holds goes out before the next piece is waited for.
        to.flush().await.map_err(|_| reads.other())?;
        bytes.set(bytes.get() + read as u64);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn bytes_of_both_directions_are_counted_and_who_disconnected() {
        let (mut visitor, near) = tokio::io::duplex(64);
        let (far, mut replica) = tokio::io::duplex(64);
        let ended = async {
            let mut read = [0; 5];
            visitor.write_all(b"hello").await.expect("taken");
            replica.read_exact(&mut read).await.expect("carried");
            replica.write_all(b"well, hello").await.expect("taken");
            drop(replica);
            let mut all = Vec::new();
            visitor.read_to_end(&mut all).await.expect("carried");
            visitor.shutdown().await.expect("ended");
            all
        };
        let (passed, all) = tokio::join!(both_ways(near, far, IDLE), ended);
        assert_eq!((passed.received, passed.sent, passed.broken), (5, 11, false));
        assert_eq!(all, b"well, hello");
    }

    #[tokio::test(start_paused = true)]
    async fn an_idle_connection_is_closed_and_a_busy_one_is_not() {
        let ((mut visitor, near), (far, mut replica)) = (tokio::io::duplex(64), tokio::io::duplex(64));
        let talk = async {
            for _ in 0..5 {
                tokio::time::sleep(IDLE / 2).await;
                replica.write_all(b"still here").await.expect("carried");
                visitor.read_exact(&mut [0; 10]).await.expect("carried");
            }
            // Both sides stay open, and say nothing more.
            std::future::pending::<()>().await;
        };
        let passed = tokio::select! {
            passed = both_ways(near, far, IDLE) => passed,
            () = talk => unreachable!("it says nothing more for ever"),
        };
        assert_eq!((passed.sent, passed.broken), (50, false));
    }

    #[tokio::test]
    async fn transferred_bytes_count_when_the_replica_disconnects() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let address = listener.local_addr().expect("an address");
        let (mut visitor, near) = tokio::io::duplex(64);
        let replica = async {
            let (mut stream, _) = listener.accept().await.expect("dialled");
            stream.write_all(b"half").await.expect("written");
            let mut read = [0; 4];
            stream.read_exact(&mut read).await.expect("asked");
            // A reset rather than an end.
            stream.set_zero_linger().expect("a socket");
        };
        let asking = async {
            let mut read = [0; 4];
            visitor.write_all(b"more").await.expect("taken");
            visitor.read_exact(&mut read).await.expect("carried");
        };
        let onward = tokio::net::TcpStream::connect(address).await.expect("there");
        let (passed, ..) = tokio::join!(both_ways(near, onward, IDLE), replica, asking);
        assert_eq!((passed.received, passed.sent, passed.broken), (4, 4, true));
    }
}
