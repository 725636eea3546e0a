//! Any moment: what is asked of the present is answered of the past too, and what became of everything since.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use actix_web::web::{Data, Json, Query};
use jiff::{SignedDuration, Timestamp};
use mainyard_core::history::{in_few_words, since};
use mainyard_core::model::{Name, Target};
use mainyard_core::record::{Object, State};
use mainyard_store::{Entry, Past, Sought};
use serde::Deserialize;
use serde_json::{Value, json};
use tokio::sync::RwLockReadGuard;

use crate::Control;
use crate::callers::Member;
use crate::operations::Operations;
use crate::problem::Problem;
use crate::responses::{Answer, default_tail};

/// At which moment; now, where none is given.
#[derive(Debug, Clone, Copy, Default, Deserialize, utoipa::IntoParams)]
pub struct AsOf {
    /// A moment of the past (RFC 3339).
    #[serde(default)]
    #[param(value_type = Option<String>)]
    pub as_of: Option<Timestamp>,
}

/// How many moments are kept that were looked at.
const KEPT: usize = 2;
/// A moment that is so long ago has nothing on its way into the record any more.
const SETTLED: SignedDuration = SignedDuration::from_secs(60);

/// The moments that were looked at last: anyone who looks at one asks for it again and again.
#[derive(Default)]
pub struct Moments(Mutex<VecDeque<(Timestamp, Arc<Past>)>>);

impl Moments {
    fn find(&self, at: Timestamp) -> Option<Arc<Past>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.iter().find(|(of, _)| *of == at).map(|(_, past)| Arc::clone(past))
    }

    fn keep(&self, at: Timestamp, past: &Arc<Past>) {
        if Timestamp::now().duration_since(at) < SETTLED {
            return;
        }
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.retain(|(of, _)| *of != at);
        kept.push_front((at, Arc::clone(past)));
        kept.truncate(KEPT);
    }
}

/// Everything, as it is or as it was.
pub enum View<'a> {
    /// Now.
    Present(RwLockReadGuard<'a, (State, u64)>),
    /// Then.
    Past(Arc<Past>, Timestamp),
}

impl View<'_> {
    /// Every object.
    pub fn state(&self) -> &State {
        match self {
            View::Present(published) => &published.0,
            View::Past(past, _) => &past.state,
        }
    }

    /// The number of the last change.
    pub fn cursor(&self) -> u64 {
        match self {
            View::Present(published) => published.1,
            View::Past(past, _) => past.number,
        }
    }

    /// The moment, of the past.
    pub fn as_of(&self) -> Option<Timestamp> {
        match self {
            View::Present(_) => None,
            View::Past(_, at) => Some(*at),
        }
    }

    /// The moment.
    pub fn at(&self) -> Timestamp {
        self.as_of().unwrap_or_else(Timestamp::now)
    }

    /// Whether replicas are known.
    pub fn whole(&self) -> bool {
        match self {
            View::Present(_) => true,
            View::Past(past, _) => past.whole,
        }
    }
}

/// Everything as it was at a moment, or as it is.
///
/// # Errors
/// For a moment that is still to come, or that the record does not reach back to.
pub async fn view(control: &Control, AsOf { as_of }: AsOf) -> Result<View<'_>, Problem> {
    let Some(at) = as_of else { return Ok(View::Present(control.leader.published.read().await)) };
    if at > Timestamp::now() {
        return Err(Problem::invalid(format!("{at:.0} is still to come; the past can be seen")));
    }
    if let Some(past) = control.moments.find(at) {
        return Ok(View::Past(past, at));
    }
    match control.store.past(at).await? {
        Some(past) => {
            let past = Arc::new(past);
            control.moments.keep(at, &past);
            Ok(View::Past(past, at))
        }
        None => {
            let reach = control.store.reach().await?;
            let begins =
                reach.map_or_else(String::new, |reach| format!(": it begins at {:.0}", reach.declared));
            Err(Problem::not_found(format!("the record does not reach back to {at:.0}{begins}")))
        }
    }
}

pub fn operations(to: &mut Operations) {
    to.get("/trail", trail).get("/since", became);
}

/// Since when, and of what.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
pub struct Since {
    /// A moment of the past (RFC 3339).
    #[param(value_type = String)]
    as_of: Timestamp,
    /// An environment.
    #[param(value_type = String)]
    environment: Name,
    /// One object in it only, by its name.
    #[serde(default)]
    #[param(value_type = Option<String>)]
    of: Option<Name>,
}

/// What is not as it was then, object by object and field by field.
#[utoipa::path(get, path = "/api/v1/since", params(Since), responses((status = 200), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn became(_: Member, control: Data<Control>, query: Query<Since>) -> Answer {
    let Since { as_of, environment, of } = query.into_inner();
    let then = view(&control, AsOf { as_of: Some(as_of) }).await?;
    let now = view(&control, AsOf::default()).await?;
    let only = of.map(|name| Target::new(&environment, &name));
    let became = since(then.state(), now.state(), &environment, only.as_ref(), then.whole());
    Ok(Json(json!({"as_of": as_of, "whole": then.whole(), "became": became})))
}

/// Which entries of the trail.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
pub struct TrailQuery {
    /// Of one object only, by its key; with its releases and replicas.
    #[serde(default)]
    of: String,
    /// Of one environment, and of what is outside of all.
    #[serde(default)]
    environment: String,
    /// Of one kind of object.
    #[serde(default)]
    kind: String,
    /// By one member, or by the platform.
    #[serde(default)]
    by: String,
    /// Of one act, such as `scaled`.
    #[serde(default)]
    act: String,
    /// Not before this moment (RFC 3339).
    #[serde(default)]
    #[param(value_type = Option<String>)]
    from: Option<Timestamp>,
    /// Not after this moment (RFC 3339).
    #[serde(default)]
    #[param(value_type = Option<String>)]
    until: Option<Timestamp>,
    /// Before this change.
    #[serde(default)]
    before: Option<u64>,
    /// What the platform decided by itself too.
    #[serde(default)]
    platform: bool,
    /// How many entries at most, from 1 to 1000.
    #[serde(default = "default_tail")]
    #[param(minimum = 1, maximum = 1000)]
    limit: u32,
}

/// Who did what, the newest first.
#[utoipa::path(get, path = "/api/v1/trail", params(TrailQuery), responses((status = 200)))]
pub async fn trail(_: Member, control: Data<Control>, query: Query<TrailQuery>) -> Answer {
    let it = query.into_inner();
    let platform = it.platform || it.by == "platform";
    if !(1..=1000).contains(&it.limit) {
        return Err(Problem::invalid(format!("limit {}: expected a number from 1 to 1000", it.limit)));
    }
    let limit = it.limit as usize;
    let unknown = unknown(&control, &it).await;
    let environment =
        it.of.split('/').next().filter(|name| !name.is_empty()).unwrap_or(&it.environment).to_owned();
    let sought = Sought {
        of: it.of,
        environment: it.environment,
        kind: it.kind,
        by: it.by,
        act: it.act,
        from: it.from,
        until: it.until,
        before: it.before,
        platform,
        limit: 0,
    };
    let mut shown: Vec<Value> = Vec::new();
    let mut sought = Sought { limit: it.limit, ..sought };
    loop {
        let entries = control.store.trail(&sought).await?;
        let more = entries.len() == sought.limit as usize;
        sought.before = entries.last().map(|entry| entry.number);
        shown.extend(entries.into_iter().map(told));
        once_each(&mut shown);
        if !more || shown.len() >= limit {
            break;
        }
    }
    shown.truncate(limit);
    // What is gone has left its entries; without any, a name that is not there was mistyped.
    let of_it = |entry: &Value| {
        let key = entry["key"].as_str().unwrap_or_default();
        key == environment || key.split('/').next() == Some(environment.as_str())
    };
    if let Some(problem) = unknown.filter(|_| !shown.iter().any(of_it)) {
        return Err(problem);
    }
    Ok(Json(json!(shown)))
}

/// What is asked for by a name that nothing has now.
async fn unknown(control: &Control, asked: &TrailQuery) -> Option<Problem> {
    let published = control.leader.published.read().await;
    let state = &published.0;
    let environment = match asked.of.split_once('/') {
        Some((environment, _)) => environment,
        None => asked.environment.as_str(),
    };
    let environments = || state.environments.keys().map(Name::as_str);
    if !environment.is_empty() && !environments().any(|known| known == environment) {
        let hint = mainyard_core::suggestions::did_you_mean(environment, environments());
        return Some(Problem::not_found(format!("there is no environment {environment}{hint}")));
    }
    let (_, name) = asked.of.split_once('/')?;
    let name = name.split(['/', '@']).next().unwrap_or(name);
    let of = format!("{environment}/{name}");
    let known = || state.named().filter(|known| known.environment.as_str() == environment);
    (!known().any(|known| known.to_string() == of)).then(|| {
        let hint = mainyard_core::suggestions::did_you_mean(name, known().map(|known| known.name.as_str()));
        Problem::not_found(format!("there is no {of}, and the trail knows of none{hint}"))
    })
}

/// An entry, with what it came to in few words.
fn told(entry: Entry) -> Value {
    let object = entry.body.clone().map(|body| Object::read(entry.kind, body));
    let so_that = match object {
        Some(Ok(object)) => in_few_words(Some(&object)),
        None => in_few_words(None),
        // An earlier version wrote it otherwise.
        Some(Err(_)) => String::new(),
    };
    let mut told = json!(entry);
    told["so_that"] = json!(so_that);
    told
}

/// What the platform noted several times over in the same words stands there once, as it came.
fn once_each(shown: &mut Vec<Value>) {
    let same = |newer: &Value, older: &Value| {
        newer["cause"]["by"] == "platform"
            && older["cause"]["by"] == "platform"
            && newer["key"] == older["key"]
            && newer["kind"] == older["kind"]
            && newer["so_that"] == older["so_that"]
    };
    let mut kept: Vec<Value> = Vec::with_capacity(shown.len());
    for entry in shown.drain(..) {
        let earlier = kept.iter().rposition(|it| it["key"] == entry["key"] && it["kind"] == entry["kind"]);
        match earlier {
            Some(at) if same(&kept[at], &entry) => kept[at] = entry,
            _ => kept.push(entry),
        }
    }
    kept.sort_by_key(|entry| std::cmp::Reverse(entry["number"].as_u64()));
    *shown = kept;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_platform_notes_again_stands_there_once_and_in_its_order() {
        let entry = |number: u64, by: &str, key: &str, so_that: &str| json!({"number": number, "kind": "workload", "key": key, "cause": {"by": by}, "so_that": so_that});
        let mut shown = vec![
            entry(9, "platform", "staging/a", "failing"),
            entry(8, "platform", "staging/b", "steady"),
            entry(7, "platform", "staging/a", "failing"),
            entry(6, "mira", "staging/a", "failing"),
            entry(5, "mira", "staging/a", "failing"),
        ];
        once_each(&mut shown);
        let numbers: Vec<_> = shown.iter().filter_map(|entry| entry["number"].as_u64()).collect();
        assert_eq!(numbers, [8, 7, 6, 5]);
    }
}
