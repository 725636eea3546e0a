//! The client's commands.

mod acts;
mod add;
mod applications;
mod authorities;
mod base_image;
mod builds;
mod certificates;
mod change_list;
mod code;
mod code_repositories;
mod environments;
pub(crate) mod files;
mod forecast;
mod image_details;
mod images;
pub(crate) mod logs;
pub(crate) mod new;
pub(crate) mod recipes;
mod registries;
mod releases;
mod repository;
mod scaling;
mod secrets;
mod seeing;
mod send;
mod send_live;
mod sent_code;
pub(crate) mod signing;
mod since;
mod sources;
mod ssh_keys;
mod stats;
mod storage;
pub(crate) mod tokens;
mod way_out;
mod why;

use mainyard_api::{AddSignInKey, NewStorageRule, NoPath, NoQuery};
use mainyard_core::model::{Name, NameError, PruneSchedule, ReleaseId, Target};

use crate::args::{Command, Image, Secret};
use crate::client::Client;
use crate::data_dir::{self, DataDir};
use crate::terminal::Failure;

/// Runs a command that calls the platform.
#[expect(clippy::too_many_lines, reason = "a table: one arm for each command")]
pub(crate) async fn run(place: &DataDir, command: Command) -> Result<(), Failure> {
    let client = Client::new(place)?;
    match command {
        Command::SignIn => {
            let key = client.ask::<AddSignInKey>(NoPath {}, NoQuery {}).await?;
            println!("{}{}", client.url(), key.path);
            Ok(())
        }
        Command::Board { environment, past, output } => {
            seeing::board(&client.at(&past)?, environment, output).await
        }
        Command::Show { target, past, output } if target.contains('@') => {
            releases::show(&client.at(&past)?, &parse_release(&target)?, output).await
        }
        Command::Show { target, past, output } if target.starts_with("service:") => {
            let target = parse_target(target.trim_start_matches("service:"))?;
            seeing::show_service(&client.at(&past)?, &target, output).await
        }
        Command::Show { target, past, output } if target.starts_with("route:") => {
            let target = parse_target(target.trim_start_matches("route:"))?;
            seeing::show_route(&client.at(&past)?, &target, output).await
        }
        Command::Show { target, past, output } => {
            seeing::show(&client.at(&past)?, &parse_target(&target)?, output).await
        }
        Command::Releases { target, past, output } => {
            releases::list(&client.at(&past)?, &parse_target(&target)?, output).await
        }
        Command::Keep { release, no_longer, trial } => {
            releases::keep(&client, &parse_release(&release)?, !no_longer, &trial).await
        }
        Command::SignOut { session: Some(session), .. } => tokens::remove(&client, &session).await,
        Command::SignOut { .. } => tokens::end_sessions(&client).await,
        Command::Token(what) => tokens::run(&client, what).await,
        Command::Compare { from, to, output } => {
            seeing::compare(&client, &parse_release(&from)?, &parse_release(&to)?, output).await
        }
        Command::Application(what) => applications::run(&client, what).await,
        Command::Promote { target, to, as_commit: true, push, branch, .. } => {
            sources::promote(&client, &parse_target(&target)?, &to, push, branch).await
        }
        Command::Promote { target, to, wait, .. } => {
            releases::promote(&client, &parse_target(&target)?, &to, wait).await
        }
        Command::Export(export) => files::export(&client, &export.of, &export.folder).await,
        Command::Source(what) => sources::run(&client, what).await,
        Command::Stats { target: Some(target), by, memory, output } => {
            stats::of_one(&client, &parse_target(&target)?, &by, memory, output).await
        }
        Command::Stats { target: None, output, .. } => stats::of_all(&client, output).await,
        Command::Why { what, to, method, headers, output } => {
            why::why(&client, &why::WhyQuestion { what, to, method, headers }, output).await
        }
        Command::Requests { of, output } => why::requests(&client, of, output).await,
        Command::Trail(what) => {
            let target = what.target.as_deref().map(parse_target).transpose()?;
            seeing::trail(&client, target.as_ref(), what).await
        }
        Command::Logs { target, follow, replica, tail, raw, output } => {
            let (target, release) = match target.contains('@') {
                true => parse_release(&target).map(|id| (id.workload, Some(id.number)))?,
                false => (parse_target(&target)?, None),
            };
            logs::logs(&client, &target, logs::Wanted { release, replica, tail, follow, raw }, output).await
        }
        Command::Scale { target, replicas, by_load, limits, wait } => {
            let size = scaling::Size { replicas, by_load, limits };
            scaling::scale(&client, &parse_target(&target)?, size, wait).await
        }
        Command::Deploy { target, image, settings, secrets, limits, wait } => {
            let set = releases::settings(&settings, &secrets)?;
            releases::deploy(&client, &parse_target(&target)?, image, set, limits, wait).await
        }
        Command::Rollback { target, to, at, wait } => {
            releases::rollback(&client, &parse_target(&target)?, to, at, wait).await
        }
        Command::Advance { target, wait } => releases::advance(&client, &parse_target(&target)?, wait).await,
        Command::Resume { target, wait } => releases::resume(&client, &parse_target(&target)?, wait).await,
        Command::Cancel { target, wait } => releases::cancel(&client, &parse_target(&target)?, wait).await,
        Command::Restart { target, wait } => releases::restart(&client, &parse_target(&target)?, wait).await,
        Command::Purge { route, path } => acts::purge(&client, &parse_target(&route)?, path).await,
        Command::SetAside { replica, lasts, end, trial } => {
            acts::set_aside(&client, &replica, if end { "0s" } else { &lasts }, &trial).await
        }
        Command::Hold { target, because, trial } => {
            releases::hold(&client, &parse_target(&target)?, &because, &trial).await
        }
        Command::Remove { target, yes, trial } => {
            acts::remove(&client, &parse_target(&target)?, yes, &trial).await
        }
        Command::Declare { files, environment, exact, named, wait } => {
            files::declare(&client, &files, environment, files::DeclareOptions { exact, named }, wait).await
        }
        Command::Build(build) => builds::run(&client, *build).await,
        Command::Send(what) => send::send(&client, *what).await,
        Command::Key(what) => ssh_keys::run(&client, what).await,
        Command::Code(what) => code_repositories::run(&client, place, what).await,
        Command::Certificate(what) => certificates::run(&client, what).await,
        Command::Add(what) => add::add(&client, what).await,
        Command::Image(Image::Add { path, name, trial }) => images::add(&client, &path, name, &trial).await,
        Command::Image(Image::List { output }) => images::list(&client, output).await,
        Command::Image(Image::Show { image, output }) => image_details::show(&client, &image, output).await,
        Command::Image(Image::Compare { image, other, output }) => {
            image_details::compare(&client, &image, &other, output).await
        }
        Command::Image(Image::Prune { keep, older_than, of, forecast, output }) => {
            let query = image_details::rule(keep, &older_than, of, forecast)?;
            image_details::prune(&client, query, output).await
        }
        Command::Image(Image::Base { image, packages, without, accounts, trial }) => {
            let recipe = base_image::Recipe { packages, without, accounts };
            base_image::make(&client, &image, &recipe, &trial).await
        }
        Command::Image(Image::Storage { output }) => storage::list(&client, output).await,
        Command::Image(Image::StorageRule { name, none: true, trial, .. }) => {
            storage::remove(&client, name, &trial).await
        }
        Command::Image(Image::StorageRule { name, limit, keep, older_than, every, trial, .. }) => {
            let older_than = image_details::days(&older_than)?;
            let prune = keep.map(|keep| PruneSchedule { keep, older_than, every });
            storage::set(&client, name, NewStorageRule { limit, prune }, &trial).await
        }
        Command::Image(Image::Sign { image, key }) => signing::sign(&client, &image, &key).await,
        Command::Image(Image::Pull { image }) => registries::pull(&client, &image).await,
        Command::Image(Image::Pulls { output }) => registries::pulls(&client, output).await,
        Command::Authority(what) => authorities::run(&client, what).await,
        Command::Registry(what) => registries::run(&client, what).await,
        Command::Image(Image::Remove { image, trial }) => images::remove(&client, &image, &trial).await,
        Command::Secret(Secret::Add { secret, keep_newline, wait }) => {
            secrets::add(&client, &parse_target(&secret)?, keep_newline, wait).await
        }
        Command::Secret(Secret::List { environment, output }) => {
            secrets::list(&client, environment, output).await
        }
        Command::Secret(Secret::Show { secret, output }) => {
            secrets::show(&client, &parse_target(&secret)?, output).await
        }
        Command::Secret(Secret::Remove { secret, trial }) => {
            secrets::remove(&client, &parse_target(&secret)?, &trial).await
        }
        Command::Secret(Secret::PublicKey { environment }) => {
            let environment = environment
                .or_else(data_dir::default_environment)
                .ok_or_else(|| Failure::usage("say which environment: mainyard secret public-key staging"))?;
            println!("{}", secrets::public_key(&client, &environment).await?);
            Ok(())
        }
        Command::Secret(Secret::Encrypt { secret, keep_newline }) => {
            secrets::encrypt(&client, &parse_target(&secret)?, keep_newline).await
        }
        Command::Secret(Secret::RotateKey { trial }) => secrets::rotate_key(&client, &trial).await,
        Command::Environment(what) => environments::run(&client, what).await,
        Command::Use { environment: Some(environment), .. } => {
            environments::make_default(&client, &environment).await
        }
        Command::Start(_)
        | Command::Stop { .. }
        | Command::LogLevel { .. }
        | Command::Serve(_)
        | Command::Validate { .. }
        | Command::Use { environment: None, .. }
        | Command::Schema
        | Command::Ssh(_)
        | Command::Recipe(_)
        | Command::New(_)
        | Command::Image(Image::SigningKey { .. })
        | Command::Completions { .. } => Err(Failure::usage("this command does not call the platform")),
    }
}

/// A name as a person writes it.
fn parse_name(text: &str) -> Result<Name, Failure> {
    text.parse().map_err(|error: NameError| Failure::usage(error.to_string()))
}

/// `environment/name`, or a bare name in the default environment.
fn parse_target(text: &str) -> Result<Target, Failure> {
    let whole = match (text.contains('/'), data_dir::default_environment()) {
        (false, Some(environment)) => format!("{environment}/{text}"),
        (false, None) => {
            let hint =
                format!("say which environment: staging/{text}, or choose a default: mainyard use staging");
            return Err(Failure::usage(hint));
        }
        (true, _) => text.to_owned(),
    };
    whole.parse().map_err(|error: NameError| Failure::usage(error.to_string()))
}

/// A release as `environment/name@number`; the environment may be the default one.
fn parse_release(text: &str) -> Result<ReleaseId, Failure> {
    let whole = match (text.split_once('@'), text.contains('/')) {
        (Some((name, number)), false) => format!("{}@{number}", parse_target(name)?),
        _ => text.to_owned(),
    };
    whole.parse().map_err(|error: NameError| Failure::usage(error.to_string()))
}
