//! Code that is sent: its recipe, and the declaration that runs its image.

use std::path::{Path, PathBuf};
use std::time::Duration;

use mainyard_api::{BuildsQuery, ListBuilds, NoPath};
use mainyard_builds::declaration::{running, with_image};
use mainyard_builds::{DECLARATION, FILE_NAME, Recipe, recipe};
use mainyard_core::model::Name;

use super::code;
use crate::args::Send;
use crate::client::Client;
use crate::data_dir;
use crate::terminal::Failure;

/// Code that is watched is looked at this often.
const LOOK_EVERY: Duration = Duration::from_millis(700);

/// Code with what says how it is built and how it runs.
pub(super) struct Sent {
    /// The folder that has the recipe.
    pub place: PathBuf,
    pub environment: Name,
    pub recipe: Recipe,
    /// The declaration's file, and its text.
    pub file: PathBuf,
    declaration: String,
}

impl Sent {
    pub(super) async fn read(client: &Client, send: &Send) -> Result<Sent, Failure> {
        let environment = send.environment.clone().or_else(data_dir::default_environment);
        let environment = environment
            .ok_or_else(|| Failure::usage("say which environment: mainyard send FOLDER --in staging"))?;
        // A platform that is away is told of before anything about the files.
        client.ask::<ListBuilds>(NoPath {}, BuildsQuery { repository: None, limit: 1 }).await?;
        let part = send.options.part_of.as_deref();
        let place = part.map_or_else(|| send.folder.clone(), |part| send.folder.join(part));
        let recipe = recipe_of(&place)?;
        let file = place.join(DECLARATION);
        let declaration = std::fs::read_to_string(&file).map_err(|error| {
            Failure::usage(format!(
                "cannot read {}: {error}; it says how the image runs. To build alone: mainyard build {}",
                file.display(),
                send.folder.display()
            ))
        })?;
        let sent = Sent { place, environment: super::parse_name(&environment)?, recipe, file, declaration };
        // Whether the declaration runs the image is known before anything is sent.
        sent.workloads()?;
        Ok(sent)
    }

    /// The workloads that run the image.
    pub(super) fn workloads(&self) -> Result<Vec<Name>, Failure> {
        let image = format!("{}:0", self.recipe.image.name);
        Ok(running(&self.filled(&image)?, &image))
    }

    /// The declaration with this image where it names the repository.
    pub(super) fn filled(&self, image: &str) -> Result<String, Failure> {
        let (repository, file) = (&self.recipe.image.name, self.file.display().to_string());
        with_image(&self.declaration, repository, image, &file).map_err(Failure::refused)
    }
}

/// Returns when the code of a folder is no longer as it was seen.
pub(super) async fn until_changed(folder: &Path, seen: &str) {
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        // A file that is just being put in another's place cannot be read: the next look finds it.
        if code::look_at(folder).is_ok_and(|code| code.fingerprint() != seen) {
            return;
        }
    }
}

fn recipe_of(folder: &Path) -> Result<Recipe, Failure> {
    let file = folder.join(FILE_NAME);
    let text = std::fs::read_to_string(&file).map_err(|error| {
        Failure::usage(format!(
            "cannot read {}: {error}; write one with: mainyard recipe suggest {}",
            file.display(),
            folder.display()
        ))
    })?;
    recipe::read(&file.display().to_string(), &text).map_err(|problems| {
        let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
        Failure::refused(lines.join("\n"))
    })
}
