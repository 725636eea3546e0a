//! People: they declare, scale, deploy and go back, at whichever control takes it.

use mainyard_core::cluster::{Cluster, DeployRequest, Refusal};
use mainyard_core::manifest::{SourceFile, read};
use mainyard_core::model::{ImageRecord, Name, Origin, ReleaseNumber, Target};

use crate::world::{Happening, World};

const TAGS: [&str; 5] = ["1.4.0", "1.5.0", "1.6.1", "1.7.0", "1.8.0"];

fn manifest(application: &str) -> String {
    format!(
        "application = \"{application}\"\n[workload.{application}]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 3\n\
         ports = {{ http = 8080 }}\nstop = {{ drain = \"5s\", grace = \"1s\" }}\n\
         [workload.{application}.checks]\nready = {{ path = \"/ready\", port = \"http\", every = \"3s\" }}\n\
         [workload.{application}.rollout]\nsettle = \"300ms\"\ndeadline = \"8s\"\n\
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
}

impl World {
    pub fn person(&mut self) {
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
        let Some((cluster, _)) = &mut self.controls[control].leader else { return };
        let target: Target =
            format!("staging/{}", APPLICATIONS[(dice >> 8) as usize % 2]).parse().expect("a target");
        let tag = TAGS[(dice >> 16) as usize % TAGS.len()];
        let done = if cluster.state.environments.is_empty() {
            begin(cluster, clock)
        } else if dice.is_multiple_of(3) {
            cluster.scale(&target, size, "mira", clock).map(|_| Done::Scaled(target, size))
        } else if dice % 3 == 1 {
            let image = format!("lockers/locker-api:{tag}");
            let request = DeployRequest { image: image.parse().ok(), ..DeployRequest::default() };
            cluster.deploy(&target, &request, "mira", clock).map(|made| match made {
                Some((number, _)) => Done::Released(target, number, image),
                None => Done::Nothing,
            })
        } else {
            cluster.rollback(&target, None, "jon", clock).map(|(number, _)| Done::WentBack(target, number))
        };
        let Ok(done) = done else { return };
        // Only what was written is acknowledged.
        if !self.decide(control) {
            return;
        }
        self.outcome.acts += 1;
        match done {
            Done::Nothing => {}
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

fn begin(cluster: &mut Cluster, now: jiff::Timestamp) -> Result<Done, Refusal> {
    cluster.add_environment(&staging(), "mira", now)?;
    for tag in TAGS {
        cluster.add_image(ImageRecord {
            image: format!("lockers/locker-api:{tag}").parse().expect("an image"),
            digest: format!("sha256:{tag}"),
            size: 1,
            layers: 1,
            origin: Origin { by: "mira".into(), act: "added".into(), at: now },
        });
    }
    for application in APPLICATIONS {
        let files = [SourceFile { name: "mainyard.toml".into(), text: manifest(application) }];
        let declared = read(&files, Some(&staging())).expect("a valid declaration");
        cluster.declare(&declared, &staging(), false, "mira", now)?;
    }
    Ok(Done::Nothing)
}
