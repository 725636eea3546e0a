//! Requests for a workload that sleeps: the first one wakes it, and all wait until a replica is ready.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use http::{HeaderMap, Method, StatusCode};
use mainyard_core::model::{ReasonCode, WhileWaking};
use mainyard_core::routing::Waking;

use crate::rejections::Refused;
use crate::service::{Cell, Service};
use crate::serving::Serving;

/// A request that waits; counted, so that control hears of it and no more wait than may.
struct Waiting<'a>(&'a Cell);

impl<'a> Waiting<'a> {
    /// One more, where so few wait.
    fn begin(serving: &Serving, cell: &'a Cell, most: u32) -> Option<Waiting<'a>> {
        let more = |waiting: u32| (waiting < most).then_some(waiting + 1);
        cell.waking.fetch_update(Ordering::SeqCst, Ordering::SeqCst, more).ok()?;
        serving.note_waking();
        Some(Waiting(cell))
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.waking.fetch_sub(1, Ordering::SeqCst);
    }
}

/// The service once it has a replica at this port, where it sleeps now; as it is where nothing is to be waited for.
pub(crate) async fn awake(
    serving: &Serving,
    cell: &Cell,
    service: Arc<Service>,
    port: u16,
    asks_for_page: impl FnOnce() -> bool,
) -> Result<Arc<Service>, Refused> {
    let Some(waking) = sleeps(&service, port) else { return Ok(service) };
    let target = Arc::clone(&service.target);
    if waking.meanwhile == WhileWaking::Page && asks_for_page() {
        cell.knock();
        serving.note_waking();
        return Err(unavailable(ReasonCode::Asleep, format!("{target} wakes")).come_back());
    }
    let Some(_waiting) = Waiting::begin(serving, cell, waking.queue) else {
        let sentence = format!("{target} wakes, and {} requests wait for it already", waking.queue);
        return Err(unavailable(ReasonCode::Overloaded, sentence).retry_after(1));
    };
    let mut installed = serving.installed();
    let wakes = async {
        loop {
            installed.borrow_and_update();
            match cell.now() {
                Some(now) if sleeps(&now, port).is_none() => return now,
                None => return service,
                Some(_) => {}
            }
            if installed.changed().await.is_err() {
                return service;
            }
        }
    };
    tokio::time::timeout(waking.within.duration(), wakes).await.map_err(|_| {
        let why = cell.now().map(|now| now.silent().sentence).unwrap_or_default();
        unavailable(ReasonCode::WakesLate, format!("{target} did not wake within {}: {why}", waking.within))
    })
}

/// How requests wait, where nobody answers at this port and one wakes who will.
fn sleeps(service: &Service, port: u16) -> Option<Waking> {
    let is_silent = service.ports.get(&port).is_some_and(|port| port.lanes.is_empty());
    service.wakes.filter(|_| is_silent)
}

fn unavailable(code: ReasonCode, sentence: String) -> Refused {
    Refused::new(StatusCode::SERVICE_UNAVAILABLE, code, sentence)
}

/// Whether a browser asks for a page, and nothing else depends on the answer.
pub(crate) fn asks_for_page(method: &Method, headers: &HeaderMap) -> bool {
    let accepts = headers.get(http::header::ACCEPT).and_then(|accept| accept.to_str().ok());
    method == Method::GET && accepts.is_some_and(|accept| accept.contains("text/html"))
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use mainyard_core::routing::{Table, TableVersion};
    use serde_json::{Value, json};

    use super::*;

    fn table(counter: u64, backends: Value, wakes: Value) -> Table {
        let entry = json!({
            "target": {"environment": "staging", "name": "api"}, "environment": 1, "address": "10.118.0.16", "ports": {"80": backends},
            "reason": null, "wakes": wakes,
        });
        let mut table = Table { version: TableVersion { epoch: 1, counter }, ..Table::default() };
        table.services.insert("staging/api".to_owned(), serde_json::from_value(entry).expect("a service"));
        table
    }

    fn ready() -> Value {
        json!([{"replica": "staging/api/a0", "release": 1, "node": "node-1", "address": "127.0.0.1:9"}])
    }

    struct Asleep {
        serving: Serving,
        cell: Arc<Cell>,
    }

    fn asleep(within: &str, queue: u32, meanwhile: &str) -> Asleep {
        let serving = Serving::new(1, None);
        serving.take(&table(1, json!([]), json!({"within": within, "queue": queue, "meanwhile": meanwhile})));
        let address = "10.118.0.16".parse::<std::net::Ipv4Addr>().expect("an address");
        let cell = Arc::clone(serving.routing().inside.get(&address).expect("a service"));
        Asleep { serving, cell }
    }

    impl Asleep {
        async fn ask(&self, for_page: bool) -> Result<Arc<Service>, Refused> {
            awake(&self.serving, &self.cell, self.cell.now().expect("a service"), 80, || for_page).await
        }

        fn waiting(&self) -> Vec<u32> {
            self.serving.take_waiting().into_iter().map(|it| it.count).collect()
        }
    }

    #[tokio::test]
    async fn requests_wait_until_it_is_awake_and_are_told_of() {
        let asleep = asleep("30s", 10, "wait");
        let wakes = async {
            // The others have begun to wait by now.
            tokio::task::yield_now().await;
            assert_eq!(asleep.waiting(), [2]);
            asleep.serving.take(&table(
                2,
                json!([]),
                json!({"within": "30s", "queue": 10, "meanwhile": "wait"}),
            ));
            tokio::task::yield_now().await;
            asleep.serving.take(&table(3, ready(), Value::Null));
        };
        let (one, two, ()) = tokio::join!(asleep.ask(false), asleep.ask(true), wakes);
        assert!(sleeps(&one.expect("awake"), 80).is_none() && two.is_ok());
        assert_eq!(asleep.waiting(), Vec::<u32>::new());
    }

    #[tokio::test]
    async fn one_that_fails_to_wake_is_told_at_once_and_one_that_is_late_in_its_time() {
        let failing = asleep("30s", 10, "wait");
        let fails = async {
            tokio::task::yield_now().await;
            failing.serving.take(&table(2, json!([]), Value::Null));
        };
        let (told, ()) = tokio::join!(failing.ask(false), fails);
        assert!(told.expect("the service as it is").ports[&80].lanes.is_empty());
        let late = asleep("20ms", 10, "wait");
        let refused = late.ask(false).await.expect_err("it never wakes");
        assert_eq!((refused.status.as_u16(), refused.reason.code), (503, ReasonCode::WakesLate));
    }

    #[tokio::test]
    async fn no_more_wait_than_may_and_a_visitor_that_leaves_makes_room() {
        let asleep = asleep("30s", 1, "wait");
        let first = tokio::time::timeout(Duration::from_millis(20), asleep.ask(false));
        let second = async {
            tokio::task::yield_now().await;
            asleep.ask(false).await
        };
        let (first, second) = tokio::join!(first, second);
        assert!(first.is_err(), "it left");
        assert_eq!(second.expect_err("one waits").reason.code, ReasonCode::Overloaded);
        let third = tokio::time::timeout(Duration::from_millis(20), asleep.ask(false)).await;
        assert!(third.is_err(), "it waits");
    }

    #[tokio::test]
    async fn a_browser_gets_a_page_where_that_is_declared_and_wakes_it_all_the_same() {
        let asleep = asleep("30s", 1, "page");
        let refused = asleep.ask(true).await.expect_err("a page");
        let (name, value) = refused.header.expect("a header");
        assert_eq!(
            (refused.reason.code, name.as_str(), value.as_bytes()),
            (ReasonCode::Asleep, "refresh", &b"1"[..])
        );
        assert_eq!((asleep.waiting(), asleep.waiting()), (vec![1], vec![]));
    }
}
