//! Keys of services and routes.

use super::{MapKey, Shape, key, required};
use crate::model::CIPHERS;

/// A service.
pub static SERVICE: Shape = Shape::Table(&[
    required(
        "select",
        &Shape::Map(MapKey::Label, &Shape::Text),
        "Labels a workload must carry; `workload` is its name.",
    ),
    required(
        "ports",
        &Shape::Map(MapKey::Port, &SERVICE_PORT),
        "Service port to the name of the workload's port.",
    ),
    key(
        "open_to",
        &Shape::List(&Shape::Name),
        "Other environments whose replicas may call it; by default only its own may.",
    ),
]);

static SERVICE_PORT: Shape = Shape::Or(
    &Shape::Name,
    &[
        required("port", &Shape::Name, "The workload's port, by name."),
        key(
            "speaks",
            &SPEAKS,
            "http or h2: requests are spread over replicas, in HTTP/1.1 or HTTP/2 (gRPC); tcp: connections of any protocol. http by default.",
        ),
    ],
    "{ port = \"db\", speaks = \"tcp\" }",
);

/// The protocol of a port.
pub(super) static SPEAKS: Shape = Shape::Word(&["http", "h2", "tcp"]);

/// A route.
pub static ROUTE: Shape = Shape::Table(&[
    key(
        "host",
        &Shape::HostPattern,
        "The host, or *.host for any one label; by default the route's name under the environment's domain.",
    ),
    key(
        "port",
        &PORT,
        "Instead of a host: a port of the gateway, whose connections are passed on as they are.",
    ),
    key("path", &Shape::Path, "The path it takes, with everything below it; / by default."),
    key("exact", &Shape::Bool, "Whether it takes that very path only; false by default."),
    key("methods", &Shape::List(&METHOD), "The methods it takes; all by default."),
    key(
        "headers",
        &Shape::Map(MapKey::Header, &Shape::Text),
        "Headers that must be there with these values.",
    ),
    key("to", &Shape::List(&LEG), "Services by share."),
    key("redirect", &REDIRECT, "Instead of services: where visitors are sent."),
    key("rewrite", &Shape::Path, "The path that the replica sees instead of `path`."),
    key("limits", &LIMITS, "Limits on a request's time and size."),
    key("change", &CHANGE, "Headers to change on the way."),
    key("repeat", &REPEAT, "Retries of a GET or HEAD without a body on another replica."),
    key("rate", &RATE, "How many requests one visitor may make. Visitors are told apart by their address."),
    key("sticky", &STICKY, "Sends a visitor to the same replica each time, by a cookie."),
    key("compress", &Shape::Bool, "Whether text is compressed for visitors who take that; false by default."),
    key("enter", &ENTER, "Who may enter; \"open\" by default."),
    key("visitors", &VISITORS, "Visitors that it takes, by their addresses; all by default."),
    key("cors", &CORS, "Pages of other origins whose scripts may use it (CORS); none by default."),
    key(
        "cache",
        &CACHE,
        "Keeps answers in memory, as they themselves allow (RFC 9111), and gives them again.",
    ),
    key("drill", &DRILL, "Requests that wait or fail on purpose, to see how callers take it."),
    key(
        "proxy_protocol",
        &Shape::Word(&["v1", "v2"]),
        "Of a route that takes a port, or passes TLS through: tells the replica who called, in a PROXY protocol header.",
    ),
    key("tls", &TLS, "TLS towards visitors, and from the gateway to the replica."),
]);

static PORT: Shape = Shape::Integer(1, 65_535);

static METHOD: Shape = Shape::Word(&["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"]);

static LEG: Shape = Shape::Table(&[
    required("service", &Shape::Name, "The service."),
    key("port", &PORT, "Its port; 80 by default, or its lowest."),
    key("share", &Shape::Integer(0, 1_000_000), "Its share of the requests; 100 by default, 0 for none."),
]);

static REDIRECT: Shape = Shape::Table(&[
    required(
        "to",
        &Shape::Text,
        "A URL, or a path on the same host; what follows the route's path is added.",
    ),
    key("status", &Shape::Integer(301, 308), "301, 302, 307 or 308; 308 by default."),
]);

static LIMITS: Shape = Shape::Table(&[
    key("answer", &Shape::Time, "How long the replica may take until its answer begins; 60s by default."),
    key("pause", &Shape::Time, "The longest pause in the request's body; 60s by default."),
    key("body", &Shape::Size, "The largest body of a request; any by default."),
]);

static CHANGE: Shape = Shape::Table(&[
    key("request", &HEADERS, "Headers of the request."),
    key("answer", &HEADERS, "Headers of the answer."),
]);

static HEADERS: Shape = Shape::Table(&[
    key(
        "add",
        &Shape::Map(MapKey::Header, &Shape::Text),
        "Header to value, beside what is there; this comes last.",
    ),
    key("set", &Shape::Map(MapKey::Header, &Shape::Text), "Header to value, instead of what is there."),
    key("remove", &Shape::List(&Shape::Text), "Headers to remove; this comes before setting."),
]);

static REPEAT: Shape = Shape::Table(&[
    required("times", &Shape::Integer(1, 5), "The most retries of one request."),
    key(
        "on",
        &Shape::List(&Shape::Word(&["broken", "late", "unavailable"])),
        "After a broken connection, no answer in time, or an answer of 502, 503 or 504; [\"broken\"] by default.",
    ),
]);

static RATE: Shape = Shape::Table(&[
    required("requests", &Shape::Integer(1, 1_000_000), "So many…"),
    key("every", &Shape::Time, "The time that `requests` counts for; 1s by default."),
    key(
        "burst",
        &Shape::Integer(1, 1_000_000),
        "The number of requests at once before the rate applies; the same as `requests` by default.",
    ),
]);

static STICKY: Shape = Shape::Table(&[
    key("cookie", &Shape::Token, "The cookie's name; \"yard-seat\" by default."),
    key("lasts", &Shape::Time, "How long it lasts; until the browser is closed by default."),
]);

static ENTER: Shape = Shape::Or(
    &Shape::Word(&["open"]),
    &[
        key("token", &Shape::Name, "The secret whose value must come as a bearer token."),
        key("basic", &Shape::Name, "The secret that holds lines of name:password."),
        key(
            "ask_url",
            &Shape::Text,
            "A service that is asked about each request, as http://NAME/PATH; an answer of 200 to 299 allows the request.",
        ),
        key("within", &Shape::Time, "How long that address may take to answer; 1s by default."),
    ],
    "{ token = \"door-token\" }",
);

static VISITORS: Shape = Shape::Table(&[
    key("only", &Shape::List(&Shape::Addresses), "Ranges of addresses, or addresses; no others are taken."),
    key("never", &Shape::List(&Shape::Addresses), "Ranges of addresses, or addresses, that are not taken."),
]);

static CORS: Shape = Shape::Table(&[
    required(
        "origins",
        &Shape::List(&Shape::Text),
        "Origins of pages, as https://app.lockers.example; \"*\" for every one.",
    ),
    key("methods", &Shape::List(&METHOD), "Methods beside GET, HEAD and POST."),
    key(
        "headers",
        &Shape::List(&Shape::Token),
        "Headers of requests beside those that every script may set.",
    ),
    key("exposed", &Shape::List(&Shape::Token), "Headers of answers that scripts may read beside the usual."),
    key("credentials", &Shape::Bool, "Whether requests may carry cookies and passwords; false by default."),
    key("lasts", &Shape::Time, "How long a browser remembers that it may; 10m by default."),
]);

static CACHE: Shape = Shape::Table(&[
    key("size", &Shape::Size, "The most memory that each gateway keeps them in; 16 MiB by default."),
    key("largest", &Shape::Size, "The largest body that is kept; 1 MiB by default."),
]);

static DRILL: Shape = Shape::Table(&[
    required("share", &Shape::Integer(1, 100), "Of a hundred requests, so many."),
    key("wait", &Shape::Time, "They wait so long first."),
    key("status", &Shape::Integer(400, 599), "They are answered with this status, and no replica gets them."),
]);

static CLIENT_CERTIFICATES: Shape = Shape::Table(&[
    required("authority", &Shape::Name, "The certificate that theirs must lead to, given without its key."),
    key(
        "required",
        &Shape::Bool,
        "Whether one must be shown; true by default. Otherwise replicas see who showed one.",
    ),
]);

static HSTS: Shape = Shape::Table(&[
    required("lasts", &Shape::Time, "For how long after each answer, such as \"365d\"."),
    key("subdomains", &Shape::Bool, "Also for every host below this one; false by default."),
    key("preload", &Shape::Bool, "Whether browsers' makers may ship it in their lists; false by default."),
]);

static TLS: Shape = Shape::Table(&[
    key("certificate", &Shape::Name, "The certificate; by default one that covers the host."),
    key(
        "obtain_from",
        &Shape::Name,
        "The authority outside that the certificate is obtained from, and renewed by: mainyard authority add.",
    ),
    key(
        "http",
        &Shape::Word(&["redirect", "answer"]),
        "The answer to requests without TLS; by default a redirect to https.",
    ),
    key(
        "least",
        &Shape::Word(&["1.2", "1.3"]),
        "The oldest version of TLS that visitors may speak; 1.2 by default.",
    ),
    key(
        "ciphers",
        &Shape::List(&Shape::Word(&CIPHERS)),
        "The cipher suites that may be agreed on, by IANA's names; by default all that the platform has.",
    ),
    key("client_certificates", &CLIENT_CERTIFICATES, "Certificates that visitors show to be let in."),
    key("hsts", &HSTS, "That browsers use https alone from now on (RFC 6797)."),
    key(
        "onward",
        &Shape::Word(&["plain", "tls"]),
        "The protocol between the gateway and the replica; plain by default.",
    ),
    key(
        "authority",
        &Shape::Name,
        "With onward = \"tls\": the authority that signs the replica's certificate; by default the platform's own. The certificate is for NAME.ENVIRONMENT.internal.",
    ),
    key(
        "untouched",
        &Shape::Bool,
        "Whether the visitor's TLS is passed through unread, by its server name; false by default.",
    ),
]);
