//! The platform on one machine: starting it, keeping its parts running, ending it without a trace.

mod accounts;
mod background;
mod cleanup;
mod demo;
mod instances;
mod isolation_mode;
mod listeners;
mod log_levels;
mod parts;
mod processes;
mod ssh;
mod supervisor;

use crate::args::{Part, Serve, Start};
use crate::data_dir::DataDir;
use crate::terminal::Failure;

/// `mainyard start`
pub(crate) fn start(place: &DataDir, start: Start) -> Result<(), Failure> {
    if let Some(workload) = &start.workload {
        return Err(Failure::usage(format!(
            "`start` brings up the whole platform\nTo start the workload, scale it: mainyard scale {workload} 1"
        )));
    }
    if start.background { background::start(place, &start) } else { supervisor::run(place, &start) }
}

pub(crate) use log_levels::log_level;

/// `mainyard stop`
pub(crate) fn stop(place: &DataDir, workload: Option<&str>) -> Result<(), Failure> {
    if let Some(workload) = workload {
        return Err(Failure::usage(format!(
            "`stop` ends the whole platform\nTo stop the workload, scale it: mainyard scale {workload} 0"
        )));
    }
    if !place.file("layout").exists() {
        return Err(Failure::unreachable(format!("there is no platform in {}", place.data.display())));
    }
    let stopped = supervisor::ask_to_stop(place)?;
    // Also when no supervisor lives: whatever it left is found and ended here.
    cleanup::clean(place)?;
    println!(
        "{}",
        if stopped {
            "stopped; what is declared is kept"
        } else {
            "it was not running; everything is cleared away"
        }
    );
    Ok(())
}

/// `mainyard serve`: one part, as the supervisor starts it.
pub(crate) fn serve(place: &DataDir, serve: Serve) -> Result<(), Failure> {
    let rights = sandbox::forbid_new_rights();
    rights.map_err(|error| Failure::failed(format!("cannot give up the rights to gain rights: {error}")))?;
    match serve.part {
        Part::Control => parts::control(place),
        Part::Node => parts::node(place),
        Part::Gateway => parts::gateway(place, serve.number),
    }
}

/// `mainyard ssh connection`: becomes the ssh server of the connection that is standard input and output.
pub(crate) fn ssh_connection(place: &DataDir) -> Result<(), Failure> {
    Err(ssh::connection(place, &place.instance()?))
}

/// `mainyard ssh session`: what the ssh server runs for somebody whom it let in.
pub(crate) fn ssh_session(key: &str, door: &std::path::Path) -> Result<(), Failure> {
    ssh::session(key, door)
}
