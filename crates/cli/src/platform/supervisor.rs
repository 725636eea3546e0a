//! The supervisor: brings the parts up in their order, holds the listening sockets, starts again what ends, and
//! takes everything down when asked.

use std::fs::File;
use std::net::SocketAddr;
use std::os::fd::AsRawFd;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use mainyard_api::{AddSignInKey, NoPath, NoQuery};
use mainyard_certificates::authority::Names;
use mainyard_core::address::NODE_ADDRESS;
use mainyard_core::model::Signal;
use mainyard_runtime::{Isolation, IsolationMode, NodeNetwork};
use private_postgres::{Postgres, Written};

use super::cleanup;
use super::instances::Instance;
use super::isolation_mode::{Chosen, is_root};
use super::listeners::{Api, FIRST_LISTENER, Listeners, reachable};
use super::parts::{self, ApiTls, Common, ForControl, PartConfig};
use super::processes::{self, Known};
use super::{background, demo, isolation_mode, ssh};
use crate::args::{LOCAL_AUTHORITY, Part, Start};
use crate::client::Client;
use crate::data_dir::{CLIENT_TOKEN, Call, DataDir, write_whole};
use crate::terminal::{Failure, Paint};

static ASKED_TO_STOP: AtomicBool = AtomicBool::new(false);

extern "C" fn on_signal(_: i32) {
    ASKED_TO_STOP.store(true, Ordering::SeqCst);
}

fn asked_to_stop() -> bool {
    ASKED_TO_STOP.load(Ordering::SeqCst)
}

/// One supervisor a data directory; the lock goes with the process.
fn lock(place: &DataDir) -> Result<File, Failure> {
    let path = place.file("lock");
    let file = File::options().create(true).truncate(false).write(true).open(&path);
    let file = file.map_err(|error| Failure::failed(format!("cannot open {}: {error}", path.display())))?;
    // SAFETY: the descriptor is open.
    if unsafe { libc::flock(file.as_raw_fd(), libc::LOCK_EX | libc::LOCK_NB) } != 0 {
        let url = place.call().map(|call| format!(" at {}", call.url)).unwrap_or_default();
        let data = place.data.display();
        let message = format!(
            "the platform in {data} runs already{url}\nSee it with: mainyard board    End it with: mainyard stop"
        );
        return Err(Failure::refused(message));
    }
    Ok(file)
}

/// Runs the platform until it is asked to stop.
pub(super) fn run(place: &DataDir, start: &Start) -> Result<(), Failure> {
    close_files();
    place.prepare()?;
    let lock = lock(place)?;
    let left = processes::parts(place);
    let chosen = isolation_mode::choose(place, start, &left)?;
    for signal in [libc::SIGTERM, libc::SIGINT, libc::SIGHUP] {
        // SAFETY: the handler only stores a flag.
        unsafe { libc::signal(signal, on_signal as *const () as libc::sighandler_t) };
    }
    if let Some(own) = Known::of(std::process::id()) {
        let bytes = serde_json::to_vec(&own).unwrap_or_default();
        write_whole(&place.file("supervisor.json"), &bytes, 0o644)?;
    }
    let outcome = bring_up(place, start, left, chosen).and_then(|mut platform| platform.watch(place));
    if outcome.is_ok() {
        println!("stopping");
    }
    let cleaned = cleanup::clean(place);
    drop(lock);
    outcome.and(cleaned)
}

/// Files that the platform writes are for its own account alone.
fn close_files() {
    // SAFETY: no memory is involved; no other thread writes files yet.
    unsafe { libc::umask(0o077) };
}

struct Running {
    instance: Instance,
    process: Known,
    begun: Instant,
    pause: Duration,
}

/// Credentials that each part gets, each its own.
struct PartConfigs {
    common: Common,
    for_control: ForControl,
    part_tokens: Vec<(String, String)>,
}

impl PartConfigs {
    fn of(&self, instance: Instance) -> PartConfig {
        let name = instance.part_name();
        let own = self.part_tokens.iter().find(|(part, _)| Some(part) == name.as_ref());
        PartConfig {
            common: self.common.clone(),
            token: own.map(|(_, token)| token.clone()),
            control: (instance.part == Part::Control).then(|| self.for_control.clone()),
        }
    }
}

/// Names that the local authority may sign for: names inside, and those given at the start.
fn authority_names(start: &Start) -> Names {
    let said = start.local_domain.iter().chain(&start.api_name).cloned();
    let domains: Vec<String> = said.chain([mainyard_core::service_names::DOMAIN.to_owned()]).collect();
    Names::of(&domains, &[start.api.ip()])
}

/// The API's certificate, where it is served over TLS: the files that were given, or the local authority's.
fn certificate_of(start: &Start) -> Result<Option<ApiTls>, Failure> {
    let Some(chain) = &start.api_tls else { return Ok(None) };
    if chain == Path::new(LOCAL_AUTHORITY) {
        return Ok(Some(ApiTls::LocalAuthority));
    }
    let key = start.api_tls_key.as_ref().ok_or_else(|| {
        Failure::usage("--api-tls names a certificate; its key is missing: add --api-tls-key KEY.pem")
    })?;
    let absolute = |file: &Path| std::path::absolute(file).unwrap_or_else(|_| file.to_owned());
    Ok(Some(ApiTls::Given { chain: absolute(chain), key: absolute(key) }))
}

struct Platform {
    listeners: Listeners,
    configs: PartConfigs,
    api: Api,
    parts: Vec<Running>,
    postgres: Postgres,
    postgres_pid: Option<Known>,
    _visitors: Option<demo::Visitors>,
}

#[expect(clippy::too_many_lines, reason = "what is started, in its order")]
fn bring_up(
    place: &DataDir,
    start: &Start,
    left: Vec<(Instance, Known)>,
    chosen: Chosen,
) -> Result<Platform, Failure> {
    let failed = |error: &dyn std::fmt::Display| Failure::failed(error.to_string());
    let begun = Instant::now();
    let paint = Paint::stdout();
    let api = Api::of(place, start)?;
    let listeners = Listeners::open(start, &api, &left, chosen.claim)?;
    std::fs::create_dir_all(place.file("logs")).map_err(|error| failed(&error))?;
    std::fs::create_dir_all(place.file("node")).map_err(|error| failed(&error))?;
    let shared = is_root() && matches!(chosen.means, IsolationMode::Plain { .. });
    for dir in [&place.data, &place.file("node")] {
        // Without isolation, replicas of root run as accounts of their own that see the machine's files, theirs among
        // them: they pass through, and list nothing.
        let mode = if shared { 0o711 } else { 0o700 };
        std::fs::set_permissions(dir, std::fs::Permissions::from_mode(mode))
            .map_err(|error| failed(&error))?;
    }
    let postgres = Postgres::open(&place.file("postgres")).map_err(|error| failed(&error))?;
    let postgres = postgres.writing(if start.no_disk_sync { Written::ToKernel } else { Written::ToDisk });
    let pid = postgres.start().map_err(|error| failed(&error))?;
    postgres.create_owned_database("mainyard").map_err(|error| failed(&error))?;

    if let IsolationMode::Isolated { .. } = chosen.means {
        // Both the node agent and the gateway live in it: it is there before either.
        NodeNetwork::open(&Isolation::network_file(&place.file("node"))).map_err(|error| {
            Failure::failed(format!(
                "{error}\nWithout isolation, replicas run as ordinary processes: mainyard start --isolation none"
            ))
        })?;
    }

    let member =
        std::env::var("SUDO_USER").or_else(|_| std::env::var("USER")).unwrap_or_else(|_| "root".to_owned());
    let call =
        Call { url: format!("http://{}", reachable(api.local)), token: place.secret(CLIENT_TOKEN, 32)? };
    let bytes = serde_json::to_vec(&call).map_err(|error| failed(&error))?;
    write_whole(&place.file("client.json"), &bytes, 0o600)?;
    let instances = Instance::all(start.gateways);
    for instance in instances.iter().filter(|instance| instance.part == Part::Gateway) {
        // Control does not see what is in them; they are there before it is started.
        std::fs::create_dir_all(place.file(&instance.name())).map_err(|error| failed(&error))?;
    }
    let mut part_tokens = Vec::new();
    for part in instances.iter().filter_map(|instance| instance.part_name()) {
        part_tokens.push((part.clone(), place.secret(&format!("token-of-{}", part.replace('/', "-")), 32)?));
    }
    let common = Common {
        instance: place.instance()?,
        means: chosen.means.clone(),
        api: api.local,
        http: start.http,
        https: start.https,
        authority_names: authority_names(start),
        ports: api
            .addresses()
            .iter()
            .chain([&api.local, &start.http, &start.https])
            .map(SocketAddr::port)
            .collect(),
        resolvers: start.resolver.clone(),
        proxies: start.proxy_from.clone(),
        verify_images_every: start.verify_images_every,
        log_format: start.log_format,
    };
    let for_control = ForControl {
        database: postgres.owners_url("mainyard").map_err(|error| failed(&error))?,
        part_tokens: part_tokens.clone(),
        member,
        git_allowed: start.git_allowed(place).iter().map(ToString::to_string).collect(),
        addresses: api.addresses(),
        names: start.api_name.clone(),
        tls: certificate_of(start)?,
        secrets_key: std::env::var(parts::SECRETS_KEY).ok(),
        object_store: start.object_store(),
        builds_at_once: start.builds_at_once,
        ssh: ssh_host(place, start)?,
    };
    let configs = PartConfigs { common, for_control, part_tokens };

    let mut platform = Platform {
        listeners,
        configs,
        api,
        parts: Vec::new(),
        postgres,
        postgres_pid: Known::of(pid),
        _visitors: None,
    };
    platform.adopt(left, start);
    for instance in instances {
        if !platform.parts.iter().any(|running| running.instance == instance) {
            platform.launch(place, instance, Duration::from_millis(100))?;
        }
    }
    let runtime =
        tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(|error| failed(&error))?;
    let client = Client::to(call.clone())?;
    let link = runtime.block_on(async {
        ready(&mut platform, &client).await?;
        if start.demo {
            demo::seed(&client, start.crowd).await?;
            demo::make_repository(place).await?;
            if start.database {
                demo::seed_database(&client).await?;
            }
            if start.code {
                demo::seed_code(place, &client).await?;
            }
        }
        if let Some(address) = start.ssh {
            ssh::listen(place, address)?;
        }
        let key = client.ask::<AddSignInKey>(NoPath {}, NoQuery {}).await?;
        Ok::<String, Failure>(format!("{}{}", console_url(&call, start), key.path))
    })?;
    if start.demo {
        platform._visitors = Some(demo::Visitors::start(reachable(start.http)));
    }
    println!("{} after {:.1} s", paint.strong("Main Yard is ready"), begun.elapsed().as_secs_f64());
    println!("  console   {link}");
    println!("  api       {}/api/v1", console_url(&call, start));
    println!("  gateway   http://{}   https://{}", reachable(start.http), reachable(start.https));
    if let Some(address) = start.ssh {
        println!("  code      ssh://{}@{}", ssh::user(), reachable(address));
    }
    println!("  data      {}", place.data.display());
    if let IsolationMode::Plain { range } = chosen.means {
        let first = range.place(NODE_ADDRESS);
        println!(
            "  {} replicas are ordinary processes at {first}/16; only the memory limit applies",
            paint.signal(Signal::Caution, "not isolated:")
        );
    }
    if start.demo {
        let port = start.http.port();
        println!(
            "\nTry:\n  mainyard board\n  curl -H 'Host: api.staging.lockers.localhost' http://{}/who",
            reachable(start.http)
        );
        println!("  http://staging.lockers.localhost:{port} in a browser");
        let repository = place.file("demo").join("lockers.git");
        println!("  mainyard source add staging/lockers file://{} --folder deploy", repository.display());
    } else {
        println!("\nNext:\n  mainyard environment add staging");
    }
    if std::env::var_os(background::CHILD).is_some() {
        background::let_go(&place.file("logs/supervisor.log"));
    } else {
        println!("\nCtrl-C ends it.");
    }
    Ok(platform)
}

/// The address of the console and the API for people.
fn console_url(call: &Call, start: &Start) -> String {
    match (&start.api_tls, start.api_name.first()) {
        (None, _) => call.url.clone(),
        (Some(_), Some(name)) => format!("https://{name}:{}", start.api.port()),
        (Some(_), None) => format!("https://{}", reachable(start.api)),
    }
}

/// Waits until control answers, the node is linked and the gateway takes connections.
async fn ready(platform: &mut Platform, client: &Client) -> Result<(), Failure> {
    let begun = Instant::now();
    loop {
        if client.snapshot().await.is_ok_and(|snapshot| !snapshot.state.nodes.is_empty()) {
            return Ok(());
        }
        if asked_to_stop() {
            return Err(Failure::failed("stopped before it was ready"));
        }
        cleanup::reap();
        if let Some(ended) = platform.parts.iter().find(|running| !running.process.lives()) {
            let part = ended.instance.name();
            return Err(Failure::failed(format!(
                "{part} ended while starting; its log is in the data directory, logs/{part}.log"
            )));
        }
        if begun.elapsed() > Duration::from_secs(60) {
            return Err(Failure::failed(
                "the parts were not ready within a minute; their logs are in the data directory, logs/",
            ));
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

impl Platform {
    fn launch(&mut self, place: &DataDir, instance: Instance, pause: Duration) -> Result<(), Failure> {
        let listeners = match instance.part {
            Part::Control => [&self.listeners.api].into_iter().chain(&self.listeners.api_tls).collect(),
            Part::Node => vec![],
            Part::Gateway => {
                let mut own = vec![&self.listeners.http, &self.listeners.https];
                own.extend(&self.listeners.claim);
                own
            }
        };
        let child = parts::spawn(place, instance, &self.configs.of(instance), &listeners)?;
        // One that has ended already is missed at the next look, and started again.
        let process = Known::of(child.id()).unwrap_or(Known::GONE);
        self.parts.push(Running { instance, process, begun: Instant::now(), pause });
        Ok(())
    }

    /// Takes over the parts of a supervisor that was killed, and ends those that are of another making: another
    /// program, other addresses, or a second one of its kind.
    fn adopt(&mut self, left: Vec<(Instance, Known)>, start: &Start) {
        let mut others = Vec::new();
        for (instance, process) in left {
            let addresses = match instance.part {
                Part::Control => self.api.addresses(),
                Part::Node => vec![],
                Part::Gateway => vec![start.http, start.https],
            };
            let holds = |(place, address)| process.listener(FIRST_LISTENER + place, address).is_some();
            let told = self.configs.of(instance).digest().is_ok_and(|digest| process.runs_with(&digest));
            let as_wanted = told && process.is_this_program() && (0..).zip(addresses).all(holds);
            let wanted = as_wanted && Instance::all(start.gateways).contains(&instance);
            if wanted && !self.parts.iter().any(|running| running.instance == instance) {
                let pause = Duration::from_millis(100);
                self.parts.push(Running { instance, process, begun: Instant::now(), pause });
            } else {
                others.push(process);
            }
        }
        cleanup::end(&others, Duration::from_secs(3));
    }

    /// Starts again what ends, until asked to stop. Nothing here waits for one part while another may need it.
    fn watch(&mut self, place: &DataDir) -> Result<(), Failure> {
        let postgres = keep_postgres(self.postgres.clone(), self.postgres_pid);
        let mut logs_seen = Instant::now();
        let mut due: Vec<(Instant, Running)> = Vec::new();
        while !asked_to_stop() {
            std::thread::sleep(Duration::from_millis(30));
            if logs_seen.elapsed() > Duration::from_secs(30) {
                parts::rotate_logs(place);
                logs_seen = Instant::now();
            }
            cleanup::reap();
            let (running, ended): (Vec<_>, Vec<_>) =
                std::mem::take(&mut self.parts).into_iter().partition(|running| running.process.lives());
            self.parts = running;
            for mut running in ended {
                // One that ran for a while is started at once; one that crashes again and again, less often.
                running.pause = if running.begun.elapsed() > Duration::from_secs(20) {
                    Duration::from_millis(100)
                } else {
                    (running.pause * 2).min(Duration::from_secs(5))
                };
                due.push((Instant::now() + running.pause, running));
            }
            let (now, later): (Vec<_>, Vec<_>) = due.into_iter().partition(|(at, _)| *at <= Instant::now());
            due = later;
            for (_, running) in now {
                // What hinders it now, such as a full disk, may pass; the other parts go on.
                if let Err(error) = self.launch(place, running.instance, running.pause) {
                    error.print();
                    self.parts.push(Running { process: Known::GONE, begun: Instant::now(), ..running });
                }
            }
        }
        postgres.join().map_err(|_| Failure::failed("the PostgreSQL watchdog panicked"))
    }
}

/// Starts PostgreSQL again whenever it ends: a thread of its own, since its recovery may take long.
fn keep_postgres(postgres: Postgres, mut pid: Option<Known>) -> std::thread::JoinHandle<()> {
    std::thread::spawn(move || {
        let mut said = String::new();
        while !asked_to_stop() {
            if pid.is_none_or(|known| !known.lives()) {
                match postgres.start() {
                    Ok(started) => (pid, said) = (Known::of(started), String::new()),
                    Err(error) => {
                        // Once, however long it lasts.
                        let before = std::mem::replace(&mut said, error.to_string());
                        let new = (before != said).then_some(&said);
                        new.into_iter().for_each(|said| eprintln!("{said}"));
                        wait_unless_asked(Duration::from_secs(1));
                    }
                }
            }
            wait_unless_asked(Duration::from_millis(30));
        }
    })
}

/// True when asked to stop meanwhile.
fn wait_unless_asked(pause: Duration) -> bool {
    let begun = Instant::now();
    while begun.elapsed() < pause && !asked_to_stop() {
        std::thread::sleep(Duration::from_millis(10));
    }
    asked_to_stop()
}

/// Asks a running supervisor to end, and waits. False when there was none.
pub(super) fn ask_to_stop(place: &DataDir) -> Result<bool, Failure> {
    let bytes = std::fs::read(place.file("supervisor.json")).unwrap_or_default();
    let Ok(known) = serde_json::from_slice::<Known>(&bytes) else { return Ok(false) };
    if !known.lives() {
        return Ok(false);
    }
    known.signal(libc::SIGTERM);
    let begun = Instant::now();
    while known.lives() {
        if begun.elapsed() > Duration::from_secs(60) {
            return Err(Failure::failed("the supervisor did not end within a minute"));
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    Ok(true)
}

/// Where code is reached over ssh, and the host key's fingerprint.
fn ssh_host(place: &DataDir, start: &Start) -> Result<Option<(String, String)>, Failure> {
    let Some(address) = start.ssh else { return Ok(None) };
    let host_key = ssh::host_key(place)?;
    Ok(Some((format!("ssh://{}@{}", ssh::user(), reachable(address)), host_key)))
}
