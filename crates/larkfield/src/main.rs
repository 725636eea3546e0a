//! The programs of Larkfield Lockers, the made-up company of the demo. One small binary, which plays the part
//! its name says: `locker-api`, `courier-web`, `label-printer` or `form-server`.
//!
//! The file `release` beside it tells the version and, for the releases that are meant to fail, the fault.

mod http;
mod parts;

use std::path::Path;

/// The content of the file `release` beside the program.
#[derive(Debug, Clone, Default)]
pub struct Release {
    /// Such as `1.5.0`.
    pub version: String,
    /// `never-ready`, `other-port`, `memory`, `errors` or nothing.
    pub fault: String,
}

impl Release {
    fn read() -> Release {
        let beside = std::env::current_exe().map(|program| program.with_file_name("release"));
        let text = beside.and_then(std::fs::read_to_string).unwrap_or_default();
        let value =
            |key| text.lines().find_map(|line| line.strip_prefix(key)).unwrap_or("").trim().to_owned();
        Release { version: value("version "), fault: value("fault ") }
    }
}

fn main() {
    let name = std::env::args().next().unwrap_or_default();
    let part = Path::new(&name).file_name().and_then(|name| name.to_str()).unwrap_or_default();
    let release = Release::read();
    match part {
        "locker-api" => parts::locker_api(release),
        "courier-web" => parts::courier_web(release),
        "label-printer" => parts::label_printer(release),
        "form-server" => parts::form_server(release),
        other => {
            eprintln!("{other:?} is unknown; expected locker-api, courier-web, label-printer or form-server");
            std::process::exit(64);
        }
    }
}
