//! Commits on their way: once their images are built they are declared, by the control that decides, whether anybody reads
//! along or not.

use std::time::Duration;

use actix_web::web::Data;
use mainyard_api::{Declaration, Problem, ProblemCode, Trial};
use mainyard_builds::{DECLARATION, DeliveryState, NextAct};
use mainyard_core::manifest::SourceFile;

use super::repositories::{self, Kept};
use crate::Control;
use crate::builds::{known, words_of};
use crate::declare::declare_files;
use crate::forecast::By;
use crate::sources::name_newest;

/// What is on its way is looked at this often, if nobody says that something came further.
const LOOK_EVERY: Duration = Duration::from_millis(500);

/// Brings commits on their way further, forever. Only the control that decides does it.
pub(crate) async fn deliver_all(control: Data<Control>) {
    let mut builds = control.builds.subscribe();
    loop {
        tokio::select! {
            () = tokio::time::sleep(LOOK_EVERY) => {}
            () = control.code.wake.notified() => {}
            _ = builds.changed() => {}
        }
        if control.leader.holder.borrow().epoch.is_none() {
            continue;
        }
        let all = match repositories::under_way(&control.store).await {
            Ok(all) => all,
            Err(error) => {
                tracing::debug!(%error, "the commits on their way cannot be read yet");
                continue;
            }
        };
        for kept in all {
            let target = kept.code.target.clone();
            let turn = control.code.turn(&target);
            // A push that is being taken in may change it.
            let Ok(_turn) = turn.try_lock() else { continue };
            if let Err(problem) = bring_further(&control, kept).await {
                tracing::warn!(repository = %target, detail = problem.detail, "a commit could not be brought further");
            }
        }
    }
}

/// Does what comes next of one commit.
async fn bring_further(control: &Data<Control>, mut kept: Kept) -> Result<(), Problem> {
    let target = kept.code.target.clone();
    let Some(delivery) = kept.code.delivery.as_mut().filter(|delivery| !delivery.state.has_ended()) else {
        return Ok(());
    };
    let mut builds = Vec::new();
    for number in &delivery.builds {
        builds.push(match known(control, *number).await {
            Ok(build) => Some(build),
            Err(problem) if problem.code == ProblemCode::NotFound => None,
            // The record cannot be read now: nothing is known of the build, and nothing is decided.
            Err(problem) => return Err(problem),
        });
    }
    match delivery.next(&builds) {
        NextAct::Wait => return Ok(()),
        NextAct::End => {
            // Declarations of others may name what was built.
            let made: Vec<_> = builds.into_iter().flatten().collect();
            name_newest(control, &target, &made).await.map_err(Problem::unavailable)?;
            let says = format!(
                "{} made its images; it has no {DECLARATION}, so nothing is declared",
                delivery.builds_words()
            );
            delivery.end(DeliveryState::Built, says);
        }
        NextAct::Fail(words) => delivery.end(DeliveryState::Failed, words),
        NextAct::Declare(text) => {
            let declaration = Declaration {
                environment: target.environment.clone(),
                files: vec![SourceFile { name: DECLARATION.to_owned(), text }],
                // What else there is of the application may be declared elsewhere.
                exact: false,
                named: None,
            };
            let by = By { member: &delivery.by, request: "" };
            match declare_files(control, by, &Trial { forecast: false, lose_node: None }, declaration).await {
                Ok(done) => {
                    let changes = done.outcome.changes;
                    let says = match changes.len() {
                        0 => {
                            format!("{}: everything is as declared; nothing was changed", target.environment)
                        }
                        1 => format!("{}: one change", target.environment),
                        count => format!("{}: {count} changes", target.environment),
                    };
                    delivery.end(DeliveryState::Declared, says);
                    delivery.changes = changes;
                }
                // The platform cannot now: it is tried again.
                Err(problem) if problem.status >= 500 => return Err(problem),
                Err(problem) => delivery.end(DeliveryState::Failed, words_of(&problem)),
            }
        }
    }
    repositories::save(&control.store, &kept).await?;
    control.code.tell_change();
    Ok(())
}
