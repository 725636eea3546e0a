//! The declaration that stands beside a recipe: which workloads run the image, and the image's tag in it.

use mainyard_core::model::Name;
use toml_edit::{DocumentMut, Item};

/// The file's usual name.
pub const DECLARATION: &str = "mainyard.toml";

/// A declaration with this image wherever it runs one of the repository; `file` is its name in messages.
///
/// # Errors
/// When it is not TOML, or no workload runs such an image.
pub fn with_image(text: &str, repository: &str, image: &str, file: &str) -> Result<String, String> {
    let mut document = parse(text, file)?;
    let mut found = 0;
    let workloads = document.get_mut("workload").and_then(|item| item.as_table_like_mut());
    for (_, workload) in workloads.into_iter().flat_map(|table| table.iter_mut()) {
        let Some(item) = workload.as_table_like_mut().and_then(|table| table.get_mut("image")) else {
            continue;
        };
        if is_of(item, repository) {
            *item = toml_edit::value(image);
            found += 1;
        }
    }
    if found == 0 {
        return Err(format!(
            "{file}: no workload runs an image of {repository}, which the recipe makes; give one image = \"{repository}:0\" \
             (the tag is filled in)"
        ));
    }
    Ok(document.to_string())
}

fn parse(text: &str, file: &str) -> Result<DocumentMut, String> {
    text.parse()
        .map_err(|error: toml_edit::TomlError| format!("{file}: not valid TOML: {}", error.message().trim()))
}

fn is_of(item: &Item, repository: &str) -> bool {
    item.as_str().and_then(|image| image.rsplit_once(':')).is_some_and(|(it, _)| it == repository)
}

/// Whether a workload of a declaration runs an image of this repository.
pub fn runs(text: &str, repository: &str) -> bool {
    let Ok(document) = text.parse::<DocumentMut>() else { return false };
    let workloads = document.get("workload").and_then(Item::as_table_like);
    let mut all = workloads.into_iter().flat_map(|table| table.iter());
    all.any(|(_, workload)| workload.get("image").is_some_and(|item| is_of(item, repository)))
}

/// The workloads of a declaration that run an image.
pub fn running(text: &str, image: &str) -> Vec<Name> {
    let Ok(document) = text.parse::<DocumentMut>() else { return Vec::new() };
    let workloads = document.get("workload").and_then(Item::as_table_like);
    let all = workloads.into_iter().flat_map(|table| table.iter());
    let own = all.filter(|(_, workload)| workload.get("image").and_then(Item::as_str) == Some(image));
    own.filter_map(|(name, _)| name.parse().ok()).collect()
}

/// The workloads of a declaration.
pub fn workloads(text: &str) -> Vec<Name> {
    let Ok(document) = text.parse::<DocumentMut>() else { return Vec::new() };
    let workloads = document.get("workload").and_then(Item::as_table_like);
    workloads.into_iter().flat_map(|table| table.iter()).filter_map(|(name, _)| name.parse().ok()).collect()
}

/// The application that a declaration is of.
pub fn application_of(text: &str) -> Option<String> {
    text.parse::<DocumentMut>().ok()?.get("application")?.as_str().map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_image_is_put_where_its_repository_runs_and_nothing_else_changes() {
        let text = "# ours\n[workload.form]\nimage = \"lockers/form:0\" # by send\n[workload.db]\nimage = \"debian/db:15\"\n";
        let made =
            with_image(text, "lockers/form", "lockers/form:3f07", "mainyard.toml").expect("it runs there");
        assert!(made.contains("image = \"lockers/form:3f07\"") && made.contains("debian/db:15"), "{made}");
        assert!(made.starts_with("# ours"));
        assert_eq!(running(&made, "lockers/form:3f07"), ["form".parse().expect("a name")]);
        assert!(runs(text, "debian/db") && !runs(text, "debian/other"));
        let none = with_image(text, "lockers/other", "lockers/other:1", "mainyard.toml");
        assert!(none.expect_err("it runs nowhere").contains("no workload runs an image of lockers/other"));
    }

    #[test]
    fn a_declaration_names_its_application() {
        assert_eq!(application_of("application = \"form\""), Some("form".to_owned()));
        assert_eq!(application_of("[workload"), None);
    }
}
