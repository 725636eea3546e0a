//! What is asked of workloads, kept minute by minute for a day, so that a rule that follows the load can be rehearsed.

use std::collections::BTreeMap;
use std::time::Duration;

use actix_web::web::Data;
use jiff::Timestamp;
use mainyard_core::growth::rehearse;
use mainyard_core::manifest::Declared;
use mainyard_core::model::{Name, Target};

use crate::Control;

/// How often the demand is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// The demand of one minute.
#[derive(Default)]
struct MinuteSums {
    looks: u32,
    /// By workload: the sums of what was open and of the rates.
    sums: BTreeMap<String, (f64, f64)>,
}

/// Looks once a second and keeps each minute, forever. Only the control that decides is told what is asked.
pub(crate) async fn keep_demand(control: Data<Control>) {
    let (mut minute, mut sums) = (this_minute(), MinuteSums::default());
    loop {
        actix_web::rt::time::sleep(LOOK_EVERY).await;
        let now = this_minute();
        if now != minute {
            let done = std::mem::take(&mut sums);
            if done.looks > 0 {
                keep(&control, minute, done).await;
            }
            minute = now;
        }
        let demand = control.traffic.demand();
        if control.leader.elsewhere().is_some() || !demand.is_told {
            continue;
        }
        sums.looks += 1;
        for (workload, (open, rate)) in demand.workloads {
            let sum = sums.sums.entry(workload).or_default();
            *sum = (sum.0 + open, sum.1 + rate);
        }
    }
}

fn this_minute() -> Timestamp {
    let now = Timestamp::now();
    Timestamp::from_second(now.as_second().div_euclid(60) * 60).unwrap_or(now)
}

async fn keep(control: &Control, minute: Timestamp, done: MinuteSums) {
    let looks = f64::from(done.looks);
    let asked = done
        .sums
        .into_iter()
        .filter_map(|(workload, (open, rate))| Some((workload.parse().ok()?, open / looks, rate / looks)));
    let asked: Vec<(Target, f64, f64)> = asked.collect();
    if let Err(error) = control.store.add_demand(minute, &asked).await {
        tracing::debug!(%error, "what was asked of workloads in a minute is not kept");
    }
}

/// What the rules by which declared workloads follow their load would have done in the last day, in words.
pub(crate) async fn rehearsals(control: &Control, environment: &Name, declared: &Declared) -> Vec<String> {
    let mut words = Vec::new();
    for (name, workload) in &declared.workloads {
        let Some(growth) = &workload.growth else { continue };
        let Ok(minutes) = control.store.demand(&Target::new(environment, name)).await else { continue };
        words.extend(rehearse(growth, &minutes).map(|rehearsal| format!("workload {name}: {rehearsal}")));
    }
    words
}
