//! The lines a keeper writes to its standard output, and the `exit` file it leaves.

use std::fmt;

/// One line of a keeper's progress.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Progress {
    /// The process runs; the number is the init's process id as the machine sees it.
    Running(u32),
    /// The surroundings could not be built, or the program could not be started.
    Failed {
        /// The operation that failed.
        step: String,
        /// The kernel's error number.
        errno: i32,
    },
    /// The process ended.
    Ended(Ending),
}

/// How a replica's process ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ending {
    /// The exit status, where it ended by itself.
    pub code: Option<i32>,
    /// The signal, where one ended it.
    pub signal: Option<i32>,
    /// How often the kernel killed a process of the replica for memory.
    pub memory_kills: u64,
}

impl fmt::Display for Progress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Progress::Running(pid) => write!(f, "running {pid}"),
            Progress::Failed { step, errno } => write!(f, "failed {errno} {step}"),
            Progress::Ended(ending) => write!(f, "ended {ending}"),
        }
    }
}

impl fmt::Display for Ending {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.code, self.signal) {
            (Some(code), _) => write!(f, "exit {code} {}", self.memory_kills),
            (None, signal) => write!(f, "signal {} {}", signal.unwrap_or(0), self.memory_kills),
        }
    }
}

impl Ending {
    /// Reads what `Display` wrote.
    pub fn parse(text: &str) -> Option<Ending> {
        let mut words = text.split_whitespace();
        let kind = words.next()?;
        let number = words.next()?.parse().ok()?;
        let memory_kills = words.next()?.parse().ok()?;
        match kind {
            "exit" => Some(Ending { code: Some(number), signal: None, memory_kills }),
            "signal" => Some(Ending { code: None, signal: Some(number), memory_kills }),
            _ => None,
        }
    }
}

impl Progress {
    /// Reads one line without its line feed.
    pub fn parse(line: &str) -> Option<Progress> {
        let (kind, rest) = line.split_once(' ')?;
        match kind {
            "running" => rest.parse().ok().map(Progress::Running),
            "failed" => {
                let (errno, step) = rest.split_once(' ')?;
                Some(Progress::Failed { step: step.to_owned(), errno: errno.parse().ok()? })
            }
            "ended" => Ending::parse(rest).map(Progress::Ended),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_line_of_progress_round_trips() {
        let ending = |code, signal| Progress::Ended(Ending { code, signal, memory_kills: 2 });
        let failed = Progress::Failed { step: "mount the root".to_owned(), errno: 13 };
        for progress in [Progress::Running(4711), failed, ending(Some(0), None), ending(None, Some(9))] {
            assert_eq!(Progress::parse(&progress.to_string()), Some(progress));
        }
    }

    #[test]
    fn anything_else_is_no_progress() {
        for line in [
            "",
            "running",
            "running far",
            "ended exit",
            "ended exit 1",
            "ended by 1 2",
            "failed 13",
            "failed x y",
        ] {
            assert_eq!(Progress::parse(line), None, "{line:?}");
        }
    }
}
