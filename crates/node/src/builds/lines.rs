//! Sends the lines that a step writes to control, while it writes them.

use std::path::Path;
use std::time::Duration;

use mainyard_control_client::Control;
use mainyard_core::link::{LogLine, StepLine};
use tokio_util::sync::CancellationToken;

use crate::logs::LogReader;

/// How often is looked for more.
const LOOK_EVERY: Duration = Duration::from_millis(100);
/// Lines that are sent at once.
const AT_ONCE: usize = 1000;

/// Sends lines until the step has ended and all of them were sent. Control is waited for: a line that it has already is
/// known by its number.
pub(super) async fn send(control: Control, path: String, log_dir: &Path, ended: CancellationToken) {
    let mut reader = LogReader::from_beginning(log_dir);
    let mut number = 0;
    loop {
        let was_ended = ended.is_cancelled();
        let lines: Vec<LogLine> = reader.more();
        let lines: Vec<StepLine> = lines
            .into_iter()
            .map(|line| {
                number += 1;
                StepLine { number: number - 1, at: line.at, source: line.source, text: line.text }
            })
            .collect();
        for part in lines.chunks(AT_ONCE) {
            if let Err(error) = super::step::until_taken(|| control.report(&path, &part)).await {
                tracing::warn!(%error, "lines of a step were not taken");
            }
        }
        if was_ended && lines.is_empty() {
            return;
        }
        if !was_ended {
            tokio::select! {
                () = tokio::time::sleep(LOOK_EVERY) => {}
                () = ended.cancelled() => {}
            }
        }
    }
}
