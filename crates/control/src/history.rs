//! Any moment: what is asked of the present is answered of the past too, and what became of everything since.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use jiff::{SignedDuration, Timestamp};
use mainyard_api::{CompareMoments, ListTrail, Problem, Since, SinceQuery, TrailQuery};
use mainyard_core::history::{in_few_words, since};
use mainyard_core::model::{Name, Target};
use mainyard_core::record::{Object, State};
use mainyard_core::trail::{Rows, TrailEntry};
use mainyard_store::{Entry, PastState, Sought};
use tokio::sync::RwLockReadGuard;

use crate::Control;
use crate::operations::{Call, Operations};
use crate::problem::of_record;

/// How many moments are kept that were looked at.
const KEPT: usize = 2;
/// A moment that is so long ago has nothing on its way into the record any more.
const SETTLED: SignedDuration = SignedDuration::from_secs(60);

/// The moments that were looked at last: anyone who looks at one asks for it again and again.
#[derive(Default)]
pub(crate) struct Moments(Mutex<VecDeque<(Timestamp, Arc<PastState>)>>);

impl Moments {
    fn find(&self, at: Timestamp) -> Option<Arc<PastState>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.iter().find(|(of, _)| *of == at).map(|(_, past)| Arc::clone(past))
    }

    fn keep(&self, at: Timestamp, past: &Arc<PastState>) {
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
pub(crate) enum View<'a> {
    /// Now.
    Present(RwLockReadGuard<'a, (State, u64)>),
    /// Then.
    PastState(Arc<PastState>, Timestamp),
}

impl View<'_> {
    /// Every object.
    pub(crate) fn state(&self) -> &State {
        match self {
            View::Present(published) => &published.0,
            View::PastState(past, _) => &past.state,
        }
    }

    /// The number of the last change.
    pub(crate) fn cursor(&self) -> u64 {
        match self {
            View::Present(published) => published.1,
            View::PastState(past, _) => past.number,
        }
    }

    /// The moment, of the past.
    pub(crate) fn as_of(&self) -> Option<Timestamp> {
        match self {
            View::Present(_) => None,
            View::PastState(_, at) => Some(*at),
        }
    }

    /// The moment.
    pub(crate) fn at(&self) -> Timestamp {
        self.as_of().unwrap_or_else(Timestamp::now)
    }

    /// Whether replicas are known.
    pub(crate) fn whole(&self) -> bool {
        match self {
            View::Present(_) => true,
            View::PastState(past, _) => past.whole,
        }
    }
}

/// Everything as it was at a moment, or as it is.
///
/// # Errors
/// For a moment that is still to come, or that the record does not reach back to.
pub(crate) async fn view(control: &Control, as_of: Option<Timestamp>) -> Result<View<'_>, Problem> {
    let Some(at) = as_of else { return Ok(View::Present(control.leader.published.read().await)) };
    if at > Timestamp::now() {
        return Err(Problem::invalid(format!("{at:.0} is still to come; the past can be seen")));
    }
    if let Some(past) = control.moments.find(at) {
        return Ok(View::PastState(past, at));
    }
    match control.store.past(at).await.map_err(of_record)? {
        Some(past) => {
            let past = Arc::new(past);
            control.moments.keep(at, &past);
            Ok(View::PastState(past, at))
        }
        None => {
            let reach = control.store.reach().await.map_err(of_record)?;
            let begins =
                reach.map_or_else(String::new, |reach| format!(": it begins at {:.0}", reach.declared));
            Err(Problem::not_found(format!("the record does not reach back to {at:.0}{begins}")))
        }
    }
}

pub(crate) fn operations(to: &mut Operations) {
    to.mount(trail).mount(compare_moments);
}

/// The differences to an earlier moment, object by object and field by field.
async fn compare_moments(call: Call<CompareMoments>) -> Result<Since, Problem> {
    let SinceQuery { as_of, environment, of } = call.query;
    let then = view(&call.control, Some(as_of)).await?;
    let now = view(&call.control, None).await?;
    let only = of.map(|name| Target::new(&environment, &name));
    let became = since(then.state(), now.state(), &environment, only.as_ref(), then.whole());
    Ok(Since { as_of, whole: then.whole(), became })
}

/// Changes read at once: an act changes a few objects.
const PIECE: u32 = 500;

/// The acts, the newest first.
async fn trail(call: Call<ListTrail>) -> Result<Vec<TrailEntry>, Problem> {
    let (control, it) = (&call.control, call.query);
    if !(1..=1000).contains(&it.limit) {
        return Err(Problem::invalid(format!("limit {}: expected a number from 1 to 1000", it.limit)));
    }
    let unknown = unknown(control, &it).await;
    let environment = it.of.split('/').next().filter(|name| !name.is_empty());
    let environment = environment.unwrap_or(&it.environment).to_owned();
    let limit = it.limit as usize;
    let mut sought = Sought {
        platform: it.platform || it.by == "platform",
        of: it.of,
        environment: it.environment,
        kind: it.kind,
        by: it.by,
        act: it.act,
        from: it.from,
        until: it.until,
        before: it.before,
        limit: PIECE,
    };
    let mut rows = Rows::default();
    // One row more, so that the last one has all of its act.
    while rows.len() <= limit {
        let entries = control.store.trail(&sought).await.map_err(of_record)?;
        let more = entries.len() == sought.limit as usize;
        sought.before = entries.last().map(|entry| entry.number);
        entries.into_iter().for_each(|entry| rows.add(in_trail(entry)));
        if !more {
            break;
        }
    }
    let mut shown = rows.into_vec();
    shown.truncate(limit);
    // What is gone has left its entries; without any, a name that is not there was mistyped.
    let of_it = |entry: &TrailEntry| entry.key.split('/').next() == Some(environment.as_str());
    match unknown {
        Some(problem) if !shown.iter().any(of_it) => Err(problem),
        _ => Ok(shown),
    }
}

/// An answer about a name that nothing has now.
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

/// A change, with what it came to in few words.
fn in_trail(entry: Entry) -> TrailEntry {
    let Entry { number, kind, key, body, cause, at } = entry;
    let so_that = match body.map(|body| Object::read(kind, body)) {
        Some(Ok(object)) => in_few_words(Some(&object), &cause),
        None => in_few_words(None, &cause),
        // An earlier version wrote it otherwise.
        Some(Err(_)) => String::new(),
    };
    TrailEntry { number, kind, key, at, cause, so_that, also: Vec::new() }
}
