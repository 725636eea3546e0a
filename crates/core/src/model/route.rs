//! Matching and rewriting rules of a route, and the ports of a service.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Bytes, CacheRule, Cors, Drill, Name, PlainHttp, ProxyVersion, RouteTls, Span, Visitors};

/// Everything that is declared of a route.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RouteSpec {
    /// The host, or `*.` in front of one for any single label; left out, the route's name under the environment's
    /// domain.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// Instead of a host: a port of the gateway, whose connections are passed on as they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The path it takes, with everything below it.
    #[serde(default = "RouteSpec::root", skip_serializing_if = "RouteSpec::is_root")]
    pub path: String,
    /// Whether it takes that very path only.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub exact: bool,
    /// The methods it takes; none means all.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub methods: BTreeSet<String>,
    /// Headers that must be there with these values.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, String>,
    /// Services by share.
    #[serde(default)]
    pub to: Vec<Leg>,
    /// Instead of services: where the visitor is sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub redirect: Option<Redirect>,
    /// The prefix that the replica sees instead of `path`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rewrite: Option<String>,
    /// How long and how large.
    #[serde(default, skip_serializing_if = "is_default")]
    pub limits: RouteLimits,
    /// Headers to change on the way.
    #[serde(default, skip_serializing_if = "is_default")]
    pub change: Changes,
    /// Which requests are retried on another replica.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repeat: Option<Repeat>,
    /// How many requests one visitor may make.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<Rate>,
    /// Whether a visitor stays with a replica.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sticky: Option<Sticky>,
    /// Whether answers are compressed for visitors who take that.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub compress: bool,
    /// The callers that are let in.
    #[serde(default, skip_serializing_if = "is_default")]
    pub enter: Enter,
    /// The visitors that it takes, by their addresses.
    #[serde(default, skip_serializing_if = "is_default")]
    pub visitors: Visitors,
    /// Pages of other origins whose scripts may use it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cors: Option<Cors>,
    /// Requests that fail or wait on purpose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drill: Option<Drill>,
    /// Answers that are kept and given again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache: Option<CacheRule>,
    /// Of connections that are passed on: tells the replica who called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proxy_protocol: Option<ProxyVersion>,
    /// How it is reached over TLS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<RouteTls>,
}

/// A service that a route leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(from = "WrittenLeg")]
pub struct Leg {
    /// Which service.
    pub service: Name,
    /// Which of its ports; its first one by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Its part of the requests, in proportion to the others'.
    pub share: u32,
}

/// A leg as it may be written: the record of earlier versions holds pairs.
#[derive(Deserialize, JsonSchema)]
#[serde(untagged)]
enum WrittenLeg {
    Pair(Name, u32),
    Table {
        service: Name,
        #[serde(default)]
        port: Option<u16>,
        #[serde(default = "Leg::whole")]
        share: u32,
    },
}

impl From<WrittenLeg> for Leg {
    fn from(written: WrittenLeg) -> Leg {
        match written {
            WrittenLeg::Pair(service, share) => Leg { service, port: None, share },
            WrittenLeg::Table { service, port, share } => Leg { service, port, share },
        }
    }
}

impl Leg {
    fn whole() -> u32 {
        100
    }

    /// All of the requests to the first port of a service.
    pub fn all(service: Name) -> Leg {
        Leg { service, port: None, share: Leg::whole() }
    }
}

/// The redirect for visitors (RFC 9110, section 15.4).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Redirect {
    /// A URL, or a path on the same host. What the request's path has below the route's is added to it.
    pub to: String,
    /// 301, 302, 307 or 308.
    #[serde(default = "Redirect::lasting")]
    pub status: u16,
}

impl Redirect {
    fn lasting() -> u16 {
        308
    }
}

/// Limits on a request's time and size.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct RouteLimits {
    /// Until the head of the answer comes.
    pub answer: Span,
    /// The longest pause in the request's body.
    pub pause: Span,
    /// Of the request's body; without it any size is passed on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub body: Option<Bytes>,
}

impl Default for RouteLimits {
    fn default() -> RouteLimits {
        RouteLimits { answer: Span::from_secs(60), pause: Span::from_secs(60), body: None }
    }
}

/// Headers to change on the way.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Changes {
    /// Of the request.
    #[serde(skip_serializing_if = "is_default")]
    pub request: HeaderChange,
    /// Of the answer.
    #[serde(skip_serializing_if = "is_default")]
    pub answer: HeaderChange,
}

/// Headers to add, to set and to remove; removing comes first, and adding last.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct HeaderChange {
    /// Header to value: beside what is there.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub add: BTreeMap<String, String>,
    /// Header to value: instead of what is there.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub set: BTreeMap<String, String>,
    /// Headers.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub remove: BTreeSet<String>,
}

/// A GET or HEAD without a body is asked again of another replica.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Repeat {
    /// How often at most.
    pub times: u32,
    /// After what.
    #[serde(default = "Repeat::broken")]
    pub on: BTreeSet<RepeatOn>,
}

impl Repeat {
    fn broken() -> BTreeSet<RepeatOn> {
        BTreeSet::from([RepeatOn::Broken])
    }
}

/// After what a request is asked again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RepeatOn {
    /// The replica broke the connection before it answered.
    Broken,
    /// It did not answer in time.
    Late,
    /// It answered 502, 503 or 504.
    Unavailable,
}

/// How many requests one visitor may make. Visitors are reported apart by their address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Rate {
    /// So many…
    pub requests: u32,
    /// …in this time.
    #[serde(default = "Rate::second")]
    pub every: Span,
    /// So many at once, before the rate holds; `requests` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub burst: Option<u32>,
}

impl Rate {
    fn second() -> Span {
        Span::from_secs(1)
    }
}

/// A visitor stays with a replica, by a cookie of the gateway's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Sticky {
    /// The cookie's name.
    #[serde(default = "Sticky::seat")]
    pub cookie: String,
    /// How long it lasts; until the browser is closed by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lasts: Option<Span>,
}

impl Sticky {
    fn seat() -> String {
        "yard-seat".to_owned()
    }
}

/// The callers that are let in.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(from = "WrittenEnter", into = "WrittenEnter")]
pub enum Enter {
    /// Everybody.
    #[default]
    Open,
    /// Callers with the value of this secret as a bearer token (RFC 6750).
    Token(Name),
    /// Callers named with their password in this secret, one line `name:password` each (RFC 7617).
    Basic(Name),
    /// Whom this address answers for with 200 to 299.
    Ask(AskUrl),
}

/// An address that is asked about every request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AskUrl {
    /// `http://` and a service's name.
    pub ask_url: String,
    /// How long it may take to answer.
    #[serde(default = "Rate::second")]
    pub within: Span,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum OpenWord {
    Open,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
enum WrittenEnter {
    Word(OpenWord),
    Token { token: Name },
    Basic { basic: Name },
    Ask(AskUrl),
}

impl From<WrittenEnter> for Enter {
    fn from(written: WrittenEnter) -> Enter {
        match written {
            WrittenEnter::Word(_) => Enter::Open,
            WrittenEnter::Token { token } => Enter::Token(token),
            WrittenEnter::Basic { basic } => Enter::Basic(basic),
            WrittenEnter::Ask(ask) => Enter::Ask(ask),
        }
    }
}

impl From<Enter> for WrittenEnter {
    fn from(enter: Enter) -> WrittenEnter {
        match enter {
            Enter::Open => WrittenEnter::Word(OpenWord::Open),
            Enter::Token(token) => WrittenEnter::Token { token },
            Enter::Basic(basic) => WrittenEnter::Basic { basic },
            Enter::Ask(ask) => WrittenEnter::Ask(ask),
        }
    }
}

impl Enter {
    /// The secret whose value the gateway needs.
    pub fn secret(&self) -> Option<&Name> {
        match self {
            Enter::Token(secret) | Enter::Basic(secret) => Some(secret),
            Enter::Open | Enter::Ask(_) => None,
        }
    }
}

impl fmt::Display for Enter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Enter::Open => f.write_str("open"),
            Enter::Token(secret) => write!(f, "token, by the secret {secret}"),
            Enter::Basic(secret) => write!(f, "name and password, by the secret {secret}"),
            Enter::Ask(ask) => write!(f, "asks {}", ask.ask_url),
        }
    }
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl RouteSpec {
    fn root() -> String {
        "/".to_owned()
    }

    fn is_root(path: &str) -> bool {
        path == "/"
    }

    /// Everything of this host to one service.
    pub fn plain(host: Option<String>, service: Name) -> RouteSpec {
        RouteSpec {
            host,
            port: None,
            path: RouteSpec::root(),
            exact: false,
            methods: BTreeSet::new(),
            headers: BTreeMap::new(),
            to: vec![Leg::all(service)],
            redirect: None,
            rewrite: None,
            limits: RouteLimits::default(),
            change: Changes::default(),
            repeat: None,
            rate: None,
            sticky: None,
            compress: false,
            enter: Enter::Open,
            visitors: Visitors::default(),
            cors: None,
            drill: None,
            cache: None,
            proxy_protocol: None,
            tls: None,
        }
    }

    /// The requests it matches, as a person writes them: `api.lockers.localhost/v1`, or `port 5432`.
    pub fn at(&self) -> String {
        match (&self.host, self.port) {
            (_, Some(port)) => format!("port {port}"),
            (Some(host), None) if self.path == "/" && !self.exact => host.clone(),
            (Some(host), None) => format!("{host}{}{}", self.path, if self.exact { " exactly" } else { "" }),
            (None, None) => self.path.clone(),
        }
    }

    /// How a person gets there, with the gateway's ports for http and https; `certified` as in
    /// [`RouteSpec::sends_to_https`].
    pub fn url(&self, certified: bool, http: u16, https: u16) -> String {
        let secure = self.tls.is_some() || certified;
        let (scheme, port, usual) = if secure { ("https", https, 443) } else { ("http", http, 80) };
        let port = if port == usual { String::new() } else { format!(":{port}") };
        match (&self.host, self.port) {
            (_, Some(port)) => format!("port {port}"),
            (host, None) => {
                let path = if self.path == "/" { "" } else { &self.path };
                format!("{scheme}://{}{port}{path}", host.as_deref().unwrap_or("?"))
            }
        }
    }

    /// Whether its host is the platform's own. Cookies ignore ports: a program at the console's host gets the console's
    /// cookies too. So addresses, `localhost`, the machine's names and those of the API belong to no route.
    pub fn is_of_the_platform(&self, reserved: &BTreeSet<String>) -> bool {
        self.host.as_ref().is_some_and(|host| {
            let host = host.trim_end_matches('.').to_ascii_lowercase();
            let bare = host.trim_start_matches('[').trim_end_matches(']');
            host == "localhost" || bare.parse::<std::net::IpAddr>().is_ok() || reserved.contains(&host)
        })
    }

    /// Whether another route takes the very same requests, so that nothing tells which of both is meant.
    pub fn clashes(&self, other: &RouteSpec) -> bool {
        if self.port.is_some() || other.port.is_some() {
            return self.port == other.port;
        }
        let methods = self.methods.is_empty() && other.methods.is_empty()
            || self.methods.intersection(&other.methods).next().is_some();
        self.host == other.host
            && self.path == other.path
            && self.exact == other.exact
            && self.headers == other.headers
            && methods
    }

    /// Whether requests without TLS are sent to https. Where the route does not say, they are as soon as a certificate was
    /// given that covers the host (`certified`): what the local authority signs is trusted by nobody yet, and a browser's
    /// warning is no answer.
    pub fn sends_to_https(&self, certified: bool) -> bool {
        self.tls.as_ref().map_or(certified, |tls| tls.http == PlainHttp::Redirect)
    }

    /// Whether it is only reached over TLS, by passing the visitor's through.
    pub fn is_untouched(&self) -> bool {
        self.tls.as_ref().is_some_and(|tls| tls.untouched)
    }
}
