//! The record on a real PostgreSQL, started for this test on loopback.

use jiff::Timestamp;
use mainyard_core::cluster::{Change, Object, State};
use mainyard_core::model::{Environment, EnvironmentIndex, Origin};
use mainyard_store::{Error, FEED, Lease, QUERIES, Store, TokenKind};
use sqlx::{Executor, SqlSafeStr};
use testing::postgres::Server;

fn environment(name: &str, index: u8) -> Change {
    let origin = Origin { by: "mira".into(), act: "added".into(), at: Timestamp::UNIX_EPOCH };
    let index = EnvironmentIndex::new(index).expect("in range");
    let object = Object::Environment(Environment {
        name: name.parse().expect("a name"),
        index,
        origin: origin.clone(),
    });
    Change { kind: object.kind(), key: object.key(), object: Some(object), cause: origin }
}

/// The epoch in which this control decides.
async fn own(store: &Store, name: &str) -> u64 {
    match store.take_lease(name, &format!("http://{name}")).await.expect("asked") {
        Lease::Own(epoch) => epoch,
        Lease::Of { name, .. } => panic!("{name} decides"),
    }
}

#[tokio::test]
async fn every_query_can_be_prepared() {
    let server = Server::start();
    let store = Store::connect(&server.database("queries")).await.expect("a record");
    for &query in QUERIES {
        store.pool().prepare(query.into_sql_str()).await.unwrap_or_else(|error| panic!("{query}: {error}"));
    }
}

#[tokio::test]
async fn what_is_written_is_read_back_in_its_order() {
    let server = Server::start();
    let store = Store::connect(&server.database("order")).await.expect("a record");
    let epoch = own(&store, "control-1").await;
    let entries = store
        .write(epoch, &[environment("staging", 1), environment("production", 2)])
        .await
        .expect("written");
    assert_eq!(entries.iter().map(|entry| entry.number).collect::<Vec<_>>(), [1, 2]);
    let gone = Change { object: None, ..environment("staging", 1) };
    store.write(epoch, &[gone]).await.expect("written");

    let (state, number) = store.snapshot().await.expect("a snapshot");
    let mut expected = State::default();
    expected.put(environment("production", 2).object.expect("an object"));
    assert_eq!((state, number), (expected, 3));
    let feed = store.read_since(1, 10).await.expect("a feed");
    assert_eq!(
        feed.entries.iter().map(|entry| (entry.number, entry.body.is_some())).collect::<Vec<_>>(),
        [(2, true), (3, false)]
    );
    assert_eq!(feed.cursor, 3);
    let trail = store.trail("staging", 10).await.expect("a trail");
    assert_eq!(trail.iter().map(|entry| entry.number).collect::<Vec<_>>(), [3, 1]);
}

#[tokio::test]
async fn only_the_present_epoch_writes_and_concurrent_writers_leave_no_gap() {
    let server = Server::start();
    let store = Store::connect(&server.database("epoch")).await.expect("a record");
    let old = own(&store, "control-1").await;
    let of_first = Lease::Of { name: "control-1".into(), url: "http://control-1".into() };
    assert_eq!(store.take_lease("control-2", "http://control-2").await.expect("asked"), of_first);
    assert!(own(&store, "control-1").await > old, "under its own name it is taken at once");
    let old = own(&store, "control-1").await;
    store.release_lease(old).await.expect("released");
    let new = own(&store, "control-2").await;
    assert!(
        matches!(store.write(old, &[environment("staging", 1)]).await, Err(Error::Superseded(mine)) if mine == old)
    );
    assert!(matches!(store.renew_lease(old).await, Err(Error::Superseded(_))));
    store.renew_lease(new).await.expect("it decides");
    let writers = (0..40).map(|n| {
        let store = store.clone();
        tokio::spawn(async move { store.write(new, &[environment(&format!("e{n}"), 1)]).await })
    });
    for writer in writers {
        writer.await.expect("a task").expect("written");
    }
    let feed = store.read_since(0, 1000).await.expect("a feed");
    assert_eq!(
        feed.entries.iter().map(|entry| entry.number).collect::<Vec<_>>(),
        (1..=40).collect::<Vec<_>>()
    );
}

#[tokio::test]
async fn old_changes_go_and_what_people_did_stays() {
    let server = Server::start();
    let store = Store::connect(&server.database("retention")).await.expect("a record");
    let epoch = own(&store, "control-1").await;
    store.write(epoch, &[environment("staging", 1)]).await.expect("written");
    let mut own_act = environment("production", 2);
    own_act.cause.by = "platform".into();
    let many: Vec<Change> = (0..FEED + 10).map(|_| own_act.clone()).collect();
    for piece in many.chunks(10_000) {
        // One object changes many times over: each change is a transaction's own in earnest.
        let changes: Vec<Change> = piece
            .iter()
            .enumerate()
            .map(|(n, change)| Change { key: format!("production-{n}"), ..change.clone() })
            .collect();
        store.write(epoch, &changes).await.expect("written");
    }
    let latest = FEED + 11;
    assert_eq!(store.prune(latest).await.expect("pruned"), 10);
    assert_eq!(store.prune(latest).await.expect("pruned"), 0);
    assert!(matches!(store.read_since(10, 5).await, Err(Error::Reset(11))));
    assert_eq!(store.read_since(11, 1).await.expect("a feed").entries[0].number, 12);
    let trail = store.trail("", 10).await.expect("a trail");
    assert_eq!(trail.iter().map(|entry| entry.number).collect::<Vec<_>>(), [1]);
}

#[tokio::test]
async fn a_sign_in_key_is_good_once_and_no_token_for_long() {
    let server = Server::start();
    let store = Store::connect(&server.database("tokens")).await.expect("a record");
    store.put_token(b"key", "mira", TokenKind::SignIn, Some(60.0)).await.expect("kept");
    assert_eq!(store.token(b"key", TokenKind::Client).await.expect("asked"), None, "it is no client's token");
    assert_eq!(store.take_token(b"key", TokenKind::SignIn).await.expect("asked").as_deref(), Some("mira"));
    assert_eq!(store.take_token(b"key", TokenKind::SignIn).await.expect("asked"), None);
    store.put_token(b"old", "mira", TokenKind::Session, Some(-1.0)).await.expect("kept");
    assert_eq!(store.token(b"old", TokenKind::Session).await.expect("asked"), None);
}
