//! The gateway over real sockets: what visitors send, what a replica reads, what comes back.

mod entering;
mod hostile;
mod place;
mod reading;
mod tls;
mod ways;
