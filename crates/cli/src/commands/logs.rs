//! Reading logs.

use std::io::Write;

use futures_util::StreamExt;
use mainyard_api::{LogQuery, OfTarget, ReadLogs};
use mainyard_core::link::LogLine;
use mainyard_core::model::{ReleaseId, ReleaseNumber, Signal, Target};
use mainyard_core::untrusted_text::{for_record, visible};

use crate::args::Output;
use crate::client::Client;
use crate::terminal::{Failure, Paint};

/// Which lines, and how.
pub(crate) struct Wanted {
    /// One release only, its replicas that are gone included.
    pub release: Option<ReleaseNumber>,
    /// One replica by its short name.
    pub replica: Option<String>,
    /// How many lines of what is there.
    pub tail: u32,
    /// Go on with what comes.
    pub follow: bool,
    /// Pass on what a terminal would take for commands.
    pub raw: bool,
}

pub(crate) async fn logs(
    client: &Client,
    target: &Target,
    wanted: Wanted,
    output: Output,
) -> Result<(), Failure> {
    let Wanted { release, replica, tail, follow, raw } = wanted;
    let replica = replica.map(|replica| replica.rsplit('/').next().unwrap_or(&replica).to_owned());
    let query = LogQuery { replica, release: release.map(|number| number.0), tail, follow };
    let answer = client.send(client.request::<ReadLogs>(&OfTarget::from(target), &query)).await?;
    let mut body = answer.bytes_stream();
    let mut text: Vec<u8> = Vec::new();
    let mut out = std::io::stdout().lock();
    let paint = Paint::stdout();
    let mut any = false;
    while let Some(chunk) = body.next().await {
        text.extend_from_slice(
            &chunk.map_err(|error| Failure::unreachable(format!("the log ends here: {error}")))?,
        );
        while let Some(end) = text.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = text.drain(..=end).collect();
            let line = &line[..end];
            if line.is_empty() {
                continue;
            }
            any = true;
            let written = if output.json {
                writeln!(out, "{}", String::from_utf8_lossy(line))
            } else {
                let parsed: LogLine =
                    serde_json::from_slice(line).map_err(|error| Failure::failed(error.to_string()))?;
                writeln!(out, "{}", shown(&parsed, paint, raw))
            };
            if written.and_then(|()| out.flush()).is_err() {
                return Ok(());
            }
        }
    }
    if !any && !follow {
        match release {
            Some(number) => eprintln!("nothing is kept of what replicas of {target}@{number} wrote"),
            None => eprintln!("no replica of {target} has written anything"),
        }
    }
    Ok(())
}

/// The last lines that replicas of a release wrote themselves, as they are shown beside a reason: with credentials masked.
/// If they can't be read, the reason stands in their place.
pub(crate) async fn last_of(
    client: &Client,
    release: &ReleaseId,
    replica: Option<&str>,
    count: usize,
) -> Vec<String> {
    let ReleaseId { workload, number } = release;
    let tail = u32::try_from(count).unwrap_or(u32::MAX);
    let query =
        LogQuery { replica: replica.map(str::to_owned), release: Some(number.0), tail, follow: false };
    let request = client.request::<ReadLogs>(&OfTarget::from(workload), &query);
    let answer = match client.send(request).await {
        Ok(answer) => answer,
        Err(failure) => return vec![format!("(its lines can't be read: {})", failure.message())],
    };
    let text = answer.text().await.unwrap_or_default();
    let lines = text.lines().filter_map(|line| serde_json::from_str::<LogLine>(line).ok());
    let mut lines: Vec<LogLine> =
        lines.filter(|line| line.source != 'k' && !line.text.trim().is_empty()).collect();
    lines.sort_by_key(|line| line.at);
    // What ran once and ended well says nothing of the replicas that came after it.
    let ran_once = |line: &LogLine| line.replica.short == format!("first{number}");
    if !lines.iter().all(ran_once) {
        lines.retain(|line| !ran_once(line));
    }
    let last = lines.split_off(lines.len().saturating_sub(count));
    let shown = |line: &LogLine| match replica {
        Some(_) => for_record(&line.text),
        None => format!("{}: {}", line.replica.short, for_record(&line.text)),
    };
    last.iter().map(shown).collect()
}

fn shown(line: &LogLine, paint: Paint, raw: bool) -> String {
    let words = if raw { line.text.as_str().into() } else { visible(&line.text) };
    let at = jiff::Timestamp::from_microsecond(line.at as i64).unwrap_or_default();
    let at = at.to_zoned(jiff::tz::TimeZone::system()).strftime("%H:%M:%S%.3f %Z").to_string();
    let text = match line.source {
        'e' => paint.signal(Signal::Caution, &words),
        'k' => paint.quiet(&format!("[{words}]")),
        _ => words.into_owned(),
    };
    format!(
        "{} {} {text}",
        paint.quiet(&at),
        paint.signal(Signal::Moving, &format!("{:<3}", line.replica.short))
    )
}
