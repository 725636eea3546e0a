//! `recipe.toml`: how an image is made from a tree of code.
//!
//! A recipe has parts. Each begins with a base image, and does one step after the other: a step takes files, from the tree
//! or from a part before it, or runs a command. One part's files become the image.

mod read;

use std::collections::BTreeMap;

use mainyard_core::model::{Bytes, Cpu, ImageRef, Name, OutgoingRule, Span};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use read::read;

/// The file's usual name.
pub const FILE_NAME: &str = "recipe.toml";

/// How an image is made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Recipe {
    /// What comes out.
    pub image: ImageDescription,
    /// Paths that are no part of the tree.
    pub ignore: Vec<String>,
    /// A push whose build fails is refused.
    #[serde(default)]
    pub push_must_build: bool,
    /// The most that a step may use.
    pub limits: StepLimits,
    /// The parts, in the order of the file.
    pub parts: Vec<Part>,
}

/// What is said of the image.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "RecipeImage")]
pub struct ImageDescription {
    /// The repository that it is kept in.
    pub name: String,
    /// The part whose files it has.
    pub part: Option<Name>,
    /// The user that its program runs as.
    pub user: Option<String>,
    /// The working directory of its program.
    pub folder: Option<String>,
    /// Program and arguments.
    pub command: Option<Vec<String>>,
    /// Environment variables.
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
    /// Ports that it listens on.
    #[serde(default)]
    pub ports: Vec<u16>,
    /// Labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// A path that answers when it is well.
    pub health: Option<String>,
}

/// The most that one step may use.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
#[schemars(rename = "RecipeLimits")]
pub struct StepLimits {
    /// Memory.
    pub memory: Bytes,
    /// Processor time.
    pub cpu: Cpu,
    /// What it may write.
    pub disk: Bytes,
    /// Processes and threads.
    pub processes: u32,
    /// How long it may take.
    pub time: Span,
}

impl Default for StepLimits {
    fn default() -> StepLimits {
        StepLimits {
            memory: Bytes::mib(1024),
            cpu: Cpu::from_milli(2000),
            disk: Bytes::mib(4096),
            processes: 512,
            time: Span::from_secs(1800),
        }
    }
}

/// One part.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "RecipePart")]
pub struct Part {
    /// Its name.
    pub name: Name,
    /// The image that it begins with.
    pub base: Option<ImageRef>,
    /// The digest that the base must have.
    pub digest: Option<String>,
    /// The working directory of its steps.
    pub folder: String,
    /// The user that its steps run as; empty for that of the base.
    pub user: String,
    /// Environment variables of its steps.
    pub settings: BTreeMap<String, String>,
    /// Folders that outlive the build, by name.
    pub caches: BTreeMap<Name, String>,
    /// What is done.
    pub steps: Vec<Step>,
}

/// One step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[schemars(rename = "RecipeStep")]
pub enum Step {
    /// Takes files.
    Take(Take),
    /// Runs a command.
    Run(Run),
}

/// Files to take.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "RecipeTake")]
pub struct Take {
    /// Paths: of the tree relative, of a part absolute.
    pub paths: Vec<String>,
    /// The part that has them; the tree where there is none.
    pub from: Option<Name>,
    /// Where they go.
    pub to: String,
}

/// A command to run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "RecipeRun")]
pub struct Run {
    /// For the shell.
    pub command: String,
    /// The working directory.
    pub folder: String,
    /// The user; empty for that of the base.
    pub user: String,
    /// Environment variables, those of the part among them.
    pub settings: BTreeMap<String, String>,
    /// Files with the values of secrets, by the secret's name.
    pub secrets: BTreeMap<Name, String>,
    /// What it may reach outside.
    pub network: Vec<OutgoingRule>,
}

impl Step {
    /// The step in a line, as a log names it.
    pub fn words(&self) -> String {
        match self {
            Step::Take(Take { paths, from: None, to }) => format!("take {} to {to}", paths.join(", ")),
            Step::Take(Take { paths, from: Some(part), to }) => {
                format!("take {} of part {part} to {to}", paths.join(", "))
            }
            Step::Run(run) => format!("run {}", run.command.trim().replace('\n', "; ")),
        }
    }
}

impl Recipe {
    /// The part whose files become the image.
    pub fn final_part(&self) -> &Part {
        let named = self.image.part.as_ref().and_then(|name| self.parts.iter().find(|it| it.name == *name));
        // A recipe that was read has at least one.
        named.unwrap_or_else(|| self.parts.last().expect("a recipe has a part"))
    }

    /// The parts that the image needs, in the order of the file: the last one, and those that files are taken from.
    pub fn needed_parts(&self) -> Vec<&Part> {
        let mut needed = vec![&self.final_part().name];
        let mut at = 0;
        while let Some(part) = needed.get(at).and_then(|name| self.parts.iter().find(|it| it.name == **name))
        {
            let from = part.steps.iter().filter_map(|step| match step {
                Step::Take(take) => take.from.as_ref(),
                Step::Run(_) => None,
            });
            for name in from {
                if !needed.contains(&name) {
                    needed.push(name);
                }
            }
            at += 1;
        }
        self.parts.iter().filter(|part| needed.contains(&&part.name)).collect()
    }
}

/// Whether a path lies at another or below it.
pub fn is_below(path: &str, outer: &str) -> bool {
    let outer = outer.trim_end_matches('/');
    path.strip_prefix(outer).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests;
