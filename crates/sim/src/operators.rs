//! People: they declare, scale, deploy and go back, at whichever control takes it.

use mainyard_core::cluster::{Cluster, DeployRequest, Goal, Refusal, SealedValue};
use mainyard_core::manifest::{SourceFile, read};
use mainyard_core::model::{ImageRecord, Name, Origin, ReleaseNumber, Target};

use crate::world::{Happening, World};

const TAGS: [&str; 5] = ["1.4.0", "1.5.0", "1.6.1", "1.7.0", "1.8.0"];

/// How the applications move to new releases; each seed has its own.
const ROLLOUT_RULES: [&str; 5] = [
    "",
    "may_exceed = 2\nmay_lack = 1\n",
    "style = \"stepped\"\nsteps = [{ share = 10, watch = \"700ms\" }, { share = 50, watch = \"700ms\" }]\n",
    "style = \"stepped\"\nsteps = [{ count = 1, then = \"ask\" }]\non_failure = \"hold\"\n",
    "style = \"swap\"\nwatch = \"1s\"\nkeep_old = \"3s\"\n",
];

/// Some of them run something before a release serves.
const FIRST: [&str; 3] = ["", "", "run_first = [\"/app/migrate\"]\nrun_first_within = \"7s\"\n"];

/// A program that always starts, and listens soon.
pub(crate) const ALWAYS_STARTS: [&str; 2] = ["1.4.0", "1.8.0"];

/// A program that starts slowly: sometimes too slowly for its deadline.
pub(crate) const SLOW: &str = "1.5.0";

fn manifest(application: &str, manner: &str, first: &str) -> String {
    format!(
        "application = \"{application}\"\n[workload.{application}]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 3\n\
         {first}ports = {{ http = 8080 }}\nstop = {{ drain = \"5s\", grace = \"1s\" }}\n\
         [workload.{application}.checks]\nready = {{ path = \"/ready\", port = \"http\", every = \"3s\" }}\n\
         [workload.{application}.rollout]\nsettle = \"300ms\"\ndeadline = \"8s\"\n{manner}\
         [route.{application}]\nhost = \"{application}.localhost\"\nto = [{{ service = \"{application}\" }}]\n"
    )
}

const APPLICATIONS: [&str; 2] = ["locker-api", "courier-web"];

fn staging() -> Name {
    "staging".parse().expect("a name")
}

enum Done {
    Nothing,
    Scaled(Target, u32),
    Released(Target, ReleaseNumber, String),
    WentBack(Target, ReleaseNumber),
    Steered(Target, &'static str),
    Removed(Target),
    Declared(Target, u32, ReleaseNumber, String),
}

impl World {
    pub(crate) fn person(&mut self) {
        if self.quiet() {
            return;
        }
        let wait = self.chance.between(100, 3000);
        self.later(wait, Happening::Person);
        let holder = self
            .controls
            .iter()
            .position(|it| it.alive && it.leader.is_some() && it.frozen_until <= self.now);
        let Some(control) = holder else { return };
        let (clock, dice, size) = (self.clock(), self.chance.next(), self.chance.between(0, 9) as u32);
        let number = self.new_number();
        let Some((cluster, _)) = &mut self.controls[control].leader else { return };
        let target: Target =
            format!("staging/{}", APPLICATIONS[(dice >> 8) as usize % 2]).parse().expect("a target");
        let tag = TAGS[(dice >> 16) as usize % TAGS.len()];
        let manner = (dice >> 40) as usize;
        let done = if cluster.state().environments.is_empty() {
            begin(cluster, manner, clock)
        } else {
            act(cluster, target, dice % 21, tag, (size, manner, number), clock)
        };
        let done = match done {
            Ok(done) => done,
            // One change is judged by its end: no declaration here takes what is another application's.
            Err(refusal) if refusal.message.contains("is taken by") => return self.violated(refusal.message),
            Err(_) => return,
        };
        // Only what was written is acknowledged.
        if !self.decide(control) {
            return;
        }
        self.outcome.acts += 1;
        match done {
            Done::Nothing => {}
            Done::Removed(target) => {
                self.note(|| format!("{target} is removed"));
                self.wanted.remove(&target);
                self.released.retain(|(of, ..)| *of != target);
            }
            Done::Declared(target, size, number, image) => {
                self.note(|| format!("{target} is declared again"));
                self.wanted.insert(target.clone(), size);
                self.released.push((target, number, image));
            }
            Done::Steered(target, how) => self.note(|| format!("{target} is {how}")),
            Done::WentBack(target, number) => self.note(|| format!("{target}@{number} goes back")),
            Done::Scaled(target, size) => {
                self.note(|| format!("{target} is scaled to {size}"));
                self.wanted.insert(target, size);
            }
            Done::Released(target, number, image) => {
                self.note(|| format!("{target}@{number} is {image}"));
                self.released.push((target, number, image));
            }
        }
    }
}

fn act(
    cluster: &mut Cluster,
    target: Target,
    which: u64,
    tag: &str,
    (size, chance, number): (u32, usize, u64),
    now: jiff::Timestamp,
) -> Result<Done, Refusal> {
    if cluster.state().workloads.get(&target).is_some_and(|workload| workload.leaves) {
        return Ok(Done::Nothing);
    }
    match which {
        12..14 => rename(cluster, target, chance, now),
        // It may come back while its old replicas still drain.
        14 => cluster.transaction("mira", now).remove_target(&target).map(|_| Done::Removed(target)),
        15..17 => declare_again(cluster, target, chance, now),
        17..19 => take_other_name(cluster, target, chance, now),
        19 => {
            let value = SealedValue { name: format!("value-{number}"), text: true };
            let secret = Target::new(&staging(), &"key".parse().expect("a name"));
            cluster.transaction("mira", now).add_secret(&secret, value).map(|_| Done::Nothing)
        }
        20 => {
            let secret = Target::new(&staging(), &"key".parse().expect("a name"));
            cluster.transaction("mira", now).remove_secret(&secret).map(|_| Done::Nothing)
        }
        0..3 => cluster.transaction("mira", now).scale(&target, size).map(|_| Done::Scaled(target, size)),
        3..6 => {
            let image = format!("lockers/locker-api:{tag}");
            let request = DeployRequest { image: image.parse().ok(), ..DeployRequest::default() };
            cluster.transaction("mira", now).deploy(&target, &request).map(|made| match made {
                Some((number, _)) => Done::Released(target, number, image),
                None => Done::Nothing,
            })
        }
        6..8 => cluster
            .transaction("jon", now)
            .rollback(&target, Goal::Before)
            .map(|done| Done::WentBack(target, done.number)),
        8 => cluster
            .transaction("jon", now)
            .hold(&target, "a look at it")
            .map(|_| Done::Steered(target, "held")),
        9 => cluster.transaction("jon", now).resume(&target).map(|_| Done::Steered(target, "resumed")),
        10 => cluster
            .transaction("mira", now)
            .advance(&target)
            .or_else(|_| cluster.transaction("mira", now).restart(&target).map(|_| String::new()))
            .map(|_| Done::Steered(target, "advanced or restarted")),
        _ => cluster.transaction("jon", now).cancel(&target).map(|_| Done::Steered(target, "cancelled")),
    }
}

/// The other name that a workload has for some time.
fn other(target: &Target) -> Target {
    Target::new(&target.environment, &format!("{}-two", target.name).parse().expect("a name"))
}

/// The workload takes another name, and its service and route lead to it from then on; and back.
fn take_other_name(
    cluster: &mut Cluster,
    target: Target,
    chance: usize,
    now: jiff::Timestamp,
) -> Result<Done, Refusal> {
    let two = other(&target);
    let goes = match (cluster.state().workloads.get(&target), cluster.state().workloads.get(&two)) {
        (Some(there), None) if !there.leaves => true,
        (None, Some(there)) if !there.leaves => false,
        _ => return Ok(Done::Nothing),
    };
    let (name, new) = (&target.name, if goes { &two.name } else { &target.name });
    let text = manifest(name.as_str(), ROLLOUT_RULES[chance % ROLLOUT_RULES.len()], "")
        .replace(&format!("workload.{name}"), &format!("workload.{new}"))
        + &format!("[service.{name}]\nselect = {{ workload = \"{new}\" }}\nports = {{ 80 = \"http\" }}\n");
    let files = [SourceFile { name: "mainyard.toml".into(), text }];
    let declared = read(&files, Some(&staging())).expect("a valid declaration");
    cluster.transaction("mira", now).declare(&declared, &staging(), true)?;
    Ok(if goes { Done::Removed(target) } else { Done::Steered(target, "has its name again") })
}

/// Declares an object again as it was before its removal.
fn declare_again(
    cluster: &mut Cluster,
    target: Target,
    chance: usize,
    now: jiff::Timestamp,
) -> Result<Done, Refusal> {
    if cluster.state().workloads.contains_key(&target)
        || cluster.state().workloads.contains_key(&other(&target))
    {
        return Ok(Done::Nothing);
    }
    let first = FIRST[chance / ROLLOUT_RULES.len() % FIRST.len()];
    let text = manifest(target.name.as_str(), ROLLOUT_RULES[chance % ROLLOUT_RULES.len()], first);
    let files = [SourceFile { name: "mainyard.toml".into(), text }];
    let declared = read(&files, Some(&staging())).expect("a valid declaration");
    cluster.transaction("mira", now).declare(&declared, &staging(), true)?;
    let made = cluster.state().workloads[&target].release;
    Ok(Done::Declared(target, 3, made, "lockers/locker-api:1.4.0".to_owned()))
}

/// The names by which service and workload find each other change in one declaration: the port's, a label's, and what the
/// service selects by. Sometimes the service is left to the platform, which makes one by the workload's name.
fn rename(
    cluster: &mut Cluster,
    target: Target,
    chance: usize,
    now: jiff::Timestamp,
) -> Result<Done, Refusal> {
    let name = &target.name;
    let either =
        |bit: usize, one: &'static str, other: &'static str| if chance >> bit & 1 == 0 { one } else { other };
    let (port, side) = (either(0, "http", "web"), either(1, "left", "right"));
    let select = match either(2, "name", "label") {
        "name" => format!("workload = \"{name}\""),
        _ => format!("side-{name} = \"{side}\""),
    };
    let number = cluster.state().workloads.get(&target).map(|workload| workload.release);
    let image = number.and_then(|number| cluster.state().releases.get(&(target.clone(), number)));
    let image = image.map_or("lockers/locker-api:1.4.0".to_owned(), |release| release.spec.image.to_string());
    let text = manifest(name.as_str(), ROLLOUT_RULES[(chance >> 6) % ROLLOUT_RULES.len()], "")
        .replace("replicas = 3\n", "")
        .replace("lockers/locker-api:1.4.0", &image)
        .replace(
            "ports = { http = 8080 }",
            &format!("ports = {{ {port} = 8080 }}\nlabels = {{ side-{name} = \"{side}\" }}"),
        )
        .replace("port = \"http\"", &format!("port = \"{port}\""))
        .replace(&format!("[route.{name}]"), &format!("[route.{name}{}]", either(11, "", "-front")));
    let own = format!("[service.{name}]\nselect = {{ {select} }}\nports = {{ 80 = \"{port}\" }}\n");
    let service = if chance >> 3 & 7 == 0 { String::new() } else { own };
    let host = either(10, "", "-at-another-host");
    let text = text.replace(&format!("\"{name}.localhost\""), &format!("\"{name}{host}.localhost\""));
    let files = [SourceFile { name: "mainyard.toml".into(), text: text + &service }];
    let declared = read(&files, Some(&staging())).expect("a valid declaration");
    let before = number;
    cluster.transaction("mira", now).declare(&declared, &staging(), true)?;
    let after = cluster.state().workloads.get(&target).map(|workload| workload.release);
    Ok(match after.filter(|after| Some(*after) != before) {
        Some(number) => Done::Released(target, number, image),
        None => Done::Steered(target, "declared again"),
    })
}

fn begin(cluster: &mut Cluster, manner: usize, now: jiff::Timestamp) -> Result<Done, Refusal> {
    cluster.transaction("mira", now).add_environment(&staging(), None)?;
    for tag in TAGS {
        cluster.at(now).add_image(ImageRecord {
            image: format!("lockers/locker-api:{tag}").parse().expect("an image"),
            digest: format!("sha256:{tag}"),
            size: 1,
            layers: 1,
            origin: Origin::new("mira", "added", now),
            named: None,
            signed_by: Default::default(),
        });
    }
    for (number, application) in APPLICATIONS.into_iter().enumerate() {
        let first = FIRST[(manner / ROLLOUT_RULES.len() + number) % FIRST.len()];
        let text = manifest(application, ROLLOUT_RULES[(manner + number) % ROLLOUT_RULES.len()], first);
        let files = [SourceFile { name: "mainyard.toml".into(), text }];
        let declared = read(&files, Some(&staging())).expect("a valid declaration");
        cluster.transaction("mira", now).declare(&declared, &staging(), false)?;
    }
    Ok(Done::Nothing)
}
