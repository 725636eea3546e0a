//! The attacker makes an image: layers and archives that would write outside, take rights, or take more than their share.
//! Each is a row: what it is, and what came back. Nothing lands outside, and nothing is left half-way.
//!
//! Needs root: owners are real.

use std::path::Path;

use mainyard_images::{ContentStore, Digest, import_archive, sums_of_layer, unpack_layer};
use tar::EntryType;

fn entry(
    kind: EntryType,
    name: &[u8],
    link: &[u8],
    content: &[u8],
    change: impl FnOnce(&mut tar::Header),
) -> Vec<u8> {
    let mut header = tar::Header::new_ustar();
    header.set_entry_type(kind);
    header.set_mode(0o755);
    header.set_uid(0);
    header.set_gid(0);
    header.set_mtime(1_000_000);
    header.set_size(content.len() as u64);
    header.as_old_mut().name[..name.len().min(100)].copy_from_slice(&name[..name.len().min(100)]);
    header.as_old_mut().linkname[..link.len().min(100)].copy_from_slice(&link[..link.len().min(100)]);
    change(&mut header);
    header.set_cksum();
    let mut bytes = header.as_bytes().to_vec();
    bytes.extend_from_slice(content);
    bytes.resize(bytes.len().next_multiple_of(512), 0);
    bytes
}

fn plain(kind: EntryType, name: &str, link: &str, content: &[u8]) -> Vec<u8> {
    entry(kind, name.as_bytes(), link.as_bytes(), content, |_| {})
}

fn file(name: &str) -> Vec<u8> {
    plain(EntryType::Regular, name, "", b"out")
}

fn link(name: &str, to: &str) -> Vec<u8> {
    plain(EntryType::Symlink, name, to, b"")
}

/// An extended header (POSIX 1003.1, pax) for the entry that follows.
fn pax(key: &str, value: &str) -> Vec<u8> {
    let rest = format!(" {key}={value}\n");
    let mut length = rest.len() + 1;
    while format!("{length}{rest}").len() != length {
        length += 1;
    }
    plain(EntryType::XHeader, "pax", "", format!("{length}{rest}").as_bytes())
}

/// GNU's way to say a long name for the entry that follows.
fn long_name(name: &str) -> Vec<u8> {
    plain(EntryType::GNULongName, "././@LongLink", "", format!("{name}\0").as_bytes())
}

fn archive(entries: &[Vec<u8>]) -> Vec<u8> {
    let mut bytes = entries.concat();
    bytes.resize(bytes.len() + 1024, 0);
    bytes
}

/// The result in one line, without the parts that differ from run to run.
fn row(what: &str, outcome: Result<String, String>, dir: &Path) -> String {
    let text = match outcome {
        Ok(text) => format!("taken: {text}"),
        Err(text) => format!("refused: {text}"),
    };
    format!("{what}: {}", text.replace(&dir.display().to_string(), "DIR"))
}

#[test]
#[expect(clippy::too_many_lines, reason = "a table: one entry for each hostile layer")]
fn layers() {
    let deep: String = "d/".repeat(1500);
    let with = |kind, name: &str, change: &dyn Fn(&mut tar::Header)| {
        entry(kind, name.as_bytes(), b"", b"out", |header| change(header))
    };
    let cases: Vec<(&str, Vec<Vec<u8>>)> = vec![
        ("a name by pax that climbs", vec![pax("path", "../outside"), file("inside")]),
        ("an absolute name by pax", vec![pax("path", "/tmp/outside"), file("inside")]),
        (
            "a link by pax that leads to /, and a file through it",
            vec![pax("linkpath", "/"), link("way", "x"), file("way/tmp/outside")],
        ),
        ("a long name by GNU that climbs", vec![long_name("a/../../../outside"), file("inside")]),
        ("a size by pax that is not there", vec![pax("size", "99999999999"), file("inside")]),
        ("a size that is not a number", vec![pax("size", "-1"), file("inside")]),
        ("an owner past the map", vec![pax("uid", "70000"), file("inside")]),
        ("an owner that is not a number", vec![pax("uid", "root"), file("inside")]),
        ("a name with a zero byte", vec![pax("path", "a\0/../../outside"), file("inside")]),
        ("an empty name", vec![entry(EntryType::Regular, b"", b"", b"out", |_| {})]),
        ("the root as a file", vec![file(".")]),
        ("two dots as a name", vec![file("..")]),
        ("a name of 5,000 letters", vec![long_name(&"x".repeat(5000)), file("inside")]),
        ("1,500 folders deep", vec![long_name(&format!("{deep}leaf")), file("inside")]),
        ("a whiteout of the root", vec![file(".wh..")]),
        ("a whiteout of what is above", vec![file(".wh...")]),
        ("an opaque whiteout above", vec![file("../.wh..wh..opq")]),
        ("a whiteout through a link", vec![link("way", "/etc"), file("way/.wh.passwd")]),
        ("a file where a folder is", vec![plain(EntryType::Directory, "a", "", b""), file("a")]),
        ("a folder where a file is", vec![file("a"), plain(EntryType::Directory, "a", "", b"")]),
        (
            "a folder where a link out is",
            vec![link("a", "/tmp"), plain(EntryType::Directory, "a", "", b""), file("a/outside")],
        ),
        ("a link to itself, and a file through it", vec![link("a", "a"), file("a/outside")]),
        (
            "two links in a circle, and a file through them",
            vec![link("a", "b"), link("b", "a"), file("a/outside")],
        ),
        ("a further name of itself", vec![plain(EntryType::Link, "a", "a", b"")]),
        (
            "a further name of a folder",
            vec![plain(EntryType::Directory, "a", "", b""), plain(EntryType::Link, "b", "a", b"")],
        ),
        (
            "a further name of a link out",
            vec![link("a", "/etc/passwd"), plain(EntryType::Link, "b", "a", b"")],
        ),
        ("a character device", vec![plain(EntryType::Char, "null", "", b"")]),
        ("a kind that nobody knows", vec![plain(EntryType::new(b'Z'), "odd", "", b"")]),
        ("a time before all times", vec![pax("mtime", "-99999999999999"), file("inside")]),
        ("a mode with every bit", vec![with(EntryType::Regular, "tool", &|header| header.set_mode(0o7777))]),
        ("a header that is cut", vec![file("inside")[..300].to_vec()]),
        (
            "a checksum that is wrong",
            vec![{
                let mut bytes = file("inside");
                bytes[148] ^= 1;
                bytes
            }],
        ),
    ];
    let mut rows = Vec::new();
    for (what, entries) in cases {
        let dir = tempfile::tempdir().expect("a folder");
        let deep = dir.path().join("deep");
        std::fs::create_dir(&deep).expect("a folder");
        std::fs::write(dir.path().join("outside"), "mine").expect("a file");
        let target = deep.join("layer");
        let bytes = archive(&entries);
        let outcome = unpack_layer(&bytes[..], &Digest::of(&bytes), &target);
        let outcome = outcome.map(|_| "inside").map(str::to_owned).map_err(|error| error.to_string());
        if outcome.is_err() {
            assert!(!target.exists(), "{what}: something is left half-way");
        }
        let sums = sums_of_layer(&target);
        let there = std::fs::read_dir(&deep).expect("it").flatten().map(|entry| entry.path());
        let beside: Vec<_> = there.filter(|path| *path != target && *path != sums).collect();
        assert!(beside.is_empty(), "{what}: something lies beside the layer: {beside:?}");
        assert_eq!(target.exists(), sums.exists(), "{what}: a layer has its sums, and nothing else has any");
        assert_eq!(std::fs::read_to_string(dir.path().join("outside")).expect("it"), "mine", "{what}");
        assert!(!Path::new("/tmp/outside").exists(), "{what}");
        rows.push(row(what, outcome, dir.path()));
    }
    assert!(rows.len() >= 30);
    insta::assert_snapshot!(rows.join("\n"));
}

#[test]
fn archives() {
    let layout = || plain(EntryType::Regular, "oci-layout", "", br#"{"imageLayoutVersion":"1.0.0"}"#);
    let index = |text: &str| plain(EntryType::Regular, "index.json", "", text.as_bytes());
    let blob = |content: &[u8]| {
        plain(EntryType::Regular, &format!("blobs/sha256/{}", Digest::of(content).hex()), "", content)
    };
    let of = |kind: &str, content: &[u8]| {
        let (digest, size) = (Digest::of(content), content.len());
        format!(r#"{{"mediaType":"application/vnd.oci.image.{kind}","digest":"{digest}","size":{size}}}"#)
    };
    let manifests = |list: &str| format!(r#"{{"schemaVersion":2,"manifests":[{list}]}}"#);
    let nested = {
        let mut inner = manifests("");
        let mut blobs = Vec::new();
        for _ in 0..50 {
            let bytes = inner.clone().into_bytes();
            inner = manifests(&of("index.v1+json", &bytes));
            blobs.push(blob(&bytes));
        }
        [vec![layout(), index(&inner)], blobs].concat()
    };
    let many_layers = {
        let layer = of("layer.v1.tar", b"x");
        let list = vec![layer; 200].join(",");
        let text =
            format!(r#"{{"schemaVersion":2,"config":{},"layers":[{list}]}}"#, of("config.v1+json", b"{}"));
        vec![
            layout(),
            index(&manifests(&of("manifest.v1+json", text.as_bytes()))),
            blob(text.as_bytes()),
            blob(b"{}"),
            blob(b"x"),
        ]
    };
    let zero = "sha256:".to_owned() + &"0".repeat(64);
    let climbing = r#"{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"sha256:../../../../etc/passwd","size":1}"#;
    let missing =
        format!(r#"{{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"{zero}","size":1}}"#);
    let cases: Vec<(&str, Vec<u8>)> = vec![
        ("nothing", Vec::new()),
        ("no archive", b"hello, this is no archive".to_vec()),
        ("gzip of nothing", vec![0x1f, 0x8b, 8, 0]),
        ("zstd of nothing", vec![0x28, 0xb5, 0x2f, 0xfd, 0]),
        ("a digest that climbs", archive(&[layout(), index(&manifests(climbing))])),
        ("a digest that is not there", archive(&[layout(), index(&manifests(&missing))])),
        ("an index that is not JSON", archive(&[layout(), index("{")])),
        ("an index of the wrong shape", archive(&[layout(), index("[]")])),
        ("an index 10,000 levels deep", archive(&[layout(), index(&"[".repeat(10_000))])),
        ("indexes within indexes", archive(&nested)),
        ("200 layers", archive(&many_layers)),
        ("the index as a link", archive(&[layout(), link("index.json", "/etc/passwd")])),
        (
            "a blob as a link",
            archive(&[
                layout(),
                link(&format!("blobs/sha256/{}", "0".repeat(64)), "/etc/passwd"),
                index(&manifests(&missing)),
            ]),
        ),
        ("the marker as a folder", archive(&[plain(EntryType::Directory, "oci-layout", "", b"")])),
    ];
    let mut rows = Vec::new();
    for (what, bytes) in cases {
        let dir = tempfile::tempdir().expect("a folder");
        let store = ContentStore::open(&dir.path().join("store")).expect("a store");
        let outcome = import_archive(&store, &bytes[..])
            .map(|it| it.len().to_string())
            .map_err(|error| error.to_string());
        assert_eq!(
            std::fs::read_dir(dir.path()).expect("it").count(),
            1,
            "{what}: something lies beside the store"
        );
        let incoming = std::fs::read_dir(dir.path().join("store/incoming")).expect("it").count();
        assert_eq!(incoming, 0, "{what}: something is left half-way");
        assert!(outcome.is_err(), "{what} was taken: {outcome:?}");
        rows.push(row(what, outcome, dir.path()));
    }
    insta::assert_snapshot!(rows.join("\n"));
}
