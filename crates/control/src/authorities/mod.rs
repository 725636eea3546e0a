//! Certificates of authorities outside (ACME, RFC 8555): ordered where a route wants one, renewed in time, and tried again where
//! an authority says no. When is decided in the core (`core/src/acme.rs`).

mod operations;
mod ordering;

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use actix_web::web::Data;
use jiff::Timestamp;
use mainyard_core::acme::{DueCertificate, due, tried_again_at};
use mainyard_core::commands::{AddCertificate, CommandKind, NoteOrder};
use mainyard_core::model::CertificateOrder;

pub(crate) use operations::operations;

use crate::Control;
use ordering::{Failed, obtain};

/// What is due is looked for this often.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Orders that go on at once.
const AT_ONCE: usize = 4;
/// The member who does it.
const PLATFORM: &str = "platform";

/// Orders what is due, forever. Only the control that decides does it.
pub(crate) async fn obtain_certificates(control: Data<Control>) {
    let control = control.into_inner();
    let ordered: Arc<Mutex<BTreeSet<String>>> = Arc::default();
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        if control.leader.elsewhere().is_some() {
            continue;
        }
        let due = due(&control.leader.published.read().await.0, Timestamp::now());
        for due in due {
            {
                let mut ordered = ordered.lock().unwrap_or_else(PoisonError::into_inner);
                if ordered.len() >= AT_ONCE || !ordered.insert(due.host.clone()) {
                    continue;
                }
            }
            let (control, ordered) = (Arc::clone(&control), Arc::clone(&ordered));
            actix_web::rt::spawn(async move {
                order(&control, &due).await;
                ordered.lock().unwrap_or_else(PoisonError::into_inner).remove(&due.host);
            });
        }
    }
}

async fn order(control: &Control, due: &DueCertificate) {
    let DueCertificate { authority, host, .. } = due;
    tracing::info!(%authority, host, "a certificate is ordered");
    let order = match obtain(control, due).await {
        Ok(certificate) => {
            let added = control.leader.carry_out(AddCertificate { certificate }, PLATFORM, "").await;
            added.err().map(|error| Failed::refused(format!("the certificate cannot be kept: {error}")))
        }
        Err(failed) => Some(failed),
    };
    let order = match order {
        None => None,
        Some(Failed { reason, again }) => {
            tracing::warn!(%authority, host, %reason, "a certificate was not obtained");
            let published = control.leader.published.read().await;
            let before = published.0.authorities.get(authority).and_then(|it| it.orders.get(host));
            let failures = before.map_or(0, |order| order.failures) + 1;
            Some(CertificateOrder {
                certificate: due.certificate.clone(),
                answer: None,
                failures,
                again: Some(tried_again_at(failures, again, Timestamp::now())),
                problem: Some(reason),
            })
        }
    };
    note(control, NoteOrder { authority: authority.clone(), host: host.clone(), order }).await;
}

/// Writes down how an order stands.
async fn note<C: CommandKind + Clone + Send + 'static>(control: &Control, command: C)
where
    C::Outcome: Send + 'static,
{
    if let Err(error) = control.leader.carry_out(command, PLATFORM, "").await {
        tracing::warn!(%error, "how an order of a certificate stands cannot be written down");
    }
}
