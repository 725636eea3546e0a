//! The gateway's state on disk: the table, whole, and the changes since, a line each; and, sealed, the values that no table holds.

use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};

use mainyard_core::link::Private;
use mainyard_core::routing::{Table, TableChange};
use mainyard_sealing::{KeyRing, file};

/// Lines of changes after which the table is written whole again.
const CHANGES: usize = 500;

/// The table on disk.
#[derive(Debug)]
pub(crate) struct TableStore {
    whole: PathBuf,
    changes: PathBuf,
    private: PathBuf,
    open: Option<File>,
    /// The table as it is on disk.
    table: Table,
    count: usize,
}

impl TableStore {
    /// In this directory.
    pub(crate) fn at(dir: &Path) -> TableStore {
        let (whole, changes) = (dir.join("table.json"), dir.join("table-changes.jsonl"));
        let private = dir.join("private.sealed");
        TableStore { whole, changes, private, open: None, table: Table::default(), count: 0 }
    }

    /// Keeps what no table holds, sealed under a key of the gateway's own.
    pub(crate) fn private(&self, private: &Private) {
        let kept = self.keys().and_then(|keys| {
            let plain = serde_json::to_vec(private).map_err(|error| error.to_string())?;
            let sealed = keys.seal("gateway", &plain).map_err(|error| error.to_string())?;
            let partial = self.private.with_extension("partial");
            std::fs::write(&partial, sealed)
                .and_then(|()| std::fs::rename(&partial, &self.private))
                .map_err(|error| error.to_string())
        });
        if let Err(error) = kept {
            tracing::warn!(error, "keys and secrets cannot be kept on disk");
        }
    }

    /// The stored table; empty if it cannot be opened. Control then sends it again.
    pub(crate) fn read_private(&self) -> Private {
        let Ok(sealed) = std::fs::read(&self.private) else { return Private::default() };
        let opened = self.keys().and_then(|keys| {
            let plain = keys.open("gateway", &sealed).map_err(|error| error.to_string())?;
            serde_json::from_slice(&plain).map_err(|error| error.to_string())
        });
        opened.unwrap_or_else(|error| {
            tracing::warn!(error, "keys and secrets on disk cannot be read");
            Private::default()
        })
    }

    fn keys(&self) -> Result<KeyRing, String> {
        file::read_or_make(&self.private.with_file_name("private-key")).map_err(|error| error.to_string())
    }

    /// The newest table that is there.
    pub(crate) fn read(&mut self) -> Option<Table> {
        let mut table: Table = serde_json::from_slice(&std::fs::read(&self.whole).ok()?).ok()?;
        if let Ok(changes) = File::open(&self.changes) {
            // The last line may be cut short; and what came before the whole table was written does not fit it.
            for line in BufReader::new(changes).lines().map_while(Result::ok) {
                let Ok(change) = serde_json::from_str::<TableChange>(&line) else { break };
                table.apply(&change);
            }
        }
        self.table = table.clone();
        Some(table)
    }

    /// Keeps a whole table.
    pub(crate) fn whole(&mut self, table: &Table) {
        self.table = table.clone();
        self.write();
    }

    fn write(&mut self) {
        let partial = self.whole.with_extension("partial");
        let kept = serde_json::to_vec(&self.table)
            .map_err(std::io::Error::other)
            .and_then(|bytes| std::fs::write(&partial, bytes))
            .and_then(|()| std::fs::rename(&partial, &self.whole))
            .and_then(|()| File::create(&self.changes));
        (self.open, self.count) = (None, 0);
        match kept {
            Ok(file) => self.open = Some(file),
            Err(error) => tracing::warn!(%error, "the table cannot be kept on disk"),
        }
    }

    /// Keeps what changed.
    pub(crate) fn change(&mut self, change: &TableChange) {
        if !self.table.apply(change) {
            return;
        }
        self.count += 1;
        let line = serde_json::to_vec(change).map_err(std::io::Error::other).map(|mut line| {
            line.push(b'\n');
            line
        });
        let file = match self.open.take() {
            Some(file) => Ok(file),
            None => OpenOptions::new().append(true).create(true).open(&self.changes),
        };
        let written = line.and_then(|line| {
            let mut file = file?;
            file.write_all(&line)?;
            Ok(file)
        });
        match written {
            Ok(file) if self.count < CHANGES => self.open = Some(file),
            // Too many lines, or one that is not whole: the next start would not get past it.
            Ok(_) | Err(_) => self.write(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mainyard_core::model::RouteSpec;
    use mainyard_core::routing::{RouteEntry, TableVersion};

    fn table(counter: u64) -> Table {
        let spec = RouteSpec::plain(Some(format!("h{counter}.test")), "api".parse().expect("a name"));
        let entry = RouteEntry { spec, to: vec![] };
        let version = TableVersion { epoch: 1, counter };
        Table { version, routes: [("staging/api".to_owned(), entry)].into(), ..Table::default() }
    }

    #[test]
    fn the_table_store_survives_a_truncated_last_line() {
        let dir = tempfile::tempdir().expect("a directory");
        let mut kept = TableStore::at(dir.path());
        kept.whole(&table(1));
        for counter in 2..=4 {
            kept.change(&table(counter).change_from(&table(counter - 1)));
        }
        assert_eq!(TableStore::at(dir.path()).read(), Some(table(4)));
        let file = dir.path().join("table-changes.jsonl");
        let text = std::fs::read_to_string(&file).expect("there");
        std::fs::write(&file, &text[..text.len() - 9]).expect("cut");
        let mut again = TableStore::at(dir.path());
        assert_eq!(again.read(), Some(table(3)));
        again.whole(&table(7));
        again.change(&table(8).change_from(&table(7)));
        assert_eq!(TableStore::at(dir.path()).read(), Some(table(8)));
    }

    #[test]
    fn secrets_of_a_stored_table_are_sealed() {
        let dir = tempfile::tempdir().expect("a directory");
        let secret = "staging/door".parse().expect("a target");
        let value = mainyard_core::model::SecretValue(b"open sesame".to_vec());
        let private = Private { values: vec![(secret, value)], certificates: vec![], challenges: vec![] };
        TableStore::at(dir.path()).private(&private);
        assert_eq!(TableStore::at(dir.path()).read_private(), private);
        for entry in std::fs::read_dir(dir.path()).expect("a directory").flatten() {
            let content = std::fs::read(entry.path()).expect("a file");
            assert!(!content.windows(6).any(|part| part == b"sesame"), "{}", entry.path().display());
        }
    }

    #[test]
    fn many_changes_become_one_table() {
        let dir = tempfile::tempdir().expect("a directory");
        let mut kept = TableStore::at(dir.path());
        kept.whole(&table(1));
        for counter in 2..=CHANGES as u64 + 10 {
            kept.change(&table(counter).change_from(&table(counter - 1)));
        }
        let lines =
            std::fs::read_to_string(dir.path().join("table-changes.jsonl")).expect("there").lines().count();
        assert!(lines < 10, "{lines}");
        assert_eq!(TableStore::at(dir.path()).read(), Some(table(CHANGES as u64 + 10)));
    }
}
