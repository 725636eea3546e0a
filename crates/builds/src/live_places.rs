//! Which files of a tree stand in the image as they are, and where: those can be changed in a running replica without a build.

use std::collections::{BTreeMap, BTreeSet};

use crate::recipe::{Recipe, Step};

/// A file of the tree, and its place in the image.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct LivePlace {
    /// Relative to the tree.
    pub file: String,
    /// Its absolute path in the image; where a folder is there, the file is in it.
    pub to: String,
}

impl LivePlace {
    /// The file's own name.
    pub fn name(&self) -> &str {
        self.file.rsplit('/').next().unwrap_or_default()
    }
}

/// The files of a tree, by how a change of them reaches the image.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LivePlaces {
    /// Those that the image has as they are.
    pub live: Vec<LivePlace>,
    /// Those that only a build brings there, if anything does.
    pub built: Vec<String>,
}

/// Sorts a tree's files by the recipe's last part: what it takes of the tree is in the image as it is. `files` has, by its
/// path, whether each is a folder.
pub fn live_places(recipe: &Recipe, files: &BTreeMap<String, bool>) -> LivePlaces {
    let steps = recipe.final_part().steps.iter();
    let takes = steps.filter_map(|step| match step {
        Step::Take(take) if take.from.is_none() => Some(take),
        Step::Take(_) | Step::Run(_) => None,
    });
    // What is taken later lies over what was taken before.
    let mut places: BTreeMap<String, &str> = BTreeMap::new();
    for take in takes {
        let to = format!("/{}", take.to.trim_matches('/'));
        for written in &take.paths {
            let path = written.strip_prefix("./").unwrap_or(written).trim_end_matches('/');
            let path = if path == "." { "" } else { path };
            let is_folder = path.is_empty() || files.get(path).copied().unwrap_or(false);
            let content_only = is_folder && (path.is_empty() || written.ends_with('/'));
            let renamed = !is_folder && take.paths.len() == 1 && !take.to.ends_with('/');
            let leaf = path.rsplit('/').next().unwrap_or_default();
            let top = if content_only || renamed { to.clone() } else { join(&to, leaf) };
            let below = files.iter().filter(|(file, folder)| !**folder && is_below(file, path));
            for (file, _) in below {
                places.insert(join(&top, file[path.len()..].trim_start_matches('/')), file);
            }
        }
    }
    let taken: BTreeSet<&str> = places.values().copied().collect();
    let built = files.iter().filter(|(file, folder)| !**folder && !taken.contains(file.as_str()));
    LivePlaces {
        built: built.map(|(file, _)| file.clone()).collect(),
        live: places.into_iter().map(|(to, file)| LivePlace { file: file.to_owned(), to }).collect(),
    }
}

fn is_below(file: &str, folder: &str) -> bool {
    folder.is_empty() || file == folder || file.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

fn join(folder: &str, leaf: &str) -> String {
    match (folder, leaf) {
        (folder, "") => folder.to_owned(),
        ("/", leaf) => format!("/{leaf}"),
        (folder, leaf) => format!("{folder}/{leaf}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::recipe;

    fn places(takes: &str) -> LivePlaces {
        let text = format!(
            "image = {{ name = \"a/b\", command = [\"/app/run\"] }}\n[part.build]\nbase = \"rust:1\"\nsteps = [{{ take = [\"src\"] }}]\n\
             [part.run]\nbase = \"a:1\"\nsteps = [{takes}]\n"
        );
        let recipe = recipe::read("recipe.toml", &text).unwrap_or_else(|problems| panic!("{problems:?}"));
        let files = [
            ("src", true),
            ("src/main.rs", false),
            ("pages", true),
            ("pages/a.html", false),
            ("pages/b", true),
            ("pages/b/c.css", false),
            ("run", false),
        ];
        live_places(&recipe, &files.into_iter().map(|(path, folder)| (path.to_owned(), folder)).collect())
    }

    fn shown(places: &LivePlaces) -> Vec<String> {
        places.live.iter().map(|place| format!("{} → {}", place.file, place.to)).collect()
    }

    #[test]
    fn what_the_last_part_takes_of_the_tree_is_there_as_it_is() {
        let found = places("{ take = [\"pages\"], to = \"/app\" }, { take = [\"run\"], to = \"/app/run\" }");
        assert_eq!(
            shown(&found),
            ["pages/a.html → /app/pages/a.html", "pages/b/c.css → /app/pages/b/c.css", "run → /app/run"]
        );
        assert_eq!(found.built, ["src/main.rs"]);
        let content = places("{ take = [\"pages/\", \"run\"], to = \"/app\" }");
        assert_eq!(
            shown(&content),
            ["pages/a.html → /app/a.html", "pages/b/c.css → /app/b/c.css", "run → /app/run"]
        );
        assert_eq!(places("{ take = [\".\"], to = \"/\" }").live.len(), 4);
        assert!(places("{ take = [\"/x\"], from = \"build\", to = \"/app\" }").live.is_empty());
    }
}
