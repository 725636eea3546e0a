//! Every key that `recipe.toml` may hold.

use mainyard_core::manifest::keys::{MapKey, Shape, key, required};

/// A whole recipe.
pub static RECIPE: Shape = Shape::Table(&[
    required("image", &IMAGE, "The image that the recipe makes."),
    key(
        "ignore",
        &Shape::List(&Shape::Text),
        "Paths of the tree that are no part of it, in the form of .gitignore; what .gitignore itself names is left out as well.",
    ),
    key(
        "push_must_build",
        &Shape::Bool,
        "Refuse a push of this recipe when its build fails; without it the push is taken and the failure told.",
    ),
    key("limits", &LIMITS, "The most that one step may use."),
    key(
        "part",
        &Shape::Map(MapKey::Name, &PART),
        "The parts that the image is built in, one after the other.",
    ),
]);

static IMAGE: Shape = Shape::Table(&[
    required(
        "name",
        &Shape::Repository,
        "The repository that the image is kept in, such as lockers/survey-form.",
    ),
    key("part", &Shape::Name, "The part whose files are the image's; the last one by default."),
    key(
        "user",
        &Shape::Text,
        "The user that its program runs as, by name or number; the part's own by default.",
    ),
    key("folder", &Shape::Inside, "The working directory of its program; the part's own by default."),
    key(
        "command",
        &Shape::List(&Shape::Text),
        "Its program and arguments; those of the part's base by default.",
    ),
    key("settings", &SETTINGS, "Environment variables of its program, beside those of the part's base."),
    key("ports", &Shape::List(&Shape::Integer(1, 65_535)), "Ports that its program listens on."),
    key("labels", &Shape::Map(MapKey::Label, &Shape::Text), "Labels to find it by."),
    key(
        "health",
        &Shape::Path,
        "A path that answers 200 to 399 when its program is well; offered as a check.",
    ),
]);

static LIMITS: Shape = Shape::Table(&[
    key("memory", &Shape::Size, "Memory; 1 GiB by default."),
    key("cpu", &Shape::Number(0.1, 64.0), "Processors; 2 by default."),
    key("disk", &Shape::Size, "What it may write; 4 GiB by default."),
    key("processes", &Shape::Integer(1, 4096), "Processes and threads; 512 by default."),
    key("time", &Shape::Time, "How long it may take; 30m by default."),
]);

static PART: Shape = Shape::Table(&[
    key("base", &Shape::Image, "The image that it begins with; without one it begins with nothing."),
    key("digest", &Shape::Digest, "The image of this digest, whatever the base's name stands for by now."),
    key(
        "folder",
        &Shape::Inside,
        "The working directory of its steps, made where it is missing; / by default.",
    ),
    key(
        "user",
        &Shape::Text,
        "The user that its steps run as, by name or number; that of the base by default.",
    ),
    key("settings", &SETTINGS, "Environment variables of its steps."),
    key(
        "caches",
        &Shape::Map(MapKey::Name, &Shape::Inside),
        "Folders that outlive the build, by name: what a step leaves there, the same step finds in the next build.",
    ),
    key(
        "steps",
        &Shape::List(&STEP),
        "What is done, one after the other: each takes files or runs a command.",
    ),
]);

static STEP: Shape = Shape::Table(&[
    key("take", &Shape::List(&Shape::Text), "Files and folders to take, from the tree or from another part."),
    key(
        "from",
        &Shape::Name,
        "The part to take them from, which stands before this one; the tree by default.",
    ),
    key(
        "to",
        &Shape::Inside,
        "Where they go: a folder, or the name of the one file; the part's folder by default.",
    ),
    key("run", &Shape::Text, "Or a command, for the base's shell."),
    key("folder", &Shape::Inside, "The working directory of the command; the part's by default."),
    key("user", &Shape::Text, "The user that the command runs as; the part's by default."),
    key("settings", &SETTINGS, "Environment variables of this command alone."),
    key(
        "secrets",
        &Shape::Map(MapKey::Name, &Shape::Inside),
        "Files for this command alone, by the name of the secret that they hold; they are in no layer and in no log.",
    ),
    key(
        "network",
        &Shape::List(&Shape::Outgoing),
        "Hosts outside that the command may reach, as host:port; none by default.",
    ),
]);

static SETTINGS: Shape = Shape::Map(MapKey::Setting, &Shape::Text);
