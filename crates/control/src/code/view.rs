//! A repository of code as it is shown.

use mainyard_api::CodeView;
use mainyard_builds::{CodeRepository, DeliveryState};

use super::follow::addresses;
use super::path_of;
use crate::Control;

/// A repository as it is shown.
pub(super) async fn view(control: &Control, repository: CodeRepository) -> CodeView {
    let published = control.leader.published.read().await;
    let target = &repository.target;
    let delivery = repository.delivery.as_ref().filter(|it| it.state == DeliveryState::Declared);
    let addresses = delivery.map(|delivery| addresses(control, &published.0, target, delivery));
    let addresses = addresses.unwrap_or_default().into_iter().collect();
    let path = path_of(target);
    let ssh = control.ssh.as_ref();
    let ssh = ssh.map(|host| format!("{}/{}/{}", host.address, target.environment, target.name));
    CodeView { path, ssh, addresses, repository }
}
