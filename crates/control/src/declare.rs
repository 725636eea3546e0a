//! Declarations: files in, what changed in words out.

use std::sync::Arc;

use mainyard_api::{DECLARATION_LIMIT, Declaration, Declare, Problem};
use mainyard_core::commands::{self, DeclareOutcome};
use mainyard_core::manifest::read_as;

use crate::forecast::Acted;
use crate::operations::Call;

/// Files of one declaration.
const MOST_FILES: usize = 1000;

pub(crate) async fn declare(call: Call<Declare>) -> Acted<DeclareOutcome> {
    let Declaration { environment, files, exact, named } = call.body.clone();
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
    let closed = call.control.vault.look_into(&environment, &mut declared).await?;
    if !closed.is_empty() {
        return Err(Problem::files(closed));
    }
    call.act(commands::Declare { environment, declared: Arc::new(declared), exact }).await
}
