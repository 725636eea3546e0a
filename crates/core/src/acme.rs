//! When certificates are obtained from an authority outside, and when they are renewed. No I/O; time is a parameter.

use jiff::{SignedDuration, Timestamp};

use crate::model::{Certificate, Name, OutsideAuthority, Route, Span, Target};
use crate::record::State;

/// A certificate is renewed after this part of its life, in thousandths, …
const RENEWED_AFTER: i64 = 667;
/// … and at most so much later, each host at its own moment: not all at once.
const SPREAD: i64 = 50;
/// One that could not be had is tried again after this time, and then after twice as long each time.
const AGAIN: Span = Span::from_secs(30);
const AGAIN_AT_MOST: Span = Span::from_secs(6 * 3600);

/// A certificate that is to be obtained now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DueCertificate {
    /// The authority.
    pub authority: Name,
    /// The host.
    pub host: String,
    /// The certificate that it becomes: it has the route's name.
    pub certificate: Target,
}

/// The authority that a route's certificate comes from, with the host.
pub fn wanted(route: &Route) -> Option<(&Name, &str)> {
    let authority = route.spec.tls.as_ref()?.obtain_from.as_ref()?;
    Some((authority, route.spec.host.as_deref()?))
}

/// The certificates that are to be obtained now: those that are missing, and those that end.
pub fn due(state: &State, now: Timestamp) -> Vec<DueCertificate> {
    let mut found: Vec<DueCertificate> = Vec::new();
    for route in state.routes.values() {
        let Some((name, host)) = wanted(route) else { continue };
        let Some(authority) = state.authorities.get(name) else { continue };
        if found.iter().any(|due| due.host == host) || !is_due(state, authority, route, host, now) {
            continue;
        }
        let (authority, certificate) = (name.clone(), route.target.clone());
        found.push(DueCertificate { authority, host: host.to_owned(), certificate });
    }
    found
}

/// Why an order cannot be begun: a certificate of its name was given by a person, and is not replaced.
pub fn taken(state: &State, due: &DueCertificate) -> Option<String> {
    let given = state.certificates.get(&due.certificate).filter(|it| it.obtained_from.is_none())?;
    Some(format!(
        "the certificate {} was given by {}, and is not replaced; remove it, or name it in the route with `certificate` instead of `obtain_from`",
        due.certificate, given.origin.by
    ))
}

fn is_due(state: &State, authority: &OutsideAuthority, route: &Route, host: &str, now: Timestamp) -> bool {
    let order = authority.orders.get(host);
    if order.and_then(|order| order.again).is_some_and(|again| now < again) {
        return false;
    }
    let here = state.certificates.values().filter(|it| it.target.environment == route.target.environment);
    let obtained = here.filter(|it| it.obtained_from.as_ref() == Some(&authority.name) && it.covers(host));
    obtained.map(|it| renewed_at(it, host)).max().is_none_or(|at| at <= now)
}

/// When a certificate is renewed: two thirds into its life, and a little later for some hosts than for others.
pub fn renewed_at(certificate: &Certificate, host: &str) -> Timestamp {
    let life = certificate.until.duration_since(certificate.from).as_secs().max(0);
    // The same on every control (FNV-1a).
    let hash = host
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x100_0000_01b3));
    let later = (hash % (SPREAD as u64 + 1)) as i64;
    let seconds = i128::from(life) * i128::from(RENEWED_AFTER + later) / 1000;
    certificate.from + SignedDuration::from_secs(i64::try_from(seconds).unwrap_or(0))
}

/// When one that failed so often in a row is tried again. An authority that says when is not asked sooner.
pub fn tried_again_at(failures: u32, says: Option<Span>, now: Timestamp) -> Timestamp {
    let doubled = AGAIN.millis().saturating_mul(1 << failures.saturating_sub(1).min(20));
    let wait = Span::from_millis(doubled.min(AGAIN_AT_MOST.millis())).max(says.unwrap_or_default());
    now + wait.signed()
}

#[cfg(test)]
mod tests;
