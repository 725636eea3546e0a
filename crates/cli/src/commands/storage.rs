//! What names keep in the image store, and the rules for it.

use mainyard_api::{
    Done, ListStorage, NewStorageRule, NoPath, NoQuery, RemoveStorageRule, SetStorageRule, StorageRuleQuery,
};
use mainyard_core::commands::{Removed, StorageRuleSet};
use mainyard_core::model::Bytes;

use super::forecast;
use crate::args::{Output, Trial};
use crate::client::Client;
use crate::output;
use crate::show::{print, table};
use crate::terminal::Failure;

pub(super) async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let all = client.ask::<ListStorage>(NoPath {}, NoQuery {}).await?;
    if output.json {
        output::json(&all);
        return Ok(());
    }
    if all.is_empty() {
        println!("no image is in the store; add one with: mainyard image add FILE");
        return Ok(());
    }
    let mut rows = table(&["NAME", "IMAGES", "SIZE", "RULE"]);
    let total: u64 = all.iter().map(|row| row.size).sum();
    for row in all {
        let from = row.rule.as_ref().filter(|rule| rule.repository != row.repository);
        let from = from.map_or(String::new(), |rule| format!(" (as {} has it)", rule.repository));
        rows.add_row([
            row.repository,
            row.images.to_string(),
            Bytes::new(row.size).to_string(),
            format!("{}{from}", row.says),
        ]);
    }
    print(&rows);
    println!("{} together; layers that two names share are kept once", Bytes::new(total));
    Ok(())
}

pub(super) async fn set(
    client: &Client,
    repository: String,
    rule: NewStorageRule,
    trial: &Trial,
) -> Result<(), Failure> {
    if rule == NewStorageRule::default() {
        return Err(Failure::usage(
            "a rule has a limit, or says what stays: --limit 20GiB, --keep 10; --none takes it back",
        ));
    }
    let query = StorageRuleQuery { repository, forecast: trial.forecast };
    let request = client.request::<SetStorageRule>(&NoPath {}, &query).json(&rule);
    let done: Done<StorageRuleSet> = forecast::read(client, request, trial).await?;
    println!("{}{}: {}", forecast::mark(trial), done.outcome.repository, done.outcome.says);
    Ok(())
}

pub(super) async fn remove(client: &Client, repository: String, trial: &Trial) -> Result<(), Failure> {
    let query = StorageRuleQuery { repository, forecast: trial.forecast };
    let request = client.request::<RemoveStorageRule>(&NoPath {}, &query);
    let done: Done<Removed> = forecast::read(client, request, trial).await?;
    forecast::print_gone(&done.outcome, trial);
    Ok(())
}
