//! Recipes, without a platform.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use mainyard_builds::suggest::{Tree, bases_of, suggest};
use mainyard_builds::{FILE_NAME, recipe};
use mainyard_core::model::is_repository;

use super::code;
use crate::args::RecipeCommand;
use crate::terminal::{Failure, count};

/// Longest file that is read for a suggestion.
const LONGEST: u64 = 1 << 20;

/// Runs a command about recipes.
pub(crate) fn run(what: RecipeCommand) -> Result<(), Failure> {
    match what {
        RecipeCommand::Suggest { folder, name, print } => write(&folder, name, print),
        RecipeCommand::Check { path } => check(&path),
        RecipeCommand::Schema => {
            crate::output::json(&mainyard_builds::schema());
            Ok(())
        }
    }
}

fn check(path: &Path) -> Result<(), Failure> {
    let file = if path.is_dir() { path.join(FILE_NAME) } else { path.to_owned() };
    let text = fs::read_to_string(&file)
        .map_err(|error| Failure::usage(format!("cannot read {}: {error}", file.display())))?;
    match recipe::read(&file.display().to_string(), &text) {
        Ok(recipe) => {
            let steps = recipe.parts.iter().map(|part| part.steps.len()).sum();
            let (parts, steps) = (count(recipe.parts.len(), "part"), count(steps, "step"));
            println!("{}: {} of {parts} and {steps}", file.display(), recipe.image.name);
            Ok(())
        }
        Err(problems) => {
            let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
            Err(Failure::refused(lines.join("\n")))
        }
    }
}

/// The repository for a folder, where nobody says one.
fn usual_name(folder: &Path) -> String {
    let whole = folder.canonicalize().unwrap_or_else(|_| folder.to_owned());
    let leaf = whole.file_name().map(|name| name.to_string_lossy().to_lowercase()).unwrap_or_default();
    let plain: String =
        leaf.chars().map(|c| if c.is_ascii_alphanumeric() || ".-_".contains(c) { c } else { '-' }).collect();
    let plain = plain.trim_matches(['-', '.', '_']).to_owned();
    let plain = if plain.is_empty() { "app".to_owned() } else { plain };
    format!("{plain}/{plain}")
}

fn write(folder: &Path, name: Option<String>, print: bool) -> Result<(), Failure> {
    let file = folder.join(FILE_NAME);
    if file.exists() && !print {
        return Err(Failure::refused(format!(
            "{} is there already; see a suggestion with --print",
            file.display()
        )));
    }
    let name = name.unwrap_or_else(|| usual_name(folder));
    if !is_repository(&name) {
        return Err(Failure::usage(format!(
            "--name is {name:?}; a repository in lower case such as lockers/survey-form is expected"
        )));
    }
    let code = code::look_at(folder)?;
    let is_program = |path: &&String| {
        let full = folder.join(path);
        fs::metadata(full).is_ok_and(|found| found.is_file() && found.permissions().mode() & 0o111 != 0)
    };
    let read = |path: &str| {
        let full = folder.join(path);
        fs::metadata(&full).ok().filter(|found| found.len() <= LONGEST)?;
        fs::read_to_string(full).ok()
    };
    let tree = Tree {
        programs: code.paths.iter().filter(is_program).cloned().collect(),
        files: code.paths.iter().filter(|path| !folder.join(path).is_dir()).cloned().collect(),
        read: &read,
    };
    let Some(suggestion) = suggest(&tree, &name) else {
        return Err(Failure::refused(format!(
            "{} looks like none of: Rust (Cargo.toml), Node.js (package.json), Python (requirements.txt, .py), Java (.jar), \
             a static site (index.html), a finished program. Write recipe.toml by hand: mainyard recipe schema",
            folder.display()
        )));
    };
    if print {
        print!("{}", suggestion.recipe);
        return Ok(());
    }
    fs::write(&file, &suggestion.recipe)
        .map_err(|error| Failure::failed(format!("{} cannot be written: {error}", file.display())))?;
    println!("{}: written, because of {}", file.display(), suggestion.because);
    let recipe = mainyard_builds::recipe::read(FILE_NAME, &suggestion.recipe);
    for base in recipe.iter().flat_map(bases_of) {
        println!("  its base, where the store does not have it: {}", base.command());
    }
    println!("  build it: mainyard build {}", folder.display());
    Ok(())
}
