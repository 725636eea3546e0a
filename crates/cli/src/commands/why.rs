//! Why something answers, or does not; and requests as they end.

use std::collections::BTreeSet;

use futures_util::StreamExt;
use mainyard_api::{ExplainWhy, FollowRequests, NoPath, NoQuery, WhyQuery};
use mainyard_core::link::Served;
use mainyard_core::model::Signal;
use mainyard_core::record::State;
use mainyard_core::untrusted_text::visible;
use mainyard_core::why::{Part, Why, WhyStep};

use crate::args::Output;
use crate::client::Client;
use crate::output;
use crate::terminal::{Failure, Paint, shape};
use crate::times;

/// The subject of the question.
pub(super) struct WhyQuestion {
    /// A URL, a target or a request's id.
    pub what: String,
    /// Of a workload: a destination outside.
    pub to: Option<String>,
    /// Of a URL: the method.
    pub method: String,
    /// Of a URL: headers, as `name: value`.
    pub headers: Vec<String>,
}

/// Which of the three is meant: a scheme, a dot or a port make a URL, a slash or a colon a target, hexadecimal digits an
/// id.
fn query(asked: &WhyQuestion) -> Result<WhyQuery, Failure> {
    let none = WhyQuery { url: None, method: None, headers: None, of: None, to: None, request: None };
    let what = asked.what.trim();
    if let Some(to) = &asked.to {
        let target = super::parse_target(what.strip_prefix("workload:").unwrap_or(what))?;
        return Ok(WhyQuery { of: Some(target.to_string()), to: Some(to.clone()), ..none });
    }
    let first = what.split('/').next().unwrap_or(what);
    let is_kind = ["workload:", "service:", "route:"].iter().any(|kind| what.starts_with(kind));
    if what.contains("://") || (!is_kind && first.contains(['.', ':'])) {
        let headers = Some(asked.headers.join("\n"));
        return Ok(WhyQuery {
            url: Some(what.to_owned()),
            method: Some(asked.method.clone()),
            headers,
            ..none
        });
    }
    let id = what.len() >= 8
        && !is_kind
        && !what.contains('/')
        && what.bytes().all(|byte| byte.is_ascii_hexdigit());
    if id || (!is_kind && !what.contains('/') && what.len() == 28) {
        return Ok(WhyQuery { request: Some(what.to_owned()), ..none });
    }
    let (kind, name) = what.split_once(':').map_or((None, what), |(kind, name)| (Some(kind), name));
    let target = super::parse_target(name)?;
    let of = kind.map_or(target.to_string(), |kind| format!("{kind}:{target}"));
    Ok(WhyQuery { of: Some(of), ..none })
}

pub(super) async fn why(client: &Client, asked: &WhyQuestion, output: Output) -> Result<(), Failure> {
    let why = client.ask::<ExplainWhy>(NoPath {}, query(asked)?).await?;
    if output.json {
        output::json(&why);
        return Ok(());
    }
    print!("{}", times::local(&shown(&why, Paint::stdout())));
    Ok(())
}

/// The chain, with its cause at the end.
pub(super) fn shown(why: &Why, paint: Paint) -> String {
    let signal = if why.answers { Signal::Good } else { Signal::Fault };
    let word = match (why.steps.first().map(|step| step.part), why.answers) {
        (Some(Part::Workload), true) => "is well",
        (Some(Part::Workload), false) => "is not well",
        (Some(Part::Environment), true) => "is reached",
        (Some(Part::Environment), false) => "is not reached",
        (Some(Part::Request), true) => "was served",
        (Some(Part::Request), false) => "was not served",
        (_, true) => "answers",
        (_, false) => "does not answer",
    };
    let mut text = format!(
        "{}  {}\n\n",
        paint.strong(&why.of),
        paint.signal(signal, &format!("{} {word}", shape(signal)))
    );
    let last = why.steps.len().saturating_sub(1);
    for (number, WhyStep { part, name, says, signal }) in why.steps.iter().enumerate() {
        let joint = if number == last && !why.answers { "╳" } else { "│" };
        let mark = paint.signal(*signal, shape(*signal));
        let line = if number == 0 { "  " } else { "" };
        if line.is_empty() {
            text.push_str(&format!("  {}\n", paint.quiet(joint)));
        }
        text.push_str(&format!("  {mark} {:<9} {}  {says}\n", word_of(*part), paint.strong(name)));
    }
    text.push('\n');
    if !why.answers {
        text.push_str(&format!("{}  {}: {}\n", paint.strong("cause"), why.cause.code, why.cause.sentence));
        text.push_str(&format!("{}    {}\n", paint.strong("fix"), why.cause.fix));
    }
    for (number, line) in why.output.iter().enumerate() {
        let word = if number == 0 { "wrote" } else { "     " };
        text.push_str(&format!("{}  {}\n", paint.quiet(word), visible(line)));
    }
    for also in &why.also {
        text.push_str(&format!("{}   {also}\n", paint.quiet("also")));
    }
    text
}

fn word_of(part: Part) -> &'static str {
    match part {
        Part::Gateway => "gateway",
        Part::Host => "host",
        Part::Certificate => "certified",
        Part::Route => "route",
        Part::Door => "door",
        Part::Share => "share",
        Part::Service => "service",
        Part::Selector => "selector",
        Part::Workload => "workload",
        Part::Release => "release",
        Part::Replica => "replicas",
        Part::Request => "request",
        Part::Environment => "outgoing",
        Part::Rule => "rule",
        Part::Name => "name",
        Part::Destination => "outside",
    }
}

/// Requests as they end, until it is interrupted.
pub(super) async fn requests(client: &Client, of: Option<String>, output: Output) -> Result<(), Failure> {
    if let Some(of) = &of {
        check_known(&client.snapshot().await?.state, of)?;
    }
    let answer = client.send(client.request::<FollowRequests>(&NoPath {}, &NoQuery {})).await?;
    let mut stream = answer.bytes_stream();
    let mut partial: Vec<u8> = Vec::new();
    while let Some(piece) = stream.next().await {
        let piece = piece.map_err(|error| Failure::unreachable(format!("the stream was cut: {error}")))?;
        partial.extend_from_slice(&piece);
        while let Some(end) = partial.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = partial.drain(..=end).collect();
            match serde_json::from_slice::<Served>(&line) {
                Ok(served) if fits(&served, of.as_deref()) => {
                    if output.json {
                        print!("{}", String::from_utf8_lossy(&line));
                    } else {
                        println!("{}", visible(&answered_in_words(&served)));
                    }
                }
                Ok(_) => {}
                Err(_) if line.len() > 1 => eprintln!("{}", String::from_utf8_lossy(&line).trim_end()),
                Err(_) => {}
            }
        }
    }
    Ok(())
}

/// Whether anything is called so: a name that nothing has would be waited for without end.
fn check_known(state: &State, of: &str) -> Result<(), Failure> {
    let name = of.split_once(':').map_or(of, |(_, name)| name);
    let targets = state.workloads.keys().chain(state.routes.keys());
    let mut known: BTreeSet<String> = targets.map(ToString::to_string).collect();
    known.extend(state.routes.values().filter_map(|route| route.spec.host.clone()));
    if known.contains(name) || known.contains(of) {
        return Ok(());
    }
    let hint = mainyard_core::suggestions::did_you_mean(of, known.iter().map(String::as_str));
    Err(Failure::refused(format!("there is no workload, route or host {of}{hint}")))
}

/// Whether it is of this route, workload or host.
fn fits(served: &Served, of: Option<&str>) -> bool {
    let Some(of) = of else { return true };
    let name = of.split_once(':').map_or(of, |(_, name)| name);
    let host = served.host.as_deref().map(|host| host.split(':').next().unwrap_or(host));
    served.route.as_deref() == Some(name)
        || served.replica.as_ref().is_some_and(|replica| replica.workload.to_string() == name)
        || host == Some(of)
}

fn answered_in_words(served: &Served) -> String {
    let at = jiff::Timestamp::from_millisecond(served.at as i64).unwrap_or_default();
    let at = at.to_zoned(jiff::tz::TimeZone::system()).strftime("%H:%M:%S%.3f %Z");
    let who = match (&served.replica, &served.reason) {
        (Some(replica), _) => format!("{replica} @{}", served.release.map_or(0, |release| release.0)),
        (None, Some(reason)) => reason.code.to_string(),
        (None, None) => "gateway".to_owned(),
    };
    let host = served.host.as_deref().or(served.way.as_deref()).unwrap_or("-");
    let millis = served.micros as f64 / 1000.0;
    let broken = if served.broken { " broken off" } else { "" };
    format!(
        "{at} {} {} {host}{} {millis:.1} ms {who}{broken}  {}",
        served.status, served.method, served.path, served.id
    )
}
