//! Builds: begun, followed, listed and ended.

use std::io::{BufRead, IsTerminal, Write};
use std::path::Path;
use std::time::Duration;

use futures_util::StreamExt;
use mainyard_api::{
    BuildsQuery, CancelBuild, FollowBuild, ListBuilds, NewBuildQuery, NoPath, NoQuery, OfBuild, ShowBuild,
    StartBuild, StartedBuild,
};
use mainyard_builds::{BuildEvent, BuildLog, BuildState, BuildView, LogLine};
use mainyard_core::model::Signal;

use super::{code, parse_name};
use crate::args::{Build, BuildCommand, BuildOptions, Output};
use crate::client::Client;
use crate::output;
use crate::show::{print, table};
use crate::terminal::{Failure, Paint, age, count, shape};

/// A stream that broke is taken up again so often, with a pause before each time.
const TRIES: u32 = 50;
const PAUSE: Duration = Duration::from_millis(200);
/// Changed files that are named.
const NAMED: usize = 8;

pub(super) async fn run(client: &Client, build: Build) -> Result<(), Failure> {
    match (build.what, build.folder) {
        (Some(BuildCommand::List { of, output }), _) => list(client, of, output).await,
        (Some(BuildCommand::Show { build, output }), _) => show(client, build, output).await,
        (Some(BuildCommand::Logs { build, output }), _) => {
            follow(client, build, output.json, false).await.map(drop)
        }
        (Some(BuildCommand::Cancel { build }), _) => cancel(client, build).await,
        (None, Some(folder)) => {
            let started = start(client, &folder, &build.options, false).await?;
            let number = started.build.build.number;
            if build.no_wait {
                println!(
                    "build {number}: {}; read it with: mainyard build logs {number}",
                    started.build.says
                );
                return Ok(());
            }
            follow(client, number, build.json, true).await.map(drop)
        }
        (None, None) => Err(Failure::usage("name the folder with the code: mainyard build ./survey-form")),
    }
}

/// Sends a folder and begins its build, or only tells what would be built.
pub(super) async fn start(
    client: &Client,
    folder: &Path,
    options: &BuildOptions,
    forecast: bool,
) -> Result<StartedBuild, Failure> {
    let code = code::look_at(folder)?;
    let commit = code.commit.clone();
    let query = NewBuildQuery {
        tag: options.tag.clone(),
        folder: options.part_of.clone(),
        changed: commit.as_ref().is_some_and(|commit| commit.changed),
        repository: commit.as_ref().map(|commit| commit.repository.clone()).filter(|it| !it.is_empty()),
        commit: commit.map(|commit| commit.id),
        secrets_from: options.secrets_from.as_deref().map(parse_name).transpose()?,
        from_scratch: options.from_scratch,
        forecast,
    };
    let file = tokio::fs::File::from_std(code.archive()?);
    let stream = tokio_util::io::ReaderStream::with_capacity(file, 256 * 1024);
    let request = client.request::<StartBuild>(&NoPath {}, &query).body(reqwest::Body::wrap_stream(stream));
    let started: StartedBuild = client.read(request).await?;
    let verb = if forecast { "would be sent" } else { "sent" };
    println!("{}: {} {verb}{}", folder.display(), code.words(), changed_words(&started));
    for change in started.changed.iter().take(NAMED) {
        println!("  {change}");
    }
    if started.changed.len() > NAMED {
        println!("  … and {} more", started.changed.len() - NAMED);
    }
    Ok(started)
}

fn changed_words(started: &StartedBuild) -> String {
    match (started.is_first, started.changed.len()) {
        (true, _) => ", the first time".to_owned(),
        (false, 0) => ", the same as in the build before".to_owned(),
        (false, changed) => format!(", {} since the build before", count(changed, "change")),
    }
}

/// Follows a build to its end; interrupted, asks whether it is to end. Gives it as it ended.
pub(super) async fn follow(
    client: &Client,
    number: u64,
    json: bool,
    is_own: bool,
) -> Result<BuildView, Failure> {
    let mut shown = Shown { json, number, log: BuildLog::default() };
    let (mut lost, path) = (0, OfBuild { build: number });
    loop {
        let request = client.request::<FollowBuild>(&path, &NoQuery {});
        let answer = match client.send(request).await {
            Err(failure) if lost >= TRIES || shown.log.is_empty() && lost == 0 => return Err(failure),
            other => other,
        };
        if let Ok(answer) = answer {
            lost = 0;
            let reading = shown.read(answer);
            tokio::pin!(reading);
            loop {
                tokio::select! {
                    () = &mut reading => break,
                    Ok(()) = tokio::signal::ctrl_c(), if is_own => {
                        if ask_to_end(number) {
                            client.ask::<CancelBuild>(path.clone(), NoQuery {}).await?;
                        } else {
                            println!("build {number} goes on; read it with: mainyard build logs {number}");
                            return Err(Failure::said());
                        }
                    }
                }
            }
        }
        if let Some(view) = shown.log.last().filter(|view| view.build.state.has_ended()) {
            return shown.end(view.clone());
        }
        lost += 1;
        shown.log.begin_again();
        tokio::time::sleep(PAUSE).await;
    }
}

/// Asks whether a build is to end; without a terminal it goes on.
fn ask_to_end(number: u64) -> bool {
    if !std::io::stdin().is_terminal() {
        return false;
    }
    print!("\nbuild {number} goes on without you. End it? [y/N] ");
    let _ = std::io::stdout().flush();
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer).is_ok() && answer.trim().eq_ignore_ascii_case("y")
}

/// A build that is followed, as it is shown.
struct Shown {
    json: bool,
    number: u64,
    log: BuildLog,
}

impl Shown {
    async fn read(&mut self, answer: reqwest::Response) {
        let mut stream = answer.bytes_stream();
        let mut partial: Vec<u8> = Vec::new();
        while let Some(Ok(piece)) = stream.next().await {
            partial.extend_from_slice(&piece);
            while let Some(end) = partial.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = partial.drain(..=end).collect();
                if let Ok(event) = serde_json::from_slice::<BuildEvent>(&line) {
                    self.take(event);
                }
            }
        }
    }

    fn take(&mut self, event: BuildEvent) {
        if self.json
            && let Ok(line) = serde_json::to_string(&event)
        {
            println!("{line}");
        }
        for LogLine { signal, indent, text } in self.log.take(event) {
            if self.json {
                continue;
            }
            let mark = signal.map(|signal| format!("{} ", Paint::stdout().signal(signal, shape(signal))));
            println!("{:indent$}{}{text}", "", mark.unwrap_or_default());
        }
    }

    fn end(&self, view: BuildView) -> Result<BuildView, Failure> {
        if view.build.state == BuildState::Done {
            if !self.json {
                let mark = Paint::stdout().signal(Signal::Good, shape(Signal::Good));
                println!("{mark} build {}: {}", self.number, view.says);
            }
            return Ok(view);
        }
        if self.json {
            return Err(Failure::said());
        }
        Err(Failure::failed(view.ending()))
    }
}

async fn list(client: &Client, of: Option<String>, output: Output) -> Result<(), Failure> {
    let builds = client.ask::<ListBuilds>(NoPath {}, BuildsQuery { repository: of, limit: 50 }).await?;
    if output.json {
        output::json(&builds);
        return Ok(());
    }
    if builds.is_empty() {
        println!("nothing was built; build a folder with code by: mainyard build FOLDER");
        return Ok(());
    }
    let mut rows = table(&["BUILD", "STATE", "IMAGE", "COMMIT", "ASKED", "SAYS"]);
    for view in builds {
        let build = &view.build;
        let ago = age(jiff::Timestamp::now().duration_since(build.asked));
        rows.add_row([
            build.number.to_string(),
            build.state.word().to_owned(),
            build.image.to_string(),
            commit_words(&view),
            format!("{ago} ago by {}", build.by),
            view.says.clone(),
        ]);
    }
    print(&rows);
    Ok(())
}

fn commit_words(view: &BuildView) -> String {
    view.build.commit.as_ref().map_or_else(
        || "-".to_owned(),
        |commit| {
            let short: String = commit.id.chars().take(12).collect();
            if commit.changed { format!("{short} with changes") } else { short }
        },
    )
}

async fn show(client: &Client, number: u64, output: Output) -> Result<(), Failure> {
    let view = client.ask::<ShowBuild>(OfBuild { build: number }, NoQuery {}).await?;
    if output.json {
        output::json(&view);
        return Ok(());
    }
    let build = &view.build;
    println!("build {number}: {}", build.image);
    println!("  {}: {}", build.state.word(), view.says);
    println!("  {} by {}, commit {}", crate::show::moment(build.asked), build.by, commit_words(&view));
    let mut rows = table(&["", "PART", "STEP", "TOOK", "LAYER"]);
    for (at, step) in build.steps.iter().enumerate() {
        let layer = step.layer.as_ref().map(|layer| mainyard_core::model::Bytes::new(layer.size).to_string());
        rows.add_row([
            (at + 1).to_string(),
            step.part.to_string(),
            step.words.clone(),
            view.steps_say[at].clone(),
            layer.unwrap_or_default(),
        ]);
    }
    print(&rows);
    if let Some(digest) = &build.digest {
        println!("  made {digest}");
        println!("  deploy it: mainyard deploy ENVIRONMENT/WORKLOAD --image {}", build.image);
    }
    if build.fault.is_some() {
        println!("{}", view.ending());
    }
    Ok(())
}

async fn cancel(client: &Client, number: u64) -> Result<(), Failure> {
    let view = client.ask::<CancelBuild>(OfBuild { build: number }, NoQuery {}).await?;
    println!("build {number}: {}", view.says);
    Ok(())
}
