//! Repositories of code over the API.

use mainyard_api::{CodeView, ListCode, Problem, RemoveCode, ShowCode};

use super::view::view;
use super::{from_nothing, keys, repositories};
use crate::agent_api::decides;
use crate::operations::{Call, Operations};
use crate::problem::of_record;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(show).mount(remove).mount(from_nothing::preview).mount(from_nothing::make);
    to.mount(keys::list).mount(keys::add).mount(keys::remove);
}

async fn list(call: Call<ListCode>) -> Result<Vec<CodeView>, Problem> {
    let mut views = Vec::new();
    for kept in repositories::all(&call.control.store).await.map_err(of_record)? {
        views.push(view(&call.control, kept.code).await);
    }
    Ok(views)
}

async fn show(call: Call<ShowCode>) -> Result<CodeView, Problem> {
    let kept = repositories::known(&call.control.store, &call.path.target()).await?;
    Ok(view(&call.control, kept.code).await)
}

async fn remove(call: Call<RemoveCode>) -> Result<(), Problem> {
    decides(&call.control)?;
    let target = call.path.target();
    let turn = call.control.code.turn(&target);
    let _turn = turn.lock().await;
    repositories::known(&call.control.store, &target).await?;
    let removed = call.control.store.remove_code(target.environment.as_str(), target.name.as_str()).await;
    removed.map_err(of_record)?;
    let dir = call.control.code.fence.repository(&target.to_string());
    mainyard_git::remove(&dir).map_err(|error| Problem::unavailable(error.to_string()))?;
    call.control.code.tell_change();
    Ok(())
}
