//! One PostgreSQL server for a test; it goes when the test ends, however it ends.

use private_postgres::{Postgres, Written};

/// A server in a temporary directory.
pub struct Server {
    server: Postgres,
    _dir: tempfile::TempDir,
}

impl Server {
    /// Starts one.
    ///
    /// # Panics
    /// When PostgreSQL is not installed or does not start; the message says why.
    pub fn start() -> Server {
        let dir = tempfile::tempdir().expect("a directory");
        let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(dir.path(), open).expect("a directory that others may pass");
        let server = Postgres::open(&dir.path().join("postgres")).unwrap_or_else(|error| panic!("{error}"));
        let server = server.writing(Written::ToKernel);
        server.start().unwrap_or_else(|error| panic!("{error}"));
        Server { server, _dir: dir }
    }

    /// Makes a database and says how to connect to it.
    pub fn database(&self, name: &str) -> String {
        self.server.create_database(name).unwrap_or_else(|error| panic!("{error}"));
        self.server.url(name)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.server.stop();
    }
}
