//! The `mainyard` binary: the platform's processes and the client in one. Which of them it is, is decided here,
//! before any runtime starts.

#[macro_use]
mod output;

mod args;
mod board;
mod client;
mod commands;
mod data_dir;
mod entry_points;
mod platform;
mod progress;
mod show;
mod terminal;
mod times;

use std::process::ExitCode;

use clap::Parser;

use args::{Arguments, Command};
use terminal::Failure;

fn main() -> ExitCode {
    // A reader that has seen enough (`| head`) is no error.
    // SAFETY: set before any thread is started.
    unsafe { libc::signal(libc::SIGPIPE, libc::SIG_DFL) };
    let arguments = Arguments::parse();
    match run(arguments) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            failure.print();
            ExitCode::from(failure.code())
        }
    }
}

fn run(arguments: Arguments) -> Result<(), Failure> {
    let place = data_dir::DataDir::of(&arguments);
    match arguments.command {
        Command::Start(start) => {
            ignore_pipe_signals();
            platform::start(&place, *start)
        }
        Command::Stop { workload } => platform::stop(&place, workload.as_deref()),
        Command::LogLevel { levels } => platform::log_level(&place, levels.as_deref()),
        Command::Serve(part) => {
            ignore_pipe_signals();
            platform::serve(&place, part)
        }
        Command::Ssh(args::SshStep::Connection) => platform::ssh_connection(&place),
        Command::Ssh(args::SshStep::Session { key, door }) => platform::ssh_session(&key, &door),
        Command::Schema => commands::files::schema(),
        Command::New(new) => commands::new::new(&new.name, &new.like, new.repository),
        Command::Recipe(what) => commands::recipes::run(what),
        Command::Image(args::Image::SigningKey { file }) => commands::signing::signing_key(&file),
        Command::Validate { files, output } => commands::files::validate(&files, output),
        Command::Use { environment: None, none } => data_dir::show_default_environment(none),
        Command::Completions { shell } => {
            args::completions(shell);
            Ok(())
        }
        other => {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
            let runtime = runtime.map_err(|error| Failure::failed(format!("cannot start: {error}")))?;
            runtime.block_on(commands::run(&place, other))
        }
    }
}

/// A long-running process must outlive anyone who reads its output.
fn ignore_pipe_signals() {
    // SAFETY: set before any thread is started.
    unsafe { libc::signal(libc::SIGPIPE, libc::SIG_IGN) };
}
