//! Usage of workloads, and limits that would fit.

use std::collections::BTreeMap;

use mainyard_api::{ListUsage, Problem, ShowUsage};
use mainyard_core::model::Target;
use mainyard_core::sizing::{Usage, WorkloadUsage, usage_of};

use crate::operations::{Call, Operations};
use crate::problem::of_record;
use crate::responses::no_workload;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(of_all).mount(of_one);
}

/// Usage of one workload in the last seven days.
async fn of_one(call: Call<ShowUsage>) -> Result<WorkloadUsage, Problem> {
    let target = call.path.target();
    let usage = call.control.store.usage(Some(&target)).await.map_err(of_record)?;
    let published = call.control.leader.published.read().await;
    let found = usage_of(&published.0, &target, &usage, call.query.memory);
    found.ok_or_else(|| no_workload(&published.0, &target, ""))
}

/// Usage of all workloads in the last seven days.
async fn of_all(call: Call<ListUsage>) -> Result<Vec<WorkloadUsage>, Problem> {
    let usage = call.control.store.usage(None).await.map_err(of_record)?;
    let mut by_workload: BTreeMap<Target, Vec<Usage>> = BTreeMap::new();
    for it in usage {
        by_workload.entry(it.replica.workload.clone()).or_default().push(it);
    }
    let published = call.control.leader.published.read().await;
    let all = published.0.workloads.keys().filter_map(|workload| {
        let usage = by_workload.get(workload).map_or(&[][..], Vec::as_slice);
        usage_of(&published.0, workload, usage, None)
    });
    Ok(all.collect())
}
