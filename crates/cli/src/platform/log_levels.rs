//! Log levels of the parts, chosen for each part while they run.
//!
//! The levels are a line of text in a file of the data directory. The supervisor hands each part the open file, because parts
//! see too little of the machine to find it themselves. A part reads it again every second.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::fd::{FromRawFd, RawFd};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::time::Duration;

use mainyard_core::suggestions::did_you_mean;
use tracing::level_filters::LevelFilter;
use tracing_subscriber::filter::Targets;

use super::listeners::FIRST_LISTENER;
use crate::data_dir::DataDir;
use crate::terminal::Failure;

/// The descriptor of the open file: after the listeners; there are never that many.
pub(super) const DESCRIPTOR: RawFd = FIRST_LISTENER + 7;

/// The name of the file in the data directory.
const FILE: &str = "log-levels";
/// The log levels if none were chosen.
const DEFAULT: &str = "info";
/// More than anybody chooses.
const LONGEST: usize = 1000;
const READ_EVERY: Duration = Duration::from_secs(1);

/// The parts, with the names that their log lines carry.
const PARTS: [(&str, &str); 3] =
    [("control", "mainyard_control"), ("node", "mainyard_node"), ("gateway", "mainyard_gateway")];
const LEVELS: [&str; 6] = ["off", "error", "warn", "info", "debug", "trace"];

/// Reads levels as a person writes them: one for everything, and others by part, such as `info,gateway=debug`.
///
/// # Errors
/// The error, with what was expected.
fn parse(text: &str) -> Result<Targets, String> {
    if text.len() >= LONGEST {
        return Err(format!("levels of {} bytes are too long; {LONGEST} are read", text.len()));
    }
    // Who chooses a level for one part alone wants the others as they usually are.
    let mut targets = Targets::new().with_default(LevelFilter::INFO);
    for item in text.split(',').map(str::trim) {
        let (part, level) = match item.split_once('=') {
            Some((part, level)) => (Some(part.trim()), level.trim()),
            None => (None, item),
        };
        // An empty text would be read as a level as well.
        let known = LEVELS.contains(&level).then(|| level.parse::<LevelFilter>().ok()).flatten();
        let filter = known.ok_or_else(|| {
            let hint = did_you_mean(level, LEVELS);
            format!("{level:?} is not a level ({}){hint}", LEVELS.join(", "))
        })?;
        targets = match part {
            None => targets.with_default(filter),
            Some(part) => targets.with_target(target_of(part)?, filter),
        };
    }
    Ok(targets)
}

/// The name that the log lines of a part carry. A library's own name is taken as it is.
fn target_of(part: &str) -> Result<&str, String> {
    if let Some((_, target)) = PARTS.iter().find(|(name, _)| *name == part) {
        return Ok(target);
    }
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == ':';
    let of_a_library =
        part.contains('_') || part.contains("::") || ["hyper", "sqlx", "h2", "rustls"].contains(&part);
    if of_a_library && part.chars().all(plain) {
        return Ok(part);
    }
    let names = PARTS.map(|(name, _)| name);
    Err(format!("{part:?} is not a part ({}){}", names.join(", "), did_you_mean(part, names)))
}

/// Opens the file for the parts to read. Where `MAINYARD_LOG` chooses levels, they take the place of what is there.
///
/// # Errors
/// When the file cannot be written, or `MAINYARD_LOG` cannot be read.
pub(super) fn open(place: &DataDir) -> Result<File, Failure> {
    let path = place.file(FILE);
    if let Ok(chosen) = std::env::var("MAINYARD_LOG") {
        parse(&chosen).map_err(|wrong| Failure::usage(format!("MAINYARD_LOG: {wrong}")))?;
        write(place, &chosen)?;
    } else if !path.exists() {
        write(place, DEFAULT)?;
    }
    File::open(&path).map_err(|error| Failure::failed(format!("cannot read {}: {error}", path.display())))
}

/// Writes into the same file: parts have it open.
fn write(place: &DataDir, levels: &str) -> Result<(), Failure> {
    let path = place.file(FILE);
    let file = OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(&path);
    let written = file.and_then(|mut file| writeln!(file, "{levels}"));
    written.map_err(|error| Failure::failed(format!("cannot write {}: {error}", path.display())))
}

/// `mainyard log-level`: shows what the parts write, or changes it.
pub(crate) fn log_level(place: &DataDir, levels: Option<&str>) -> Result<(), Failure> {
    if !place.file("layout").exists() {
        return Err(Failure::unreachable(format!("there is no platform in {}", place.data.display())));
    }
    if let Some(levels) = levels {
        parse(levels).map_err(|wrong| {
            Failure::usage(format!("{wrong}\nFor example: mainyard log-level info,gateway=debug"))
        })?;
        write(place, levels)?;
        println!("the parts write {levels} from now on, into {}", place.file("logs").display());
        return Ok(());
    }
    let mut text = String::new();
    let read = File::open(place.file(FILE)).and_then(|mut file| file.read_to_string(&mut text));
    match read {
        Ok(_) => println!("{}", text.trim()),
        // A platform that was started before there was such a file.
        Err(error) if error.kind() == io::ErrorKind::NotFound => println!("{DEFAULT}"),
        Err(error) => {
            let path = place.file(FILE).display().to_string();
            return Err(Failure::failed(format!("cannot read {path}: {error}")));
        }
    }
    Ok(())
}

/// The levels in a part's own process, as they are now.
pub(super) struct OwnLevels {
    file: File,
    text: String,
}

impl OwnLevels {
    /// Takes the file that the supervisor handed down.
    pub(super) fn handed_down() -> OwnLevels {
        // SAFETY: the supervisor handed this descriptor down for this purpose, and nobody else takes it. What the part
        // starts, such as keepers and their replicas, must not get it: it would name a path of the machine.
        let file = unsafe {
            libc::fcntl(DESCRIPTOR, libc::F_SETFD, libc::FD_CLOEXEC);
            File::from_raw_fd(DESCRIPTOR)
        };
        OwnLevels { file, text: String::new() }
    }

    /// The levels, where they differ from what was read before. What cannot be read is half written, and read again later.
    fn changed(&mut self) -> io::Result<Option<Targets>> {
        let mut buffer = [0; LONGEST];
        let length = self.file.read_at(&mut buffer, 0)?;
        let text = String::from_utf8_lossy(&buffer[..length]).trim().to_owned();
        if text == self.text {
            return Ok(None);
        }
        let Ok(targets) = parse(&text) else { return Ok(None) };
        self.text = text;
        Ok(Some(targets))
    }

    /// The first levels.
    pub(super) fn first(&mut self) -> Targets {
        let read = self.changed().ok().flatten();
        read.unwrap_or_else(|| Targets::new().with_default(LevelFilter::INFO))
    }

    /// Follows changes for as long as the process lives.
    pub(super) fn follow(mut self, apply: impl Fn(Targets) + Send + 'static) {
        let follow = move || loop {
            std::thread::sleep(READ_EVERY);
            match self.changed() {
                Ok(Some(targets)) => apply(targets),
                Ok(None) => {}
                Err(error) => {
                    return tracing::warn!(%error, "changes of the log's levels are no longer followed");
                }
            }
        };
        let started = std::thread::Builder::new().name("log-levels".to_owned()).spawn(follow);
        if let Err(error) = started {
            tracing::warn!(%error, "the levels of the log cannot be followed");
        }
    }
}

#[cfg(test)]
mod tests {
    use tracing::Level;

    use super::*;

    #[test]
    fn levels_are_read_by_part() {
        let targets = parse("info, gateway=debug,sqlx=warn").expect("levels");
        assert!(targets.would_enable("mainyard_gateway::tls", &Level::DEBUG));
        assert!(targets.would_enable("mainyard_control::leader", &Level::INFO));
        assert!(!targets.would_enable("mainyard_control::leader", &Level::DEBUG));
        assert!(!targets.would_enable("sqlx::query", &Level::INFO));
    }

    #[test]
    fn what_is_not_a_level_or_a_part_is_refused_with_a_suggestion() {
        let wrong = ["", "deubg", "gatway=debug", "gateway=", "info,,debug", "node=info=debug", "a b=info"];
        let messages = wrong.map(|text| match parse(text) {
            Ok(targets) => format!("{text:?} is read as {targets}"),
            Err(message) => format!("{text:?}: {message}"),
        });
        insta::assert_snapshot!(messages.join("\n"));
    }

    #[test]
    fn a_change_is_seen_once_and_half_a_line_is_not_taken() {
        let dir = tempfile::tempdir().expect("a folder");
        let path = dir.path().join(FILE);
        std::fs::write(&path, "info\n").expect("written");
        let mut levels = OwnLevels { file: File::open(&path).expect("opened"), text: String::new() };
        assert!(levels.first().would_enable("anything", &Level::INFO));
        assert!(levels.changed().expect("read").is_none());
        std::fs::write(&path, "debu").expect("written");
        assert!(levels.changed().expect("read").is_none());
        std::fs::write(&path, "debug\n").expect("written");
        let targets = levels.changed().expect("read").expect("a change");
        assert!(targets.would_enable("anything", &Level::DEBUG));
    }
}
