//! No two files of a crate call each other: who reads one of them does not need the other first.
//!
//! `house.rs` looks at what a file names with `use`. This looks at what it calls: methods on `self` and on the fields of
//! `self`, functions of types and of modules. A call whose receiver has a type that only the compiler knows is not seen.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use syn::visit::{self, Visit};

/// A file, by its path below the crate's `src`.
type File = String;

/// The definitions of one crate, as far as calls can be told from their text.
#[derive(Default)]
struct Definitions {
    /// Each method and associated function: its type, its name, and the file.
    methods: BTreeMap<(String, String), File>,
    /// Each free function, with every file that defines one of this name.
    functions: BTreeMap<String, BTreeSet<File>>,
    /// The type of each field of each struct.
    fields: BTreeMap<(String, String), String>,
    /// The type that a name stands for if it has no such method itself.
    derefs: BTreeMap<String, String>,
}

fn is_test(attributes: &[syn::Attribute]) -> bool {
    attributes.iter().any(|attribute| {
        let text = attribute.meta.path().get_ident().map(ToString::to_string);
        match (&attribute.meta, text.as_deref()) {
            (_, Some("test")) => true,
            (syn::Meta::List(list), Some("cfg")) => list.tokens.to_string().contains("test"),
            _ => false,
        }
    })
}

/// The last name of a type's path, through references.
fn type_name(of: &syn::Type) -> Option<String> {
    match of {
        syn::Type::Path(path) => Some(path.path.segments.last()?.ident.to_string()),
        syn::Type::Reference(reference) => type_name(&reference.elem),
        _ => None,
    }
}

impl Definitions {
    fn read(&mut self, file: &str, items: &[syn::Item]) {
        for item in items {
            match item {
                syn::Item::Fn(function) if !is_test(&function.attrs) => {
                    self.functions.entry(function.sig.ident.to_string()).or_default().insert(file.to_owned());
                }
                syn::Item::Struct(it) => self.read_fields(it),
                syn::Item::Impl(block) if !is_test(&block.attrs) => self.read_methods(file, block),
                syn::Item::Mod(module) if !is_test(&module.attrs) => {
                    let inside = module.content.as_ref().map(|(_, items)| items.as_slice());
                    self.read(file, inside.unwrap_or_default());
                }
                _ => {}
            }
        }
    }

    fn read_fields(&mut self, it: &syn::ItemStruct) {
        for field in &it.fields {
            if let (Some(name), Some(of)) = (&field.ident, type_name(&field.ty)) {
                self.fields.insert((it.ident.to_string(), name.to_string()), of);
            }
        }
    }

    fn read_methods(&mut self, file: &str, block: &syn::ItemImpl) {
        let Some(of) = type_name(&block.self_ty) else { return };
        let of_trait = block.trait_.as_ref().and_then(|(_, path, _)| path.segments.last());
        if of_trait.is_some_and(|name| name.ident == "Deref") {
            let target = block.items.iter().find_map(|item| match item {
                syn::ImplItem::Type(it) if it.ident == "Target" => type_name(&it.ty),
                _ => None,
            });
            self.derefs.extend(target.map(|target| (of.clone(), target)));
        }
        // What a trait asks for is called through the trait.
        if of_trait.is_some() {
            return;
        }
        for item in &block.items {
            if let syn::ImplItem::Fn(method) = item {
                self.methods.insert((of.clone(), method.sig.ident.to_string()), file.to_owned());
            }
        }
    }

    fn method(&self, of: &str, name: &str) -> Option<&File> {
        let found = self.methods.get(&(of.to_owned(), name.to_owned()));
        found.or_else(|| self.method(self.derefs.get(of)?, name))
    }

    fn field(&self, of: &str, name: &str) -> Option<&String> {
        let found = self.fields.get(&(of.to_owned(), name.to_owned()));
        found.or_else(|| self.field(self.derefs.get(of)?, name))
    }
}

/// The calls in one file.
struct Calls<'d> {
    definitions: &'d Definitions,
    file: File,
    /// The names that the file takes from elsewhere with `use`.
    taken: BTreeSet<String>,
    /// The type whose methods are being read.
    of: Option<String>,
    /// Each called file, with one of the names that are called there.
    called: BTreeMap<File, String>,
}

impl Calls<'_> {
    fn note(&mut self, file: Option<&File>, name: &str) {
        if let Some(file) = file.filter(|file| **file != self.file) {
            self.called.entry(file.clone()).or_insert_with(|| name.to_owned());
        }
    }

    /// A function that several files define is reported apart only by the compiler.
    fn note_function(&mut self, name: &str) {
        let files = self.definitions.functions.get(name).filter(|files| files.len() == 1);
        self.note(files.and_then(BTreeSet::first), name);
    }

    /// The type of `self`, or of a field of `self`.
    fn type_of(&self, receiver: &syn::Expr) -> Option<String> {
        match receiver {
            syn::Expr::Path(path) if path.path.is_ident("self") => self.of.clone(),
            syn::Expr::Field(field) => {
                let syn::Member::Named(name) = &field.member else { return None };
                self.definitions.field(&self.type_of(&field.base)?, &name.to_string()).cloned()
            }
            _ => None,
        }
    }
}

impl<'ast> Visit<'ast> for Calls<'_> {
    fn visit_item_mod(&mut self, module: &'ast syn::ItemMod) {
        if !is_test(&module.attrs) {
            visit::visit_item_mod(self, module);
        }
    }

    fn visit_item_impl(&mut self, block: &'ast syn::ItemImpl) {
        if is_test(&block.attrs) {
            return;
        }
        let before = std::mem::replace(&mut self.of, type_name(&block.self_ty));
        visit::visit_item_impl(self, block);
        self.of = before;
    }

    fn visit_item_fn(&mut self, function: &'ast syn::ItemFn) {
        if !is_test(&function.attrs) {
            visit::visit_item_fn(self, function);
        }
    }

    fn visit_expr_method_call(&mut self, call: &'ast syn::ExprMethodCall) {
        if let Some(of) = self.type_of(&call.receiver) {
            let name = call.method.to_string();
            self.note(self.definitions.method(&of, &name), &name);
        }
        visit::visit_expr_method_call(self, call);
    }

    fn visit_expr_path(&mut self, expression: &'ast syn::ExprPath) {
        let names: Vec<String> =
            expression.path.segments.iter().map(|segment| segment.ident.to_string()).collect();
        match names.as_slice() {
            // Anything else of one word is a variable, or defined here.
            [name] if self.taken.contains(name) => self.note_function(name),
            [.., owner, name] => {
                let of = self.of.as_ref().filter(|_| owner == "Self").unwrap_or(owner);
                match self.definitions.method(of, name) {
                    Some(file) => self.note(Some(file), name),
                    // A type of another crate begins with a capital letter, and has functions of its own.
                    None if self.taken.contains(owner) && owner.starts_with(char::is_lowercase) => {
                        self.note_function(name)
                    }
                    None => {}
                }
            }
            _ => {}
        }
        visit::visit_expr_path(self, expression);
    }

    fn visit_use_name(&mut self, name: &'ast syn::UseName) {
        self.taken.insert(name.ident.to_string());
    }
}

fn files_below(dir: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(dir).expect("a directory") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            files_below(&path, found);
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            found.push(path);
        }
    }
}

/// Whether a file is one of tests only.
fn of_tests(file: &str) -> bool {
    file.split('/').any(|part| part == "tests" || part.ends_with("tests.rs"))
}

/// Whether `one` is the module in which `other` lies: its root gathers, and what is inside may name it.
fn encloses(one: &str, other: &str) -> bool {
    let module = one.strip_suffix("/mod.rs").or_else(|| one.strip_suffix(".rs")).unwrap_or(one);
    matches!(one, "lib.rs" | "main.rs") || other.starts_with(&format!("{module}/"))
}

/// The calls between the files of a crate: caller, called, and one of the names that are called.
fn calls(sources: &BTreeMap<File, String>) -> BTreeMap<File, BTreeMap<File, String>> {
    let parsed: BTreeMap<&File, syn::File> = sources
        .iter()
        .map(|(file, text)| (file, syn::parse_file(text).unwrap_or_else(|error| panic!("{file}: {error}"))))
        .collect();
    let mut definitions = Definitions::default();
    parsed.iter().for_each(|(file, code)| definitions.read(file, &code.items));
    let of_file = |(file, code): (&&File, &syn::File)| {
        let file = (*file).clone();
        let mut calls = Calls {
            definitions: &definitions,
            file: file.clone(),
            taken: BTreeSet::new(),
            of: None,
            called: BTreeMap::new(),
        };
        calls.visit_file(code);
        calls.called.retain(|called, _| !encloses(called, &file) && !encloses(&file, called));
        (file, calls.called)
    };
    parsed.iter().map(of_file).collect()
}

/// The files that call themselves, round about, with what is called on the way.
fn circles(calls: &BTreeMap<File, BTreeMap<File, String>>) -> Vec<String> {
    let reached = |from: &File| {
        let mut seen = BTreeSet::new();
        let mut next = vec![from];
        while let Some(file) = next.pop() {
            let called = calls.get(file).into_iter().flat_map(BTreeMap::keys);
            next.extend(called.filter(|called| seen.insert((*called).clone())));
        }
        seen
    };
    let reaches: BTreeMap<&File, BTreeSet<File>> = calls.keys().map(|file| (file, reached(file))).collect();
    let back = |from: &File, to: &File| reaches.get(to).is_some_and(|reached| reached.contains(from));
    let arrows =
        calls.iter().flat_map(|(from, called)| called.iter().map(move |(to, name)| (from, to, name)));
    arrows
        .filter(|(from, to, _)| back(from, to))
        .map(|(from, to, name)| format!("{from} calls {name} of {to}"))
        .collect()
}

#[test]
fn no_two_files_call_each_other() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let (mut wrong, mut seen) = (Vec::new(), 0);
    for entry in std::fs::read_dir(&crates).expect("the crates") {
        let (name, src) = {
            let entry = entry.expect("a crate");
            (entry.file_name().to_string_lossy().into_owned(), entry.path().join("src"))
        };
        if !src.is_dir() {
            continue;
        }
        let mut files = Vec::new();
        files_below(&src, &mut files);
        let relative = |file: &PathBuf| file.strip_prefix(&src).expect("below src").display().to_string();
        let sources: BTreeMap<File, String> = files
            .iter()
            .map(|file| (relative(file), std::fs::read_to_string(file).expect("a source")))
            .filter(|(file, _)| !of_tests(file))
            .collect();
        let calls = calls(&sources);
        seen += calls.values().map(BTreeMap::len).sum::<usize>();
        wrong.extend(circles(&calls).into_iter().map(|circle| format!("{name}: {circle}")));
    }
    assert!(seen > 300, "only {seen} calls between files were seen");
    assert!(wrong.is_empty(), "these files call each other, round about: {wrong:#?}");
}

#[test]
fn the_check_sees_calls_of_every_kind() {
    let sources = [
        (
            "a.rs",
            "struct Yard { gate: Gate } impl Yard { fn open(&self) { self.gate.lift() } fn close(&self) {} }",
        ),
        ("b.rs", "use crate::oil; struct Gate; impl Gate { fn lift(&self) { oil::drip() } }"),
        ("oil.rs", "pub fn drip() { Yard::close(&yard()) } fn yard() -> Yard { todo!() }"),
        (
            "well.rs",
            "use crate::oil::drip; fn only() { drip() } #[cfg(test)] mod tests { fn all() { only() } }",
        ),
    ];
    let sources = sources.map(|(file, text)| (file.to_owned(), text.to_owned())).into();
    assert_eq!(
        circles(&calls(&sources)),
        ["a.rs calls lift of b.rs", "b.rs calls drip of oil.rs", "oil.rs calls close of a.rs"]
    );
}
