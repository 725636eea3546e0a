//! Standard output. Where it cannot be written, the command fails with words instead of a panic: a full disk is no fault
//! of the program.

use std::io::Write;

use serde::Serialize;

/// Prints a line to standard output.
macro_rules! println {
    () => { $crate::output::write(format_args!("\n")) };
    ($($words:tt)*) => { $crate::output::write(format_args!("{}\n", format_args!($($words)*))) };
}

/// Prints to standard output.
macro_rules! print {
    ($($words:tt)*) => { $crate::output::write(format_args!($($words)*)) };
}

/// Writes to standard output, or ends the process.
pub(crate) fn write(words: std::fmt::Arguments<'_>) {
    let mut out = std::io::stdout().lock();
    if let Err(error) = out.write_fmt(words).and_then(|()| out.flush()) {
        drop(out);
        let failure = crate::terminal::Failure::failed(format!("standard output cannot be written: {error}"));
        failure.print();
        std::process::exit(i32::from(failure.code()));
    }
}

/// Prints a value as JSON.
pub(crate) fn json<T: Serialize>(value: &T) {
    match serde_json::to_string_pretty(value) {
        Ok(text) => println!("{text}"),
        Err(error) => crate::terminal::Failure::failed(format!("not valid JSON: {error}")).print(),
    }
}
