//! A release that was tested in one environment runs in another.

use super::*;

fn production() -> Target {
    "production/locker-api".parse().expect("a target")
}

fn two_environments() -> Yard {
    let mut yard = Yard::new();
    yard.cluster.transaction("mira", yard.now).add_environment(&name("production"), None).expect("new");
    yard.declare(MANIFEST, false);
    let text = MANIFEST
        .replace("api.lockers", "www.lockers")
        .replace("replicas = 3", "replicas = 2\nlimits = { memory = \"512 MiB\" }");
    let files = [SourceFile { name: "mainyard.toml".into(), text }];
    let declared = read(&files, Some(&name("production"))).expect("valid");
    yard.cluster.transaction("mira", yard.now).declare(&declared, &name("production"), false).expect("taken");
    yard.settle_down();
    yard
}

#[test]
fn promotion_takes_image_and_settings_and_keeps_limits() {
    let mut yard = two_environments();
    let image = Some("lockers/locker-api:1.5.0".parse().expect("an image"));
    let settings = BTreeMap::from([("LEVEL".to_owned(), Setting::Text("debug".into()))]);
    yard.cluster
        .transaction("mira", yard.now)
        .deploy(&api(), &DeployRequest { image, settings, ..DeployRequest::default() })
        .expect("taken");
    let early = yard
        .cluster
        .transaction("mira", yard.now)
        .promote(&api(), &name("production"))
        .expect_err("not done");
    assert!(early.message.starts_with(
        "release 2 of staging/locker-api is starting; only a release that is done can be promoted"
    ));
    yard.settle_down();
    // The tag moves meanwhile: what was tested goes over all the same.
    yard.cluster.at(yard.now).add_image(ImageRecord {
        image: "lockers/locker-api:1.5.0".parse().expect("an image"),
        digest: "sha256:another".into(),
        size: 1,
        layers: 1,
        origin: crate::model::Origin::new("platform", "settled", yard.now),
        named: None,
        signed_by: Default::default(),
    });
    let done =
        yard.cluster.transaction("mira", yard.now).promote(&api(), &name("production")).expect("promoted");
    assert_eq!((done.tested, done.release), (ReleaseNumber(2), Some(ReleaseNumber(2))));
    assert_eq!(
        done.words,
        ["image 1.4.0 → 1.5.0", "setting LEVEL = debug", "digest sha256:1.4.0 → sha256:1.5.0"]
    );
    let made = &yard.cluster.state.releases[&(production(), ReleaseNumber(2))];
    assert_eq!(made.digest.as_deref(), Some("sha256:1.5.0"));
    assert_eq!(made.spec.limits.memory, Bytes::mib(512));
    assert_eq!(made.origin.act, "promoted staging/locker-api@2");
    yard.settle_down();
    assert_eq!(yard.cluster.state.workloads[&production()].state, WorkloadState::Steady);
    assert_eq!(yard.cluster.state.workloads[&production()].wanted, 2);
    // What a commit would say is what runs then.
    let text = MANIFEST.replace("api.lockers", "www.lockers");
    let declared = read(&[SourceFile { name: "mainyard.toml".into(), text }], Some(&name("production")));
    let declared = declared.expect("valid");
    let tested = yard.cluster.promotes(&api(), &name("production")).expect("tested").0;
    let change =
        crate::git_plan::write_back::promotion(&declared, &name("locker-api"), &tested).expect("a change");
    assert_eq!(
        (&change.is["image"], &change.is["digest"]),
        (&"lockers/locker-api:1.5.0".into(), &"sha256:1.5.0".into())
    );
    assert_eq!(change.is["settings"]["LEVEL"], "debug");
    let again =
        yard.cluster.transaction("mira", yard.now).promote(&api(), &name("production")).expect("the same");
    assert_eq!(again.release, None);
}

#[test]
fn a_refused_promotion_says_why() {
    let mut yard = Yard::new();
    yard.declare(MANIFEST, false);
    yard.settle_down();
    let mut told = |environment: &str| {
        let done = yard.cluster.transaction("mira", yard.now).promote(&api(), &name(environment));
        done.expect_err("refused").message
    };
    assert_eq!(
        told("staging"),
        "staging/locker-api is in staging already: name another environment with --to"
    );
    assert_eq!(told("stagign"), "there is no environment stagign; did you mean `staging`?");
}
