//! Every command ends with the code that the manual says: 0 done, 1 it failed, 2 wrong usage, 3 refused, 4 the platform
//! can't be reached.

use std::collections::BTreeSet;

use crate::common::{Platform, mainyard};

/// By command: what is refused, and what is done. `-` where there is nothing of that kind.
const COMMANDS: &[(&str, &str, &str)] = &[
    ("start", "-", "-"),
    ("stop", "-", "-"),
    ("log-level", "-", "log-level info,gateway=warn"),
    ("sign-in", "-", "sign-in"),
    ("sign-out", "sign-out ffffffff", "sign-out --all"),
    ("token add", "token add deploys --part nonsense", "token add deploys"),
    ("token list", "-", "token list"),
    ("token remove", "token remove nobody", "token remove deploys"),
    ("board", "board nowhere", "board staging"),
    ("show", "show staging/nothing", "show staging/locker-api"),
    ("releases", "releases staging/nothing", "releases staging/locker-api"),
    ("keep", "keep staging/locker-api@99", "keep staging/locker-api@1"),
    (
        "compare",
        "compare staging/locker-api@1 staging/locker-api@9",
        "compare staging/locker-api@1 staging/locker-api@2",
    ),
    ("logs", "logs staging/nothing", "logs staging/locker-api"),
    ("stats", "stats staging/nothing", "stats staging/locker-api"),
    ("why", "why staging/nothing", "why staging/locker-api"),
    ("requests", "requests staging/nothing", "-"),
    ("trail", "trail staging/nothing", "trail staging/locker-api"),
    ("scale", "scale staging/nothing 2", "scale staging/locker-api 2"),
    ("deploy", "deploy staging/nothing --set A=b", "deploy staging/locker-api --set LOG_LEVEL=debug"),
    ("promote", "promote staging/nothing --to production", "promote staging/courier-web --to production"),
    ("rollback", "rollback staging/locker-api --to 9", "rollback staging/locker-api"),
    ("advance", "advance staging/locker-api", "-"),
    ("cancel", "cancel staging/locker-api", "-"),
    ("hold", "hold staging/nothing --because counting", "hold staging/courier-web --because counting"),
    ("resume", "resume staging/locker-api", "resume staging/courier-web"),
    ("restart", "restart staging/nothing", "restart staging/locker-api"),
    ("purge", "purge staging/api", "-"),
    ("set-aside", "set-aside staging/locker-api/z9", "-"),
    ("remove", "remove staging/nothing --yes", "remove staging/label-printer --yes"),
    ("declare", "declare wrong.toml --in staging", "declare right.toml --in staging"),
    (
        "add workload",
        "add workload staging/kiosk --image lockers/none:1",
        "add workload trial/kiosk --image lockers/courier-web:2.3.0",
    ),
    (
        "add service",
        "add service staging/desks --port 80=none --select workload=locker-api --open-to nowhere",
        "add service trial/desks --select workload=kiosk --port 80=http",
    ),
    ("add route", "add route staging/desks --to none", "add route trial/desks --to kiosk"),
    ("validate", "validate wrong.toml", "validate right.toml"),
    ("schema", "-", "schema"),
    ("code list", "-", "code list"),
    ("code show", "code show staging/nothing", "-"),
    ("code clone", "code clone staging/nothing", "-"),
    ("code connect", "-", "-"),
    ("code remove", "code remove staging/nothing --yes", "-"),
    ("key add", "key add laptop value", "-"),
    ("key list", "-", "key list"),
    ("key remove", "key remove laptop", "-"),
    ("build list", "-", "build list"),
    ("build show", "build show 999", "-"),
    ("build logs", "build logs 999", "-"),
    ("build cancel", "build cancel 999", "-"),
    ("recipe suggest", "recipe suggest nothing", "recipe suggest site --print"),
    ("recipe check", "recipe check wrong.toml", "recipe check site"),
    ("recipe schema", "-", "recipe schema"),
    ("new", "new site --like python", "new fresh --like python"),
    ("send", "send site --in staging", "-"),
    ("image add", "image add wrong.toml", "-"),
    ("image list", "-", "image list"),
    ("image show", "image show lockers/none:1", "image show lockers/locker-api:1.4.0"),
    (
        "image compare",
        "image compare lockers/locker-api:1.4.0 lockers/none:1",
        "image compare lockers/locker-api:1.4.0 lockers/locker-api:1.5.0",
    ),
    ("image prune", "-", "image prune --keep 100"),
    ("image remove", "image remove lockers/none:1", "image remove lockers/locker-api:1.8.0"),
    ("image pull", "image pull nowhere/none:1", "-"),
    ("image pulls", "-", "image pulls"),
    (
        "image base",
        "image base debian/none:1 --packages no-such-package",
        "image base debian/shell:1 --packages dash --forecast",
    ),
    ("image storage", "-", "image storage"),
    (
        "image storage-rule",
        "image storage-rule lockers/none --none",
        "image storage-rule lockers/none --limit 1GiB",
    ),
    ("image signing-key", "-", "image signing-key made.pem"),
    ("image sign", "image sign lockers/none:1 --key none.pem", "-"),
    (
        "authority add",
        "authority add public --directory ftp://a --agree-to-terms",
        "authority add public --directory https://acme.example/directory --agree-to-terms",
    ),
    ("authority list", "-", "authority list"),
    ("authority remove", "authority remove nobody", "authority remove public"),
    (
        "registry add",
        "registry add forge --host a/b --plain --forecast",
        "registry add forge --host 127.0.0.1:1 --plain --forecast",
    ),
    ("registry list", "-", "registry list"),
    ("registry check", "registry check none", "-"),
    ("registry remove", "registry remove none", "-"),
    ("secret add", "secret add nowhere/key", "secret add trial/key"),
    ("secret list", "-", "secret list trial"),
    ("secret show", "secret show trial/none", "secret show trial/key"),
    ("secret remove", "secret remove trial/none", "secret remove trial/key"),
    ("secret public-key", "secret public-key nowhere", "secret public-key trial"),
    ("secret encrypt", "secret encrypt nowhere/key", "secret encrypt trial/key"),
    ("secret rotate-key", "-", "secret rotate-key"),
    ("application show", "application show trial/none", "application show trial/kiosk"),
    ("application remove", "application remove trial/none --yes", "application remove trial/kiosk --yes"),
    ("export", "export nowhere -o exported", "export staging -o exported"),
    ("source add", "source add nowhere/lockers file:///tmp/none", "-"),
    ("source list", "-", "source list"),
    ("source show", "source show staging/none", "-"),
    ("source compare", "source compare staging/none", "-"),
    ("source build", "source build staging/nothing", "-"),
    ("source check", "source check staging/nothing", "-"),
    ("source look", "source look staging/none", "-"),
    ("source catch-up", "source catch-up staging/none", "-"),
    ("source change", "source change staging/none --look-every 2m", "-"),
    ("source hold", "source hold staging/none --because counting", "-"),
    ("source resume", "source resume staging/none", "-"),
    ("source write-back", "source write-back staging/none", "-"),
    ("source remove", "source remove staging/none", "-"),
    ("certificate add", "certificate add staging/lockers --chain wrong.toml", "-"),
    ("certificate list", "-", "certificate list"),
    ("certificate show", "certificate show staging/none", "-"),
    ("certificate remove", "certificate remove staging/none", "-"),
    ("certificate issue", "certificate issue staging/none", "certificate issue staging/locker-api"),
    ("certificate show-authority", "-", "certificate show-authority"),
    ("environment add", "environment add staging", "environment add extra"),
    ("environment list", "-", "environment list"),
    ("environment live-changes", "environment live-changes nowhere on", "environment live-changes extra on"),
    ("environment image-rule", "environment image-rule nowhere --any", "environment image-rule extra --any"),
    ("environment outgoing", "environment outgoing nowhere none", "environment outgoing extra none"),
    ("environment remove", "environment remove staging", "environment remove extra"),
    ("use", "use nowhere", "use"),
    ("completions", "-", "completions bash"),
];

/// They need no platform, or are tested where they start and stop one.
const WITHOUT_A_PLATFORM: &[&str] = &[
    "start",
    "stop",
    "log-level",
    "validate",
    "schema",
    "completions",
    "image signing-key",
    "recipe suggest",
    "recipe check",
    "recipe schema",
    "new",
];

fn words(text: &str) -> Vec<&str> {
    text.split_whitespace().collect()
}

/// Every command that the help names, with those below it.
fn named_by_help(platform: &Platform, above: &str) -> BTreeSet<String> {
    let help = platform.ok(&[words(above), vec!["--help"]].concat());
    let list = help.split("Commands:\n").nth(1).unwrap_or_default().split("\n\n").next().unwrap_or_default();
    let names = list.lines().filter(|line| line.starts_with("  ") && !line.starts_with("   "));
    let names = names.filter_map(|line| line.split_whitespace().next()).filter(|name| *name != "help");
    let mut all = BTreeSet::new();
    for name in names {
        let name = format!("{above} {name}").trim().to_owned();
        let below = named_by_help(platform, &name);
        if below.is_empty() {
            all.insert(name);
        } else {
            all.extend(below);
        }
    }
    all
}

#[test]
fn every_command_ends_with_the_code_that_is_meant() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform.workload("staging/courier-web", |w| w["state"] == "steady");
    platform.ok(&["environment", "add", "trial"]);
    platform.ok(&["scale", "staging/locker-api", "3"]);
    platform.ok(&["deploy", "staging/locker-api", "--set", "LOG_LEVEL=warn"]);
    let file = |name: &str, text: &str| std::fs::write(platform.dir.path().join(name), text).expect("a file");
    file("value", "a value");
    file("wrong.toml", "application = \"kiosk\"\n[workload.kiosk]\nreplicaz = 1\n");
    file("right.toml", "application = \"kiosk\"\n[workload.kiosk]\nimage = \"lockers/courier-web:2.3.0\"\n");
    for folder in ["nothing", "site"] {
        std::fs::create_dir(platform.dir.path().join(folder)).expect("a folder");
    }
    file("site/index.html", "<p>Lockers</p>");
    file(
        "site/recipe.toml",
        "image = { name = \"lockers/site\" }\npart.run = { base = \"bases/plain:1\" }\n",
    );
    file("site/mainyard.toml", "application = \"site\"\n[workload.site]\nimage = \"lockers/other:1\"\n");
    let listed: BTreeSet<String> = COMMANDS.iter().map(|(command, ..)| (*command).to_owned()).collect();
    assert_eq!(named_by_help(&platform, ""), listed, "every command stands in the table");
    let code = |asked: &[&str], url: Option<&str>| {
        let mut command = mainyard(&platform.data(), asked);
        let value = std::fs::File::open(platform.dir.path().join("value")).expect("the file");
        command.current_dir(platform.dir.path()).stdin(value);
        if let Some(url) = url {
            command.env("MAINYARD_URL", url).env("MAINYARD_TOKEN", "none");
        }
        let said = command.output().expect("the program runs");
        let told =
            format!("{}{}", String::from_utf8_lossy(&said.stdout), String::from_utf8_lossy(&said.stderr));
        (said.status.code(), told)
    };
    let mut wrong = Vec::new();
    let mut expect = |asked: &[&str], url: Option<&str>, wanted: i32| {
        let (found, told) = code(asked, url);
        if found != Some(wanted) {
            wrong.push(format!("{asked:?}: {found:?} instead of {wanted}: {told}"));
        }
    };
    for (command, refused, done) in COMMANDS {
        expect(&[words(command), vec!["--nonsense"]].concat(), None, 2);
        let any = if *refused == "-" { done } else { refused };
        let local = WITHOUT_A_PLATFORM.contains(command);
        if *any != "-" && !local {
            expect(&words(any), Some("http://127.0.0.1:1"), 4);
        }
        for (asked, wanted) in [(refused, 3), (done, 0)] {
            if *asked != "-" {
                expect(&words(asked), None, wanted);
            }
        }
    }
    expect(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.6.1"], None, 1);
    expect(&["validate", "not-there.toml"], None, 2);
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn a_full_disk_for_the_output_is_reported_as_an_error() {
    let full = || std::fs::OpenOptions::new().write(true).open("/dev/full").expect("the device");
    for asked in [&["schema"][..], &["completions", "bash"]] {
        let mut command = mainyard(std::path::Path::new("/nonexistent"), asked);
        let said = command.stdout(full()).stderr(std::process::Stdio::piped()).output().expect("it runs");
        let told = String::from_utf8_lossy(&said.stderr);
        assert_eq!(said.status.code(), Some(1), "{told}");
        assert!(told.contains("standard output cannot be written: No space left on device"), "{told}");
    }
}
