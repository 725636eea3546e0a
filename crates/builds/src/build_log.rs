//! A build as lines of text, for those who read along in a terminal or in the output of a push.

use std::collections::BTreeMap;

use mainyard_core::model::Signal;
use mainyard_core::untrusted_text::visible_lines;

use crate::{BuildEvent, BuildState, BuildView, StepState};

/// A line to show.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogLine {
    /// How it is marked, where it says how something ended.
    pub signal: Option<Signal>,
    /// Spaces in front.
    pub indent: usize,
    /// The line.
    pub text: String,
}

impl LogLine {
    fn plain(indent: usize, text: impl Into<String>) -> LogLine {
        LogLine { signal: None, indent, text: text.into() }
    }
}

/// What was shown of a build. Events that come again over a new connection are shown once.
#[derive(Debug, Default)]
pub struct BuildLog {
    /// Lines that were shown, and lines that came over this connection.
    shown: u64,
    came: u64,
    /// How each step stood when it was shown.
    steps: BTreeMap<usize, StepState>,
    last: Option<BuildView>,
}

impl BuildLog {
    /// The events come again from the first.
    pub fn begin_again(&mut self) {
        self.came = 0;
    }

    /// Whether nothing was shown yet.
    pub fn is_empty(&self) -> bool {
        self.shown == 0 && self.last.is_none()
    }

    /// The build as it came last.
    pub fn last(&self) -> Option<&BuildView> {
        self.last.as_ref()
    }

    /// Takes an event; gives what is to be shown of it.
    pub fn take(&mut self, event: BuildEvent) -> Vec<LogLine> {
        match event {
            BuildEvent::Line { line, .. } => {
                self.came += 1;
                if self.came <= self.shown {
                    return Vec::new();
                }
                self.shown = self.came;
                vec![LogLine::plain(3, format!("| {}", visible_lines(&line.text)))]
            }
            BuildEvent::Build(view) => {
                let lines = self.of_view(&view);
                self.last = Some(*view);
                lines
            }
        }
    }

    fn of_view(&mut self, view: &BuildView) -> Vec<LogLine> {
        let mut lines = Vec::new();
        let build = &view.build;
        if self.last.is_none() {
            let image = build.image.to_string();
            lines.push(LogLine::plain(0, format!("build {}: {}", build.number, visible_lines(&image))));
        }
        let is_new = self.last.as_ref().is_none_or(|last| last.says != view.says);
        if build.state == BuildState::Queued && is_new {
            lines.push(LogLine::plain(2, &view.says));
        }
        let all = build.steps.len();
        for (at, step) in build.steps.iter().enumerate() {
            if step.state == StepState::Waiting || self.steps.get(&at) == Some(&step.state) {
                continue;
            }
            if self.steps.insert(at, step.state).is_none() {
                let words = format!("{}/{all} {}: {}", at + 1, step.part, visible_lines(&step.words));
                lines.push(LogLine::plain(1, words));
            }
            if step.state != StepState::Running {
                let signal = if step.state == StepState::Failed { Signal::Fault } else { Signal::Good };
                lines.push(LogLine { signal: Some(signal), indent: 3, text: view.steps_say[at].clone() });
            }
        }
        lines
    }
}

impl BuildView {
    /// Why a build did not make its image: cause, the last lines of the step, fix.
    pub fn ending(&self) -> String {
        let mut text = format!("build {}: {}", self.build.number, visible_lines(&self.says));
        if let Some(fault) = &self.build.fault {
            for line in &fault.last_lines {
                text += &format!("\n   | {}", visible_lines(line));
            }
            if !fault.fix.is_empty() {
                text += &format!("\n  fix: {}", visible_lines(&fault.fix));
            }
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;
    use mainyard_core::link::StepLine;

    use super::*;

    #[test]
    fn a_build_is_told_once_also_over_a_second_connection() {
        let mut build = crate::build::tests::build(7, "lockers/survey-form:3f07");
        let view = |build: &crate::Build| {
            BuildEvent::Build(Box::new(BuildView::of(build.clone(), None, Timestamp::UNIX_EPOCH)))
        };
        let line = || BuildEvent::Line {
            step: 0,
            line: StepLine { number: 0, at: 0, source: 'o', text: "hello\u{1b}[2J".to_owned() },
        };
        build.begin(Timestamp::UNIX_EPOCH);
        build.begin_step(0, Timestamp::UNIX_EPOCH);
        let mut log = BuildLog::default();
        let mut told: Vec<LogLine> = Vec::new();
        for event in [view(&build), line(), view(&build)] {
            told.extend(log.take(event));
        }
        log.begin_again();
        told.extend(log.take(line()));
        let texts: Vec<&str> = told.iter().map(|line| line.text.as_str()).collect();
        insta::assert_snapshot!(texts.join("\n"));
    }
}
