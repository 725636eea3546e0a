//! How many replicas a workload has, and how much each may use.

use mainyard_api::{NewScale, Problem, ScaleWorkload};
use mainyard_core::cluster::LimitChange;
use mainyard_core::commands::{Scale, Scaled};

use crate::forecast::Acted;
use crate::operations::Call;

pub(crate) async fn scale(call: Call<ScaleWorkload>) -> Acted<Scaled> {
    let NewScale { replicas, memory, cpu, by_load } = call.body;
    if replicas.is_none() && memory.is_none() && cpu.is_none() && !by_load {
        return Err(Problem::invalid("say what to change: `replicas`, `memory`, `cpu` or `by_load`"));
    }
    if replicas.is_some() && by_load {
        return Err(Problem::invalid(
            "`replicas` sets a number and `by_load` lets it follow the load: give one of them",
        ));
    }
    let (workload, limits) = (call.path.target(), LimitChange { memory, cpu });
    call.act(Scale { workload, replicas, limits, by_load }).await
}
