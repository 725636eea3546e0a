//! Secrets: into replicas, and nowhere else.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use crate::common::{Platform, Said, isolated, mainyard, until};
use crate::faults::kill;

const PASSWORD: &str = "seven-herons-walk-the-old-towpath";
const SECRET: &str = "staging/lockers-db-password";

/// The client with this on its standard input.
fn fed(platform: &Platform, words: &[&str], input: &[u8]) -> Said {
    let mut command = mainyard(&platform.data(), words);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().expect("the client runs");
    // One that refuses before it reads closes the pipe.
    let _ = child.stdin.take().expect("its input").write_all(input);
    child.wait_with_output().expect("it ends").into()
}

/// Regular files below this that hold the text.
fn files_with(dir: &Path, text: &str) -> Vec<PathBuf> {
    let (mut found, mut look) = (Vec::new(), vec![dir.to_owned()]);
    while let Some(dir) = look.pop() {
        for entry in std::fs::read_dir(dir).into_iter().flatten().flatten() {
            let Ok(kind) = entry.file_type() else { continue };
            if kind.is_dir() {
                look.push(entry.path());
            }
            let holds = |bytes: Vec<u8>| bytes.windows(text.len()).any(|part| part == text.as_bytes());
            if kind.is_file() && std::fs::read(entry.path()).is_ok_and(holds) {
                found.push(entry.path());
            }
        }
    }
    found
}

fn in_the_log(platform: &Platform, line: &str) -> usize {
    let log = platform.ok(&["logs", "staging/locker-api", "--tail", "500"]);
    log.lines().filter(|logged| logged.ends_with(line)).count()
}

#[test]
fn a_secret_reaches_its_replicas_and_is_nowhere_to_be_read() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let forecast = fed(&platform, &["secret", "add", SECRET, "--forecast"], PASSWORD.as_bytes());
    assert!(
        forecast.out.contains("forecast, nothing is changed: staging/lockers-db-password: version 2"),
        "{forecast:?}"
    );
    let added = fed(&platform, &["secret", "add", SECRET], format!("{PASSWORD}\n").as_bytes());
    assert!(
        added.code == 0 && added.out.contains("workload staging/locker-api  makes release 2"),
        "{added:?}"
    );
    let given = format!("the database takes a password of {} characters", PASSWORD.len());
    until("all replicas have it", || (in_the_log(&platform, &given) == 3).then_some(()));

    let mut told = vec![format!("{added:?}"), platform.logs()];
    for words in [
        &["secret", "list"][..],
        &["secret", "list", "--json"],
        &["secret", "show", SECRET],
        &["secret", "show", SECRET, "--json"],
        &["show", "staging/locker-api", "--json"],
        &["show", "staging/locker-api@2"],
        &["compare", "staging/locker-api@1", "staging/locker-api@2"],
        &["trail", "--json"],
    ] {
        told.push(platform.ok(words));
    }
    for path in ["/api/v1/snapshot", "/api/v1/secrets", "/api/v1/trail?limit=1000"] {
        told.push(platform.call("GET", path, "").text());
    }
    for entry in std::fs::read_dir("/proc").expect("proc").flatten() {
        told.push(
            String::from_utf8_lossy(&std::fs::read(entry.path().join("cmdline")).unwrap_or_default())
                .into_owned(),
        );
    }
    let encoded = ["c2V2ZW4taGVyb25z", PASSWORD];
    for text in &told {
        assert!(!encoded.iter().any(|part| text.contains(part)), "{text}");
    }
    assert!(
        told.iter().any(|text| text.contains("secret lockers-db-password  version 1             version 2"))
    );
    for part in encoded {
        assert_eq!(
            files_with(platform.dir.path(), part),
            Vec::<PathBuf>::new(),
            "not on disk, the record included"
        );
    }

    let refused = platform.run(&["secret", "remove", SECRET]);
    assert!(refused.code == 3 && refused.err.contains("is used by staging/locker-api"), "{refused:?}");
    let back = platform.ok(&["rollback", "staging/locker-api"]);
    assert!(back.contains("release 3 (same as 1)"), "{back}");
    let deployed = platform.ok(&["deploy", "staging/locker-api", "--set", "LOG_LEVEL=debug"]);
    assert!(deployed.contains("secret lockers-db-password version 1 → version 2"), "{deployed}");
}

#[test]
fn the_platforms_key_is_changed_under_running_replicas() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let key = || std::fs::read_to_string(platform.data().join("secrets-key")).expect("the key");
    let first = key();
    let looked = platform.ok(&["secret", "rotate-key", "--forecast"]);
    assert!(looked.contains("2 values sealed again under a new key") && key() == first, "{looked}");
    let said = platform.ok(&["secret", "rotate-key"]);
    assert!(said.starts_with("2 values sealed again under the new key "), "{said}");
    assert!(key() != first && key().lines().count() == 1);
    // As if it had been broken off in the middle: the one that decides next ends it.
    let middle = mainyard_key();
    std::fs::write(platform.data().join("secrets-key"), format!("{middle}\n{}", key())).expect("written");
    let control = platform.part("control")[0];
    kill(control);
    until("control is back", || platform.part("control").first().copied().filter(|now| *now != control));
    until("the key is the new one alone", || (key().trim() == middle).then_some(()));
    platform.ok(&["restart", "staging/locker-api"]);

    // A key that is lost: what is sealed under it can't be read, and that is said and held against nothing else.
    std::fs::write(platform.data().join("secrets-key"), mainyard_key()).expect("written");
    let lost = platform.run(&["restart", "staging/locker-api"]);
    assert!(lost.code == 1 && lost.err.contains("secret-missing"), "{lost:?}");
    assert!(platform.logs().contains("which is not among this platform's"));
    assert_eq!(platform.get("api.staging.lockers.localhost", "/who").status, 200);
    let refused = platform.run(&["secret", "rotate-key"]);
    assert!(
        refused.code == 3 && refused.err.contains("is sealed under the key"),
        "what is sealed is not given up: {refused:?}"
    );
    std::fs::write(platform.data().join("secrets-key"), middle).expect("written");
    platform.ok(&["restart", "staging/locker-api"]);
}

fn mainyard_key() -> String {
    let mut bytes = [0; 32];
    let chance = std::fs::File::open("/dev/urandom");
    chance.and_then(|mut file| std::io::Read::read_exact(&mut file, &mut bytes)).expect("chance");
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[test]
fn a_secret_as_a_file_is_there_for_the_program_where_roots_are_kept_apart() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let added =
        fed(&platform, &["secret", "add", "staging/kiosk-key", "--keep-newline"], b"\xff\x00 not text\n");
    assert!(added.code == 0 && added.out.contains("nothing follows it yet"), "{added:?}");
    let file = platform.dir.path().join("kiosk.toml");
    let text = "application = \"kiosk\"\n[workload.kiosk]\nimage = \"lockers/locker-api:1.4.0\"\nports = { http = 8080 }\n\
                settings = { KIOSK_KEY_FILE = \"/app/keys/kiosk.key\" }\n\
                files = { \"/app/keys/kiosk.key\" = { secret = \"kiosk-key\" } }\n";
    std::fs::write(&file, text).expect("a file");
    let file = file.display().to_string();
    let said = platform.run(&["declare", &file, "--in", "staging"]);
    if isolated() {
        assert_eq!(said.code, 0, "{said:?}");
        let log = || platform.ok(&["logs", "staging/kiosk"]);
        until("it read the file", || log().contains("the kiosk's key has 12 bytes").then_some(()));
    } else {
        assert!(said.code == 1 && said.err.contains("its root is the machine's own"), "{said:?}");
    }
    let setting = text
        .replace("files = { \"/app/keys/kiosk.key\" =", "labels = { a = \"b\" }\nsettings.KEY = ")
        .replace("} }\n", "}\n");
    let setting = setting.replace("settings = { KIOSK_KEY_FILE = \"/app/keys/kiosk.key\" }\n", "");
    std::fs::write(&file, setting).expect("a file");
    let refused = platform.run(&["declare", &file, "--in", "staging"]);
    assert!(refused.code == 3 && refused.err.contains("is not; give it as a file"), "{refused:?}");
}

#[test]
fn a_key_from_the_environment_is_changed_at_a_start() {
    let platform = Platform::new();
    let (api, http, https) =
        (platform.api.to_string(), platform.http.to_string(), platform.https.to_string());
    let start = |keys: &str| {
        let words = ["start", "--demo", "--background", "--api", &api, "--http", &http, "--https", &https];
        let said: Said = mainyard(&platform.data(), &words)
            .env("MAINYARD_SECRETS_KEY", keys)
            .output()
            .expect("the program runs")
            .into();
        assert_eq!(said.code, 0, "{said:?}");
        platform.workload("staging/locker-api", |w| w["state"] == "steady");
    };
    let (old, new) = (mainyard_key(), mainyard_key());
    start(&old);
    assert!(!platform.data().join("secrets-key").exists(), "it is kept where it came from");
    let refused = platform.run(&["secret", "rotate-key"]);
    assert!(
        refused.code == 3 && refused.err.contains("start the platform with `NEW,OLD` there"),
        "{refused:?}"
    );
    platform.ok(&["stop"]);
    start(&format!("{new},{old}"));
    assert!(platform.logs().contains("secrets were sealed again under the newest key count=2"));
    platform.ok(&["stop"]);
    start(&new);
    platform.ok(&["restart", "staging/locker-api"]);
    for part in ["node", "gateway"] {
        let environment =
            std::fs::read(format!("/proc/{}/environ", platform.part(part)[0])).expect("its environment");
        assert!(
            !environment.windows(new.len()).any(|text| text == new.as_bytes()),
            "{part} has no need of it"
        );
    }
}
