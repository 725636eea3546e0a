//! Layers as strangers make them: what is kept, what is refused, and that nothing ever lands outside.
//!
//! Needs root: owners and whiteouts are real.

use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;

use mainyard_images::{
    ContentStore, Digest, FileEntry, ImageContent, import_archive, merge_layer, pack, resolve_user,
    unpack_layer, write_archive,
};
use tar::EntryType;

/// An entry as it is, without the library's own checks: name and link target go in as they are.
fn raw(kind: EntryType, name: &str, link: &str, content: &[u8]) -> Vec<u8> {
    let mut header = tar::Header::new_ustar();
    header.set_entry_type(kind);
    header.set_mode(0o640);
    header.set_uid(1000);
    header.set_gid(1001);
    header.set_mtime(1_000_000);
    header.set_size(content.len() as u64);
    header.as_old_mut().name[..name.len()].copy_from_slice(name.as_bytes());
    header.as_old_mut().linkname[..link.len()].copy_from_slice(link.as_bytes());
    header.set_cksum();
    let mut bytes = header.as_bytes().to_vec();
    bytes.extend_from_slice(content);
    bytes.resize(bytes.len().next_multiple_of(512), 0);
    bytes
}

fn layer(entries: &[Vec<u8>]) -> Vec<u8> {
    let mut bytes = entries.concat();
    bytes.resize(bytes.len() + 1024, 0);
    bytes
}

fn unpack(entries: &[Vec<u8>], into: &Path) -> Result<(), String> {
    let bytes = layer(entries);
    unpack_layer(&bytes[..], &Digest::of(&bytes), into).map_err(|error| error.to_string())
}

#[test]
fn what_would_leave_the_image_is_refused() {
    let file = |name: &str| raw(EntryType::Regular, name, "", b"out");
    let link = |name: &str, to: &str| raw(EntryType::Symlink, name, to, b"");
    let hard = |name: &str, to: &str| raw(EntryType::Link, name, to, b"");
    let cases: [(&str, Vec<Vec<u8>>); 11] = [
        ("a climbing name", vec![file("../outside")]),
        ("a name that climbs in the middle", vec![file("a/../../outside")]),
        ("an absolute name", vec![file("/outside")]),
        ("through a link that climbs", vec![link("way", "../.."), file("way/outside")]),
        ("through an absolute link", vec![link("way", "/tmp"), file("way/outside")]),
        ("through two links", vec![link("a", "b"), link("b", "/tmp"), file("a/outside")]),
        (
            "a directory through a link",
            vec![link("way", "/tmp"), raw(EntryType::Directory, "way/outside", "", b"")],
        ),
        ("a further name of a file outside", vec![hard("inside", "../../outside")]),
        ("a further name by an absolute path", vec![hard("inside", "/etc/passwd")]),
        ("a further name through a link", vec![link("way", "/etc"), hard("inside", "way/passwd")]),
        ("a whiteout outside", vec![file("../.wh.outside")]),
    ];
    let mut answers = Vec::new();
    for (what, entries) in cases {
        let dir = tempfile::tempdir().expect("a directory");
        std::fs::write(dir.path().join("outside"), "mine").expect("a file");
        let target = dir.path().join("deep/layer");
        std::fs::create_dir(dir.path().join("deep")).expect("a directory");
        let answer = unpack(&entries, &target).expect_err(what);
        answers.push(format!("{what}: {answer}"));
        assert!(!target.exists(), "{what}: nothing is left half-way");
        assert_eq!(std::fs::read_dir(dir.path().join("deep")).expect("it").count(), 0, "{what}");
        assert_eq!(std::fs::read_to_string(dir.path().join("outside")).expect("it"), "mine", "{what}");
        assert!(!Path::new("/tmp/outside").exists(), "{what}");
    }
    insta::assert_snapshot!(answers.join("\n"));
}

#[test]
fn owners_modes_links_and_whiteouts_are_kept() {
    let dir = tempfile::tempdir().expect("a directory");
    let target = dir.path().join("layer");
    let entries = [
        raw(EntryType::Regular, "app/tool", "", b"tool"),
        raw(EntryType::Link, "app/again", "app/tool", b""),
        raw(EntryType::Symlink, "app/link", "/app/tool", b""),
        raw(EntryType::Symlink, "bin", "app", b""),
        raw(EntryType::Regular, "bin/through-a-link-inside", "", b"x"),
        raw(EntryType::Regular, "app/.wh.removed", "", b""),
        raw(EntryType::Regular, "cache/.wh..wh..opq", "", b""),
    ];
    unpack(&entries, &target).expect("unpacked");
    let tool = std::fs::metadata(target.join("app/tool")).expect("the file");
    assert_eq!((tool.uid(), tool.gid(), tool.mode() & 0o7777, tool.mtime()), (1000, 1001, 0o640, 1_000_000));
    assert_eq!(tool.ino(), std::fs::metadata(target.join("app/again")).expect("the other name").ino());
    assert_eq!(std::fs::read_link(target.join("app/link")).expect("the link"), Path::new("/app/tool"));
    assert!(target.join("app/through-a-link-inside").is_file());
    let whiteout = std::fs::symlink_metadata(target.join("app/removed")).expect("the whiteout");
    assert!(whiteout.file_type().is_char_device() && whiteout.rdev() == 0);
    assert!(target.join("cache").is_dir());
}

#[test]
fn merged_layers_hide_and_replace_what_lies_below() {
    let dir = tempfile::tempdir().expect("a directory");
    let root = dir.path();
    let lower = [
        raw(EntryType::Regular, "app/tool", "", b"old"),
        raw(EntryType::Regular, "app/removed", "", b"x"),
        raw(EntryType::Regular, "cache/stale/file", "", b"x"),
        raw(EntryType::Directory, "kept", "", b""),
    ];
    let upper = [
        raw(EntryType::Regular, "app/tool", "", b"new"),
        raw(EntryType::Regular, "app/.wh.removed", "", b""),
        raw(EntryType::Regular, "cache/fresh", "", b"x"),
        raw(EntryType::Regular, "cache/.wh..wh..opq", "", b""),
    ];
    for entries in [&lower, &upper] {
        let bytes = layer(entries);
        merge_layer(&bytes[..], &Digest::of(&bytes), root).expect("merged");
    }
    assert_eq!(std::fs::read_to_string(root.join("app/tool")).expect("the file"), "new");
    assert!(!root.join("app/removed").exists() && !root.join("cache/stale").exists());
    assert!(root.join("cache/fresh").is_file() && root.join("kept").is_dir());
    let (own, tool) =
        (std::fs::metadata(root).expect("it"), std::fs::metadata(root.join("app/tool")).expect("it"));
    assert_eq!((tool.uid(), tool.gid()), (own.uid(), own.gid()), "it belongs to who merged it");
    let climbing = layer(&[raw(EntryType::Regular, "../outside", "", b"out")]);
    assert!(merge_layer(&climbing[..], &Digest::of(&climbing), root).is_err());
    let nothing = layer(&[raw(EntryType::Regular, "app/.wh...", "", b"")]);
    assert!(
        merge_layer(&nothing[..], &Digest::of(&nothing), root).is_err(),
        "a whiteout of the directory above"
    );
}

#[test]
fn a_layer_that_differs_from_its_digest_is_refused() {
    let dir = tempfile::tempdir().expect("a directory");
    let target = dir.path().join("layer");
    let bytes = layer(&[raw(EntryType::Regular, "a", "", b"x")]);
    let error = unpack_layer(&bytes[..], &Digest::of(b"other"), &target).expect_err("another digest");
    assert!(error.to_string().contains("was changed or cut on the way"), "{error}");
    let error =
        unpack_layer(&bytes[..300], &Digest::of(&bytes[..300]), &target).expect_err("cut in a header");
    assert!(error.to_string().contains("cut short"), "{error}");
    assert!(!target.exists());
    assert_eq!(
        std::fs::read_dir(dir.path())
            .expect("it")
            .filter(|entry| entry.as_ref().is_ok_and(|e| e.file_name() != "layer"))
            .count(),
        0
    );
}

#[test]
fn an_image_is_the_same_after_a_journey_as_an_archive() {
    let dir = tempfile::tempdir().expect("a directory");
    let (here, there) = (dir.path().join("here"), dir.path().join("there"));
    let (here, there) =
        (ContentStore::open(&here).expect("a store"), ContentStore::open(&there).expect("a store"));
    let passwd = b"root:x:0:0::/:\nlarkfield:x:1000:1002::/:\n".to_vec();
    let layers =
        vec![vec![FileEntry::Dir("etc/".into(), 0o755), FileEntry::File("etc/passwd".into(), passwd, 0o644)]];
    let content = ImageContent {
        layers,
        entrypoint: vec!["/app".into()],
        user: "larkfield".into(),
        ..ImageContent::default()
    };
    let digest = pack(&here, &content).expect("packed");
    assert_eq!(pack(&here, &content).expect("packed"), digest, "the same content, the same digest");
    let mut archive = Vec::new();
    write_archive(&here, &digest, "lockers/x:1", &mut archive).expect("written");
    let mut packed = zstd::encode_all(&archive[..], 1).expect("compressed");
    for archive in [&archive, &packed] {
        let imported = import_archive(&there, &archive[..]).expect("taken in");
        assert_eq!(
            (imported.len(), imported[0].digest.clone(), imported[0].name.as_deref()),
            (1, digest.clone(), Some("lockers/x:1"))
        );
    }
    packed.truncate(packed.len() / 2);
    assert!(import_archive(&there, &packed[..]).is_err());
    let layers = testing::unpack_all(&there, &digest, dir.path());
    let ids = |user: &str| resolve_user(user, &layers).map(|user| (user.uid, user.gid)).expect("known");
    assert_eq!((ids("larkfield"), ids("7:8")), ((1000, 1002), (7, 8)));
    assert!(resolve_user("mallory", &layers).is_err());
}

/// An entry with PAX records in front of it (POSIX.1-2017, "pax Extended Header").
fn with_records(records: &[(&str, &[u8])], entry: Vec<u8>) -> Vec<u8> {
    let mut text = Vec::new();
    for (key, value) in records {
        // The length counts its own digits.
        let rest = key.len() + value.len() + 3;
        let length = (1..7).map(|digits| rest + digits).find(|length| {
            let digits = length.to_string().len();
            rest + digits == *length
        });
        text.extend(format!("{} {key}=", length.expect("a length")).as_bytes());
        text.extend(*value);
        text.push(b'\n');
    }
    [raw(EntryType::XHeader, "records", "", &text), entry].concat()
}

/// The value of an extended attribute; nothing if the file has none of that name.
fn attribute(path: &Path, name: &str) -> Option<Vec<u8>> {
    let mut value = vec![0; 256];
    let length = rustix::fs::getxattr(path, name, &mut value).ok()?;
    value.truncate(length);
    Some(value)
}

#[test]
fn a_file_keeps_the_attributes_and_the_time_that_its_records_say() {
    let dir = tempfile::tempdir().expect("a directory");
    let target = dir.path().join("layer");
    // A capability as the kernel stores it, version 2 (linux/capability.h): effective, CAP_NET_BIND_SERVICE.
    let capability = [1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    let records: [(&str, &[u8]); 5] = [
        ("SCHILY.xattr.user.origin", b"builder"),
        ("SCHILY.xattr.security.capability", &capability),
        ("SCHILY.xattr.trusted.overlay.opaque", b"y"),
        ("mtime", b"2000000.25"),
        ("uid", b"1200000"),
    ];
    unpack(&[with_records(&records, raw(EntryType::Regular, "app", "", b"x"))], &target).expect("unpacked");
    let app = target.join("app");
    assert_eq!(attribute(&app, "security.capability").as_deref(), Some(&capability[..]));
    assert_eq!(attribute(&app, "user.origin").as_deref(), Some(&b"builder"[..]));
    assert_eq!(attribute(&app, "trusted.overlay.opaque"), None, "an image does not change what overlays do");
    let found = std::fs::metadata(&app).expect("the file");
    assert_eq!((found.mtime(), found.uid()), (2_000_000, 65_534), "an owner past the map is nobody");
}

#[test]
fn sparse_files_come_out_whole_with_their_holes() {
    const MIB: u64 = 1 << 20;
    let dir = tempfile::tempdir().expect("a directory");
    let mut leading = format!("2\n0\n4\n{}\n3\n", 8 * MIB).into_bytes();
    leading.resize(512, 0);
    leading.extend(b"headend");
    let size = (8 * MIB + 3).to_string();
    let map = format!("0,4,{},3", 8 * MIB);
    let forms: [(&str, Vec<Vec<u8>>); 3] = [
        (
            "1.0",
            vec![with_records(
                &[
                    ("GNU.sparse.major", b"1"),
                    ("GNU.sparse.minor", b"0"),
                    ("GNU.sparse.name", b"disk"),
                    ("GNU.sparse.realsize", size.as_bytes()),
                ],
                raw(EntryType::Regular, "GNUSparseFile.0/disk", "", &leading),
            )],
        ),
        (
            "0.1",
            vec![with_records(
                &[
                    ("GNU.sparse.size", size.as_bytes()),
                    ("GNU.sparse.map", map.as_bytes()),
                    ("GNU.sparse.name", b"disk"),
                ],
                raw(EntryType::Regular, "GNUSparseFile.0/disk", "", b"headend"),
            )],
        ),
        ("none", {
            let mut content = b"head".to_vec();
            content.resize(8 * MIB as usize, 0);
            content.extend(b"end");
            vec![raw(EntryType::Regular, "disk", "", &content)]
        }),
    ];
    for (form, entries) in forms {
        let target = dir.path().join(form);
        unpack(&entries, &target).unwrap_or_else(|error| panic!("{form}: {error}"));
        let content = std::fs::read(target.join("disk")).expect("the file");
        assert_eq!(content.len() as u64, 8 * MIB + 3, "{form}");
        assert!(content.starts_with(b"head\0") && content.ends_with(b"\0end"), "{form}");
        let found = std::fs::metadata(target.join("disk")).expect("the file");
        assert!(found.blocks() * 512 < MIB, "{form}: {} blocks", found.blocks());
    }
}

#[test]
fn damaged_sparse_files_are_refused_and_leave_nothing() {
    let dir = tempfile::tempdir().expect("a directory");
    let sparse = |map: &str, size: &str, content: &[u8]| {
        let records = [("GNU.sparse.size", size.as_bytes()), ("GNU.sparse.map", map.as_bytes())];
        with_records(&records, raw(EntryType::Regular, "disk", "", content))
    };
    let leading = |list: &str| {
        let mut content = list.as_bytes().to_vec();
        content.resize(512, 0);
        let records: [(&str, &[u8]); 2] = [("GNU.sparse.major", b"1"), ("GNU.sparse.realsize", b"9")];
        with_records(&records, raw(EntryType::Regular, "disk", "", &content))
    };
    let cases = [
        ("overlapping", sparse("0,4,2,4", "9", b"12345678")),
        ("past the length", sparse("0,4,8,4", "9", b"12345678")),
        ("past all numbers", sparse("18446744073709551615,2", "9", b"12")),
        ("half a piece", sparse("0,4,5", "9", b"1234")),
        ("too little content", sparse("0,8", "9", b"1234")),
        ("no number", sparse("0,x", "9", b"1234")),
        ("a length past all limits", sparse("0,4", "99999999999999", b"1234")),
        ("a list without end", leading("")),
        ("too many pieces", leading("100001\n")),
        ("a long number", leading("123456789012345678901234567890\n")),
    ];
    let mut answers = Vec::new();
    for (what, entry) in cases {
        let target = dir.path().join("layer");
        answers.push(format!("{what}: {}", unpack(&[entry], &target).expect_err(what)));
        assert!(!target.exists(), "{what}");
    }
    insta::assert_snapshot!(answers.join("\n"));
}

#[test]
fn a_whiteout_hides_what_lies_below_and_nothing_of_its_own_layer() {
    let file = |name: &str| raw(EntryType::Regular, name, "", b"x");
    let dir = |name: &str| raw(EntryType::Directory, name, "", b"");
    let entries = [
        file("before"),
        file(".wh.before"),
        file(".wh.after"),
        file("after"),
        dir("first"),
        file("first/kept"),
        file(".wh.first"),
        file(".wh.second"),
        dir("second"),
    ];
    let place = tempfile::tempdir().expect("a directory");
    let target = place.path().join("layer");
    unpack(&entries, &target).expect("unpacked");
    for name in ["before", "after", "first/kept"] {
        assert!(std::fs::symlink_metadata(target.join(name)).expect(name).is_file(), "{name}");
    }
    for name in ["first", "second"] {
        let opaque = attribute(&target.join(name), "trusted.overlay.opaque");
        assert_eq!(opaque.as_deref(), Some(&b"y"[..]), "{name} shows nothing from below");
    }

    let merged = place.path().join("merged");
    std::fs::create_dir(&merged).expect("a directory");
    let below = ["before", "after", "first/old", "second/old"].map(file);
    for entries in [&below[..], &entries[..]] {
        let bytes = layer(entries);
        merge_layer(&bytes[..], &Digest::of(&bytes), &merged).expect("merged");
    }
    for (name, there) in
        [("before", true), ("after", true), ("first/kept", true), ("first/old", false), ("second/old", false)]
    {
        assert_eq!(merged.join(name).exists(), there, "{name}");
    }
}

#[test]
fn long_names_and_long_link_targets_are_kept() {
    let long = format!("{}/{}", "directory-".repeat(20), "n".repeat(200));
    let target = format!("/{}", "t".repeat(300));
    let mut builder = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(1);
    header.set_mode(0o644);
    header.set_uid(0);
    header.set_gid(0);
    builder.append_data(&mut header, &long, &b"x"[..]).expect("a file");
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(EntryType::Symlink);
    header.set_size(0);
    header.set_uid(0);
    header.set_gid(0);
    builder.append_link(&mut header, "link", &target).expect("a link");
    let by_records = with_records(
        &[("path", b"by-records/\xc3\xa4"), ("size", b"3")],
        raw(EntryType::Regular, "short", "", b"abc"),
    );
    let bytes = [&builder.into_inner().expect("an archive")[..], &[]].concat();
    // The archive's end, two records of zeros, is cut off for another entry.
    let bytes = layer(&[bytes[..bytes.len() - 1024].to_vec(), by_records]);
    let place = tempfile::tempdir().expect("a directory");
    let layer = place.path().join("layer");
    unpack_layer(&bytes[..], &Digest::of(&bytes), &layer).expect("unpacked");
    assert_eq!(std::fs::read(layer.join(&long)).expect("the file"), b"x");
    assert_eq!(std::fs::read_link(layer.join("link")).expect("the link"), Path::new(&target));
    assert_eq!(std::fs::read(layer.join("by-records/ä")).expect("the file"), b"abc");
}

#[test]
fn a_file_that_is_not_what_it_was_is_found() {
    use mainyard_images::{LayerState, verify_layer};

    let dir = tempfile::tempdir().expect("a directory");
    let target = dir.path().join("layer");
    let entries = [
        raw(EntryType::Directory, "app/", "", b""),
        raw(EntryType::Regular, "app/one", "", b"first"),
        raw(EntryType::Regular, "app/one", "", b"the later one holds"),
        raw(EntryType::Regular, "app/gone/inner", "", b"below what becomes a file"),
        raw(EntryType::Regular, "app/gone", "", b"a file"),
        raw(EntryType::Link, "app/two", "app/one", b""),
        raw(EntryType::Symlink, "app/out", "/etc/passwd", b""),
        raw(EntryType::Regular, "empty", "", b""),
    ];
    unpack(&entries, &target).expect("a layer");
    let look = || {
        let mut read = 0;
        let state = verify_layer(&target, |bytes| read += bytes).expect("a look");
        (state, read)
    };
    assert_eq!(look(), (LayerState::Whole { files: 3, bytes: 25 }, 25));
    std::fs::write(target.join("app/gone"), "b file").expect("changed");
    let broken = |how: &str| LayerState::Broken { file: "app/gone".into(), how: how.to_owned() };
    assert_eq!(look().0, broken("has another content"));
    std::fs::write(target.join("app/gone"), "a").expect("cut");
    assert_eq!(look().0, broken("has 1 bytes instead of 6"));
    std::fs::remove_file(target.join("app/gone")).expect("removed");
    assert!(matches!(look().0, LayerState::Broken { .. }));
    std::fs::remove_file(mainyard_images::sums_of_layer(&target)).expect("removed");
    assert_eq!(look().0, LayerState::Unknown);
}

#[test]
fn numbers_that_a_header_leaves_out_stand_for_nought() {
    let dir = tempfile::tempdir().expect("a directory");
    let mut bytes = raw(EntryType::Regular, "file", "", b"x");
    // Owner, group and time: blank, as some programs leave them. The checksum is of the header as it is.
    bytes[108..124].fill(0);
    bytes[136..148].fill(b' ');
    bytes[148..156].fill(b' ');
    let sum: u32 = bytes[..512].iter().map(|byte| u32::from(*byte)).sum();
    bytes[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    unpack(&[bytes], &dir.path().join("root")).expect("it is taken");
    let found = std::fs::metadata(dir.path().join("root/file")).expect("the file");
    assert_eq!(std::os::unix::fs::MetadataExt::mtime(&found), 0);
}
