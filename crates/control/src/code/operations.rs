//! Repositories of code over the API.

use mainyard_api::{CodeView, ListCode, Problem, RemoveCode, ShowCode};
use mainyard_builds::CodeRepository;

use super::{path_of, repositories};
use crate::agent_api::decides;
use crate::operations::{Call, Operations};
use crate::problem::of_record;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(show).mount(remove);
}

fn view(repository: CodeRepository) -> CodeView {
    CodeView { path: path_of(&repository.target), repository }
}

async fn list(call: Call<ListCode>) -> Result<Vec<CodeView>, Problem> {
    let all = repositories::all(&call.control.store).await.map_err(of_record)?;
    Ok(all.into_iter().map(|kept| view(kept.code)).collect())
}

async fn show(call: Call<ShowCode>) -> Result<CodeView, Problem> {
    repositories::known(&call.control.store, &call.path.target()).await.map(|kept| view(kept.code))
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
