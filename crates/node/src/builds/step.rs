//! One step: a command on top of layers, whose changes become a layer.

use std::future::Future;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use mainyard_control_client::{Control, Failed, Pause};
use mainyard_core::address::NODE_ADDRESS;
use mainyard_core::link::{StepEnd, StepId, StepOrder, StepOutcome};
use mainyard_core::model::{Bytes, EnvironmentIndex};
use mainyard_core::replica_lifecycle::DiskFull;
use mainyard_images::{Changes, PackedChanges, User, pack_changes, resolve_user};
use mainyard_runtime::{DiskScratch, Ending, Progress, Run, find_settled_survivor, first_id, last_ending};
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio_util::io::ReaderStream;
use tokio_util::sync::CancellationToken;

use super::{Shared, lines};

/// Between the request to end and the kill.
const GRACE: Duration = Duration::from_secs(2);
/// A keeper that an earlier agent started has brought its program up, or given up, within this time.
const BROUGHT_UP_WITHIN: Duration = Duration::from_secs(5);
/// What a layer takes beside the content of its files.
const ARCHIVE: u64 = 64 << 20;
/// The file that says under which key a step was begun. It is there before anything else of it.
const KEY: &str = "key";
/// The file that says that a step is being cleared away.
const ENDING: &str = "ending";
/// Paths that are no part of any layer: what the platform puts there, and what is for a while only.
const NEVER: [&str; 8] =
    ["/proc", "/sys", "/dev", "/tmp", "/run", "/etc/hosts", "/etc/hostname", "/etc/resolv.conf"];

/// The places of one step on this node.
struct Places {
    dir: PathBuf,
    run_dir: PathBuf,
    log_dir: PathBuf,
    layer: PathBuf,
    scratch: String,
}

impl Places {
    fn of(shared: &Shared, name: &str) -> Places {
        let dir = shared.dir.join(name);
        Places {
            run_dir: dir.join("run"),
            log_dir: dir.join("log"),
            layer: dir.join("layer.tar"),
            scratch: format!("build.{name}"),
            dir,
        }
    }

    fn clear(&self, scratch: Option<&DiskScratch>) {
        if let Some(scratch) = scratch {
            scratch.remove(&self.scratch);
        }
        if let Err(error) = std::fs::remove_dir_all(&self.dir)
            && error.kind() != std::io::ErrorKind::NotFound
        {
            tracing::warn!(dir = %self.dir.display(), %error, "a step's folder cannot be removed");
        }
    }

    /// Whether an earlier agent began this very step.
    fn was_begun(&self, key: &str) -> bool {
        std::fs::read_to_string(self.dir.join(KEY)).is_ok_and(|known| known == key)
    }

    fn begin(&self, key: &str) -> std::io::Result<()> {
        std::fs::create_dir_all(&self.run_dir)?;
        std::fs::create_dir_all(&self.log_dir)?;
        std::fs::write(self.dir.join(KEY), key)
    }

    /// How long ago it was begun.
    fn age(&self) -> Duration {
        let begun = std::fs::metadata(self.dir.join(KEY)).and_then(|found| found.modified());
        begun.ok().and_then(|at| SystemTime::now().duration_since(at).ok()).unwrap_or_default()
    }
}

/// Whether a step's folder is being cleared away.
pub(super) fn is_ending(dir: &Path) -> bool {
    dir.join(ENDING).exists()
}

/// Why a step was ended before its command did so.
#[derive(Clone, Copy, PartialEq, Eq)]
enum EndedBy {
    Itself,
    Time,
    Cancel,
}

/// Calls control until it answers.
pub(super) async fn until_taken<F>(call: impl Fn() -> F) -> Result<(), Failed>
where
    F: Future<Output = Result<(), Failed>>,
{
    let mut pause = Pause::default();
    loop {
        match call().await {
            Err(Failed::Unreachable(_) | Failed::NotTheLeader(_)) => pause.wait().await,
            other => return other,
        }
    }
}

/// Runs a step to its end and tells control; or ends it when nobody wants it any more.
pub(super) async fn carry_out(shared: Arc<Shared>, order: StepOrder, cancel: CancellationToken) {
    // One that was ended and is wanted again begins when nothing of it is left.
    let _turn = shared.cache_turns.at(&format!("step {}", order.id)).await;
    let places = Places::of(&shared, &order.id.to_string());
    let outcome = run(&shared, &order, &places, &cancel).await;
    shared.images.release(&order.id.to_string());
    if let Some(outcome) = outcome {
        let end = StepEnd { key: order.key.clone(), outcome };
        let path = format!("{}/end", path_of(&shared, order.id));
        let told = until_taken(|| shared.control.report(&path, &end));
        tokio::select! {
            told = told => if let Err(error) = told {
                tracing::warn!(step = %order.id, %error, "the end of a step was not taken");
            },
            () = cancel.cancelled() => {}
        }
    }
    places.clear(shared.driver.scratch());
}

fn path_of(shared: &Shared, id: StepId) -> String {
    format!("/link/nodes/{}/builds/{}/steps/{}", shared.node, id.build, id.step)
}

/// What came of the step; nothing where it was cancelled.
async fn run(
    shared: &Shared,
    order: &StepOrder,
    places: &Places,
    cancel: &CancellationToken,
) -> Option<StepOutcome> {
    let Some(scratch) = shared.driver.scratch() else {
        return Some(StepOutcome::NotHere(
            "steps run only on a node with isolation and with scratch on its disk".to_owned(),
        ));
    };
    let prepared = tokio::select! {
        prepared = prepare(shared, order) => prepared,
        () = cancel.cancelled() => return None,
    };
    let (layers, user) = match prepared {
        Ok(prepared) => prepared,
        Err(error) => return Some(StepOutcome::CannotStart(error)),
    };
    let mut turns = Vec::new();
    let caches: Vec<String> =
        order.caches.keys().map(|name| super::caches::scratch_name(&order.repository, name)).collect();
    for name in &caches {
        tokio::select! {
            turn = shared.cache_turns.at(name) => turns.push(turn),
            () = cancel.cancelled() => return None,
        }
    }
    let ended = match keep_running(shared, order, places, (layers, user), cancel).await {
        Ok(Some(ended)) => ended,
        Ok(None) => return None,
        Err(error) => return Some(StepOutcome::CannotStart(error)),
    };
    shared.caches.sweep(scratch, &caches);
    drop(turns);
    match ended {
        (Some(Ending { code: Some(0), .. }), EndedBy::Itself) => {
            tokio::select! {
                made = make_layer(shared, order, places, scratch) => Some(made),
                () = cancel.cancelled() => None,
            }
        }
        (ending, by) => {
            let written = scratch.written(&places.scratch);
            Some(StepOutcome::Ended {
                code: ending.and_then(|ending| ending.code),
                signal: ending.and_then(|ending| ending.signal),
                out_of_memory: ending.is_some_and(|ending| ending.memory_kills > 0),
                disk_full: written.is_some_and(|written| DiskFull::counts(written, order.limits.disk)),
                too_long: by == EndedBy::Time,
            })
        }
    }
}

/// The layers below the step, and the account that it runs as.
async fn prepare(shared: &Shared, order: &StepOrder) -> Result<(Vec<PathBuf>, User), String> {
    let layers = shared.images.hold_layers(&order.id.to_string(), &order.layers).await?;
    let user = resolve_user(&order.user, &layers).map_err(|error| error.to_string())?;
    Ok((layers, user))
}

/// Starts the command, or finds it running, and waits for its end. Nothing where it was cancelled.
async fn keep_running(
    shared: &Shared,
    order: &StepOrder,
    places: &Places,
    (layers, user): (Vec<PathBuf>, User),
    cancel: &CancellationToken,
) -> Result<Option<(Option<Ending>, EndedBy)>, String> {
    let went_on = places.was_begun(&order.key);
    let survivor = if went_on { find_settled_survivor(&places.run_dir, BROUGHT_UP_WITHIN) } else { None };
    let ending = if went_on && survivor.is_none() { last_ending(&places.run_dir) } else { None };
    if ending.is_some() {
        return Ok(Some((ending, EndedBy::Itself)));
    }
    let mut child = None;
    let keeper = match survivor {
        Some(found) => found.keeper,
        None => {
            end_leftover(shared, &order.id.to_string()).await;
            places.begin(&order.key).map_err(|error| format!("the step's folder cannot be made: {error}"))?;
            let run = run_of(shared, order, places, layers, &user)?;
            let command = shared.driver.command(&run).map_err(|error| error.to_string())?;
            let mut command = tokio::process::Command::from(command);
            let spawned = command.stderr(Stdio::null()).spawn();
            let spawned = spawned.map_err(|error| format!("the keeper cannot be started: {error}"))?;
            let keeper = spawned.id().unwrap_or_default();
            child = Some(spawned);
            keeper
        }
    };
    let left = order.time.duration().saturating_sub(places.age());
    let lines_ended = CancellationToken::new();
    let (control, path, log_dir) =
        (shared.control.clone(), format!("{}/log", path_of(shared, order.id)), places.log_dir.clone());
    let no_more = lines_ended.clone();
    let sending = tokio::spawn(async move { lines::send(control, path, &log_dir, no_more).await });
    let wait = end_of(child, keeper, &places.run_dir);
    tokio::pin!(wait);
    let by = tokio::select! {
        end = &mut wait => {
            lines_ended.cancel();
            let _ = sending.await;
            return Ok(Some((end?, EndedBy::Itself)));
        }
        () = tokio::time::sleep(left) => EndedBy::Time,
        () = cancel.cancelled() => EndedBy::Cancel,
    };
    ask_to_end(keeper);
    let ended = wait.await;
    if by == EndedBy::Cancel {
        sending.abort();
        return Ok(None);
    }
    lines_ended.cancel();
    let _ = sending.await;
    Ok(Some((ended.ok().flatten(), by)))
}

/// Waits for the keeper. An error says why the command could not be started.
async fn end_of(
    child: Option<tokio::process::Child>,
    keeper: u32,
    run_dir: &Path,
) -> Result<Option<Ending>, String> {
    let Some(mut child) = child else {
        crate::keepers::until_ended(keeper).await;
        return Ok(last_ending(run_dir));
    };
    let mut last = None;
    if let Some(output) = child.stdout.take() {
        let mut lines = BufReader::new(output).lines();
        while let Ok(Some(line)) = lines.next_line().await {
            last = Progress::parse(&line).or(last);
        }
    }
    let _ = child.wait().await;
    match last {
        Some(Progress::Failed { step, errno }) => {
            Err(format!("cannot {step}: {}", std::io::Error::from_raw_os_error(errno)))
        }
        Some(Progress::Ended(ending)) => Ok(Some(ending)),
        _ => Ok(last_ending(run_dir)),
    }
}

fn ask_to_end(keeper: u32) {
    // SAFETY: no memory is involved; the keeper is ours and was not reaped yet.
    unsafe { libc::kill(keeper as i32, libc::SIGTERM) };
}

/// Ends what an earlier agent began under this name, and clears it away.
pub(super) async fn end_leftover(shared: &Shared, name: &str) {
    let places = Places::of(shared, name);
    if places.dir.is_dir() {
        let _ = std::fs::write(places.dir.join(ENDING), "");
    }
    if let Some(found) = find_settled_survivor(&places.run_dir, BROUGHT_UP_WITHIN) {
        ask_to_end(found.keeper);
        crate::keepers::until_ended(found.keeper).await;
    }
    places.clear(shared.driver.scratch());
}

fn run_of(
    shared: &Shared,
    order: &StepOrder,
    places: &Places,
    layers: Vec<PathBuf>,
    user: &User,
) -> Result<Run, String> {
    let scratch = shared.driver.scratch().ok_or("there is no scratch on this node's disk")?;
    let mut folders = Vec::new();
    for (name, path) in &order.caches {
        folders.push((shared.caches.open(scratch, &order.repository, name)?, path.clone()));
    }
    let mut env = order.env.clone();
    if !env.iter().any(|pair| pair.starts_with("HOME=")) {
        env.push(format!("HOME={}", user.home));
    }
    Ok(Run {
        name: places.scratch.clone(),
        hostname: "build".to_owned(),
        environment: EnvironmentIndex::BUILDS,
        layers,
        argv: order.command.clone(),
        env,
        cwd: order.folder.clone(),
        user: (user.uid, user.gid),
        groups: user.groups.clone(),
        stop_signal: libc::SIGTERM,
        limits: order.limits,
        read_only: false,
        volumes: Vec::new(),
        ptrace: false,
        folders,
        address: order.address,
        port: None,
        hosts: "127.0.0.1 localhost build\n::1 localhost\n".to_owned(),
        resolver: order.address.map_or_else(String::new, |_| format!("nameserver {NODE_ADDRESS}\n")),
        files: order.secrets.iter().map(|(path, value)| (path.clone(), value.0.clone())).collect(),
        grace: GRACE,
        run_dir: places.run_dir.clone(),
        log_dir: places.log_dir.clone(),
    })
}

/// Packs what the command wrote, and sends it.
async fn make_layer(
    shared: &Shared,
    order: &StepOrder,
    places: &Places,
    scratch: &DiskScratch,
) -> StepOutcome {
    let packed = match pack(order, places, scratch).await {
        Ok(packed) => packed,
        Err(error) => return StepOutcome::BadLayer(error),
    };
    let path = format!("{}/layer", path_of(shared, order.id));
    let sent = until_taken(|| send_layer(&shared.control, &path, &places.layer)).await;
    if let Err(error) = sent {
        return StepOutcome::BadLayer(format!("the layer was not taken: {error}"));
    }
    // The next step begins with it: it need not be fetched.
    shared.images.offer_part(&packed.digest, &places.layer);
    StepOutcome::Made { digest: packed.digest.to_string(), size: packed.size }
}

async fn pack(order: &StepOrder, places: &Places, scratch: &DiskScratch) -> Result<PackedChanges, String> {
    let upper = scratch.path_of(&places.scratch).join("upper");
    let mut without: Vec<String> = NEVER.iter().map(ToString::to_string).collect();
    without.extend(order.caches.values().cloned());
    without.extend(order.secrets.iter().map(|(path, _)| path.clone()));
    let most = order.limits.disk.bytes() + Bytes::new(ARCHIVE).bytes();
    let to = places.layer.clone();
    let packed = tokio::task::spawn_blocking(move || {
        let file =
            std::fs::File::create(&to).map_err(|error| format!("the layer cannot be written: {error}"))?;
        let changes =
            Changes { upper: &upper, first_id: first_id(EnvironmentIndex::BUILDS), without: &without, most };
        pack_changes(&changes, std::io::BufWriter::with_capacity(1 << 18, file))
            .map_err(|error| error.to_string())
    });
    packed.await.map_err(|error| error.to_string())?
}

async fn send_layer(control: &Control, path: &str, layer: &Path) -> Result<(), Failed> {
    let opened = tokio::fs::File::open(layer).await;
    let opened = opened.map_err(|error| Failed::Unusable(error.to_string()))?;
    control.stream(path, reqwest::Body::wrap_stream(ReaderStream::with_capacity(opened, 1 << 18))).await
}
