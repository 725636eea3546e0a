//! Which hosts the API answers to.
//!
//! A web page elsewhere can point a name of its own at this machine and have a visitor's browser call here. Its
//! requests carry that name in `Host`, so only names and addresses that the platform was started with are answered.

use std::collections::BTreeSet;
use std::net::SocketAddr;

use actix_web::HttpRequest;
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::HOST;
use actix_web::middleware::Next;
use actix_web::web::Data;
use mainyard_api::Problem;

use crate::Control;
use crate::problem::Refused;

/// Accepted values of `Host`, in lower case and with the port unless it is the scheme's own.
#[derive(Debug, Clone, Default)]
pub(crate) struct Hosts(BTreeSet<String>);

impl Hosts {
    /// Those of an API that answers at `addresses`, and under `names` at the same ports.
    pub(crate) fn of(addresses: &[SocketAddr], names: &[String]) -> Hosts {
        let mut all = BTreeSet::new();
        for address in addresses {
            let port = address.port();
            let mut add = |host: &str| {
                all.insert(format!("{}:{port}", host.to_ascii_lowercase()));
                if matches!(port, 80 | 443) {
                    all.insert(host.to_ascii_lowercase());
                }
            };
            let ip = address.ip();
            add(&if ip.is_ipv6() { format!("[{ip}]") } else { ip.to_string() });
            if ip.is_loopback() || ip.is_unspecified() {
                ["127.0.0.1", "localhost", "[::1]"].into_iter().for_each(&mut add);
            }
            names.iter().for_each(|name| add(name));
        }
        Hosts(all)
    }

    /// The names without ports, and this machine's own.
    pub(crate) fn names(&self) -> BTreeSet<String> {
        let bare = |host: &String| host.rsplit_once(':').map_or(host.as_str(), |(name, _)| name).to_owned();
        let machine = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        let machine = machine.trim().to_ascii_lowercase();
        self.0.iter().map(bare).chain(Some(machine).filter(|name| !name.is_empty())).collect()
    }

    /// Whether a host is one of them.
    pub(crate) fn has(&self, host: &str) -> bool {
        self.0.contains(&host.to_ascii_lowercase())
    }
}

/// Refuses requests for other hosts, whatever their path.
pub(crate) async fn check<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let control = request.app_data::<Data<Control>>().cloned();
    let control = control.ok_or_else(|| Refused(Problem::unavailable("control is starting")))?;
    let headers = request.headers();
    // RFC 9112, section 3.2.2: the authority of a target in absolute form goes before the header; here both count.
    // HTTP/2 has the authority alone.
    let target = request.uri().authority().map(|authority| authority.as_str());
    let mut said =
        headers.get_all(HOST).map(|value| value.to_str().unwrap_or_default()).chain(target).peekable();
    let known = headers.get_all(HOST).count() <= 1
        && said.peek().is_some()
        && said.all(|host| control.hosts.has(host));
    if !known {
        return Err(Refused(Problem::other_host()).into());
    }
    next.call(request).await
}

/// The host that a request is for.
pub(crate) fn host_of(request: &HttpRequest) -> &str {
    let header = request.headers().get(HOST).and_then(|value| value.to_str().ok());
    header.or_else(|| request.uri().authority().map(|authority| authority.as_str())).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::Hosts;

    #[test]
    fn only_names_and_addresses_that_it_was_started_with() {
        let address = |text: &str| text.parse().expect("an address");
        let own = Hosts::of(&[address("127.0.0.1:8700")], &["yard.larkfield.localhost".to_owned()]);
        for host in ["127.0.0.1:8700", "localhost:8700", "LOCALHOST:8700", "yard.larkfield.localhost:8700"] {
            assert!(own.has(host), "{host}");
        }
        for host in ["127.0.0.1", "localhost:8701", "evil.example:8700", "127.0.0.1:8700.evil.example", ""] {
            assert!(!own.has(host), "{host}");
        }
        assert!(Hosts::of(&[address("10.1.2.3:443")], &[]).has("10.1.2.3"));
    }
}
