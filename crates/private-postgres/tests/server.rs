//! A server of its own from Debian's programs: started, found again, killed and started again, and closed to others.

use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};

use private_postgres::{Postgres, Written};

/// Stops the server also where the test fails.
struct Stopped(Postgres);

impl Drop for Stopped {
    fn drop(&mut self) {
        self.0.stop();
    }
}

fn server(dir: &Path) -> Stopped {
    Stopped(Postgres::open(dir).expect("PostgreSQL is installed").writing(Written::ToKernel))
}

/// Asks a server something; gives what psql prints, or what it complains about.
fn ask(url: &str, statement: &str) -> Result<String, String> {
    let mut command = Command::new("psql");
    command.args(["--no-psqlrc", "--tuples-only", "--no-align", "--quiet", url, "--command", statement]);
    let output = command.stdin(Stdio::null()).output().expect("psql runs");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim().to_owned();
    if output.status.success() { Ok(text(&output.stdout)) } else { Err(text(&output.stderr)) }
}

fn kill(pid: u32) {
    // SAFETY: the process is the server that this test started.
    unsafe {
        libc::kill(pid as i32, libc::SIGKILL);
        let mut status = 0;
        libc::waitpid(pid as i32, &mut status, 0);
    }
}

#[test]
fn what_was_written_outlives_a_killed_server_and_the_next_start_serves_it() {
    let dir = tempfile::tempdir().expect("a folder");
    let postgres = server(dir.path());
    let pid = postgres.0.start().expect("it starts");
    assert_eq!(postgres.0.running(), Some(pid));
    postgres.0.create_owned_database("record").expect("a database");
    let url = postgres.0.owners_url("record").expect("an address");
    ask(&url, "CREATE TABLE lockers (number int); INSERT INTO lockers VALUES (41)").expect("written");
    kill(pid);
    assert_eq!(postgres.0.running(), None);
    let again = postgres.0.start().expect("it starts again");
    assert_ne!(again, pid);
    assert_eq!(ask(&url, "SELECT number FROM lockers").expect("read"), "41");
}

#[test]
fn a_server_that_runs_is_found_and_not_started_twice() {
    let dir = tempfile::tempdir().expect("a folder");
    let postgres = server(dir.path());
    let pid = postgres.0.start().expect("it starts");
    let another = Postgres::open(dir.path()).expect("the same folder");
    assert_eq!(another.running(), Some(pid));
    assert_eq!(another.start().expect("it runs already"), pid);
    assert_eq!(another.url("postgres"), postgres.0.url("postgres"));
    postgres.0.stop();
    assert_eq!(another.running(), None);
}

#[test]
fn the_owner_of_a_database_is_no_superuser_and_nobody_comes_in_without_a_password() {
    let dir = tempfile::tempdir().expect("a folder");
    let postgres = server(dir.path());
    postgres.0.start().expect("it starts");
    postgres.0.create_owned_database("record").expect("a database");
    // What is there already stays.
    postgres.0.create_owned_database("record").expect("the same database");
    let url = postgres.0.owners_url("record").expect("an address");
    assert_eq!(ask(&url, "SELECT usesuper FROM pg_user WHERE usename = current_user").expect("read"), "f");
    for forbidden in ["CREATE ROLE intruder", "CREATE DATABASE more", "COPY (SELECT 1) TO PROGRAM 'true'"] {
        let refused = ask(&url, forbidden).expect_err(forbidden);
        let why = ["permission denied", "must be superuser"];
        assert!(why.iter().any(|why| refused.contains(why)), "{forbidden}: {refused}");
    }
    let (before, after) = url.split_once('@').expect("an address with a password");
    let user = before.rsplit_once(':').expect("a user").0;
    ask(&format!("{user}:wrong@{after}"), "SELECT 1").expect_err("a wrong password");
    ask(&format!("{user}@{after}"), "SELECT 1").expect_err("no password");
}

#[test]
fn its_folder_is_closed_to_other_accounts() {
    let dir = tempfile::tempdir().expect("a folder");
    let postgres = server(&dir.path().join("postgres"));
    postgres.0.start().expect("it starts");
    let mode = |path: &str| {
        let found = std::fs::metadata(dir.path().join("postgres").join(path)).expect("it is there");
        found.permissions().mode() & 0o777
    };
    assert_eq!(mode("."), 0o700);
    assert_eq!(mode("data"), 0o700);
    assert_eq!(mode("password"), 0o600);
    let mut log = String::new();
    let file = std::fs::File::open(dir.path().join("postgres/log"));
    file.and_then(|mut file| file.read_to_string(&mut log)).expect("a log");
    let password = std::fs::read_to_string(dir.path().join("postgres/password")).expect("a password");
    assert!(!log.contains(password.trim()), "the log has no password");
}

#[test]
fn a_broken_data_directory_is_an_error_that_says_what_the_server_said() {
    let dir = tempfile::tempdir().expect("a folder");
    let postgres = server(dir.path());
    std::fs::write(dir.path().join("data/PG_VERSION"), "7\n").expect("written");
    let failed = postgres.0.start().expect_err("it cannot start").to_string();
    assert!(failed.contains("postgres"), "{failed}");
    assert!(failed.contains("incompatible") || failed.contains("version"), "{failed}");
}
