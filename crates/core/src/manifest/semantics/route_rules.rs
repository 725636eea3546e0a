//! Checks of a route's rules on who may ask, on TLS, and on what goes wrong on purpose.

use super::Reader;
use crate::model::{Bytes, Name, PlainHttp, RouteSpec, Span, TlsVersion, is_host, is_of_tls13};

/// A route's cache takes no more memory of each gateway.
const LARGEST_CACHE: Bytes = Bytes::mib(1024);
/// A drill lets a request wait no longer.
const LONGEST_WAIT: Span = Span::from_secs(60);

impl Reader<'_> {
    pub(super) fn check_cors(&mut self, name: &Name, route: &RouteSpec) {
        let Some(cors) = &route.cors else { return };
        let at = |key: &'static str| ["route", name.as_str(), key];
        for origin in &cors.origins {
            if origin != "*" && !is_origin(origin) {
                let message = format!(
                    "`cors` of route `{name}` names the origin {origin:?}; expected a scheme and a host without a path, such as \"https://app.lockers.example\", or \"*\""
                );
                self.say(&at("cors"), message);
            }
        }
        if cors.origins.is_empty() {
            self.say(
                &at("cors"),
                format!("`cors` of route `{name}` names no origin, so no script may use it"),
            );
        }
        if cors.credentials && cors.origins.contains("*") {
            let message = format!(
                "`cors` of route `{name}` takes cookies and passwords from the pages of everybody: name the origins instead of \"*\""
            );
            self.say(&at("cors"), message);
        }
    }

    pub(super) fn check_tls(&mut self, name: &Name, route: &RouteSpec) {
        let Some(tls) = &route.tls else { return };
        let at = |key: &'static str| ["route", name.as_str(), key];
        let only_older = !tls.ciphers.is_empty() && !tls.ciphers.iter().any(|cipher| is_of_tls13(cipher));
        if tls.least == TlsVersion::Tls13 && only_older {
            let message = format!(
                "`ciphers` of route `{name}` are all of TLS 1.2, and `least` asks for 1.3: nobody could agree"
            );
            self.say(&at("tls"), message);
        }
        if tls.obtain_from.is_some() && tls.certificate.is_some() {
            let message =
                format!("route `{name}` has `certificate` and `obtain_from`; one of them is enough");
            self.say(&at("tls"), message);
        }
        if tls.obtain_from.is_some() && route.host.as_deref().is_some_and(|host| host.starts_with("*.")) {
            let message = format!(
                "route `{name}` is for every host below one: no authority can ask them all, so `obtain_from` needs a host in full"
            );
            self.say(&at("tls"), message);
        }
        if tls.client_certificates.is_some() && tls.http == PlainHttp::Answer {
            let message = format!(
                "route `{name}` asks for client certificates, which nobody shows without TLS: take `http = \"answer\"` out"
            );
            self.say(&at("tls"), message);
        }
    }

    pub(super) fn check_rules(&mut self, name: &Name, route: &RouteSpec) {
        let at = |key: &'static str| ["route", name.as_str(), key];
        if route.proxy_protocol.is_some() && route.port.is_none() && !route.is_untouched() {
            let message = format!(
                "`proxy_protocol` of route `{name}` is for connections that are passed on, with `port` or `tls.untouched`; over HTTP replicas are told in `Forwarded`"
            );
            self.say(&at("proxy_protocol"), message);
        }
        if let Some(cache) = &route.cache {
            if cache.size > LARGEST_CACHE {
                let message = format!(
                    "`cache` of route `{name}` takes {}; at most {LARGEST_CACHE} are kept",
                    cache.size
                );
                self.say(&at("cache"), message);
            }
            if cache.largest > cache.size {
                let message = format!(
                    "`cache` of route `{name}` keeps bodies of {}, which is more than its whole size, {}",
                    cache.largest, cache.size
                );
                self.say(&at("cache"), message);
            }
        }
        if let Some(drill) = &route.drill {
            if drill.wait.is_none() && drill.status.is_none() {
                self.say(
                    &at("drill"),
                    format!("`drill` of route `{name}` does nothing: give it `wait`, `status` or both"),
                );
            }
            if drill.wait.is_some_and(|wait| wait > LONGEST_WAIT) {
                self.say(&at("drill"), format!("`drill` of route `{name}` waits longer than {LONGEST_WAIT}"));
            }
        }
    }
}

/// Scheme, host and port as a browser writes them (RFC 6454, section 6.2).
fn is_origin(text: &str) -> bool {
    let Some(rest) = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://")) else {
        return false;
    };
    let (host, port) = rest.rsplit_once(':').unwrap_or((rest, "1"));
    is_host(host) && port.parse::<u16>().is_ok()
}
