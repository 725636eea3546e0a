//! Secrets and the releases they make.

use super::*;
use crate::cluster::{MadeRelease, SealedValue};

const WITH_SECRET: &str = r#"
application = "lockers"
[workload.locker-api]
image = "lockers/locker-api:1.4.0"
settings = { DB_PASSWORD = { secret = "db-password" } }
files = { "/app/kiosk.key" = { secret = "kiosk-key" } }
"#;

fn secret(name: &str) -> Target {
    Target::new(&super::name("staging"), &super::name(name))
}

fn add(yard: &mut Yard, name: &str, text: bool) -> Result<crate::cluster::Versioned, Refusal> {
    let value = SealedValue { name: format!("sealed {name}"), text };
    yard.cluster.transaction("mira", yard.now).add_secret(&secret(name), value)
}

fn refusal(yard: &mut Yard, text: &str) -> String {
    let files = [SourceFile { name: "mainyard.toml".into(), text: text.into() }];
    let declared = read(&files, Some(&name("staging"))).expect("valid");
    let before = yard.cluster.state.clone();
    let refusal = yard
        .cluster
        .transaction("mira", yard.now)
        .declare(&declared, &name("staging"), false)
        .expect_err("refused");
    assert_eq!(yard.cluster.state, before, "nothing is half-done");
    refusal.message
}

fn with_both() -> Yard {
    let mut yard = Yard::new();
    add(&mut yard, "db-password", true).expect("added");
    add(&mut yard, "kiosk-key", false).expect("added");
    yard.declare(WITH_SECRET, false);
    (0..20).for_each(|_| yard.round());
    yard
}

fn versions(yard: &Yard, number: u32) -> Vec<String> {
    let release = &yard.cluster.state.releases[&(api(), ReleaseNumber(number))];
    release.secret_keys().iter().map(ToString::to_string).collect()
}

#[test]
fn what_needs_a_secret_that_is_not_there_is_refused_with_the_way_out() {
    let mut yard = Yard::new();
    let message = refusal(&mut yard, WITH_SECRET);
    assert!(message.starts_with("secret-missing: `DB_PASSWORD` of staging/locker-api needs"), "{message}");
    assert!(message.ends_with("mainyard secret add staging/db-password < FILE"), "{message}");
    add(&mut yard, "db-pasword", true).expect("added");
    assert!(refusal(&mut yard, WITH_SECRET).contains("did you mean `db-pasword`?"));
    add(&mut yard, "db-password", false).expect("added");
    assert!(refusal(&mut yard, WITH_SECRET).contains("give it as a file"));
    add(&mut yard, "db-password", true).expect("added");
    add(&mut yard, "kiosk-key", false).expect("added");
    let third = WITH_SECRET.replace("\"kiosk-key\"", "\"kiosk-key\", version = 3");
    assert!(refusal(&mut yard, &third).contains("version 3 of the secret staging/kiosk-key; there are 1"));
    yard.declare(WITH_SECRET, false);
}

#[test]
fn a_new_secret_version_makes_releases_of_its_followers_only() {
    let mut yard = with_both();
    assert_eq!(versions(&yard, 1), ["db-password version 1", "kiosk-key version 1"]);
    let made = add(&mut yard, "db-password", true).expect("added");
    assert_eq!(
        (made.version, made.releases),
        (2, vec![MadeRelease { workload: api(), release: ReleaseNumber(2) }])
    );
    assert_eq!(versions(&yard, 2), ["db-password version 2", "kiosk-key version 1"]);
    assert_eq!(versions(&yard, 1)[0], "db-password version 1", "a release never changes");
    (0..20).for_each(|_| yard.round());
    let orders: Vec<_> = yard.running.values().map(|order| order.secrets[&name("db-password")]).collect();
    assert_eq!(orders, [2]);
    // The same file again asks for nothing new.
    assert!(yard.declare(WITH_SECRET, false).is_empty());
    // One that names its version stays with it.
    yard.declare(&WITH_SECRET.replace("\"db-password\"", "\"db-password\", version = 1"), false);
    assert!(add(&mut yard, "db-password", true).expect("added").releases.is_empty());
}

#[test]
fn going_back_goes_back_to_the_versions_as_well() {
    let mut yard = with_both();
    add(&mut yard, "db-password", true).expect("added");
    (0..20).for_each(|_| yard.round());
    yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect("taken");
    assert_eq!(versions(&yard, 3)[0], "db-password version 1");
    (0..20).for_each(|_| yard.round());
    // Declared again, it is the newest again, and that is said.
    let told = yard.declare(WITH_SECRET, false).join("\n");
    assert!(told.contains("secret db-password version 1 → version 2"), "{told}");
}

#[test]
fn a_workload_on_hold_keeps_the_version_it_has_and_is_named() {
    let mut yard = with_both();
    yard.cluster.transaction("mira", yard.now).hold(&api(), "stock-taking").expect("held");
    let made = add(&mut yard, "db-password", true).expect("added");
    assert_eq!((made.releases.len(), made.held), (0, vec![api()]));
    let words = yard.cluster.transaction("mira", yard.now).resume(&api()).expect("resumed");
    assert!(words.contains("db-password version 1 → version 2"), "{words}");
    assert_eq!(versions(&yard, 2)[0], "db-password version 2");
    // What was changed before the hold is not taken up by its end: here a person went back to it.
    (0..20).for_each(|_| yard.round());
    yard.cluster.transaction("mira", yard.now).rollback(&api(), Goal::Before).expect("taken");
    (0..20).for_each(|_| yard.round());
    yard.now += jiff::SignedDuration::from_secs(1);
    yard.cluster.transaction("mira", yard.now).hold(&api(), "stock-taking").expect("held");
    assert_eq!(
        yard.cluster.transaction("mira", yard.now).resume(&api()).expect("resumed"),
        "nothing was waiting"
    );
}

#[test]
fn a_secret_in_use_is_not_removed_and_versions_go_when_no_release_needs_them() {
    let mut yard = with_both();
    let refused =
        yard.cluster.transaction("mira", yard.now).remove_secret(&secret("kiosk-key")).expect_err("in use");
    assert!(refused.message.contains("is used by staging/locker-api"), "{}", refused.message);
    yard.declare(&WITH_SECRET.replace("files", "#"), false);
    (0..20).for_each(|_| yard.round());
    let gone =
        yard.cluster.transaction("mira", yard.now).remove_secret(&secret("kiosk-key")).expect("removed");
    assert_eq!(gone[1], "release staging/locker-api@1 can no longer be a rollback's target");
    let refused = yard
        .cluster
        .transaction("mira", yard.now)
        .rollback(&api(), Goal::Before)
        .expect_err("its secret is gone");
    assert!(
        refused.message.contains("uses kiosk-key version 1, which is no longer there"),
        "{}",
        refused.message
    );
    // Never used by a release: gone with the next one.
    add(&mut yard, "spare", true).expect("added");
    add(&mut yard, "spare", true).expect("added");
    let numbers: Vec<u32> = yard.cluster.state.secrets[&secret("spare")].versions.keys().copied().collect();
    assert_eq!(numbers, [2]);
}

#[test]
fn bytes_that_are_no_text_do_not_become_a_setting() {
    let mut yard = with_both();
    let refused = add(&mut yard, "db-password", false).expect_err("a setting");
    assert!(refused.message.contains("has db-password as a setting"), "{}", refused.message);
    assert_eq!(yard.cluster.state.secrets[&secret("db-password")].newest(), 1);
}

fn with_secret(age: &str) -> String {
    format!(
        "application = \"lockers\"\n[secret.word]\nage = \"-----BEGIN AGE ENCRYPTED FILE-----{age}\"\n{}\nsettings = {{ WORD = {{ secret = \"word\" }} }}\n",
        "[workload.locker-api]\nimage = \"lockers/locker-api:1.4.0\""
    )
}

#[test]
fn a_value_that_is_declared_encrypted_is_a_version_and_the_same_again_is_none() {
    let mut yard = Yard::new();
    let lines = yard.declare(&with_secret("first"), false);
    assert_eq!(lines.len(), 2, "{lines:?}");
    yard.settle_down();
    let secret: Target = "staging/word".parse().expect("a target");
    let newest = |yard: &Yard| {
        let (number, version) = yard.cluster.state.secrets[&secret].versions.iter().next_back().expect("one");
        (*number, crate::model::as_encrypted(&version.sealed).map(|(environment, _)| environment.to_owned()))
    };
    assert_eq!(newest(&yard), (1, Some("staging".to_owned())));
    assert_eq!(yard.cluster.state.secrets[&secret].application, Some(name("lockers")));
    assert!(yard.declare(&with_secret("first"), false).is_empty());
    let lines = yard.declare(&with_secret("second"), false);
    assert_eq!(
        lines,
        [
            "secret word: version 2, as it is encrypted there",
            "workload locker-api: secret word version 1 → version 2, makes release 2"
        ]
    );
    yard.settle_down();
    assert_eq!(yard.cluster.state.releases[&(api(), ReleaseNumber(2))].secrets[&name("word")], 2);
    // By hand there may be another; what is declared is then a version again.
    let value = SealedValue { name: "by hand".into(), text: true };
    yard.cluster.transaction("mira", yard.now).add_secret(&secret, value).expect("added");
    yard.settle_down();
    assert_eq!(newest(&yard), (3, None));
    assert_eq!(yard.declare(&with_secret("second"), false).len(), 2);
    assert_eq!(newest(&yard).0, 4);
}
