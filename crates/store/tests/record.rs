//! The record on a real PostgreSQL, started for this test on loopback.

use jiff::{SignedDuration, Timestamp};
use mainyard_core::link::StepLine;
use mainyard_core::model::{
    Environment, EnvironmentIndex, Gateway, Origin, ReleaseNumber, Secret, SecretVersion,
};
use mainyard_core::record::{Change, Object, State};
use mainyard_core::retention::Journal;
use mainyard_core::sizing::Usage;
use mainyard_store::{BuildRow, Error, Lease, NewToken, QUERIES, SealedRow, Sought, Store, TokenKind};
use sqlx::{Executor, SqlSafeStr};
use testing::postgres::Server;

fn environment(name: &str, index: u8) -> Change {
    let origin = Origin::new("mira", "added", Timestamp::UNIX_EPOCH);
    let index = EnvironmentIndex::new(index).expect("in range");
    let object = Object::Environment(Environment {
        domain: None,
        outgoing: Default::default(),
        image_rule: None,
        live_changes: false,
        spent: Default::default(),
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
    let sought = Sought { of: "staging".into(), limit: 10, ..Sought::default() };
    let trail = store.trail(&sought).await.expect("a trail");
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

/// Something that comes and goes by itself.
fn gateway(name: &str) -> Change {
    let object = Object::Gateway(Gateway { name: name.to_owned(), closed_ports: Default::default() });
    let cause = Origin::new("platform", "noted", Timestamp::UNIX_EPOCH);
    Change { kind: object.kind(), key: object.key(), object: Some(object), cause }
}

#[tokio::test]
async fn old_changes_go_and_any_moment_that_is_kept_is_as_it_was() {
    let server = Server::start();
    let store = Store::connect(&server.database("retention")).await.expect("a record");
    let epoch = own(&store, "control-1").await;
    let by_itself = |change: Change| {
        let cause = Origin::new("platform", "noted", Timestamp::UNIX_EPOCH);
        Change { cause, ..change }
    };
    let gone = |change: Change| Change { object: None, ..change };
    let renamed = |domain: &str| {
        let Some(Object::Environment(it)) = environment("staging", 1).object else { unreachable!() };
        let object = Object::Environment(Environment { domain: Some(domain.into()), ..it });
        by_itself(Change { object: Some(object), ..environment("staging", 1) })
    };
    // One change a number; each is so many days old.
    let changes = [
        (200, environment("staging", 1)),
        (150, gateway("stays")),
        (150, renamed("one.test")),
        (140, gateway("goes")),
        (130, renamed("two.test")),
        (120, gone(gateway("goes"))),
        (10, renamed("three.test")),
        (9, gateway("comes")),
        (8, gone(gateway("comes"))),
        (2, gateway("new")),
        (0, renamed("four.test")),
    ];
    let now = Timestamp::now();
    let ago = |days: i64| now - SignedDuration::from_hours(24 * days);
    for (days, change) in changes {
        let number = store.write(epoch, &[change]).await.expect("written")[0].number;
        let dated = "UPDATE journal SET at = to_timestamp($1) WHERE number = $2";
        let at = ago(days).as_millisecond() as f64 / 1000.0;
        sqlx::query(dated).bind(at).bind(number as i64).execute(store.pool()).await.expect("dated");
    }
    let then = async |days: i64| {
        let past = store.past(ago(days) + SignedDuration::from_secs(1)).await.expect("asked");
        past.map(|past| {
            let domain = past.state.environments.values().next().and_then(|it| it.domain.clone());
            let gateways: Vec<String> = past.state.gateways.keys().cloned().collect();
            (past.number, domain.unwrap_or_default(), gateways.join(" "), past.whole)
        })
    };
    let told = |number, domain: &str, gateways: &str, whole| {
        Some((number, domain.to_owned(), gateways.to_owned(), whole))
    };
    assert_eq!(then(300).await, None, "before everything");
    assert_eq!(then(139).await, told(4, "one.test", "goes stays", true));
    assert_eq!(then(8).await, told(9, "three.test", "stays", true));

    let few = Journal { least: 2, ..Journal::default() };
    assert_eq!(store.prune(&Journal::default(), 11).await.expect("pruned"), 0, "there are few");
    // Of gateways all but what stays is forgotten up to number 9; the environment's change to `one.test` was replaced by the next release.
    assert_eq!(store.prune(&few, 11).await.expect("pruned"), 5);
    assert_eq!(store.prune(&few, 11).await.expect("pruned"), 0);
    assert_eq!(then(139).await, None, "before what is kept of what is declared");
    assert_eq!(then(120).await, told(5, "two.test", "", false));
    assert_eq!(then(9).await, told(7, "three.test", "", false));
    assert_eq!(then(8).await, told(7, "three.test", "stays", true));
    assert_eq!(then(1).await, told(10, "three.test", "new stays", true));
    let (state, _) = store.snapshot().await.expect("a snapshot");
    assert_eq!(store.past(now).await.expect("asked").expect("kept").state, state);

    assert!(matches!(store.read_since(8, 5).await, Err(Error::Reset(9))));
    assert_eq!(store.read_since(9, 1).await.expect("a feed").entries[0].number, 10);
    let numbers = async |sought: Sought| {
        let found = store.trail(&Sought { limit: 10, ..sought }).await.expect("a trail");
        found.iter().map(|entry| entry.number).collect::<Vec<_>>()
    };
    assert_eq!(numbers(Sought::default()).await, [1], "what a person did stays");
    let of_platform = Sought { platform: true, ..Sought::default() };
    assert_eq!(numbers(of_platform.clone()).await, [11, 7, 5, 1]);
    assert_eq!(numbers(Sought { by: "platform".into(), ..of_platform.clone() }).await, [11, 7, 5]);
    assert_eq!(numbers(Sought { until: Some(ago(1)), before: Some(7), ..of_platform.clone() }).await, [5, 1]);
    assert_eq!(numbers(Sought { from: Some(ago(20)), ..of_platform.clone() }).await, [11, 7]);
    assert!(numbers(Sought { of: "stag".into(), ..of_platform.clone() }).await.is_empty());
    assert_eq!(numbers(Sought { act: "added".into(), kind: "environment".into(), ..of_platform }).await, [1]);
}

#[tokio::test]
async fn a_credential_is_good_until_it_ends_is_taken_or_is_replaced() {
    let server = Server::start();
    let store = Store::connect(&server.database("tokens")).await.expect("a record");
    let new = |hash: &'static [u8], kind, seconds| NewToken {
        hash,
        member: "mira",
        kind,
        name: "first",
        part: None,
        seconds,
        registry: None,
    };
    let kind = async |hash: &[u8]| store.token(hash).await.expect("asked").map(|token| token.kind);
    store.put_token(new(b"key", TokenKind::SignIn, Some(60.0))).await.expect("kept");
    assert_eq!(store.take_token(b"key", TokenKind::Session).await.expect("asked"), None, "of another kind");
    assert_eq!(store.take_token(b"key", TokenKind::SignIn).await.expect("asked").as_deref(), Some("mira"));
    assert_eq!(store.take_token(b"key", TokenKind::SignIn).await.expect("asked"), None, "only once");
    store.put_token(new(b"old", TokenKind::Session, Some(-1.0))).await.expect("kept");
    assert_eq!(kind(b"old").await, None, "it has ended");

    store.replace_token(new(b"one", TokenKind::Client, None)).await.expect("kept");
    assert_eq!(kind(b"one").await, Some(TokenKind::Client));
    assert!(store.token(b"one").await.expect("asked").expect("there").last_used.is_some());
    store.replace_token(new(b"two", TokenKind::Client, None)).await.expect("kept");
    assert_eq!((kind(b"one").await, kind(b"two").await), (None, Some(TokenKind::Client)), "it was replaced");
    let listed = store.tokens().await.expect("listed");
    assert_eq!(listed.len(), 1);
    let registry = Some(("repository:lockers/locker-api:pull", listed[0].id.as_str()));
    let short = NewToken { registry, ..new(b"short", TokenKind::Registry, Some(60.0)) };
    store.put_token(short).await.expect("kept");
    let found = store.token(b"short").await.expect("asked").expect("there");
    assert_eq!(found.scopes.as_deref(), Some("repository:lockers/locker-api:pull"));
    assert_eq!(store.tokens().await.expect("listed").len(), 1, "those of the registry are not listed");
    assert!(store.remove_token(&listed[0].id).await.expect("removed"));
    assert!(!store.remove_token(&listed[0].id).await.expect("asked"));
    assert_eq!(kind(b"two").await, None);
    assert_eq!(kind(b"short").await, None, "it ends with the one that it was given for");
}

#[tokio::test]
async fn what_replicas_used_is_kept_by_day_as_heights_and_sums() {
    let server = Server::start();
    let store = Store::connect(&server.database("usage")).await.expect("a record");
    let used = |replica: &str, needed, held_back| Usage {
        replica: format!("staging/locker-api/{replica}").parse().expect("an id"),
        release: ReleaseNumber(2),
        needed,
        peak: needed * 2,
        limit: 100,
        kills: 1,
        held_back,
        watched: 10,
        processes: 3,
        disk: 7 << 20,
        now: None,
    };
    store.add_usage(&[used("a0", 50, 1), used("a1", 7, 0)]).await.expect("added");
    store.add_usage(&[used("a0", 40, 2)]).await.expect("added");
    let target = "staging/locker-api".parse().expect("a target");
    let mut first = used("a0", 50, 3);
    (first.kills, first.watched) = (2, 20);
    let all = store.usage(Some(&target)).await.expect("read");
    assert_eq!(all, [first, used("a1", 7, 0)]);
    assert_eq!(store.usage(None).await.expect("read").len(), 2);
    let other = "staging/locker".parse().expect("a target");
    assert_eq!(store.usage(Some(&other)).await.expect("read"), []);
    // Eight days later nobody looks at it any more.
    store.pool().execute("UPDATE usage SET day = day - 8 WHERE replica LIKE '%a0'").await.expect("aged");
    assert_eq!(store.usage(Some(&target)).await.expect("read"), [used("a1", 7, 0)]);
    assert_eq!(store.sweep_usage().await.expect("swept"), 1);
}

#[tokio::test]
async fn sealed_values_are_renewed_all_or_none_and_go_when_no_secret_has_them() {
    let server = Server::start();
    let store = Store::connect(&server.database("sealed")).await.expect("a record");
    let epoch = own(&store, "control-1").await;
    let row = |name: &str, body: &[u8]| SealedRow {
        name: name.to_owned(),
        place: format!("staging/db-password {name}"),
        body: body.to_vec(),
    };
    for name in ["one", "two", "orphan"] {
        store.put_sealed(&row(name, b"old")).await.expect("kept");
    }
    let names = ["one".to_owned(), "two".to_owned(), "none".to_owned()];
    let read = || store.read_sealed(&names);
    assert_eq!(read().await.expect("read"), [row("one", b"old"), row("two", b"old")]);
    let broken = |row: &SealedRow| {
        if row.name == "two" { Err("damaged".to_owned()) } else { Ok(Some(b"new".to_vec())) }
    };
    let refused = store.renew_sealed(broken).await.expect("asked").expect_err("one is damaged");
    assert_eq!(refused, "the value of staging/db-password two: damaged");
    assert_eq!(read().await.expect("read"), [row("one", b"old"), row("two", b"old")], "nothing is half-done");
    let renewed =
        store.renew_sealed(|row| Ok((row.name != "two").then(|| b"new".to_vec()))).await.expect("asked");
    assert_eq!(renewed, Ok(2));
    assert_eq!(read().await.expect("read"), [row("one", b"new"), row("two", b"old")]);

    let origin = Origin::new("mira", "added", Timestamp::UNIX_EPOCH);
    let version =
        |sealed: &str| SecretVersion { sealed: sealed.to_owned(), text: true, origin: origin.clone() };
    let secret = Object::Secret(Secret {
        application: None,
        target: "staging/db-password".parse().expect("a target"),
        versions: [(1, version("one")), (2, version("two"))].into(),
        origin: origin.clone(),
    });
    let change = Change { kind: secret.kind(), key: secret.key(), object: Some(secret), cause: origin };
    store.write(epoch, &[change]).await.expect("written");
    assert_eq!(store.sweep_sealed(3600.0).await.expect("swept"), 0, "an act may be on its way");
    assert_eq!(store.sweep_sealed(0.0).await.expect("swept"), 1);
    assert_eq!(read().await.expect("read").len(), 2);
}

#[tokio::test]
async fn builds_their_lines_and_their_layers_go_by_rule() {
    let server = Server::start();
    let store = Store::connect(&server.database("builds")).await.expect("a record");
    let row = |number: u64, state: &str| BuildRow {
        number,
        repository: "lockers/survey-form".to_owned(),
        state: state.to_owned(),
        digest: (state == "done").then(|| format!("sha256:{number}")),
        body: serde_json::json!({ "number": number }),
    };
    for state in ["running", "done", "failed", "done", "done"] {
        let number = store.next_build().await.expect("a number");
        store.put_build(&row(number, state)).await.expect("kept");
    }
    let line = |number, text: &str| StepLine { number, at: 1, source: 'o', text: text.to_owned() };
    store.add_build_lines(2, 0, &[line(0, "one\0"), line(1, "two")]).await.expect("added");
    // Control was away and asked for them again.
    store.add_build_lines(2, 0, &[line(1, "two"), line(2, "three")]).await.expect("added");
    let lines = store.build_lines(2, 0, 10).await.expect("lines");
    let texts: Vec<&str> = lines.iter().map(|row| row.line.text.as_str()).collect();
    assert_eq!(texts, ["one\u{fffd}", "two", "three"]);
    let last = store.last_build_lines(2, 0, 1).await.expect("lines");
    assert_eq!(last[0].line.text, "three");
    assert_eq!(
        store.build_of_image("sha256:4").await.expect("asked"),
        Some(serde_json::json!({ "number": 4 }))
    );
    // The newest two stay, and the one that goes on.
    assert_eq!(store.sweep_builds(2).await.expect("swept"), 2);
    let left = store.newest_builds(None, 10).await.expect("builds");
    assert_eq!(
        left.iter().map(|build| build["number"].as_u64()).collect::<Vec<_>>(),
        [Some(5), Some(4), Some(1)]
    );
    assert!(store.build_lines(2, 0, 10).await.expect("lines").is_empty(), "with their lines");
    for (key, size) in [("a", 60), ("b", 60)] {
        store
            .put_build_layer(key, "lockers/survey-form", &format!("sha256:{key}"), size)
            .await
            .expect("kept");
    }
    assert_eq!(store.use_build_layer("a").await.expect("asked"), Some(("sha256:a".to_owned(), 60)));
    // Only one has room: the one that was used last.
    assert_eq!(store.sweep_build_layers(14, 100).await.expect("swept"), 1);
    assert_eq!(store.build_layers().await.expect("layers"), ["sha256:a"]);
}

#[tokio::test]
async fn what_was_asked_of_workloads_is_kept_minute_by_minute() {
    let server = Server::start();
    let store = Store::connect(&server.database("demand")).await.expect("a record");
    let api: mainyard_core::model::Target = "staging/locker-api".parse().expect("a target");
    let now = jiff::Timestamp::now().as_second() / 60 * 60;
    let minute = |back: i64| jiff::Timestamp::from_second(now - back * 60).expect("in range");
    store.add_demand(minute(2), &[(api.clone(), 2.5, 40.0)]).await.expect("kept");
    store.add_demand(minute(1), &[]).await.expect("kept");
    store.add_demand(minute(1_500), &[(api.clone(), 9.0, 9.0)]).await.expect("kept");
    let told = store.demand(&api).await.expect("read");
    let seen: Vec<(f64, f64)> = told.iter().map(|it| (it.open, it.rate)).collect();
    // A minute in which nobody asked counts; one that is too long ago does not.
    assert_eq!(seen, [(2.5, 40.0), (0.0, 0.0)]);
    assert_eq!(told[0].at, minute(2));
    assert_eq!(store.sweep_demand().await.expect("swept"), 2);
}
