//! Authorities outside over the API.

use jiff::Timestamp;
use mainyard_api::{
    AddAuthority, AuthorityEntry, CertificateOrderEntry, ListAuthorities, NewAuthority, Problem,
    RemoveAuthority,
};
use mainyard_core::commands::{self, AuthorityAdded, Removed};
use mainyard_core::model::{Origin, OutsideAuthority};

use crate::forecast::Acted;
use crate::operations::{Call, Operations};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(add).mount(remove);
}

async fn list(call: Call<ListAuthorities>) -> Result<Vec<AuthorityEntry>, Problem> {
    let published = call.control.leader.published.read().await;
    let state = &published.0;
    let entry = |authority: &OutsideAuthority| AuthorityEntry {
        name: authority.name.clone(),
        directory: authority.directory.clone(),
        contact: authority.contact.clone(),
        challenge: authority.challenge,
        own_trust: authority.trust.is_some(),
        certificates: state
            .certificates
            .values()
            .filter(|it| it.obtained_from.as_ref() == Some(&authority.name))
            .count() as u32,
        orders: authority
            .orders
            .iter()
            .map(|(host, order)| CertificateOrderEntry {
                host: host.clone(),
                certificate: order.certificate.to_string(),
                failures: order.failures,
                again: order.again,
                problem: order.problem.clone(),
            })
            .collect(),
        origin: authority.origin.clone(),
    };
    Ok(state.authorities.values().map(entry).collect())
}

async fn add(call: Call<AddAuthority>) -> Acted<AuthorityAdded> {
    let name = call.path.authority.clone();
    let NewAuthority { directory, contact, trust, challenge, agrees_to_terms } = call.body.clone();
    if !agrees_to_terms {
        let message =
            "an authority signs for those who agree to its terms of service: say so with `agrees_to_terms`";
        return Err(Problem::invalid(message));
    }
    if let Some(pem) = &trust {
        let none = || Problem::invalid("`trust` is no PEM file with a certificate");
        if mainyard_certificates::certificates(pem).map_err(|_| none())?.is_empty() {
            return Err(none());
        }
    }
    let contact = contact.map(|contact| match contact.starts_with("mailto:") {
        true => contact,
        false => format!("mailto:{contact}"),
    });
    let origin = Origin::new(call.caller.name.clone(), "added", Timestamp::now());
    let (account, orders) = (None, Default::default());
    let authority = OutsideAuthority { name, directory, contact, trust, challenge, account, orders, origin };
    call.act(commands::AddAuthority { authority }).await
}

async fn remove(call: Call<RemoveAuthority>) -> Acted<Removed> {
    call.act(commands::RemoveAuthority { name: call.path.authority.clone() }).await
}
