//! A folder with code to begin with.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use mainyard_builds::skeletons::{KINDS, bases, skeleton};
use mainyard_core::model::is_repository;
use mainyard_core::suggestions::did_you_mean;

use super::parse_name;
use crate::terminal::Failure;

/// Writes code, recipe, declaration and a first test.
pub(crate) fn new(name: &str, like: &str, repository: Option<String>) -> Result<(), Failure> {
    let name = parse_name(name)?;
    let repository = repository.unwrap_or_else(|| format!("{name}/{name}"));
    if !is_repository(&repository) {
        return Err(Failure::usage(format!(
            "--repository is {repository:?}; one in lower case such as lockers/survey-form is expected"
        )));
    }
    let Some(files) = skeleton(like, &name, &repository) else {
        let kinds = KINDS.join(", ");
        return Err(Failure::usage(format!(
            "--like is {like:?}; one of {kinds} is expected{}",
            did_you_mean(like, KINDS)
        )));
    };
    let folder = Path::new(name.as_str());
    if folder.exists() {
        return Err(Failure::refused(format!("{name} is there already; nothing was written")));
    }
    let failed = |path: &Path, error: &std::io::Error| {
        Failure::failed(format!("{} cannot be written: {error}", path.display()))
    };
    println!("{name}: like {like}");
    for file in &files {
        let path = folder.join(file.path);
        let above = path.parent().unwrap_or(folder);
        fs::create_dir_all(above)
            .and_then(|()| fs::write(&path, &file.text))
            .map_err(|error| failed(&path, &error))?;
        if file.runs {
            let mode = fs::Permissions::from_mode(0o755);
            fs::set_permissions(&path, mode).map_err(|error| failed(&path, &error))?;
        }
        println!("  + {}", path.display());
    }
    for base in bases(&files) {
        println!("its base, where the store does not have it: {}", base.command());
    }
    println!("build and run it: mainyard send {name} --in staging");
    Ok(())
}
