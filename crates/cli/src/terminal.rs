//! How things are said: failures with their exit code, signals with shape and colour.

use std::io::IsTerminal;

use mainyard_core::model::Signal;

/// Why a command did not do what it was asked.
#[derive(Debug)]
pub(crate) struct Failure {
    kind: FailureKind,
    message: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FailureKind {
    Failed,
    Usage,
    Refused,
    Unreachable,
    /// All is said; only the exit code is left.
    Said,
}

impl Failure {
    /// The error was printed already: exit code 1.
    pub(crate) fn said() -> Failure {
        Failure { kind: FailureKind::Said, message: String::new() }
    }
    /// The thing asked for failed: exit code 1.
    pub(crate) fn failed(message: impl Into<String>) -> Failure {
        Failure { kind: FailureKind::Failed, message: message.into() }
    }
    /// The command line makes no sense: exit code 2.
    pub(crate) fn usage(message: impl Into<String>) -> Failure {
        Failure { kind: FailureKind::Usage, message: message.into() }
    }
    /// Not valid or not allowed: exit code 3.
    pub(crate) fn refused(message: impl Into<String>) -> Failure {
        Failure { kind: FailureKind::Refused, message: message.into() }
    }
    /// The platform does not answer: exit code 4.
    pub(crate) fn unreachable(message: impl Into<String>) -> Failure {
        Failure { kind: FailureKind::Unreachable, message: message.into() }
    }

    /// The error, in words.
    pub(crate) fn message(&self) -> &str {
        &self.message
    }

    /// The exit code.
    pub(crate) fn code(&self) -> u8 {
        match self.kind {
            FailureKind::Failed | FailureKind::Said => 1,
            FailureKind::Usage => 2,
            FailureKind::Refused => 3,
            FailureKind::Unreachable => 4,
        }
    }

    /// Says it on standard error.
    pub(crate) fn print(&self) {
        let paint = Paint { on: std::io::stderr().is_terminal() && colours_wanted() };
        let word = match self.kind {
            FailureKind::Failed => "failed",
            FailureKind::Usage => "wrong usage",
            FailureKind::Refused => "refused",
            FailureKind::Unreachable => "unavailable",
            FailureKind::Said => return,
        };
        eprintln!(
            "{} {}",
            paint.signal(Signal::Fault, &format!("{} {word}:", shape(Signal::Fault))),
            crate::times::local(&self.message)
        );
    }
}

fn colours_wanted() -> bool {
    std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
}

/// Whether colours may be used on standard output.
pub(crate) fn colours() -> bool {
    std::io::stdout().is_terminal() && colours_wanted()
}

/// The shape of a signal; the same everywhere.
pub(crate) fn shape(signal: Signal) -> &'static str {
    signal.shape()
}

/// Colours text, where colours are wanted.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Paint {
    on: bool,
}

impl Paint {
    /// For standard output.
    pub(crate) fn stdout() -> Paint {
        Paint { on: colours() }
    }

    /// Text in a signal's colour.
    pub(crate) fn signal(self, signal: Signal, text: &str) -> String {
        let code = match signal {
            Signal::Good => "32",
            Signal::Moving => "34",
            Signal::Caution => "33",
            Signal::Fault => "31",
            Signal::Rest => "90",
        };
        self.with(code, text)
    }

    /// Important text.
    pub(crate) fn strong(self, text: &str) -> String {
        self.with("1", text)
    }

    /// Text that stands back.
    pub(crate) fn quiet(self, text: &str) -> String {
        self.with("90", text)
    }

    fn with(self, code: &str, text: &str) -> String {
        if self.on { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_owned() }
    }
}

/// "1 replica", "3 replicas".
pub(crate) fn count(number: usize, thing: &str) -> String {
    if number == 1 { format!("1 {thing}") } else { format!("{number} {thing}s") }
}

/// "4 s", "12 min", "3 h", "2 d".
pub(crate) fn age(span: jiff::SignedDuration) -> String {
    let seconds = span.as_secs().max(0);
    match seconds {
        0..=99 => format!("{seconds} s"),
        100..=5999 => format!("{} min", seconds / 60),
        6000..=172_799 => format!("{} h", seconds / 3600),
        _ => format!("{} d", seconds / 86_400),
    }
}
