//! The gateway over real sockets: what visitors send, what a replica reads, what comes back.

mod attacks;
mod entering;
mod frames;
mod hostile;
mod http2_replicas;
mod multiplexed;
mod overload;
mod place;
mod reading;
mod rules;
mod tls;
mod ways;
