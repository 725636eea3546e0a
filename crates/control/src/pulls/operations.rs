//! Registries and pulls over the API.

use actix_web::HttpResponse;
use actix_web::web::Bytes;
use jiff::Timestamp;
use mainyard_api::{
    AddRegistry, CheckRegistry, ListPulls, ListRegistries, NewRegistry, Problem, PullImage, PullProgress,
    RegistryCheck, RegistryEntry, RemoveRegistry,
};
use mainyard_core::commands::{self, RegistryAdded, Removed};
use mainyard_core::model::{Name, Origin, Registry, SecretValue, Target};
use mainyard_core::suggestions::did_you_mean;
use tokio::sync::watch;

use super::{begin, pull};
use crate::Control;
use crate::forecast::Acted;
use crate::operations::{Call, Operations, lines};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(add).mount(remove).mount(check).mount(pull_image).mount(pulls);
}

async fn list(call: Call<ListRegistries>) -> Result<Vec<RegistryEntry>, Problem> {
    let published = call.control.leader.published.read().await;
    let state = &published.0;
    let entry = |registry: &Registry| RegistryEntry {
        name: registry.name.clone(),
        host: registry.host.clone(),
        plain: registry.plain,
        user: registry.user.clone(),
        own_authority: registry.authority.is_some(),
        proxy: registry.proxy.clone(),
        images: state.images.values().filter(|it| registry.repository_of(&it.image).is_some()).count() as u32,
        problems: registry.problems.clone(),
        origin: registry.origin.clone(),
    };
    Ok(state.registries.values().map(entry).collect())
}

/// The name that a registry's password is sealed for.
fn sealed_for(registry: &Name) -> Result<Target, Problem> {
    let place: Name = "registries".parse().map_err(|_| Problem::invalid("no name"))?;
    Ok(Target::new(&place, registry))
}

async fn add(call: Call<AddRegistry>) -> Acted<RegistryAdded> {
    let name = call.path.registry.clone();
    let NewRegistry { host, plain, user, password, authority, proxy } = call.body.clone();
    if user.is_some() != password.is_some() {
        return Err(Problem::invalid("a user has a password, and a password a user: give both or none"));
    }
    if let Some(pem) = &authority {
        let none = || Problem::invalid("the authority's certificate is no PEM file with a certificate");
        if mainyard_certificates::certificates(pem).map_err(|_| none())?.is_empty() {
            return Err(none());
        }
    }
    let sealed = match password {
        None => None,
        Some(_) if call.query.forecast => Some(String::new()),
        Some(password) => {
            let value = SecretValue(password.into_bytes());
            Some(call.control.vault.keep(&sealed_for(&name)?, &value).await?.name)
        }
    };
    let origin = Origin::new(call.caller.name.clone(), "added", Timestamp::now());
    let problems = Default::default();
    let registry = Registry { name, host, plain, user, sealed, authority, proxy, problems, origin };
    call.act(commands::AddRegistry { registry }).await
}

async fn remove(call: Call<RemoveRegistry>) -> Acted<Removed> {
    call.act(commands::RemoveRegistry { name: call.path.registry.clone() }).await
}

async fn known(control: &Control, name: &Name) -> Result<Registry, Problem> {
    let published = control.leader.published.read().await;
    let registries = &published.0.registries;
    registries.get(name).cloned().ok_or_else(|| {
        let hint = did_you_mean(name.as_str(), registries.keys().map(Name::as_str));
        Problem::not_found(format!("there is no registry {name}{hint}"))
    })
}

async fn check(call: Call<CheckRegistry>) -> Result<RegistryCheck, Problem> {
    let registry = known(&call.control, &call.path.registry).await?;
    let answered = async { pull::client_of(&call.control, &registry).await?.check().await };
    let reason = answered.await.err().map(|trouble| trouble.reason());
    Ok(RegistryCheck { host: registry.host, reason })
}

async fn pull_image(call: Call<PullImage>) -> Result<HttpResponse, Problem> {
    let image = &call.query.image;
    let (registry, _) = pull::registry_of(&call.control, image)
        .await
        .map_err(|trouble| Problem::not_found(trouble.reason().sentence))?;
    let open = call.control.open_streams.open(&call.caller.name)?;
    let control = call.control.clone().into_inner();
    let progress = begin(&control, image, &registry.host, &call.caller.name);
    let all =
        futures_util::stream::unfold((progress, true, open), |(mut progress, first, open)| async move {
            let line = next_line(&mut progress, first).await?;
            Some((line, (progress, false, open)))
        });
    Ok(lines(all))
}

/// The next line about a pull; none once its end was told.
async fn next_line(progress: &mut watch::Receiver<PullProgress>, first: bool) -> Option<Bytes> {
    if !first {
        if progress.borrow().state.has_ended() && !progress.has_changed().unwrap_or(false) {
            return None;
        }
        progress.changed().await.ok()?;
    }
    let mut line = serde_json::to_vec(&*progress.borrow_and_update()).unwrap_or_default();
    line.push(b'\n');
    Some(line.into())
}

async fn pulls(call: Call<ListPulls>) -> Result<Vec<PullProgress>, Problem> {
    Ok(call.control.pulls.all())
}
