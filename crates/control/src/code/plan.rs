//! What a commit that was pushed asks for: its recipes, and the declaration beside them.

use mainyard_api::Problem;
use mainyard_builds::declaration::{application_of, runs};
use mainyard_builds::{DECLARATION, FILE_NAME, Recipe};
use mainyard_core::model::Target;

use crate::builds::{CommitTree, file_in};

/// What a commit asks for.
#[derive(Debug, Default)]
pub(super) struct Plan {
    /// The folder of each recipe that is built; empty for the top.
    pub recipes: Vec<(String, Recipe)>,
    /// The declaration as the commit has it.
    pub declaration: Option<String>,
    /// What its member should know.
    pub notes: Vec<String>,
}

impl Plan {
    /// Whether the push is refused when a build of it fails.
    pub(super) fn must_build(&self) -> bool {
        self.recipes.iter().any(|(_, recipe)| recipe.push_must_build)
    }
}

/// Looks at a commit. The inner error is what is wrong with it, for the member who pushed it.
pub(super) async fn of_commit(
    tree: &CommitTree<'_>,
    target: &Target,
) -> Result<Result<Plan, String>, Problem> {
    let recipes = match tree.recipes().await? {
        Ok(recipes) => recipes,
        Err(words) => return Ok(Err(words)),
    };
    let declaration = tree.text(DECLARATION).await?;
    Ok(plan(recipes, declaration, target))
}

fn plan(
    recipes: Vec<(String, Recipe)>,
    declaration: Option<String>,
    target: &Target,
) -> Result<Plan, String> {
    let named = declaration.as_deref().and_then(application_of);
    if let Some(named) = named.filter(|named| *named != target.name.as_str()) {
        return Err(format!(
            "{DECLARATION} says application = {named:?}, and this is {target}; push it to {}/{named}, or change that line",
            target.environment
        ));
    }
    if recipes.is_empty() && declaration.is_none() {
        return Err(format!(
            "the commit has no {FILE_NAME} and no {DECLARATION}, so there is nothing to roll out; \
             `mainyard recipe suggest` writes a recipe that fits many trees"
        ));
    }
    let is_run = |recipe: &Recipe| declaration.as_deref().is_none_or(|text| runs(text, &recipe.image.name));
    let (recipes, others): (Vec<_>, Vec<_>) = recipes.into_iter().partition(|(_, recipe)| is_run(recipe));
    if let (true, Some((folder, recipe))) = (recipes.is_empty(), others.first()) {
        let (file, image) = (file_in(folder), &recipe.image.name);
        return Err(format!(
            "no workload of {DECLARATION} runs {image}, which {file} makes; give one image = \"{image}:0\" (the tag is filled in)"
        ));
    }
    let note = |(folder, recipe): &(String, Recipe)| {
        let (file, image) = (file_in(folder), &recipe.image.name);
        format!("{file} is not built: no workload of {DECLARATION} runs {image}")
    };
    let notes = others.iter().map(note).collect();
    Ok(Plan { recipes, declaration, notes })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_commit_with_nothing_to_roll_out_says_so() {
        let target = "staging/form".parse().expect("a target");
        let words = plan(Vec::new(), None, &target).expect_err("nothing");
        assert!(words.contains("no recipe.toml and no mainyard.toml"), "{words}");
        let other = Some("application = \"lockers\"".to_owned());
        let words = plan(Vec::new(), other, &target).expect_err("of another");
        assert!(words.contains("push it to staging/lockers"), "{words}");
    }
}
