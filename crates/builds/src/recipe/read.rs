//! Reading a recipe: the file's values, and what is wrong with them beyond single keys.

use std::collections::BTreeMap;

use mainyard_core::manifest::{Document, Problem};
use mainyard_core::model::{ImageRef, Name, OutgoingRule};
use mainyard_core::suggestions::did_you_mean;
use serde::Deserialize;

use super::{ImageDescription, Part, Recipe, Run, Step, Take, is_below};
use crate::ignore::IgnoreRules;
use crate::keys::RECIPE;

/// Steps of all parts together: each makes a layer, and an image has at most 127 of them.
const STEPS: usize = 100;
/// Parts of a recipe.
const PARTS: usize = 20;

/// A part as the file has it.
#[derive(Deserialize)]
struct WrittenPart {
    base: Option<ImageRef>,
    digest: Option<String>,
    folder: Option<String>,
    user: Option<String>,
    #[serde(default)]
    settings: BTreeMap<String, String>,
    #[serde(default)]
    caches: BTreeMap<Name, String>,
    #[serde(default)]
    steps: Vec<WrittenStep>,
}

/// A step as the file has it.
#[derive(Deserialize)]
struct WrittenStep {
    take: Option<Vec<String>>,
    from: Option<Name>,
    to: Option<String>,
    run: Option<String>,
    folder: Option<String>,
    user: Option<String>,
    #[serde(default)]
    settings: BTreeMap<String, String>,
    #[serde(default)]
    secrets: BTreeMap<Name, String>,
    #[serde(default)]
    network: Vec<OutgoingRule>,
}

/// Reads a recipe.
///
/// # Errors
/// With all that is wrong, each with its place.
pub fn read(name: &str, text: &str) -> Result<Recipe, Vec<Problem>> {
    let document = Document::parse(name, text, &RECIPE)?;
    let mut reader = Reader { document: &document, problems: Vec::new() };
    let recipe = reader.recipe();
    match (recipe, reader.problems.is_empty()) {
        (Some(recipe), true) => Ok(recipe),
        (_, _) => {
            reader.problems.sort();
            Err(reader.problems)
        }
    }
}

struct Reader<'a> {
    document: &'a Document<'a>,
    problems: Vec<Problem>,
}

impl Reader<'_> {
    fn say(&mut self, path: &[&str], message: impl Into<String>) {
        self.problems.push(Problem { place: self.document.place(path), message: message.into() });
    }

    /// A value of a kind that the keys have checked already.
    fn value<T: serde::de::DeserializeOwned>(&mut self, path: &[&str]) -> Option<T> {
        match serde_json::from_value(self.document.value(path)?) {
            Ok(value) => Some(value),
            Err(error) => {
                self.say(path, format!("`{}` cannot be read: {error}", path.join(".")));
                None
            }
        }
    }

    fn recipe(&mut self) -> Option<Recipe> {
        let mut image: ImageDescription = self.value(&["image"])?;
        image.name = image.name.trim_end_matches('/').to_owned();
        let ignore: Vec<String> = self.value(&["ignore"]).unwrap_or_default();
        for (number, pattern) in ignore.iter().enumerate() {
            if let Err(error) = IgnoreRules::new(std::slice::from_ref(pattern)) {
                self.say(&["ignore", &number.to_string()], format!("`ignore` has {error}"));
            }
        }
        let limits = self.value(&["limits"]).unwrap_or_default();
        let push_must_build = self.value(&["push_must_build"]).unwrap_or_default();
        let mut parts: Vec<Part> = Vec::new();
        for name in self.document.keys(&["part"]) {
            if let Some(part) = self.part(&name, &parts) {
                parts.push(part);
            }
        }
        self.check_counts(&parts);
        self.check_image(&image, &parts);
        (!parts.is_empty()).then_some(Recipe { image, ignore, push_must_build, limits, parts })
    }

    fn check_counts(&mut self, parts: &[Part]) {
        if self.document.keys(&["part"]).is_empty() {
            self.say(
                &[],
                "the recipe has no part: it needs at least one, such as [part.run] with its base and steps",
            );
        }
        let steps: usize = parts.iter().map(|part| part.steps.len()).sum();
        if steps > STEPS {
            self.say(
                &["part"],
                format!("the recipe has {steps} steps; at most {STEPS} are possible, so join some"),
            );
        }
        if parts.len() > PARTS {
            self.say(
                &["part"],
                format!("the recipe has {} parts; at most {PARTS} are possible", parts.len()),
            );
        }
    }

    fn check_image(&mut self, image: &ImageDescription, parts: &[Part]) {
        let known: Vec<&str> = parts.iter().map(|part| part.name.as_str()).collect();
        if let Some(name) = image.part.as_ref().filter(|name| !known.contains(&name.as_str())) {
            let meant = did_you_mean(name.as_str(), known.iter().copied());
            self.say(
                &["image", "part"],
                format!("`image.part` is {name}, which is no part of this recipe{meant}"),
            );
        }
        match image.command.as_deref() {
            Some([]) => self.say(
                &["image", "command"],
                "`image.command` is empty; give the program and its arguments, such as [\"/app/api\"]",
            ),
            Some([program, ..]) if program.is_empty() => self.say(
                &["image", "command"],
                "`image.command` begins with an empty text; the program's path or name is expected",
            ),
            _ => {}
        }
        self.user(image.user.as_deref(), &["image", "user"]);
    }

    fn user(&mut self, user: Option<&str>, path: &[&str]) {
        let fits = |user: &str| {
            !user.is_empty()
                && user.len() <= 100
                && user.chars().all(|c| c.is_ascii_alphanumeric() || "._-:".contains(c))
                && user.matches(':').count() <= 1
        };
        if let Some(user) = user.filter(|user| !fits(user)) {
            let expected = "a name or a number, with the group after a colon where it is another, such as app or 1000:100";
            self.say(path, format!("`{}` is {user:?}; expected {expected}", path.join(".")));
        }
    }

    fn part(&mut self, name: &str, before: &[Part]) -> Option<Part> {
        let at = ["part", name];
        let written: WrittenPart = self.value(&at)?;
        if written.digest.is_some() && written.base.is_none() {
            self.say(
                &["part", name, "digest"],
                format!("part {name} has a digest and no base: name the base's image as well"),
            );
        }
        self.user(written.user.as_deref(), &["part", name, "user"]);
        self.check_caches(name, &written.caches);
        if written.steps.is_empty() && written.base.is_none() {
            self.say(&at, format!("part {name} has neither base nor steps: nothing would be in it"));
        }
        let mut part = Part {
            name: name.parse().ok()?,
            base: written.base,
            digest: written.digest,
            folder: written.folder.unwrap_or_else(|| "/".to_owned()),
            user: written.user.unwrap_or_default(),
            settings: written.settings,
            caches: written.caches,
            steps: Vec::new(),
        };
        for (number, step) in written.steps.into_iter().enumerate() {
            if let Some(step) = self.step(&part, number, step, before) {
                part.steps.push(step);
            }
        }
        Some(part)
    }

    fn check_caches(&mut self, part: &str, caches: &BTreeMap<Name, String>) {
        for (name, path) in caches {
            let at = ["part", part, "caches", name.as_str()];
            if ["/", "/tmp", "/run", "/etc"].contains(&path.as_str()) {
                self.say(&at, format!("the cache {name} is at {path}; a folder of its own is expected, such as /cache/{name}"));
            }
            let outer = caches.iter().find(|(other, outer)| *other != name && is_below(path, outer));
            if let Some((other, outer)) = outer {
                self.say(
                    &at,
                    format!(
                        "the cache {name} at {path} lies in the cache {other} at {outer}; put it beside that"
                    ),
                );
            }
        }
    }

    fn step(&mut self, part: &Part, number: usize, written: WrittenStep, before: &[Part]) -> Option<Step> {
        let place = number.to_string();
        let at = ["part", part.name.as_str(), "steps", place.as_str()];
        let which = format!("step {} of part {}", number + 1, part.name);
        match (&written.take, &written.run) {
            (Some(_), Some(_)) => {
                self.say(&at, format!("{which} takes files and runs a command; make two steps of it"));
                None
            }
            (None, None) => {
                self.say(
                    &at,
                    format!("{which} does nothing: give it `take` with files, or `run` with a command"),
                );
                None
            }
            (Some(_), None) => self.take(part, &at, &which, written, before),
            (None, Some(_)) => self.run(part, &at, &which, written),
        }
    }

    fn take(
        &mut self,
        part: &Part,
        at: &[&str],
        which: &str,
        written: WrittenStep,
        before: &[Part],
    ) -> Option<Step> {
        let has = [
            ("folder", written.folder.is_some()),
            ("user", written.user.is_some()),
            ("settings", !written.settings.is_empty()),
            ("secrets", !written.secrets.is_empty()),
            ("network", !written.network.is_empty()),
        ];
        for (key, _) in has.into_iter().filter(|(_, there)| *there) {
            self.say(
                &below(at, key),
                format!("{which} takes files, which needs no `{key}`: that is for a step with `run`"),
            );
        }
        let paths = written.take.unwrap_or_default();
        if paths.is_empty() {
            self.say(&below(at, "take"), format!("{which} takes nothing; \".\" stands for the whole tree"));
        }
        for (number, path) in paths.iter().enumerate() {
            let number = number.to_string();
            let place = [at, &["take", number.as_str()]].concat();
            let leaves = path.split('/').any(|word| word == "..");
            match (&written.from, path.starts_with('/')) {
                _ if path.is_empty() || leaves => self.say(&place, format!("{which} takes {path:?}; a path without `..` is expected")),
                (None, true) => self.say(&place, format!(
                    "{which} takes {path} of the tree; its paths are relative to it, such as {:?}", path.trim_start_matches('/')
                )),
                (Some(from), false) => self.say(&place, format!(
                    "{which} takes {path} of part {from}; paths of a part are absolute, such as \"/{path}\""
                )),
                _ => {}
            }
        }
        if let Some(from) = &written.from {
            self.check_from(part, at, which, from, before);
        }
        Some(Step::Take(Take {
            paths,
            from: written.from,
            to: written.to.unwrap_or_else(|| part.folder.clone()),
        }))
    }

    fn check_from(&mut self, part: &Part, at: &[&str], which: &str, from: &Name, before: &[Part]) {
        if before.iter().any(|it| it.name == *from) {
            return;
        }
        let all = self.document.keys(&["part"]);
        let message = if *from == part.name {
            format!("{which} takes from its own part; its files are there already")
        } else if all.iter().any(|name| name == from.as_str()) {
            format!(
                "{which} takes from part {from}, which comes after it; put [part.{from}] before [part.{}]",
                part.name
            )
        } else {
            let meant = did_you_mean(from.as_str(), before.iter().map(|it| it.name.as_str()));
            format!("{which} takes from part {from}, which this recipe has not{meant}")
        };
        self.say(&below(at, "from"), message);
    }

    fn run(&mut self, part: &Part, at: &[&str], which: &str, written: WrittenStep) -> Option<Step> {
        for (key, there) in [("from", written.from.is_some()), ("to", written.to.is_some())] {
            if there {
                self.say(
                    &below(at, key),
                    format!("{which} runs a command, which needs no `{key}`: that is for a step with `take`"),
                );
            }
        }
        let command = written.run.unwrap_or_default();
        if command.trim().is_empty() {
            self.say(&below(at, "run"), format!("{which} has an empty command"));
        }
        if part.base.is_none() && part.steps.is_empty() {
            self.say(&below(at, "run"), format!(
                "{which} runs a command, and part {} has no base and took nothing yet: there is no program to run it", part.name
            ));
        }
        self.user(written.user.as_deref(), &below(at, "user"));
        let mut settings = part.settings.clone();
        settings.extend(written.settings);
        Some(Step::Run(Run {
            command,
            folder: written.folder.unwrap_or_else(|| part.folder.clone()),
            user: written.user.unwrap_or_else(|| part.user.clone()),
            settings,
            secrets: written.secrets,
            network: written.network,
        }))
    }
}

fn below<'p>(at: &[&'p str], key: &'p str) -> Vec<&'p str> {
    [at, &[key]].concat()
}
