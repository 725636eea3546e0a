//! A service as the workers use it.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};

use arc_swap::ArcSwapOption;
use mainyard_core::model::{EnvironmentIndex, Reason, ReasonCode, Target};
use mainyard_core::routing::Waking;

use crate::backend_order::Port;

/// A service.
#[derive(Debug)]
pub struct Service {
    /// Its environment and name.
    pub target: Arc<Target>,
    /// Environments whose replicas may call it.
    pub callers: Vec<EnvironmentIndex>,
    /// Its address inside.
    pub address: Ipv4Addr,
    /// By service port.
    pub ports: BTreeMap<u16, Port>,
    /// Why there is no replica.
    pub reason: Option<Reason>,
    /// Set where a request wakes what sleeps behind it.
    pub wakes: Option<Waking>,
}

/// A service's place: what it holds changes with the table, and anyone who leads to it need not be made again.
#[derive(Debug, Default)]
pub struct Cell {
    service: ArcSwapOption<Service>,
    /// Requests that wait for it to wake.
    pub waking: AtomicU32,
    /// One came that does not wait, and comes back.
    knock: AtomicBool,
}

impl Cell {
    /// The service as it is now; `None` when it is gone.
    pub fn now(&self) -> Option<Arc<Service>> {
        self.service.load_full()
    }

    /// A request came that does not wait, and comes back.
    pub(crate) fn knock(&self) {
        self.knock.store(true, Ordering::SeqCst);
    }

    /// 1 where such a request came since the last call.
    pub(crate) fn take_knock(&self) -> u32 {
        u32::from(self.knock.swap(false, Ordering::SeqCst))
    }

    /// Puts another in its place.
    pub fn put(&self, service: Option<Arc<Service>>) {
        self.service.store(service);
    }
}

impl Service {
    /// Why nobody answers.
    pub fn silent(&self) -> Reason {
        let otherwise = || {
            Reason::new(ReasonCode::NoneReady, format!("no replica of {} takes requests", self.target.name))
        };
        self.reason.clone().unwrap_or_else(otherwise)
    }
}
