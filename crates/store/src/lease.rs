//! Which control decides. One row says so, with an epoch that every deciding transaction checks; the lease runs
//! by the database's clock, so no two machines' clocks are ever compared.

use std::time::Duration;

use sqlx::Row;

use crate::{Error, Store};

/// How long a control decides without renewing.
pub const LEASE: Duration = Duration::from_secs(10);

/// The leader.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Lease {
    /// This control, with its new epoch: the control that decided before can write no more.
    Own(u64),
    /// Another one.
    Of {
        /// Its name.
        name: String,
        /// Its address.
        url: String,
    },
}

pub(crate) const TAKE: &str = "UPDATE ledger SET epoch = epoch + 1, holder = $1, url = $2, \
    lease_until = clock_timestamp() + make_interval(secs => $3) \
    WHERE holder = $1 OR lease_until < clock_timestamp() RETURNING epoch";
pub(crate) const READ: &str = "SELECT holder, url FROM ledger";
pub(crate) const RENEW: &str = "UPDATE ledger SET lease_until = clock_timestamp() + make_interval(secs => $2) \
    WHERE epoch = $1 RETURNING epoch";
pub(crate) const RELEASE: &str = "UPDATE ledger SET lease_until = '-infinity' WHERE epoch = $1";

impl Store {
    /// Becomes the control that decides, unless another one holds the lease. A control that was started again under
    /// its own name takes it at once.
    pub async fn take_lease(&self, name: &str, url: &str) -> Result<Lease, Error> {
        let seconds = LEASE.as_secs_f64();
        let query = sqlx::query(TAKE).bind(name).bind(url).bind(seconds);
        if let Some(row) = query.fetch_optional(self.pool()).await? {
            return Ok(Lease::Own(row.get::<i64, _>(0) as u64));
        }
        let row = sqlx::query(READ).fetch_one(self.pool()).await?;
        Ok(Lease::Of { name: row.get(0), url: row.get(1) })
    }

    /// Goes on deciding. Writing renews as well.
    ///
    /// # Errors
    /// [`Error::Superseded`] when another control has taken over.
    pub async fn renew_lease(&self, epoch: u64) -> Result<(), Error> {
        let query = sqlx::query(RENEW).bind(epoch as i64).bind(LEASE.as_secs_f64());
        match query.fetch_optional(self.pool()).await? {
            Some(_) => Ok(()),
            None => Err(Error::Superseded(epoch)),
        }
    }

    /// Lets another control take over at once.
    pub async fn release_lease(&self, epoch: u64) -> Result<(), Error> {
        sqlx::query(RELEASE).bind(epoch as i64).execute(self.pool()).await?;
        Ok(())
    }
}
