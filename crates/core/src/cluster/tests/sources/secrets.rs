//! Secrets that Git holds encrypted: declared, given by hand, and gone.

use super::*;

fn word() -> Target {
    "staging/word".parse().expect("a target")
}

/// The files with a secret that `locker-api` uses.
fn with(age: &str) -> String {
    let used = FIRST.replace("replicas = 2", "replicas = 2\nsettings = { WORD = { secret = \"word\" } }");
    format!("[secret.word]\nage = \"-----BEGIN AGE ENCRYPTED FILE-----{age}\"\n{used}")
}

#[test]
fn a_value_that_a_person_gave_is_left_alone_and_what_git_encrypts_next_is_not_taken() {
    let mut yard = Yard::followed(take());
    yard.push(1, &with("first"));
    yard.settle_down();
    assert_eq!(yard.told(), "in-step");
    let value = SealedValue { name: "by hand".into(), text: true };
    yard.cluster.transaction("mira", yard.now).add_secret(&word(), value).expect("added");
    yard.settle_down();
    let left: Vec<String> = yard.followed_as().yields.iter().map(|it| it.what.to_string()).collect();
    assert_eq!(left, ["the value of the secret word"]);
    yard.push(2, &with("second"));
    yard.settle_down();
    assert_eq!(
        yard.cluster.state.secrets[&word()].versions.values().next_back().expect("one").sealed,
        "by hand"
    );
    yard.cluster.transaction("mira", yard.now).resume_source(&source()).expect("resumed");
    yard.settle_down();
    let newest =
        yard.cluster.state.secrets[&word()].versions.values().next_back().expect("one").sealed.clone();
    assert!(newest.ends_with("second"), "{newest}");
    assert_eq!(yard.told(), "in-step");
}

#[test]
fn a_secret_goes_with_what_git_declares_no_longer_once_nothing_has_it() {
    let mut yard = Yard::followed(FollowRule { gone_from_git: GoneFromGit::Remove, ..take() });
    yard.push(1, &with("first"));
    yard.settle_down();
    yard.push(2, FIRST);
    assert!(yard.cluster.state.secrets.contains_key(&word()), "the rollout may go back");
    yard.settle_down();
    assert_eq!(yard.told(), "in-step");
    assert_eq!(yard.image("locker-api"), "lockers/locker-api:1.4.0");
    assert!(!yard.cluster.state.secrets.contains_key(&word()), "nothing has it any more");
}

#[test]
fn a_secret_that_git_no_longer_declares_is_reported() {
    for (rule, told) in [
        (GoneFromGit::Ask, "behind (removal-asks) 000000000 no longer declares secret word"),
        (GoneFromGit::Keep, "in-step"),
    ] {
        let mut yard = Yard::followed(FollowRule { gone_from_git: rule, ..take() });
        yard.push(1, &with("first"));
        yard.settle_down();
        yard.push(2, FIRST);
        yard.settle_down();
        assert_eq!(yard.told(), told);
        assert!(yard.cluster.state.secrets.contains_key(&word()));
        if rule == GoneFromGit::Ask {
            yard.cluster.transaction("mira", yard.now).catch_up(&source(), None, true).expect("agreed");
            yard.settle_down();
            assert_eq!(yard.told(), "in-step");
            assert!(!yard.cluster.state.secrets.contains_key(&word()));
        }
    }
}

#[test]
fn a_secret_that_is_still_used_stays_and_so_does_another_applications() {
    let mut yard = Yard::followed(FollowRule { gone_from_git: GoneFromGit::Remove, ..take() });
    yard.push(1, &with("first"));
    yard.settle_down();
    let used = with("first");
    let (_, without) = used.split_once("FILE-----first\"\n").expect("the secret comes first");
    yard.push(2, without);
    yard.settle_down();
    assert_eq!(yard.told(), "in-step");
    assert!(yard.cluster.state.secrets.contains_key(&word()), "a workload has it");
    let other = "application = \"others\"\n[secret.word]\nage = \"-----BEGIN AGE ENCRYPTED FILE-----x\"\n";
    let files = [SourceFile { name: "mainyard.toml".into(), text: other.into() }];
    let declared = read(&files, Some(&name("staging"))).expect("valid");
    let refused = yard.cluster.transaction("noor", yard.now).declare(&declared, &name("staging"), false);
    let message = refused.expect_err("it is another's").message;
    assert!(message.contains("it belongs to the application lockers"), "{message}");
}

#[test]
fn a_secret_that_a_person_removed_stays_away_until_git_is_followed_again() {
    let mut yard = Yard::followed(take());
    let unused = with("first").replace("\nsettings = { WORD = { secret = \"word\" } }", "");
    yard.push(1, &unused);
    yard.settle_down();
    yard.cluster.transaction("mira", yard.now).remove_secret(&word()).expect("nothing uses it");
    yard.settle_down();
    assert!(!yard.cluster.state.secrets.contains_key(&word()));
    let left: Vec<String> = yard.followed_as().yields.iter().map(|it| it.what.to_string()).collect();
    assert_eq!(left, ["the value of the secret word"]);
    yard.cluster.transaction("mira", yard.now).resume_source(&source()).expect("resumed");
    yard.settle_down();
    assert!(yard.cluster.state.secrets.contains_key(&word()));
}

#[test]
fn an_applications_secrets_go_with_it() {
    let mut yard = Yard::new();
    let text = format!("application = \"lockers\"\n{}", with("first"));
    yard.declare(&text, false);
    yard.settle_down();
    let lockers: Target = "staging/lockers".parse().expect("a target");
    let gone = yard.cluster.transaction("mira", yard.now).remove_application(&lockers).expect("removed");
    assert!(gone.contains(&"secret staging/word: nothing uses it now".to_owned()), "{gone:?}");
    assert!(yard.cluster.state.secrets.is_empty());
}
