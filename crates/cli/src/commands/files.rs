//! Declarations in files: checking them, declaring them, their schema.

use std::path::{Path, PathBuf};

use mainyard_api::{Declaration, Declare, ExportEnvironment, ExportQuery, Exported, NoPath, OfEnvironment};
use mainyard_core::commands::DeclareOutcome;
use mainyard_core::manifest::{self, Problem, SourceFile};
use mainyard_core::model::{Name, Signal};
use serde::Serialize;
use serde_json::json;

use super::change_list::{follow_lines, print_lines};
use super::{forecast, parse_name};
use crate::args::{Output, Wait};
use crate::client::Client;
use crate::terminal::{Failure, Paint, count, shape};
use crate::{data_dir, output};

pub(crate) fn schema() -> Result<(), Failure> {
    let schema = serde_json::to_string_pretty(&manifest::schema::schema())
        .map_err(|error| Failure::failed(error.to_string()))?;
    println!("{schema}");
    Ok(())
}

/// Files as given, and the `.toml` files of directories, in the order of their names.
fn gather(paths: &[PathBuf]) -> Result<Vec<SourceFile>, Failure> {
    let mut files = Vec::new();
    for path in paths {
        let cannot =
            |error: &std::io::Error| Failure::usage(format!("cannot read {}: {error}", path.display()));
        if path.is_dir() {
            let entries = std::fs::read_dir(path).map_err(|error| cannot(&error))?;
            let mut inner: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
            inner.retain(|file| file.extension().is_some_and(|ending| ending == "toml"));
            inner.sort();
            if inner.is_empty() {
                return Err(Failure::usage(format!("{} holds no file that ends in .toml", path.display())));
            }
            for file in inner {
                files.push(read(&file)?);
            }
        } else {
            files.push(read(path)?);
        }
    }
    Ok(files)
}

fn read(path: &Path) -> Result<SourceFile, Failure> {
    let bytes = std::fs::read(path)
        .map_err(|error| Failure::usage(format!("cannot read {}: {error}", path.display())))?;
    let text = String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        Failure::refused(format!("{}: not a text: byte {at} is not UTF-8", path.display()))
    })?;
    Ok(SourceFile { name: path.display().to_string(), text })
}

/// The result of files in one environment.
#[derive(Serialize)]
struct Valid {
    /// `None` where files say the same for every environment.
    environment: Option<Name>,
    workloads: usize,
    services: usize,
    routes: usize,
    warnings: Vec<String>,
}

pub(crate) fn validate(paths: &[PathBuf], output: Output) -> Result<(), Failure> {
    let files = gather(paths)?;
    let environments = manifest::environments(&files);
    let mut problems: Vec<Problem> = Vec::new();
    let mut valid = Vec::new();
    for environment in environments.iter().map(Some).chain([None]) {
        match manifest::read(&files, environment) {
            Ok(declared) if environment.is_some() || environments.is_empty() => valid.push(Valid {
                environment: environment.cloned(),
                workloads: declared.workloads.len(),
                services: declared.services.len(),
                routes: declared.routes.len(),
                warnings: declared.warnings.iter().map(ToString::to_string).collect(),
            }),
            Ok(_) => {}
            // What is missing from the common part alone may be whole in each environment.
            Err(_) if environment.is_none() && !environments.is_empty() => {}
            Err(list) => problems.extend(list),
        }
    }
    problems.sort();
    problems.dedup();
    if output.json {
        output::json(&json!({"valid": problems.is_empty(), "environments": valid, "problems": problems}));
    } else {
        valid.iter().for_each(print_valid);
    }
    if problems.is_empty() {
        return Ok(());
    }
    let lines: Vec<String> = problems.iter().map(|problem| format!("\n  {problem}")).collect();
    Err(Failure::refused(format!("{}{}", count(problems.len(), "problem"), lines.concat())))
}

fn print_valid(valid: &Valid) {
    let place = valid.environment.as_ref().map_or(String::new(), |environment| format!(" in {environment}"));
    println!(
        "valid{place}: {}, {}, {}",
        count(valid.workloads, "workload"),
        count(valid.services, "service"),
        count(valid.routes, "route")
    );
    for warning in &valid.warnings {
        println!("  {} {warning}", shape(Signal::Caution));
    }
}

/// How files are declared.
#[derive(Debug, Clone, Default)]
pub(crate) struct DeclareOptions {
    /// Also remove what the application no longer declares.
    pub exact: bool,
    /// The name that the application has there.
    pub named: Option<String>,
}

pub(crate) async fn declare(
    client: &Client,
    paths: &[PathBuf],
    environment: Option<String>,
    manner: DeclareOptions,
    wait: Wait,
) -> Result<(), Failure> {
    let files = gather(paths)?;
    let environment = environment.or_else(data_dir::default_environment).ok_or_else(|| {
        Failure::usage("say for which environment: --in staging, or choose a default: mainyard use staging")
    })?;
    send(client, files, &parse_name(&environment)?, manner, wait).await
}

/// Declares files, says what changed, and follows it.
pub(crate) async fn send(
    client: &Client,
    files: Vec<SourceFile>,
    environment: &Name,
    manner: DeclareOptions,
    wait: Wait,
) -> Result<(), Failure> {
    let DeclareOptions { exact, named } = manner;
    let named = named.as_deref().map(parse_name).transpose()?;
    let body = Declaration { environment: environment.clone(), files, exact, named };
    let done = forecast::act_with::<Declare, _, _>(client, NoPath {}, &body, &wait.trial).await?;
    let DeclareOutcome { changes: lines, notes } = &done.outcome;
    let mark = Paint::stdout().signal(Signal::Caution, shape(Signal::Caution));
    let print_notes = || notes.iter().for_each(|note| println!("  {mark} {note}"));
    if lines.is_empty() {
        let but = if notes.is_empty() { "" } else { ", but tags have moved" };
        println!("{environment}: everything is as declared{but}; nothing was changed");
        print_notes();
        return Ok(());
    }
    println!("{}{environment}: {}", forecast::mark(&wait.trial), count(lines.len(), "change"));
    print_lines(lines);
    print_notes();
    forecast::print(&done);
    if wait.trial.forecast || wait.no_wait {
        return Ok(());
    }
    follow_lines(client, environment, lines).await
}

/// Writes files that declare what is here. Nothing that is there is written over.
pub(crate) async fn export(client: &Client, of: &str, folder: &Path) -> Result<(), Failure> {
    let (environment, only) =
        of.split_once('/').map_or((of, None), |(environment, name)| (environment, Some(name)));
    let path = OfEnvironment { environment: parse_name(environment)? };
    let query = ExportQuery { of: only.map(parse_name).transpose()? };
    let request = client.request::<ExportEnvironment>(&path, &query);
    let Exported { files } = client.read_as_it_is(request).await?;
    if files.is_empty() {
        println!("{environment} holds nothing to export");
        return Ok(());
    }
    let cannot = |path: &Path, error: &std::io::Error| {
        Failure::failed(format!("cannot write {}: {error}; nothing was written over", path.display()))
    };
    std::fs::create_dir_all(folder).map_err(|error| cannot(folder, &error))?;
    for file in &files {
        let path = folder.join(&file.name);
        let made = std::fs::OpenOptions::new().write(true).create_new(true).open(&path);
        made.and_then(|mut made| std::io::Write::write_all(&mut made, file.text.as_bytes()))
            .map_err(|error| cannot(&path, &error))?;
        println!("{}", path.display());
    }
    println!("Declare {} with:", if files.len() == 1 { "it" } else { "them, one application each," });
    for file in &files {
        println!("  mainyard declare {} --in {environment}", folder.join(&file.name).display());
    }
    println!("Values of secrets and images are not in it: add them there first");
    Ok(())
}
