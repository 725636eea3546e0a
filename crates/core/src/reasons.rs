//! The catalogue of reasons: what each means, how it is found, and what to do. `docs/reasons.md` is made from it.

use crate::model::ReasonCode;

/// The explanation of a reason.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry {
    /// Its meaning.
    pub meaning: &'static str,
    /// The part that finds it, and how.
    pub found: &'static str,
    /// The fix.
    pub fix: &'static str,
}

const fn entry(meaning: &'static str, found: &'static str, fix: &'static str) -> Entry {
    Entry { meaning, found, fix }
}

/// Codes by what they are about, in the order of a request's way.
pub const CHAPTERS: &[(&str, &[ReasonCode])] = {
    use ReasonCode::*;
    &[
        (
            "The way in",
            &[
                GatewaySilent,
                PortNotTaken,
                PortTaken,
                NoSuchHost,
                PathNotMatched,
                MethodNotTaken,
                HeaderNotMatched,
            ],
        ),
        (
            "TLS",
            &[
                PlainWhereTls,
                TlsWherePlain,
                OtherConnection,
                CertificateMismatch,
                CertificateOutOfDate,
                AuthorityRefuses,
                AuthoritySilent,
            ],
        ),
        (
            "The request",
            &[
                BadRequest,
                NotAllowed,
                AddressNotAllowed,
                DoorSilent,
                Drill,
                RateLimited,
                BodyTooLarge,
                BodyStalled,
                NotOpenToCaller,
            ],
        ),
        (
            "Routes and services",
            &[
                AllSharesZero,
                ServiceMissing,
                SelectorEmpty,
                PortMissing,
                NoneReady,
                Overloaded,
                Asleep,
                WakesLate,
            ],
        ),
        ("The way out", &[NotListed, NeverReached, NameUnresolved, Unreachable]),
        ("The answer", &[AnswerLate, AnswerBroken, Answers]),
        (
            "Workloads",
            &[
                ScaledToZero,
                Held,
                StillStarting,
                ImageNotFound,
                ImageUnusable,
                NotSigned,
                NoRoom,
                SecretMissing,
            ],
        ),
        (
            "Registries outside",
            &[
                ImageAwaited,
                RegistryRefuses,
                RegistryLacks,
                RegistryLimits,
                RegistryUntrusted,
                RegistrySilent,
            ],
        ),
        (
            "Releases",
            &[
                NotReadyInTime,
                MoreErrors,
                Slower,
                AsksFirst,
                RunFirstFailed,
                RunFirstUnknown,
                Cancelled,
                NotAsReleased,
            ],
        ),
        (
            "Sources",
            &[
                GitNewer,
                RemovalAsks,
                SetBack,
                LiveChanged,
                FilesInvalid,
                CannotBeTaken,
                GitUnreachable,
                BuildFailed,
            ],
        ),
        (
            "Replicas and their processes",
            &[
                PortSilent,
                NotListening,
                LoopbackOnly,
                CheckFails,
                CheckSlow,
                CheckRefused,
                TooFewReady,
                Flapping,
                ProcessLimit,
                DiskFull,
                OutOfMemory,
                KeepsEnding,
                EndedOnce,
                CannotStart,
                KeeperLost,
                NodeSilent,
            ],
        ),
    ]
};

/// The explanation of this reason.
#[expect(clippy::too_many_lines, reason = "a table: one entry for each reason")]
pub fn about(code: ReasonCode) -> Entry {
    use ReasonCode::*;
    match code {
        OutOfMemory => entry(
            "The kernel killed a process of the replica because its memory limit was reached.",
            "by the node, from the control group's own count of kills",
            "raise `limits.memory`, or find what grows; `mainyard stats` says what was used",
        ),
        PortSilent => entry(
            "Nothing listens on the declared port.",
            "by the node, from the kernel's list of the replica's listening sockets",
            "declare the port that the process listens on, which the sentence names, or let it listen on the declared one",
        ),
        NotListening => entry(
            "Nothing listens on the declared port so far. A process has until the rollout's deadline, or `checks.start_within`.",
            "by the node, from the kernel's list of the replica's listening sockets",
            "wait, where the process takes long to start; else declare the port that it listens on, which the sentence names",
        ),
        LoopbackOnly => entry(
            "The process listens on the declared port, but on its loopback address only, where nothing else reaches it.",
            "by the node, from the kernel's list of the replica's listening sockets",
            "let the process listen on 0.0.0.0",
        ),
        NotSigned => entry(
            "The environment runs images only that a key of its rule signed, and this one is not.",
            "by control, when a release is made, and again when an image comes that a release waits for",
            "sign the image: `mainyard image sign`; or change the rule: `mainyard environment image-rule`",
        ),
        ImageAwaited => entry(
            "The image is being pulled from a registry outside. The deadline of a rollout begins when it is there.",
            "by control, from the registry that the image's name begins with",
            "wait; `mainyard image pulls` says how far it is",
        ),
        RegistryRefuses => entry(
            "A registry outside does not let the platform in, or does not hand this image to its user.",
            "by control, from the registry's answer (401 or 403), whose words the sentence has",
            "give the right user and password: `mainyard registry add` with the same name; or have the user be allowed to pull",
        ),
        RegistryLacks => entry(
            "A registry outside has no such image, or none for this machine's processor.",
            "by control, from the registry's answer",
            "correct the name or the tag; the sentence says what there is",
        ),
        RegistryLimits => entry(
            "A registry outside wants to be asked less often.",
            "by control, from the registry's answer (429), after several tries",
            "wait: it is tried again; a user of one's own often has a higher limit",
        ),
        RegistryUntrusted => entry(
            "The certificate of a registry outside is for another host, out of date, or of nobody who is trusted.",
            "by control, when TLS was to be agreed on",
            "give the certificate of its authority: `mainyard registry add … --authority FILE`",
        ),
        RegistrySilent => entry(
            "A registry outside does not answer, answers with an error, or breaks off again and again.",
            "by control, after several tries",
            "look whether the machine reaches it: `mainyard registry check`; it is tried again by itself",
        ),
        ImageNotFound => entry(
            "The store has no image of this name.",
            "by control, which looks the name up when a release is made",
            "add it with `mainyard image add`, or correct the name; near ones are named",
        ),
        ImageUnusable => entry(
            "The image is there and cannot be used.",
            "by the node, when it reads or unpacks it",
            "build the image again; the sentence says what is wrong with it",
        ),
        KeepsEnding => entry(
            "The process ends again and again.",
            "by the node, which counts its ends and knows its exit status",
            "read `mainyard logs`: the last lines before each end say why",
        ),
        EndedOnce => entry(
            "The process ended and was started again.",
            "by the node, from its exit status",
            "nothing, where it does not happen again; `mainyard logs` has its last lines",
        ),
        SecretMissing => entry(
            "A secret has no such version, or its value can't be read.",
            "by control when a release is made, by the node when it starts a replica, by the gateway when it checks a password against one",
            "add the secret with `mainyard secret add`; control's log says why a value cannot be opened",
        ),
        NoRoom => entry(
            "No node has the room that is asked for.",
            "by control, from what nodes have and what replicas reserve there",
            "lower `reserve`, scale something down, or add a node; the sentence has the numbers",
        ),
        CannotStart => entry(
            "The program could not be started at all.",
            "by the keeper, from the kernel's error",
            "correct `command`, or the image's own; the sentence says what was tried",
        ),
        NotAsReleased => entry(
            "The node started something else than the release asks for.",
            "by control, which compares a digest of what was started",
            "nothing by hand: the rollout goes back; tell the person who looks after the node",
        ),
        Flapping => entry(
            "The ready check succeeds and fails in turns.",
            "by the node, which counts how often it was ready and not again",
            "read `mainyard logs` around the failed checks; the sentence has the last one",
        ),
        ProcessLimit => entry(
            "The process wanted another process or thread and has as many as it may.",
            "by the node, from the kernel's count",
            "raise `limits.processes`, or let the program start fewer",
        ),
        DiskFull => entry(
            "The replica has written as much to its root file system as it may.",
            "by the node, which looks at what it has written",
            "write less or remove what is old in the directory that the sentence names, or raise `limits.disk`",
        ),
        CheckFails => entry(
            "The ready check is answered, and not as it should be.",
            "by the node, which makes the check",
            "ask the path of the check yourself, and read `mainyard logs`",
        ),
        CheckSlow => entry(
            "The ready check is answered later than it allows, or not at all.",
            "by the node, which waits for the late answer to tell how late it is",
            "look with `mainyard stats` whether the replica is busy: add replicas, raise `limits.cpu`, or allow more with `checks.ready.within`",
        ),
        CheckRefused => entry(
            "The replica takes no connection where its check is made.",
            "by the node, which makes the check",
            "read `mainyard logs`: the process may have closed its port",
        ),
        TooFewReady => entry(
            "So few replicas pass their check that the others are sent requests as well, rather than that the few are overrun.",
            "by control, from the checks and `checks.enough`; one that takes no connection is sent none",
            "see why the checks fail with `mainyard show`; more replicas help where they are slow",
        ),
        GitNewer => entry(
            "Git has a newer commit than the environment was made like, and the source asks before it takes one.",
            "by control, from the commit that it fetched",
            "look at `mainyard source compare`, then `mainyard source catch-up`; or follow with `git_newer = \"take\"`",
        ),
        RemovalAsks => entry(
            "A commit no longer declares something that runs, and a person is asked before it is removed.",
            "by control, which holds the commit against the record",
            "`mainyard source catch-up --remove`, or declare it in Git again",
        ),
        SetBack => entry(
            "A rollout of this commit went back, or a person stopped it: the commit is not tried again by itself. The next one is.",
            "by control, from the rollout's verdict",
            "push a commit that fixes it; `mainyard source resume` tries this one again",
        ),
        LiveChanged => entry(
            "Something that Git declares was changed here.",
            "by control, which holds the commit against the record",
            "`mainyard source catch-up` makes it as Git says, `mainyard source write-back` puts it into Git",
        ),
        FilesInvalid => entry(
            "What the commit holds is not a valid declaration; nothing of it was taken.",
            "by control, which reads the folder's files; each fault has its file, line and column",
            "correct it and push; `mainyard validate` checks the files before",
        ),
        CannotBeTaken => entry(
            "What the commit declares belongs to somebody else, or needs something that is not there yet; nothing of it was applied.",
            "by control, which holds the commit against the record",
            "the sentence names the owner or what is missing",
        ),
        GitUnreachable => entry(
            "The repository does not answer, or does not let the platform in. What runs stays as it is.",
            "by control, from what `git` said",
            "the sentence has git's own words; a credential is changed with `mainyard secret add`",
        ),
        BuildFailed => entry(
            "The newest commit of code that is followed could not be built. Workloads keep the image that was built before.",
            "by control, from the end of the build",
            "`mainyard build show` has the step's last lines and what to do",
        ),
        NotReadyInTime => entry(
            "The new release was not ready by its deadline.",
            "by control, from the node's reports",
            "see the reason of its replicas in `mainyard show`; raise `rollout.deadline` where it only needs longer",
        ),
        MoreErrors => entry(
            "The new release fails more requests than the previous one.",
            "by control, from the gateway's figures of both",
            "read the new release's log; `advance` goes on anyway",
        ),
        Slower => entry(
            "The new release answers more slowly than the previous one.",
            "by control, from the gateway's figures of both",
            "compare both in `mainyard show`; `advance` goes on anyway",
        ),
        AsksFirst => entry(
            "A step of the rollout is done, and a person is asked before the next.",
            "by control, from `then = \"ask\"`",
            "`mainyard advance` or `mainyard cancel`",
        ),
        RunFirstFailed => entry(
            "The command that runs before the release serves did not end well.",
            "by the node, from its exit status",
            "read its last lines in `mainyard show T@N`, and deploy a release without the fault",
        ),
        RunFirstUnknown => entry(
            "The command that runs before the release serves may have run, and its end is not known.",
            "by control: the node's agent was replaced while it ran",
            "look whether it did its work; then `advance` or `cancel`",
        ),
        Cancelled => entry(
            "A person took the rollout back.",
            "by control",
            "nothing; deploy again when the fault is fixed",
        ),
        KeeperLost => entry(
            "The keeper ended without a word, and its replica with it.",
            "by the node, which misses it",
            "nothing by hand: the replica is started again; if it happens twice, tell the person who looks after the node",
        ),
        NodeSilent => entry(
            "The node's agent is silent.",
            "by control, to which each node reports every second",
            "look after the machine; until then its replicas go on serving",
        ),
        GatewaySilent => entry(
            "No gateway is linked to control.",
            "by control, to which each gateway reports every second",
            "see that the gateway runs: `mainyard start` starts it; until then it serves by its last table",
        ),
        PortTaken => entry(
            "A route takes a port of the gateway that the gateway cannot listen on: another program has it.",
            "by the gateway, which tries to listen there, and tries again until it can",
            "stop the other program, or declare the route with another port",
        ),
        PortNotTaken => entry(
            "The gateway does not listen on this port.",
            "from the gateway's listeners and the routes that take a port",
            "use the port that the sentence names",
        ),
        NoSuchHost => entry(
            "No route has this host.",
            "by the gateway, from its table",
            "correct the host, or add a route: `mainyard add route`; near hosts are named",
        ),
        PathNotMatched => entry(
            "The host has routes, and none takes the path.",
            "by the gateway, from its table",
            "add a route for the path, or ask one of the paths that are named",
        ),
        MethodNotTaken => entry(
            "The path has routes, and none takes the method.",
            "by the gateway, from its table",
            "use one of the methods that are named, or take the method into the route's `methods`",
        ),
        HeaderNotMatched => entry(
            "The path has routes, and each asks for a header that the request does not have.",
            "by the gateway, from its table",
            "send the header, or add a route without it",
        ),
        PlainWhereTls => entry(
            "Plain HTTP was spoken where TLS is expected.",
            "by the gateway at its https port, and by the node where a check is answered with a TLS alert",
            "use https; towards a replica, say `onward = \"tls\"` in the route's `tls`",
        ),
        TlsWherePlain => entry(
            "TLS was spoken where plain HTTP is expected.",
            "by the gateway, from the connection's first byte",
            "use http, or the gateway's https port",
        ),
        OtherConnection => entry(
            "The route passes the visitor's TLS through, and the request came on a connection that was opened for another host.",
            "by the gateway, from the route and the connection (status 421)",
            "ask on a connection of its own, as browsers then do by themselves",
        ),
        CertificateMismatch => entry(
            "The certificate is for other names than the host.",
            "from the certificate's subject alternative names",
            "add a certificate that covers the host: `mainyard certificate add`",
        ),
        CertificateOutOfDate => entry(
            "The certificate is not valid yet, or has expired.",
            "from the certificate's dates",
            "add its successor under the same name: `mainyard certificate add`; nothing is interrupted",
        ),
        AuthorityRefuses => entry(
            "The authority that a certificate is obtained from does not sign it.",
            "from the authority's own words",
            "it must reach the host from where it is: by name, at port 80 for http-01 and at 443 for tls-alpn-01; it is tried again by itself",
        ),
        AuthoritySilent => entry(
            "The authority that a certificate is obtained from does not answer.",
            "by control, which asks it",
            "see that its directory is reached from this machine: `mainyard authority list`; it is tried again by itself",
        ),
        BadRequest => entry(
            "The request cannot be understood, or not in one way only.",
            "by the gateway, from its bytes: docs/http.md has every shape",
            "fix the client; the sentence says what is wrong",
        ),
        NotAllowed => entry(
            "The visitor did not show that it may enter.",
            "by the gateway, from the route's `enter`",
            "send the token, or name and password, that the route asks for",
        ),
        DoorSilent => entry(
            "The service that `ask_url` names gives no usable answer.",
            "by the gateway, which asks `ask_url`",
            "see that it runs and answers 2xx, 401 or 403 within its time",
        ),
        AddressNotAllowed => entry(
            "The route takes no visitors with this address.",
            "by the gateway, from the route's `visitors` and the address that the connection came from",
            "come from an address that it takes, or change `visitors` of the route",
        ),
        Drill => entry(
            "The route answers some requests like this on purpose, to see how callers take it.",
            "by the gateway, from the route's `drill`",
            "nothing is broken; take `drill` out of the route to end it",
        ),
        RateLimited => entry(
            "One visitor asks more often than the route lets one visitor.",
            "by the gateway, by the visitor's address",
            "ask less often: `Retry-After` says when; or raise the route's `rate`",
        ),
        BodyTooLarge => entry(
            "The request's body is larger than the route takes.",
            "by the gateway, from its length or as it goes by",
            "send less, or raise `limits.body` of the route",
        ),
        BodyStalled => entry(
            "The request's body stopped coming.",
            "by the gateway, after the pause that the route allows",
            "look at the visitor's connection; `limits.pause` says how long is waited",
        ),
        NotOpenToCaller => entry(
            "The caller's environment is not one that the service is open to.",
            "by the gateway, from the caller's address",
            "add the caller's environment to `open_to` of the service, if it may call it",
        ),
        NotListed => entry(
            "No rule lets the workload reach a destination outside.",
            "from `outgoing` of the environment and of the workload, by the gateway for each connection",
            "list the destination in `outgoing` of the workload, or allow more: `mainyard environment outgoing`",
        ),
        NeverReached => entry(
            "The destination is the machine itself, one of its links, or an address of the platform: no rule opens the way there.",
            "by the gateway, from the address, also when a name outside turns out to have it",
            "call a service by its name; a program on the machine itself is reached at an address that is not a loopback one",
        ),
        NameUnresolved => entry(
            "The name of a destination outside has no address.",
            "by the gateway, from the machine's resolvers",
            "correct the name, or the resolvers in /etc/resolv.conf of the machine",
        ),
        Unreachable => entry(
            "A destination outside does not take connections.",
            "by the gateway, which tried",
            "look at the destination and at what is between; the sentence has the machine's words",
        ),
        AllSharesZero => entry(
            "Every share of the route is zero.",
            "from the route's declaration",
            "give one of its services a share",
        ),
        ServiceMissing => entry(
            "The route leads to a service that is not there.",
            "from the record",
            "declare the service, or lead the route elsewhere",
        ),
        SelectorEmpty => entry(
            "The service's selector matches no workload.",
            "from the labels of the wanted releases",
            "correct the selector or the label; what nearly matches is named",
        ),
        PortMissing => entry(
            "The workloads that the service selects have no port of the name that it leads to.",
            "from the ports of the wanted releases",
            "correct the name in the service's `ports`, or declare the port on the workload",
        ),
        Overloaded => entry(
            "Every replica takes as many requests as it may, and as many wait as may, or one has waited for too long.",
            "by the gateway, from `limits.requests`, `limits.queue` and `limits.queue_time` of the workload",
            "add replicas with `mainyard scale`; `Retry-After` says when a visitor may try again",
        ),
        Asleep => entry(
            "No replica runs, because nobody asked for a while. The next request wakes it, and waits until a replica is ready.",
            "from `replicas` of the workload: `min = 0` and `sleep_after`",
            "nothing: ask for it, or declare a `min` of 1 to keep a replica ready",
        ),
        WakesLate => entry(
            "A request came for a workload that sleeps, and no replica was ready in time.",
            "by the gateway, after `wake_within` of the workload",
            "see with `mainyard why` what its replicas wait for; raise `wake_within` where they need longer to start",
        ),
        NoneReady => entry(
            "No replica of the service takes requests now.",
            "from the table, and from each replica's own reason",
            "correct what the replicas answer",
        ),
        AnswerLate => entry(
            "The replica did not begin its answer in time.",
            "by the gateway, after the time that the route allows",
            "look at what the replica waits for; `limits.answer` says how long is waited",
        ),
        AnswerBroken => entry(
            "The replica broke the connection before it answered, or answered what is no HTTP.",
            "by the gateway, which reads its answer",
            "read the replica's log; a process that expects TLS also shows so",
        ),
        ScaledToZero => {
            entry("A person scaled the workload to none.", "from the record", "`mainyard scale T 1`")
        }
        Held => entry(
            "A person holds it: nothing automatic moves it.",
            "from the record; the reason that was given stands beside it",
            "`mainyard resume T`, when the reason is gone",
        ),
        StillStarting => entry(
            "It is on its way and nothing is wrong.",
            "from the node's reports",
            "wait; `mainyard show` follows it",
        ),
        Answers => entry("It answers.", "from the table", "nothing"),
    }
}

/// The catalogue as a document.
pub fn document() -> String {
    let mut text = String::new();
    for (chapter, codes) in CHAPTERS {
        text.push_str(&format!(
            "## {chapter}\n\n| reason | meaning | found | what to do |\n| --- | --- | --- | --- |\n"
        ));
        for code in *codes {
            let Entry { meaning, found, fix } = about(*code);
            text.push_str(&format!("| `{code}` | {meaning} | {found} | {fix} |\n"));
        }
        text.push('\n');
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_code_is_in_one_chapter() {
        let mut listed: Vec<ReasonCode> =
            CHAPTERS.iter().flat_map(|(_, codes)| codes.iter().copied()).collect();
        listed.sort();
        let mut all = ReasonCode::ALL.to_vec();
        all.sort();
        assert_eq!(listed, all);
    }

    #[test]
    fn the_docs_hold_this_catalogue() {
        let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reasons.md");
        let docs = std::fs::read_to_string(file).expect("docs/reasons.md");
        let (begin, end) = ("<!-- catalogue -->\n", "<!-- end of the catalogue -->");
        let start = docs.find(begin).expect("the mark") + begin.len();
        let stop = docs.find(end).expect("the other mark");
        if std::env::var_os("MAINYARD_WRITE_DOCS").is_some() {
            std::fs::write(file, format!("{}{}{}", &docs[..start], document(), &docs[stop..]))
                .expect("written");
            return;
        }
        assert_eq!(
            &docs[start..stop],
            document(),
            "MAINYARD_WRITE_DOCS=1 cargo test -p mainyard-core writes it again"
        );
    }
}
