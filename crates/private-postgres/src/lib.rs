//! A PostgreSQL server of our own: Debian's binaries, a data directory of ours, loopback only, a password that
//! nobody typed, and an account without rights.
//!
//! Debian's package also starts a server of its own on the usual port; this one has nothing to do with it.

mod account;

use std::fs;
use std::io::{self, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use account::{Account, account_for, passable};

/// Why there is no server.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The package is missing.
    #[error(
        "PostgreSQL is not installed: no /usr/lib/postgresql/*/bin/initdb\nInstall it with: apt-get install postgresql"
    )]
    NotInstalled,
    /// The account that the server should run as is missing.
    #[error(
        "there is no account `postgres`, which the server runs as because PostgreSQL refuses to run as root\nInstall it with: apt-get install postgresql"
    )]
    NoAccount,
    /// A directory above keeps the account out.
    #[error("{} shuts PostgreSQL's account out (mode {mode:04o})\nLet others pass with: chmod o+x {}   or choose another place with --data", dir.display(), dir.display())]
    ShutOut {
        /// Which directory.
        dir: PathBuf,
        /// Its mode.
        mode: u32,
    },
    /// The data is of another major version.
    #[error("{} was made by PostgreSQL {found}; PostgreSQL {installed} is installed\nInstall postgresql-{found}, or choose another place with --data", dir.display())]
    OtherVersion {
        /// The data directory.
        dir: PathBuf,
        /// Its version.
        found: String,
        /// The newest one installed.
        installed: String,
    },
    /// Something else went wrong.
    #[error("cannot {doing}: {source}")]
    Io {
        /// The operation that failed.
        doing: String,
        /// Why not.
        source: io::Error,
    },
    /// A program of PostgreSQL failed.
    #[error("{program} failed:\n{output}")]
    Program {
        /// Which one.
        program: String,
        /// Its output.
        output: String,
    },
}

trait Doing<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error>;
}

impl<T> Doing<T> for io::Result<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error> {
        self.map_err(|source| Error::Io { doing: doing.into(), source })
    }
}

/// The durability of a change when the server confirms it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    /// It is on the disk: it outlives a power failure.
    ToDisk,
    /// The kernel has it: it outlives any process that is killed. A power failure may lose everything; for tests
    /// and records that are thrown away, which then don't depend on how fast the disk is.
    ToKernel,
}

/// A data directory and how to serve it.
#[derive(Debug, Clone)]
pub struct Postgres {
    dir: PathBuf,
    bin: PathBuf,
    account: Option<Account>,
    password: String,
    port: u16,
    written: Written,
}

impl Postgres {
    /// Opens the server in `dir`, making its data directory the first time.
    pub fn open(dir: &Path) -> Result<Postgres, Error> {
        let account = account_for(dir)?;
        fs::create_dir_all(dir).doing(format!("make {}", dir.display()))?;
        if let Some(account) = account {
            chown(dir, Some(account.uid), Some(account.gid)).doing("hand over the data directory")?;
            passable(dir, account)?;
        }
        fs::set_permissions(dir, fs::Permissions::from_mode(0o700))
            .doing("close the data directory to others")?;
        let data = dir.join("data");
        let bin = binaries(&data)?;
        let password = kept(&dir.join("password"), new_password)?;
        let port = kept(&dir.join("port"), || Ok(free_port()?.to_string()))?;
        let port = port.trim().parse().map_err(io::Error::other).doing("read the port file")?;
        let password = password.trim().to_owned();
        let server = Postgres { dir: dir.to_owned(), bin, account, password, port, written: Written::ToDisk };
        if !data.join("PG_VERSION").exists() {
            server.initialise()?;
        }
        Ok(server)
    }

    /// The same server, started so that changes are written like this.
    pub fn writing(self, written: Written) -> Postgres {
        Postgres { written, ..self }
    }

    /// How to connect to the database of this name.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://mainyard:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// How to connect to the database of this name as the role that owns it and nothing else.
    pub fn owners_url(&self, database: &str) -> Result<String, Error> {
        let password = kept(&self.dir.join(format!("{database}-password")), new_password)?;
        Ok(format!("postgres://{}:{}@127.0.0.1:{}/{database}", owner(database), password.trim(), self.port))
    }

    /// Makes a database with a role that owns it, is no superuser and may make neither roles nor databases. What is
    /// in a database that is there already becomes the role's.
    pub fn create_owned_database(&self, name: &str) -> Result<(), Error> {
        // PostgreSQL's programs take a tenth of a second, so they run once in a data directory's life. The mark lies in
        // the directory itself: another directory in its place has none.
        let mark = self.dir.join("data").join(format!("{name}-owner"));
        if fs::read_to_string(&mark).is_ok_and(|found| found == OWNERSHIP) {
            return Ok(());
        }
        let password = kept(&self.dir.join(format!("{name}-password")), new_password)?;
        let (role, password) = (owner(name), password.trim());
        self.create_database(name)?;
        // Everything here is of our own making: names of constants, and a password of hexadecimal digits.
        self.sql("postgres", &format!(
            "DO $$ BEGIN IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = '{role}') THEN CREATE ROLE {role}; END IF; END $$;
             ALTER ROLE {role} LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS PASSWORD '{password}';
             ALTER DATABASE {name} OWNER TO {role};
             REVOKE ALL ON DATABASE {name} FROM PUBLIC; REVOKE ALL ON DATABASE postgres, template1 FROM PUBLIC;"
        ))?;
        self.sql(name, &format!(
            "ALTER SCHEMA public OWNER TO {role};
             DO $$ DECLARE it record; BEGIN
               FOR it IN SELECT c.oid::regclass AS name, c.relkind FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
                 WHERE n.nspname = 'public' AND c.relkind IN ('r', 'S') AND pg_get_userbyid(c.relowner) <> '{role}'
                 AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = c.oid AND d.deptype IN ('a', 'i') AND c.relkind = 'S')
               LOOP EXECUTE format('ALTER TABLE %s OWNER TO {role}', it.name); END LOOP;
             END $$;"
        ))?;
        fs::write(&mark, OWNERSHIP).doing("note that the database has its owner")
    }

    /// Runs statements as the superuser, which nothing else uses.
    fn sql(&self, database: &str, statements: &str) -> Result<(), Error> {
        let mut command = self.command("psql");
        command.args(["--no-psqlrc", "--quiet", "--set", "ON_ERROR_STOP=1", "--host", "127.0.0.1"]);
        command.args(["--username", "mainyard", "--port", &self.port.to_string(), "--dbname", database]);
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
        command.env("PGPASSFILE", self.password_file()?);
        let mut child = command.spawn().doing("run psql")?;
        // On its standard input: a password among its words could be seen by others.
        if let Some(mut input) = child.stdin.take() {
            input.write_all(statements.as_bytes()).doing("tell psql what to do")?;
        }
        let output = child.wait_with_output().doing("run psql")?;
        if output.status.success() {
            return Ok(());
        }
        let output = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        Err(Error::Program { program: "psql".to_owned(), output })
    }

    /// The superuser's password, as PostgreSQL's programs read it.
    fn password_file(&self) -> Result<PathBuf, Error> {
        let path = self.dir.join("passfile");
        let line = format!("127.0.0.1:{}:*:mainyard:{}\n", self.port, self.password);
        if fs::read_to_string(&path).is_ok_and(|found| found == line) {
            return Ok(path);
        }
        kept(&path, || Ok(line.clone()))?;
        fs::write(&path, &line).doing("keep the password for PostgreSQL's programs")?;
        if let Some(account) = self.account {
            chown(&path, Some(account.uid), Some(account.gid)).doing("hand over the password")?;
        }
        Ok(path)
    }

    /// A command as the server's account, in a directory that it may enter.
    fn command(&self, program: &str) -> Command {
        let mut command = Command::new(self.bin.join(program));
        command.current_dir(&self.dir).stdin(Stdio::null()).env_remove("PGDATA").env("LC_ALL", "C.UTF-8");
        if let Some(account) = self.account {
            command.uid(account.uid).gid(account.gid);
        }
        // SAFETY: system calls between fork and exec, on memory that lives across them.
        unsafe { command.pre_exec(forbid_new_rights) };
        command
    }

    fn run(&self, program: &str, arguments: &[&str]) -> Result<(), Error> {
        let mut command = self.command(program);
        // SAFETY: one system call between fork and exec. It ends with this process, whatever ends that.
        unsafe {
            command.pre_exec(|| match libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL) {
                0 => Ok(()),
                _ => Err(io::Error::last_os_error()),
            })
        };
        let output = command.args(arguments).output().doing(format!("run {program}"))?;
        if output.status.success() {
            return Ok(());
        }
        let output = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        Err(Error::Program { program: program.to_owned(), output })
    }

    /// In a directory beside, renamed when whole: an interrupted one is no data directory.
    fn initialise(&self) -> Result<(), Error> {
        let partial = self.dir.join("data.partial");
        if partial.exists() {
            fs::remove_dir_all(&partial).doing("clear an interrupted data directory")?;
        }
        let password_file = self.dir.join("password");
        if let Some(account) = self.account {
            chown(&password_file, Some(account.uid), Some(account.gid)).doing("hand over the password")?;
        }
        let (data, file) = (partial.display().to_string(), password_file.display().to_string());
        let common = [
            "--username=mainyard",
            "--auth=scram-sha-256",
            "--encoding=UTF8",
            "--locale=C.UTF-8",
            "--no-sync",
        ];
        let mut arguments = vec!["--pgdata", &data, "--pwfile", &file];
        arguments.extend(common);
        self.run("initdb", &arguments)?;
        fs::rename(&partial, self.dir.join("data")).doing("keep the data directory")
    }

    /// The process id of a server that already serves this directory.
    pub fn running(&self) -> Option<u32> {
        let text = fs::read_to_string(self.dir.join("data/postmaster.pid")).ok()?;
        let pid: u32 = text.lines().next()?.trim().parse().ok()?;
        let command = fs::read(format!("/proc/{pid}/cmdline")).ok()?;
        let command = String::from_utf8_lossy(&command).replace('\0', " ");
        command.contains(&self.dir.join("data").display().to_string()).then_some(pid)
    }

    /// Starts the server in a session of its own and waits until it takes connections. Gives its process id;
    /// the caller reaps it.
    pub fn start(&self) -> Result<u32, Error> {
        if let Some(pid) = self.running() {
            self.wait_until_ready(pid)?;
            return Ok(pid);
        }
        self.end_orphans();
        // What a killed server left would be taken for a running one if its number were given to another.
        let _ = fs::remove_file(self.dir.join("data/postmaster.pid"));
        let log = fs::OpenOptions::new().create(true).append(true).open(self.dir.join("log"));
        let log = log.doing("make the server's log")?;
        let mut command = self.command("postgres");
        command.arg("-D").arg(self.dir.join("data"));
        for setting in [
            format!("port={}", self.port),
            "listen_addresses=127.0.0.1".to_owned(),
            "unix_socket_directories=".to_owned(),
            "max_connections=40".to_owned(),
            "shared_buffers=32MB".to_owned(),
            "dynamic_shared_memory_type=mmap".to_owned(),
            "max_wal_size=256MB".to_owned(),
            "jit=off".to_owned(),
            "autovacuum_naptime=20s".to_owned(),
        ] {
            command.arg("-c").arg(setting);
        }
        if self.written == Written::ToKernel {
            command.args(["-c", "fsync=off", "-c", "full_page_writes=off"]);
        }
        command.stdout(log.try_clone().doing("make the server's log")?).stderr(log);
        // SAFETY: setsid is safe between fork and exec.
        unsafe {
            command.pre_exec(|| {
                libc::setsid();
                Ok(())
            })
        };
        let child = command.spawn().doing("start postgres")?;
        self.wait_until_ready(child.id())?;
        Ok(child.id())
    }

    fn wait_until_ready(&self, pid: u32) -> Result<(), Error> {
        let deadline = Instant::now() + Duration::from_secs(60);
        loop {
            let state = fs::read_to_string(self.dir.join("data/postmaster.pid")).unwrap_or_default();
            let ready = state.lines().nth(7).is_some_and(|line| line.trim() == "ready");
            if ready && TcpStream::connect(("127.0.0.1", self.port)).is_ok() {
                return Ok(());
            }
            if has_ended(pid) || Instant::now() > deadline {
                let output = fs::read_to_string(self.dir.join("log")).unwrap_or_default();
                let last: Vec<&str> = output.lines().rev().take(6).collect();
                let output = last.into_iter().rev().collect::<Vec<_>>().join("\n");
                return Err(Error::Program { program: "postgres".to_owned(), output });
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Makes a database; one that is there already is left as it is.
    pub fn create_database(&self, name: &str) -> Result<(), Error> {
        let mut command = self.command("createdb");
        command.env("PGPASSFILE", self.password_file()?).args([
            "-h",
            "127.0.0.1",
            "-U",
            "mainyard",
            "-p",
            &self.port.to_string(),
            name,
        ]);
        let output = command.output().doing("run createdb")?;
        let words = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        if output.status.success() || words.contains("already exists") {
            return Ok(());
        }
        Err(Error::Program { program: "createdb".to_owned(), output: words })
    }

    /// Asks the server to end at once but orderly, and waits.
    pub fn stop(&self) {
        let Some(pid) = self.running() else { return self.end_orphans() };
        let deadline = Instant::now() + Duration::from_secs(20);
        let mut signal = libc::SIGINT;
        while self.running() == Some(pid) && !has_ended(pid) {
            // SAFETY: no memory is involved; the process was just seen to serve this very directory.
            unsafe { libc::kill(pid as i32, signal) };
            signal = if Instant::now() > deadline { libc::SIGQUIT } else { 0 };
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

impl Postgres {
    /// Ends what a killed server left: its workers notice by themselves that it has gone, but in their own time,
    /// and a new server refuses to start beside them.
    fn end_orphans(&self) {
        let Ok(data) = fs::canonicalize(self.dir.join("data")) else { return };
        let deadline = Instant::now() + Duration::from_secs(2);
        loop {
            let orphans = working_in(&data);
            if orphans.is_empty() {
                return;
            }
            let signal = if Instant::now() > deadline { libc::SIGKILL } else { libc::SIGQUIT };
            for pid in orphans {
                // SAFETY: no memory is involved; the process was just seen to work in this very directory.
                unsafe { libc::kill(pid, signal) };
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

/// Which statements gave a database its owner: another text here, and they run again.
const OWNERSHIP: &str = "1";

/// The role that owns a database.
fn owner(database: &str) -> String {
    format!("{database}_owner")
}

/// No program of PostgreSQL gains rights or leaves its memory behind.
fn forbid_new_rights() -> io::Result<()> {
    let none = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
    // SAFETY: the structure lives across the call.
    let failed = unsafe {
        libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0
            || libc::setrlimit(libc::RLIMIT_CORE, &none) != 0
    };
    if failed { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// Processes of PostgreSQL whose working directory is this one: a server's and its workers' is their data.
fn working_in(data: &Path) -> Vec<i32> {
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let ids = processes.filter_map(|entry| {
        let pid = entry.file_name().to_str()?.parse().ok()?;
        let is_postgres = fs::read_link(entry.path().join("exe")).ok()?.file_name()? == "postgres";
        (is_postgres && fs::read_link(entry.path().join("cwd")).ok()? == data).then_some(pid)
    });
    ids.collect()
}

/// Whether a process is gone, or only waits to be reaped; reaps it if it is ours.
fn has_ended(pid: u32) -> bool {
    // SAFETY: the status is plain data; for a process that is not ours the call does nothing.
    unsafe {
        let mut status = 0;
        libc::waitpid(pid as i32, &mut status, libc::WNOHANG);
        libc::kill(pid as i32, 0) != 0
    }
}

/// The binaries of the version that made the data, or of the newest one.
fn binaries(data: &Path) -> Result<PathBuf, Error> {
    let mut versions: Vec<u32> = fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .flatten()
        .filter(|entry| entry.path().join("bin/initdb").exists())
        .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
        .collect();
    versions.sort_unstable();
    let newest = versions.last().copied().ok_or(Error::NotInstalled)?;
    let made_by = fs::read_to_string(data.join("PG_VERSION")).ok().map(|text| text.trim().to_owned());
    let version = match made_by {
        Some(found) if !versions.iter().any(|version| version.to_string() == found) => {
            return Err(Error::OtherVersion { dir: data.to_owned(), found, installed: newest.to_string() });
        }
        Some(found) => found,
        None => newest.to_string(),
    };
    Ok(Path::new("/usr/lib/postgresql").join(version).join("bin"))
}

/// The content of a small file, made the first time; nobody else may read it.
fn kept(path: &Path, make: impl FnOnce() -> io::Result<String>) -> Result<String, Error> {
    if let Ok(text) = fs::read_to_string(path)
        && !text.trim().is_empty()
    {
        return Ok(text);
    }
    let text = make().doing(format!("make {}", path.display()))?;
    let partial = path.with_extension("partial");
    let write = || -> io::Result<()> {
        fs::write(&partial, &text)?;
        fs::set_permissions(&partial, fs::Permissions::from_mode(0o600))?;
        fs::rename(&partial, path)
    };
    write().doing(format!("write {}", path.display()))?;
    Ok(text)
}

fn new_password() -> io::Result<String> {
    let mut bytes = [0; 24];
    getrandom::fill(&mut bytes).map_err(io::Error::other)?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}
