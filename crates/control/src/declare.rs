//! Declarations: files in, what changed in words out.

use std::sync::Arc;

use mainyard_api::{DECLARATION_LIMIT, Declaration, Declare, Problem, Trial};
use mainyard_core::commands::{self, DeclareOutcome};
use mainyard_core::manifest::read_as;

use crate::Control;
use crate::demand_record::rehearsals;
use crate::forecast::{Acted, By, act};
use crate::operations::Call;

/// Files of one declaration.
const MOST_FILES: usize = 1000;

pub(crate) async fn declare(call: Call<Declare>) -> Acted<DeclareOutcome> {
    let by = By { member: &call.caller.name, request: &call.request_id };
    declare_files(&call.control, by, &call.query, call.body.clone()).await
}

/// Declares files for a member, or rehearses it.
pub(crate) async fn declare_files(
    control: &Control,
    by: By<'_>,
    trial: &Trial,
    declaration: Declaration,
) -> Acted<DeclareOutcome> {
    let Declaration { environment, files, exact, named } = declaration;
    if files.len() > MOST_FILES {
        return Err(Problem::too_large(format!(
            "{} files are declared at once; at most {MOST_FILES} are taken",
            files.len()
        )));
    }
    if files.iter().map(|file| file.text.len()).sum::<usize>() > DECLARATION_LIMIT {
        return Err(Problem::too_large("the files are longer than 8 MiB together"));
    }
    let mut declared = read_as(&files, Some(&environment), named.as_ref()).map_err(Problem::files)?;
    let closed = control.vault.look_into(&environment, &mut declared).await?;
    if !closed.is_empty() {
        return Err(Problem::files(closed));
    }
    let declared = Arc::new(declared);
    let command =
        commands::Declare { environment: environment.clone(), declared: Arc::clone(&declared), exact };
    let mut done = act(control, by, trial, command).await?;
    if !done.outcome.changes.is_empty() {
        done.outcome.notes.extend(rehearsals(control, &environment, &declared).await);
    }
    Ok(done)
}
