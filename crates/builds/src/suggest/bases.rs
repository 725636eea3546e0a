//! Bases that suggested recipes begin with, and the packages of Debian that each can be made of.

/// A base.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Base {
    /// Its name and tag.
    pub name: &'static str,
    /// The packages that it is made of, where a machine has them.
    pub packages: &'static str,
}

/// The C library and a shell.
pub(super) const PLAIN: Base = Base { name: "bases/plain:1", packages: "libc6,dash,coreutils" };
/// Rust's compiler, with the linker that it needs.
pub(super) const RUST: Base =
    Base { name: "bases/rust:1", packages: "rustc,cargo,gcc,libc6-dev,dash,coreutils,ca-certificates" };
/// Node.js, to run.
pub(super) const NODE_JS: Base = Base { name: "bases/nodejs:1", packages: "nodejs,dash,coreutils" };
/// Node.js with its package manager.
pub(super) const NODE_JS_TOOLS: Base =
    Base { name: "bases/nodejs-tools:1", packages: "nodejs,npm,dash,coreutils,ca-certificates" };
/// Python, to run.
pub(super) const PYTHON: Base = Base { name: "bases/python:3", packages: "python3,dash,coreutils" };
/// Python with its package manager.
pub(super) const PYTHON_TOOLS: Base =
    Base { name: "bases/python-tools:3", packages: "python3,python3-pip,dash,coreutils,ca-certificates" };
/// Java, to run.
pub(super) const JAVA: Base =
    Base { name: "bases/java:17", packages: "openjdk-17-jre-headless,dash,coreutils" };

const ALL: [Base; 7] = [PLAIN, RUST, NODE_JS, NODE_JS_TOOLS, PYTHON, PYTHON_TOOLS, JAVA];

impl Base {
    /// The base of this name, where it is one of these.
    pub fn named(name: &str) -> Option<Base> {
        ALL.into_iter().find(|base| base.name == name)
    }

    /// The command that makes it of a machine's packages.
    pub fn command(&self) -> String {
        format!("mainyard image base {} --packages {}", self.name, self.packages)
    }
}
