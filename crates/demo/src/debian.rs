//! A workload of real software: a database server from the Debian packages that this machine has installed anyway, because the
//! platform keeps its record in one.

use mainyard_base_images::{PackageDatabase, Wanted, gather};
use mainyard_core::model::ImageRef;
use mainyard_images::{ContentStore, Digest, FileEntry, ImageContent, pack};

/// The database's account in the image.
const ACCOUNT: (&str, u32) = ("records", 999);
/// Packages that a replica has no use for: what installs and configures, and a compiler for large queries.
const WITHOUT: [&str; 12] = [
    "debconf",
    "dpkg",
    "init-system-helpers",
    "libllvm*",
    "locales",
    "locales-all",
    "perl*",
    "postgresql-client-common",
    "postgresql-common",
    "ssl-cert",
    "systemd*",
    "ucf",
];
/// Makes the database where it is not there yet, and serves it.
const START: &str = r#"#!/bin/sh
set -eu
umask 077
if [ ! -s "$PGDATA/PG_VERSION" ]; then
    printf '%s\n' "$DB_PASSWORD" > /tmp/password
    initdb -D "$PGDATA" -U lockers --pwfile=/tmp/password -A scram-sha-256 --no-locale -E UTF8
    rm /tmp/password
    echo 'host all all all scram-sha-256' >> "$PGDATA/pg_hba.conf"
fi
exec postgres -D "$PGDATA" -c listen_addresses='*' -c unix_socket_directories=/tmp \
    -c shared_buffers=16MB -c max_connections=20 -c jit=off
"#;

/// Why the database's image cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum DebianError {
    /// The packages cannot be had.
    #[error(transparent)]
    Packages(#[from] mainyard_base_images::Error),
    /// No database server is among them.
    #[error("no package postgresql-NUMBER is installed on this machine")]
    NoServer,
    /// The image cannot be packed.
    #[error(transparent)]
    Image(#[from] mainyard_images::Error),
    /// Its name is none.
    #[error(transparent)]
    Name(#[from] mainyard_core::model::NameError),
}

/// Packs the database's image into a store; gives its name, its digest and the declaration that runs it.
///
/// # Errors
/// When this machine's packages cannot be used.
pub fn database(store: &ContentStore) -> Result<(ImageRef, Digest, String), DebianError> {
    let installed = PackageDatabase::read()?;
    let server = installed.newest("postgresql-").ok_or(DebianError::NoServer)?.name.clone();
    let number = server.trim_start_matches("postgresql-").to_owned();
    let wanted =
        Wanted { packages: &[&server, "dash", "coreutils"], without: &WITHOUT, accounts: &[ACCOUNT] };
    let base = gather(&wanted)?.layer;
    let own = vec![
        FileEntry::Dir("app/".into(), 0o755),
        FileEntry::File("app/start".into(), START.as_bytes().to_vec(), 0o755),
    ];
    let content = ImageContent {
        layers: vec![base, own],
        entrypoint: vec!["/app/start".to_owned()],
        env: vec![
            format!("PATH=/usr/lib/postgresql/{number}/bin:/usr/bin:/bin"),
            "PGDATA=/tmp/records".to_owned(),
        ],
        user: ACCOUNT.0.to_owned(),
        ports: vec![5432],
    };
    let name: ImageRef = format!("debian/postgresql:{number}").parse()?;
    let digest = pack(store, &content)?;
    Ok((name.clone(), digest, declaration(&name)))
}

fn declaration(image: &ImageRef) -> String {
    format!(
        "# A database server from this machine's Debian packages.\n\
         application = \"records\"\n\n\
         [workload.records]\n\
         image = \"{image}\"\n\
         ports = {{ main = 5432 }}\n\
         settings = {{ DB_PASSWORD = {{ secret = \"lockers-db-password\" }} }}\n\
         limits = {{ memory = \"256 MiB\", processes = 64 }}\n\n\
         [service.records]\n\
         select = {{ workload = \"records\" }}\n\
         ports = {{ 5432 = {{ port = \"main\", speaks = \"tcp\" }} }}\n"
    )
}
