//! The changes of the tables, in their order, from `migrations/`.

use sqlx::migrate::{Migration, MigrationType, Migrator};
use sqlx::{AssertSqlSafe, SqlSafeStr};

macro_rules! migrations {
    ($($name:literal)*) => { &[$(($name, include_str!(concat!("../migrations/", $name, ".sql")))),*] };
}

/// Each file's name without its ending, `NUMBER_WORDS`, and what it says. A file that was released never changes: a record
/// remembers what was done to it.
const FILES: &[(&str, &str)] = migrations! {
    "0001_record"
    "0002_lease"
    "0003_retention"
    "0004_sealed"
    "0005_usage"
    "0006_any_moment"
    "0007_security"
    "0008_disk"
    "0009_registry"
    "0010_builds"
    "0011_code"
    "0012_demand"
};

/// Brings a record's tables up to date.
pub(crate) fn migrator() -> Migrator {
    let migrations = FILES.iter().map(|(name, sql)| {
        let (number, words) = name.split_once('_').expect("NUMBER_WORDS");
        let number = number.parse().expect("a number");
        let sql = AssertSqlSafe(*sql).into_sql_str();
        Migration::new(number, words.replace('_', " ").into(), MigrationType::Simple, sql, false)
    });
    Migrator::with_migrations(migrations.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_file_is_listed_in_its_order() {
        let folder =
            std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations")).expect("the folder");
        let mut files: Vec<String> =
            folder.map(|file| file.expect("a file").file_name().to_string_lossy().into_owned()).collect();
        files.sort();
        let listed: Vec<String> = FILES.iter().map(|(name, _)| format!("{name}.sql")).collect();
        assert_eq!(listed, files);
        let numbers: Vec<i64> = migrator().iter().map(|migration| migration.version).collect();
        assert_eq!(numbers, (1..=files.len() as i64).collect::<Vec<_>>());
    }
}
