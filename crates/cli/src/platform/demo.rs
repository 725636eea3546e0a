//! Bringing up Larkfield Lockers, and its gentle traffic.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use mainyard_api::{
    AddEnvironment, AddImage, AddSecret, Declaration, Declare, NewEnvironment, NewImageQuery, NoPath,
    OfTarget, Trial,
};
use mainyard_core::manifest::SourceFile;
use mainyard_core::model::{ImageRef, Name, NameError, OutgoingMode, Target};
use mainyard_core::record::State;
use mainyard_demo::{
    CODE, CROWD, DebianError, ENVIRONMENTS, MANIFEST, SECRETS, VISITS, bases, code_history, database,
    pack_images,
};
use mainyard_git::{Fence, NewCommit};
use mainyard_images::{ContentStore, Digest, write_archive};

use crate::client::Client;
use crate::data_dir::DataDir;
use crate::terminal::Failure;

/// Adds what is missing of the demo. What a person changed since stays as it is.
pub(super) async fn seed(client: &Client, crowd: usize) -> Result<(), Failure> {
    let failed =
        |error: &dyn std::fmt::Display| Failure::failed(format!("the demo cannot be brought up: {error}"));
    let there = client.snapshot().await?.state;
    let dir = tempfile::tempdir().map_err(|error| failed(&error))?;
    let store = ContentStore::open(dir.path()).map_err(|error| failed(&error))?;
    let images = pack_images(&store).map_err(|error| failed(&error))?;
    for (name, digest) in images {
        add_image(client, &store, &there, &name, &digest).await?;
    }
    let mut all: Vec<(&str, Vec<String>)> =
        ENVIRONMENTS.iter().map(|name| (*name, vec![MANIFEST.to_owned()])).collect();
    if crowd > 0 {
        all.push((CROWD, mainyard_demo::crowd(crowd)));
    }
    for (environment, manifests) in all {
        if there.environments.keys().any(|name| name.as_str() == environment) {
            continue;
        }
        let at_once = Trial { forecast: false, lose_node: None };
        let name: Name = environment.parse().map_err(|error: NameError| failed(&error))?;
        let new = NewEnvironment { name: name.clone(), domain: None, outgoing: OutgoingMode::Listed };
        client.ask_with::<AddEnvironment, _>(NoPath {}, at_once.clone(), &new).await?;
        if environment != CROWD {
            for (secret, value) in SECRETS {
                let secret = secret.parse().map_err(|error: NameError| failed(&error))?;
                let path = OfTarget { environment: name.clone(), name: secret };
                client.send(client.request::<AddSecret>(&path, &at_once).body(value)).await?;
            }
        }
        let named = |(number, text)| SourceFile { name: format!("mainyard-{}.toml", number + 1), text };
        let files: Vec<_> = manifests.into_iter().enumerate().map(named).collect();
        let declaration = Declaration { environment: name, files, exact: false, named: None };
        client.ask_with::<Declare, _>(NoPath {}, at_once, &declaration).await?;
    }
    Ok(())
}

async fn add_image(
    client: &Client,
    store: &ContentStore,
    there: &State,
    name: &ImageRef,
    digest: &Digest,
) -> Result<(), Failure> {
    if there.images.get(&name.to_string()).is_some_and(|image| image.digest == digest.to_string()) {
        return Ok(());
    }
    let mut archive = Vec::new();
    write_archive(store, digest, &name.to_string(), &mut archive)
        .map_err(|error| Failure::failed(format!("the image {name} cannot be written: {error}")))?;
    let query = NewImageQuery { name: None, forecast: false };
    client.send(client.request::<AddImage>(&NoPath {}, &query).body(archive)).await?;
    Ok(())
}

/// Adds a database server from this machine's Debian packages to the demo; says so where that cannot be.
pub(super) async fn seed_database(client: &Client) -> Result<(), Failure> {
    let there = client.snapshot().await?.state;
    let dir = tempfile::tempdir()
        .map_err(|error| Failure::failed(format!("the demo's database cannot be made: {error}")))?;
    let made = ContentStore::open(dir.path()).map_err(DebianError::from);
    let (store, (name, digest, declaration)) =
        match made.and_then(|store| Ok((store.clone(), database(&store)?))) {
            Ok(made) => made,
            Err(error) => {
                println!("  the demo goes without a database of its own: {error}");
                return Ok(());
            }
        };
    add_image(client, &store, &there, &name, &digest).await?;
    let environment: Name =
        ENVIRONMENTS[0].parse().map_err(|error: NameError| Failure::failed(error.to_string()))?;
    let records = Target::new(
        &environment,
        &"records".parse::<Name>().map_err(|error| Failure::failed(error.to_string()))?,
    );
    if there.workloads.contains_key(&records) {
        return Ok(());
    }
    let files = vec![SourceFile { name: "records.toml".to_owned(), text: declaration }];
    let declaration = Declaration { environment, files, exact: false, named: None };
    let at_once = Trial { forecast: false, lose_node: None };
    client.ask_with::<Declare, _>(NoPath {}, at_once, &declaration).await?;
    Ok(())
}

/// The demo's repository, where there is none yet: sources may follow it from this machine.
pub(super) async fn make_repository(place: &DataDir) -> Result<(), Failure> {
    let failed = |error: &dyn std::fmt::Display| {
        Failure::failed(format!("the demo's repository cannot be made: {error}"))
    };
    let dir = place.file("demo").join("lockers.git");
    if dir.join("HEAD").exists() {
        return Ok(());
    }
    let now = jiff::Timestamp::now();
    let commits: Vec<NewCommit> = mainyard_demo::history()
        .into_iter()
        .map(|chapter| NewCommit {
            by: (chapter.by.0.to_owned(), chapter.by.1.to_owned()),
            at: now - jiff::SignedDuration::from_hours(24 * chapter.days),
            message: chapter.message.to_owned(),
            files: vec![("deploy/mainyard.toml".to_owned(), chapter.manifest)],
        })
        .collect();
    let fence = Fence::new(&place.file("repositories")).map_err(|error| failed(&error))?;
    mainyard_git::make_repository(&fence, &dir, &commits).await.map_err(|error| failed(&error))
}

/// Pushes the code of the survey form, as a member would, so that it is built and rolled out; says so where that cannot be.
pub(super) async fn seed_code(place: &DataDir, client: &Client) -> Result<(), Failure> {
    let there = client.snapshot().await?.state;
    let failed =
        |error: &dyn std::fmt::Display| Failure::failed(format!("the demo's code cannot be made: {error}"));
    let dir = place.file("demo").join(format!("{}.git", CODE.1));
    if dir.join("HEAD").exists() {
        return Ok(());
    }
    let images = tempfile::tempdir().map_err(|error| failed(&error))?;
    let made = ContentStore::open(images.path()).map_err(DebianError::from);
    let (store, bases) = match made.and_then(|store| Ok((store.clone(), bases(&store)?))) {
        Ok(made) => made,
        Err(error) => {
            println!("  the demo goes without code of its own: {error}");
            return Ok(());
        }
    };
    for (name, digest) in &bases {
        add_image(client, &store, &there, name, digest).await?;
    }
    let now = jiff::Timestamp::now();
    let commits = code_history().into_iter().map(|chapter| NewCommit {
        by: (chapter.by.0.to_owned(), chapter.by.1.to_owned()),
        at: now - jiff::SignedDuration::from_hours(24 * chapter.days),
        message: chapter.message.to_owned(),
        files: chapter.files.into_iter().map(|(path, text)| (path.to_owned(), text)).collect(),
    });
    let fence = Fence::new(&place.file("repositories")).map_err(|error| failed(&error))?;
    let made = mainyard_git::make_repository(&fence, &dir, &commits.collect::<Vec<_>>()).await;
    made.map_err(|error| failed(&error))?;
    let pushed = tokio::process::Command::new("git")
        .arg("--git-dir")
        .arg(&dir)
        .args(["-c", "credential.helper=!f() { echo username=token; echo \"password=$MAINYARD_TOKEN\"; }; f"])
        .args(["push", "--quiet", &format!("{}/code/{}/{}", client.url(), CODE.0, CODE.1), "main"])
        .env("MAINYARD_TOKEN", client.token())
        .env("GIT_TERMINAL_PROMPT", "0")
        .output()
        .await
        .map_err(|error| failed(&error))?;
    if !pushed.status.success() {
        let said = String::from_utf8_lossy(&pushed.stderr);
        println!("  the demo's code could not be pushed: {}", said.trim());
    }
    Ok(())
}

/// A thread that visits the demo's hosts, some twenty times a second, until it is dropped.
pub(super) struct Visitors {
    _until: Until,
}

impl Visitors {
    pub(super) fn start(gateway: SocketAddr) -> Visitors {
        let stop = Arc::new(AtomicBool::new(false));
        let seen = Arc::clone(&stop);
        let spawned =
            std::thread::Builder::new().name("visitors".to_owned()).spawn(move || visit(gateway, &seen));
        if let Err(error) = spawned {
            eprintln!("the demo has no visitors: {error}");
        }
        Visitors { _until: Until(stop) }
    }
}

fn visit(gateway: SocketAddr, stop: &AtomicBool) {
    let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else { return };
    let client = reqwest::Client::builder().no_proxy().timeout(Duration::from_secs(10)).build();
    let Ok(client) = client else { return };
    runtime.block_on(async {
        let mut turn = 0usize;
        while !stop.load(Ordering::SeqCst) {
            let (host, paths) = VISITS[turn % VISITS.len()];
            let path = paths[turn / VISITS.len() % paths.len()];
            let visit = client.get(format!("http://{gateway}{path}")).header("host", host);
            tokio::spawn(async move {
                if let Ok(answer) = visit.send().await {
                    let _ = answer.bytes().await;
                }
            });
            turn += 1;
            // A little uneven, as visitors are.
            tokio::time::sleep(Duration::from_millis(25 + (turn * 37 % 40) as u64)).await;
        }
    });
}

/// A flag that ends a thread when it is dropped.
struct Until(Arc<AtomicBool>);

impl Drop for Until {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}
