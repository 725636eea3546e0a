//! Accounts of the platform's own: user ids that nothing else on the machine has, and that own nothing.
//!
//! They need no entry in `/etc/passwd`. Each platform on a machine has its own, by its instance.

/// Below the ids that `newuidmap` and others hand out from 100,000 on lies too little room; above them, nothing.
const FIRST: u32 = 1_900_000_000;
/// Instances that are reported apart.
const INSTANCES: u32 = 10_000_000;

/// Parts that run under an account of their own.
#[derive(Debug, Clone, Copy)]
pub(super) enum Account {
    /// `git`, which reads what others wrote.
    Git,
    /// The gateway, which reads what visitors send.
    Gateway,
    /// Sessions of members who clone and push over ssh.
    Code,
    /// The ssh server, as long as nobody has signed in.
    SshServer,
}

impl Account {
    /// Its user and group id; `None` where this process may not give it one.
    pub(super) fn id(self, instance: &str) -> Option<u32> {
        // SAFETY: no memory is involved.
        if unsafe { libc::geteuid() } != 0 {
            return None;
        }
        let instance = u32::from_str_radix(instance, 16).unwrap_or(0) % INSTANCES;
        Some(FIRST + instance * 4 + self as u32)
    }
}
