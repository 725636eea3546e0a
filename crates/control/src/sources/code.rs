//! Sources that hold code: each new commit is built, and the newest image of each folder gets a name that stays.

use std::time::Duration;

use actix_web::web::Data;
use mainyard_api::{BuildSource, Problem};
use mainyard_builds::{Build, BuildState, BuildView, IgnoreRules, Way};
use mainyard_core::commands::{AddImages, NoteBuilds};
use mainyard_core::model::{
    BuiltFrom, ImageRecord, ImageRef, Source, SourceBuildState, SourceBuilds, Target,
};
use mainyard_git::hosting::Repository;

use super::PLATFORM;
use super::lookup::{newest, source_here};
use crate::Control;
use crate::builds::{CommitTree, NewBuild, known, words_of};
use crate::operations::Call;
use crate::pulls::deploy_moved;

/// Builds that go on are looked at this often, if nobody says that one came further.
const LOOK_EVERY: Duration = Duration::from_millis(500);

/// Begins the builds of a source's newest commit, where that was not done yet.
pub(super) async fn build_newest(control: &Data<Control>, source: &Source) -> Result<(), String> {
    let Some((rule, seen)) = source.code.as_ref().zip(source.seen.as_ref()) else { return Ok(()) };
    let before = source.builds.as_ref();
    if before.is_some_and(|builds| builds.commit == seen.id) {
        return Ok(());
    }
    let name = source.target.to_string();
    let repository = Repository::open(&control.follower.fence, &name).await.map_err(|it| it.to_string())?;
    let note = |builds: Vec<u64>, state: SourceBuildState, says: String| SourceBuilds {
        commit: seen.id.clone(),
        builds,
        state,
        says,
    };
    // Without the commit before, or where its builds failed, all is built.
    let is_known = before.filter(|builds| builds.state == SourceBuildState::Done);
    let changed = match is_known.filter(|_| !rule.paths.is_empty()) {
        Some(builds) => repository.changed_paths(&builds.commit, &seen.id).await.ok(),
        None => None,
    };
    let rules = IgnoreRules::new(&rule.paths)?;
    if changed.is_some_and(|paths| !paths.iter().any(|path| rules.leaves_out(path, false))) {
        let says = format!("{} changed nothing of {}", seen.short(), rule.paths.join(", "));
        return tell(control, &source.target, note(Vec::new(), SourceBuildState::Done, says)).await;
    }
    let by = format!("source {}", source.target);
    let outcome = match begin(control, source, &repository, &seen.id, by).await {
        Ok(Ok(builds)) => {
            let numbers: Vec<u64> = builds.iter().map(|build| build.number).collect();
            let words = numbers.iter().map(u64::to_string).collect::<Vec<_>>().join(", ");
            let verb = if numbers.len() == 1 { "goes on" } else { "go on" };
            let of = if numbers.len() == 1 { "build" } else { "builds" };
            note(numbers, SourceBuildState::Building, format!("{of} {words} {verb}"))
        }
        Ok(Err(words)) => note(Vec::new(), SourceBuildState::Failed, words),
        Err(problem) if problem.status < 500 => {
            note(Vec::new(), SourceBuildState::Failed, words_of(&problem))
        }
        // The platform cannot now: the next look tries again.
        Err(problem) => return Err(problem.detail),
    };
    tell(control, &source.target, outcome).await
}

async fn tell(control: &Control, source: &Target, builds: SourceBuilds) -> Result<(), String> {
    let note = NoteBuilds { source: source.clone(), builds };
    control.leader.carry_out(note, PLATFORM, "").await.map(drop).map_err(|error| error.to_string())
}

/// Begins the builds of a commit; the inner error says why there is none.
async fn begin(
    control: &Control,
    source: &Source,
    repository: &Repository<'_>,
    commit: &str,
    by: String,
) -> Result<Result<Vec<Build>, String>, Problem> {
    let tree = CommitTree::open(repository, None, commit).await?;
    let recipes = match tree.recipes().await? {
        Ok(recipes) => recipes,
        Err(words) => return Ok(Err(words)),
    };
    let inside = |folder: &str| {
        let under = source.folder.as_str();
        under.is_empty() || folder == under || folder.starts_with(&format!("{under}/"))
    };
    let folders: Vec<&str> =
        recipes.iter().map(|(folder, _)| folder.as_str()).filter(|it| inside(it)).collect();
    if folders.is_empty() {
        let of = if source.folder.is_empty() { "the repository" } else { &source.folder };
        return Ok(Err(format!("{of} has no recipe.toml; `mainyard recipe suggest` writes one")));
    }
    let asked = NewBuild {
        way: Some(Way::Source),
        by,
        commit: Some(mainyard_builds::Commit {
            id: commit.to_owned(),
            repository: source.url.clone(),
            changed: false,
        }),
        secrets_from: Some(source.target.environment.clone()),
        ..NewBuild::default()
    };
    tree.start_builds(control, folders.into_iter(), &asked).await.map(Ok)
}

/// Builds the code of a source at a commit, because somebody asks for it. Its newest images stay what they are.
pub(super) async fn build_at(call: Call<BuildSource>) -> Result<Vec<BuildView>, Problem> {
    let control = &call.control;
    let source = source_here(control, &call.path.target()).await?;
    if source.code.is_none() {
        let words =
            format!("{} declares, and holds no code; one that does is added with --code", source.target);
        return Err(Problem::conflict(words));
    }
    let commit = match &call.body.at {
        None => newest(&source)?,
        Some(at) => source.commit(at).map_err(Problem::not_found)?.clone(),
    };
    let repository = Repository::open(&control.follower.fence, &source.target.to_string()).await;
    let repository = repository.map_err(|error| Problem::unavailable(error.to_string()))?;
    let begun = begin(control, &source, &repository, &commit.id, call.caller.name.clone()).await?;
    let builds = begun.map_err(Problem::conflict)?;
    Ok(builds.into_iter().map(|build| control.builds.view(build)).collect())
}

/// Follows the builds of sources to their end, forever. Only the control that decides does it.
pub(crate) async fn follow_builds(control: Data<Control>) {
    let mut builds = control.builds.subscribe();
    loop {
        tokio::select! {
            () = tokio::time::sleep(LOOK_EVERY) => {}
            _ = builds.changed() => {}
        }
        if control.leader.holder.borrow().epoch.is_none() {
            continue;
        }
        let building: Vec<Source> = {
            let published = control.leader.published.read().await;
            let is_building = |source: &&Source| {
                source.builds.as_ref().is_some_and(|builds| builds.state == SourceBuildState::Building)
            };
            published.0.sources.values().filter(is_building).cloned().collect()
        };
        for source in building {
            if let Err(because) = finish(&control, &source).await {
                tracing::warn!(source = %source.target, because, "builds of a source could not be followed");
            }
        }
    }
}

/// Notes the end of a source's builds, once all have ended, and rolls out what they made.
async fn finish(control: &Data<Control>, source: &Source) -> Result<(), String> {
    let Some(begun) = &source.builds else { return Ok(()) };
    let mut ended = Vec::new();
    for number in &begun.builds {
        let build = known(control, *number).await.map_err(|problem| problem.detail)?;
        if !build.state.has_ended() {
            return Ok(());
        }
        ended.push(build);
    }
    let failed = ended.iter().find(|build| build.state != BuildState::Done);
    let note = |state, says| SourceBuilds { state, says, ..begun.clone() };
    if let Some(build) = failed {
        let because = build.fault.as_ref().map_or("it was ended", |fault| fault.sentence.as_str());
        let says = format!("build {} failed: {because}", build.number);
        return tell(control, &source.target, note(SourceBuildState::Failed, says)).await;
    }
    let images: Vec<String> = ended.iter().map(|build| build.image.to_string()).collect();
    name_newest(control, &source.target, &ended).await?;
    tell(control, &source.target, note(SourceBuildState::Done, format!("built {}", images.join(", ")))).await
}

/// Gives what was built the names that declarations have for it, and rolls it out where they are declared.
pub(crate) async fn name_newest(
    control: &Data<Control>,
    code: &Target,
    builds: &[Build],
) -> Result<(), String> {
    let mut moved: Vec<ImageRef> = Vec::new();
    {
        let published = control.leader.published.read().await;
        let mut records = Vec::new();
        for build in builds {
            let image = BuiltFrom { source: code.clone(), folder: build.folder.clone() }.image();
            let made = published.0.images.get(&build.image.to_string());
            records.extend(made.map(|made| ImageRecord { image: image.clone(), ..made.clone() }));
            moved.push(image);
        }
        drop(published);
        let add = AddImages { images: records };
        control.leader.carry_out(add, PLATFORM, "").await.map_err(|error| error.to_string())?;
    }
    let followers: Vec<(Target, ImageRef)> = {
        let published = control.leader.published.read().await;
        let state = &published.0;
        let image = |target: &Target| {
            let workload = state.workloads.get(target)?;
            Some(state.releases.get(&(target.clone(), workload.release))?.spec.image.clone())
        };
        let all = state.workloads.keys().filter(|target| target.environment == code.environment);
        let all = all.filter_map(|target| Some((target.clone(), image(target)?)));
        all.filter(|(_, image)| moved.contains(image)).collect()
    };
    for (target, image) in followers {
        deploy_moved(control, target, image).await;
    }
    Ok(())
}
