//! Code trees of the size that teams have: programs with the packages that they need, taken from the registries.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A tree that can be built without a network, and the line that is changed in it.
pub struct CodeTree {
    /// Its folder.
    pub dir: PathBuf,
    /// Its name.
    pub name: &'static str,
    /// The file with the line.
    pub file: &'static str,
    /// What the program answers at `/`, and what the line says.
    pub greeting: &'static str,
}

const RUST_MANIFEST: &str = r#"[package]
name = "parcel-api"
version = "0.1.0"
edition = "2021"

[dependencies]
actix-web = { version = "4", default-features = false, features = ["macros"] }
serde = { version = "1", features = ["derive"] }
serde_json = "1"
clap = { version = "4", features = ["derive", "env"] }
tracing = "0.1"
tracing-subscriber = { version = "0.3", default-features = false, features = ["fmt"] }
"#;
const RUST_MAIN: &str = r#"//! A web service that says where parcels are.

use actix_web::{App, HttpServer, Responder, get, web};
use clap::Parser;

/// Options of the service.
#[derive(Parser)]
struct Options {
    /// Where it listens.
    #[arg(long, env = "PORT", default_value_t = 8080)]
    port: u16,
}

#[derive(serde::Serialize)]
struct Parcel {
    id: u32,
    place: &'static str,
}

#[get("/")]
async fn start() -> impl Responder {
    "Hello from parcel-api.\n"
}

#[get("/parcels/{id}")]
async fn parcel(id: web::Path<u32>) -> impl Responder {
    web::Json(Parcel { id: *id, place: "locker 7" })
}

#[actix_web::main]
async fn main() -> std::io::Result<()> {
    tracing_subscriber::fmt().init();
    let port = Options::parse().port;
    tracing::info!(port, "listening");
    HttpServer::new(|| App::new().service(start).service(parcel)).bind(("0.0.0.0", port))?.run().await
}
"#;
const NODE_MANIFEST: &str = r#"{
  "name": "slot-api",
  "version": "0.1.0",
  "private": true,
  "scripts": { "start": "node server.js" },
  "dependencies": { "express": "^5" }
}
"#;
const NODE_MAIN: &str = r#"const express = require('express')

const app = express()
app.get('/', (request, response) => response.type('text').send('Hello from slot-api.\n'))
app.get('/slots/:id', (request, response) => response.json({ id: request.params.id, free: true }))
const server = app.listen(process.env.PORT || 8080, () => console.log('listening'))
process.on('SIGTERM', () => server.close(() => process.exit(0)))
"#;
const PYTHON_MAIN: &str = r#"import os
import signal
import sys

from flask import Flask
from werkzeug.serving import make_server

app = Flask(__name__)


@app.get("/")
def start():
    return "Hello from label-api.\n"


@app.get("/labels/<int:label>")
def label(label):
    return {"id": label, "size": "A6"}


signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
print("listening", flush=True)
make_server("0.0.0.0", int(os.environ.get("PORT", "8080")), app, threaded=True).serve_forever()
"#;
const PAGES_MANIFEST: &str = r#"{
  "name": "tariff-pages",
  "version": "0.1.0",
  "private": true,
  "type": "module",
  "scripts": { "build": "vite build" },
  "devDependencies": { "vite": "^6", "react": "^19", "react-dom": "^19" }
}
"#;
const PAGES_INDEX: &str = r#"<!doctype html>
<html lang="en">
  <head><meta charset="utf-8"><title>Hello from tariff-pages.</title></head>
  <body><div id="root"></div><script type="module" src="/main.js"></script></body>
</html>
"#;
const PAGES_MAIN: &str = r#"import { createElement } from 'react'
import { createRoot } from 'react-dom/client'

createRoot(document.getElementById('root')).render(createElement('h1', null, 'Tariffs'))
"#;

fn write(dir: &Path, files: &[(&str, &str)]) {
    for (path, text) in files {
        let path = dir.join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        fs::write(path, text).expect("written");
    }
}

fn run(dir: &Path, words: &[&str]) -> String {
    let mut command = Command::new(words[0]);
    let done = command.args(&words[1..]).current_dir(dir).output().expect("the program runs");
    assert!(done.status.success(), "{words:?}: {}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8_lossy(&done.stdout).into_owned()
}

/// A web service in Rust with more than a hundred dependencies, which lie in `vendor/`. They are those that building this
/// project fetched: no network is needed.
///
/// # Panics
/// When it cannot be made.
pub fn rust(above: &Path) -> CodeTree {
    let dir = above.join("parcel-api");
    write(&dir, &[("Cargo.toml", RUST_MANIFEST), ("src/main.rs", RUST_MAIN)]);
    let lock = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../Cargo.lock");
    fs::copy(lock, dir.join("Cargo.lock")).expect("the lock of this project");
    let config = run(&dir, &["cargo", "vendor", "--offline"]);
    write(&dir, &[(".cargo/config.toml", &config)]);
    let lock = fs::read_to_string(dir.join("Cargo.lock")).expect("its lock");
    let packages = lock.matches("[[package]]").count();
    assert!(packages > 100, "{packages} packages");
    CodeTree { dir, name: "parcel-api", file: "src/main.rs", greeting: "Hello from parcel-api." }
}

/// A web service for Node.js, whose packages lie in `node_modules/`.
///
/// # Panics
/// When it cannot be made.
pub fn nodejs(above: &Path) -> CodeTree {
    let dir = above.join("slot-api");
    write(&dir, &[("package.json", NODE_MANIFEST), ("server.js", NODE_MAIN)]);
    run(&dir, &["npm", "install", "--no-audit", "--no-fund", "--loglevel=error"]);
    CodeTree { dir, name: "slot-api", file: "server.js", greeting: "Hello from slot-api." }
}

/// A web service in Python, whose packages lie in `wheels/`.
///
/// # Panics
/// When it cannot be made.
pub fn python(above: &Path) -> CodeTree {
    let dir = above.join("label-api");
    write(&dir, &[("main.py", PYTHON_MAIN), ("requirements.txt", "flask==3.1.0\n")]);
    run(
        &dir,
        &[
            "/usr/bin/python3",
            "-m",
            "pip",
            "download",
            "--quiet",
            "--dest",
            "wheels",
            "-r",
            "requirements.txt",
        ],
    );
    CodeTree { dir, name: "label-api", file: "main.py", greeting: "Hello from label-api." }
}

/// Pages that a bundler makes, whose packages lie in `node_modules/`.
///
/// # Panics
/// When it cannot be made.
pub fn pages(above: &Path) -> CodeTree {
    let dir = above.join("tariff-pages");
    write(&dir, &[("package.json", PAGES_MANIFEST), ("index.html", PAGES_INDEX), ("main.js", PAGES_MAIN)]);
    run(&dir, &["npm", "install", "--no-audit", "--no-fund", "--loglevel=error"]);
    CodeTree { dir, name: "tariff-pages", file: "index.html", greeting: "Hello from tariff-pages." }
}

/// A folder with Node.js's package manager as this machine has it, whether a package brought it or not, and the recipe of an
/// image with it, `bases/nodejs-tools`, on `bases/nodejs:1`.
///
/// # Panics
/// When this machine has none.
pub fn nodejs_tools(above: &Path) -> PathBuf {
    let dir = above.join("nodejs-tools");
    let recipe = "[image]\nname = \"bases/nodejs-tools\"\n\n[part.run]\nbase = \"bases/nodejs:1\"\nsteps = [\n  \
        { take = [\"npm\"], to = \"/usr/lib/node_modules/\" },\n  \
        { run = \"ln -sf ../lib/node_modules/npm/bin/npm-cli.js /usr/bin/npm\" },\n]\n";
    write(&dir, &[("recipe.toml", recipe)]);
    let installed = run(&dir, &["npm", "root", "--global"]);
    run(&dir, &["cp", "--recursive", &format!("{}/npm", installed.trim()), "npm"]);
    dir
}

/// A folder with Rust's compiler of this machine and the recipe of an image with it, `bases/rust`, on `bases/tools:1`.
///
/// # Panics
/// When this machine has none.
pub fn rust_toolchain(above: &Path) -> PathBuf {
    let dir = above.join("toolchain");
    let recipe = "[image]\nname = \"bases/rust\"\n\
        settings = { PATH = \"/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/opt/rust/bin\" }\n\n\
        [part.run]\nbase = \"bases/tools:1\"\nsteps = [{ take = [\"rust\"], to = \"/opt/\" }]\n";
    write(&dir, &[("recipe.toml", recipe)]);
    fs::create_dir_all(dir.join("rust")).expect("made");
    let installed = run(&dir, &["rustc", "--print", "sysroot"]);
    for part in ["bin", "lib"] {
        let from = format!("{}/{part}", installed.trim());
        run(&dir, &["cp", "--recursive", &from, "rust/"]);
    }
    dir
}

impl CodeTree {
    /// Changes the line.
    ///
    /// # Panics
    /// When it is not there.
    pub fn change(&self, from: &str, to: &str) {
        let file = self.dir.join(self.file);
        let text = fs::read_to_string(&file).expect("the file");
        assert!(text.contains(from), "{from} in {text}");
        fs::write(file, text.replace(from, to)).expect("written");
    }

    /// Writes a declaration that runs its image behind an address.
    ///
    /// # Panics
    /// When it cannot be written.
    pub fn declare(&self) {
        let name = self.name;
        let text = format!(
            "application = \"{name}\"\n[workload.{name}]\nimage = \"trees/{name}:0\"\nports = {{ http = 8080 }}\n\
             checks = {{ ready = {{ path = \"/\" }} }}\n[route.{name}]\nto = [{{ service = \"{name}\" }}]\n"
        );
        write(&self.dir, &[("mainyard.toml", &text)]);
    }
}
