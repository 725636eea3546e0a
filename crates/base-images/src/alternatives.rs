//! Links of alternatives, such as `cc` for the C compiler or `java`: no package has them, installing makes them
//! (update-alternatives(1), whose answers to `--query` are read here).

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::Error;

/// One program that may stand behind a name.
#[derive(Debug, Default, PartialEq, Eq)]
struct Choice {
    path: PathBuf,
    priority: i64,
    /// What the names that go with it stand for then.
    slaves: Vec<(String, PathBuf)>,
}

/// A name, and what may stand behind it.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Alternative {
    name: String,
    link: PathBuf,
    /// Names that are chosen along with it: name and link.
    slaves: Vec<(String, PathBuf)>,
    choices: Vec<Choice>,
}

/// The directory whose links say what was chosen.
const CHOSEN: &str = "/etc/alternatives";

impl Alternative {
    /// All of this machine, by name.
    ///
    /// # Errors
    /// When the machine has none, or does not tell.
    pub(crate) fn all() -> Result<Vec<Alternative>, Error> {
        let names = ask(&["--get-selections"])?;
        let names = names.lines().filter_map(|line| line.split_whitespace().next());
        names.map(|name| Ok(Alternative::parse(&ask(&["--query", name])?))).collect()
    }

    fn parse(text: &str) -> Alternative {
        let mut read = Alternative::default();
        for line in text.lines() {
            if let Some(slave) = line.strip_prefix(' ') {
                let Some((name, path)) = slave.split_once(' ') else { continue };
                let list = read.choices.last_mut().map_or(&mut read.slaves, |choice| &mut choice.slaves);
                list.push((name.to_owned(), PathBuf::from(path)));
                continue;
            }
            let Some((key, value)) = line.split_once(": ") else { continue };
            match (key, read.choices.last_mut()) {
                ("Name", _) => read.name = value.to_owned(),
                ("Link", _) => read.link = PathBuf::from(value),
                ("Alternative", _) => {
                    read.choices.push(Choice { path: PathBuf::from(value), ..Choice::default() });
                }
                ("Priority", Some(choice)) => choice.priority = value.parse().unwrap_or(0),
                _ => {}
            }
        }
        read
    }

    /// The links that it has where only some of the choices are there: each with its target. Of several, the one of the
    /// highest priority is taken, whatever this machine chose: the same packages make the same image.
    pub(crate) fn links(&self, is_there: impl Fn(&Path) -> bool) -> Vec<(PathBuf, PathBuf)> {
        let there = self.choices.iter().filter(|choice| is_there(&choice.path));
        let Some(choice) = there.max_by_key(|choice| choice.priority) else { return Vec::new() };
        let mut links = Vec::new();
        let mut add = |name: &str, link: &Path, target: &Path| {
            links.push((link.to_owned(), Path::new(CHOSEN).join(name)));
            links.push((Path::new(CHOSEN).join(name), target.to_owned()));
        };
        add(&self.name, &self.link, &choice.path);
        for (name, target) in choice.slaves.iter().filter(|(_, target)| is_there(target)) {
            if let Some((_, link)) = self.slaves.iter().find(|(slave, _)| slave == name) {
                add(name, link, target);
            }
        }
        links
    }
}

fn ask(arguments: &[&str]) -> Result<String, Error> {
    let output = Command::new("update-alternatives").args(arguments).env("LC_ALL", "C").output();
    let output = output.map_err(|error| Error::NoDatabase(format!("update-alternatives: {error}")))?;
    if !output.status.success() {
        return Err(Error::NoDatabase(String::from_utf8_lossy(&output.stderr).trim().to_owned()));
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    const AWK: &str = "\
        Name: awk\nLink: /usr/bin/awk\nSlaves:\n awk.1.gz /usr/share/man/man1/awk.1.gz\n nawk /usr/bin/nawk\n\
        Status: manual\nBest: /usr/bin/gawk\nValue: /usr/bin/mawk\n\n\
        Alternative: /usr/bin/gawk\nPriority: 10\n\n\
        Alternative: /usr/bin/mawk\nPriority: 5\nSlaves:\n awk.1.gz /usr/share/man/man1/mawk.1.gz\n nawk /usr/bin/mawk\n";

    #[test]
    fn the_best_of_those_that_are_there_is_linked_with_the_names_that_go_with_it() {
        let awk = Alternative::parse(AWK);
        let links = |there: &[&str]| {
            let links = awk.links(|path| there.iter().any(|one| Path::new(one) == path));
            links
                .iter()
                .map(|(link, to)| format!("{} → {}", link.display(), to.display()))
                .collect::<Vec<_>>()
        };
        assert_eq!(
            links(&["/usr/bin/mawk"]),
            [
                "/usr/bin/awk → /etc/alternatives/awk",
                "/etc/alternatives/awk → /usr/bin/mawk",
                "/usr/bin/nawk → /etc/alternatives/nawk",
                "/etc/alternatives/nawk → /usr/bin/mawk",
            ]
        );
        assert_eq!(
            links(&["/usr/bin/mawk", "/usr/bin/gawk"])[1],
            "/etc/alternatives/awk → /usr/bin/gawk",
            "the machine's own choice is another"
        );
        assert_eq!(links(&["/usr/bin/sed"]), Vec::<String>::new());
    }

    #[test]
    fn this_machine_tells_of_its_own() {
        let all = Alternative::all().expect("a Debian machine");
        let awk = all.iter().find(|it| it.name == "awk").expect("every Debian machine has one");
        assert_eq!(awk.link, Path::new("/usr/bin/awk"));
        assert!(!awk.choices.is_empty(), "{awk:?}");
    }
}
