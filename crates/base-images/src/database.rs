//! The installed packages of a Debian machine, as `dpkg-query` tells of them (deb-control(5), dpkg-query(1)).

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::process::Command;

use crate::Error;

const FIELDS: &str =
    "${Package}|${Version}|${Architecture}|${Pre-Depends}, ${Depends}|${Provides}|${db:Status-Status}\n";

/// An installed package.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Installed {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The processor that it is for.
    architecture: String,
    /// What it depends on: of each list, one is enough.
    depends: Vec<Vec<String>>,
}

/// All installed packages.
#[derive(Debug)]
pub struct PackageDatabase {
    packages: BTreeMap<String, Installed>,
    /// Packages that stand for a name that is none.
    provided: BTreeMap<String, Vec<String>>,
}

fn query(arguments: &[&str]) -> Result<String, Error> {
    let output = Command::new("dpkg-query").args(arguments).env("LC_ALL", "C").output();
    let output = output.map_err(|error| Error::NoDatabase(format!("dpkg-query: {error}")))?;
    if !output.status.success() {
        return Err(Error::NoDatabase(String::from_utf8_lossy(&output.stderr).trim().to_owned()));
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

/// `libc6 (>= 2.34), a | b` as lists of names.
fn alternatives(text: &str) -> Vec<Vec<String>> {
    let name = |one: &str| {
        let bare = one.split(['(', '[']).next().unwrap_or_default().trim();
        bare.split(':').next().unwrap_or_default().to_owned()
    };
    let lists = text.split(',').map(|list| list.split('|').map(name).filter(|it| !it.is_empty()).collect());
    lists.filter(|list: &Vec<String>| !list.is_empty()).collect()
}

impl PackageDatabase {
    /// Reads what this machine has.
    ///
    /// # Errors
    /// When it has no such database.
    pub fn read() -> Result<PackageDatabase, Error> {
        Ok(PackageDatabase::parse(&query(&["-W", "-f", FIELDS])?))
    }

    fn parse(text: &str) -> PackageDatabase {
        let (mut packages, mut provided) = (BTreeMap::new(), BTreeMap::<String, Vec<String>>::new());
        for line in text.lines() {
            let Some((rest, status)) = line.rsplit_once('|') else { continue };
            // An alternative is written with the same sign as stands between the fields.
            let mut fields = rest.splitn(4, '|');
            let (Some(name), Some(version), Some(architecture), Some(rest)) =
                (fields.next(), fields.next(), fields.next(), fields.next())
            else {
                continue;
            };
            let (depends, provides) = rest.rsplit_once('|').unwrap_or((rest, ""));
            if status != "installed" {
                continue;
            }
            for virtual_name in alternatives(provides).into_iter().flatten() {
                provided.entry(virtual_name).or_default().push(name.to_owned());
            }
            let package = Installed {
                name: name.to_owned(),
                version: version.to_owned(),
                architecture: architecture.to_owned(),
                depends: alternatives(depends),
            };
            packages.insert(name.to_owned(), package);
        }
        PackageDatabase { packages, provided }
    }

    /// A package, or one that stands for its name.
    fn find(&self, name: &str) -> Option<&Installed> {
        let provider = || self.packages.get(self.provided.get(name)?.first()?);
        self.packages.get(name).or_else(provider)
    }

    /// Whether a package is installed.
    pub fn has(&self, name: &str) -> bool {
        self.find(name).is_some()
    }

    /// The newest of the packages whose name begins so and goes on with a number, such as `postgresql-15`.
    pub fn newest(&self, prefix: &str) -> Option<&Installed> {
        let number = |it: &&Installed| it.name.strip_prefix(prefix).and_then(|rest| rest.parse::<u32>().ok());
        self.packages.values().filter(|it| number(it).is_some()).max_by_key(number)
    }

    /// These packages with all that they depend on, by name. Those of `without` stay out, by their name or by what it begins
    /// with, as `perl*`.
    ///
    /// # Errors
    /// When one that was asked for is not installed.
    pub fn with_dependencies(&self, wanted: &[&str], without: &[&str]) -> Result<Vec<Installed>, Error> {
        let is_left_out = |name: &str| {
            without.iter().any(|left| match left.strip_suffix('*') {
                Some(start) => name.starts_with(start),
                None => name == *left,
            })
        };
        let mut missing: Vec<&Installed> = Vec::new();
        for name in wanted {
            missing.push(self.find(name).ok_or_else(|| Error::Missing((*name).to_owned()))?);
        }
        let mut taken: BTreeSet<&Installed> = BTreeSet::new();
        while let Some(package) = missing.pop() {
            if is_left_out(&package.name) || !taken.insert(package) {
                continue;
            }
            // One of a list is there, or the package was installed without what it says it needs.
            let needed = package.depends.iter().filter_map(|list| list.iter().find_map(|one| self.find(one)));
            missing.extend(needed);
        }
        Ok(taken.into_iter().cloned().collect())
    }

    /// The files of a package.
    ///
    /// # Errors
    /// When they are not known.
    pub fn files_of(&self, package: &Installed) -> Result<Vec<PathBuf>, Error> {
        // A package for several processors is named with its own.
        let named = format!("{}:{}", package.name, package.architecture);
        let listed = query(&["-L", &named]).or_else(|_| query(&["-L", &package.name]))?;
        // A file that another package put aside is told in a sentence.
        Ok(listed.lines().filter(|line| line.starts_with('/')).map(PathBuf::from).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "\
        web|1.2|amd64|, libone (>= 1) | libother, mta, gone|httpd|installed\n\
        libone|3|amd64|libc6, libc6|| installed\n\
        libone|3|amd64|libc6, libc6||installed\n\
        libc6|2.36|amd64|, ||installed\n\
        mail|9|all|, libc6:any (>= 2)|mta (= 1)|installed\n\
        old|1|amd64|, ||config-files\n\
        records-9|9.1|amd64|, ||installed\n\
        records-15|15.1|amd64|, ||installed\n\
        records-common|1|all|, ||installed\n";

    #[test]
    fn packages_come_with_what_they_depend_on() {
        let database = PackageDatabase::parse(TEXT);
        let closure = |wanted: &[&str], without: &[&str]| match database.with_dependencies(wanted, without) {
            Ok(list) => list.into_iter().map(|it| it.name).collect::<Vec<_>>().join(" "),
            Err(error) => error.to_string(),
        };
        assert_eq!(closure(&["web"], &[]), "libc6 libone mail web");
        assert_eq!(closure(&["httpd"], &["mail"]), "libc6 libone web");
        assert_eq!(closure(&["old"], &[]), "the package old is not installed on this machine");
        assert_eq!(database.newest("records-").map(|it| it.name.as_str()), Some("records-15"));
    }
}
