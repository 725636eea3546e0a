//! Certificate authorities outside: added, changed, removed, and how orders of certificates stand.

use super::{Refusal, RefusalKind, Transaction};
use crate::acme::wanted;
use crate::model::{CertificateOrder, Name, OutsideAuthority};
use crate::record::{Kind, Object};
use crate::suggestions::did_you_mean;

impl Transaction<'_> {
    /// Adds an authority, or puts one in the place of its predecessor. What could not be had is tried again; its account is
    /// kept where its directory stays.
    ///
    /// # Errors
    /// When its directory is no URL with TLS.
    pub fn add_authority(&mut self, mut authority: OutsideAuthority) -> Result<(), Refusal> {
        let local = ["http://127.0.0.1:", "http://localhost:", "http://[::1]:"];
        let is_local = local.iter().any(|start| authority.directory.starts_with(start));
        if !authority.directory.starts_with("https://") && !is_local {
            let message = format!(
                "{:?} is no directory of an authority; expected a URL with https://, such as https://acme.example/directory",
                authority.directory
            );
            return Refusal::new(RefusalKind::Invalid, message);
        }
        let before = self.state.authorities.get(&authority.name);
        if let Some(before) = before.filter(|before| before.directory == authority.directory) {
            authority.account.clone_from(&before.account);
        }
        self.act(if before.is_none() { "added" } else { "changed" });
        self.put(Object::Authority(authority));
        Ok(())
    }

    /// Removes an authority; certificates that it signed stay. Gives what that means, in words.
    pub fn remove_authority(&mut self, name: &Name) -> Result<Vec<String>, Refusal> {
        self.authority(name)?;
        let routes =
            self.state.routes.values().filter(|route| wanted(route).is_some_and(|(of, _)| of == name));
        let routes: Vec<String> = routes.map(|route| route.target.to_string()).collect();
        if !routes.is_empty() {
            let message = format!(
                "{} obtain their certificates from {name}; take `obtain_from` out there first",
                routes.join(", ")
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let here =
            self.state.certificates.values().filter(|it| it.obtained_from.as_ref() == Some(name)).count();
        self.act("removed");
        self.remove(Kind::Authority, name.to_string());
        let stay =
            if here == 1 { "1 certificate stays".to_owned() } else { format!("{here} certificates stay") };
        Ok(vec![format!("authority {name}: {stay}, and nothing is renewed")])
    }

    fn authority(&self, name: &Name) -> Result<&OutsideAuthority, Refusal> {
        match self.state.authorities.get(name) {
            Some(found) => Ok(found),
            None => {
                let known = self.state.authorities.keys().map(Name::as_str);
                let message = format!("there is no authority {name}{}", did_you_mean(name.as_str(), known));
                Refusal::new(RefusalKind::NotFound, message)
            }
        }
    }

    /// Remembers the account that the platform has there.
    pub fn note_account(&mut self, name: &Name, sealed: String) -> Result<(), Refusal> {
        let authority = OutsideAuthority { account: Some(sealed), ..self.authority(name)?.clone() };
        self.act_by_itself();
        self.put(Object::Authority(authority));
        Ok(())
    }

    /// Remembers how an order stands; none where it is done. Orders for hosts that no route has any more are forgotten.
    pub fn note_order(
        &mut self,
        name: &Name,
        host: &str,
        order: Option<CertificateOrder>,
    ) -> Result<(), Refusal> {
        let mut authority = self.authority(name)?.clone();
        let before = authority.orders.clone();
        match order {
            Some(order) => drop(authority.orders.insert(host.to_owned(), order)),
            None => drop(authority.orders.remove(host)),
        }
        let routes = &self.state.routes;
        let is_wanted =
            |host: &String| routes.values().any(|route| wanted(route) == Some((name, host.as_str())));
        authority.orders.retain(|host, _| is_wanted(host));
        if authority.orders != before {
            self.act_by_itself();
            self.put(Object::Authority(authority));
        }
        Ok(())
    }
}
