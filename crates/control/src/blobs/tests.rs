use std::collections::HashSet;
use std::time::Duration;

use futures_util::TryStreamExt;
use mainyard_images::Digest;
use mainyard_registry::ByteRange;
use testing::object_store::ObjectStore;

use super::{BlobError, Blobs, ObjectStoreAddress};

const DAY: Duration = Duration::from_secs(24 * 3600);

fn address(store: &ObjectStore, key: &str) -> ObjectStoreAddress {
    ObjectStoreAddress {
        endpoint: Some(format!("http://{}", store.address)),
        key_id: Some(key.to_owned()),
        key: Some("made up".to_owned()),
        ..ObjectStoreAddress::parse("s3://larkfield-images/main").expect("an address")
    }
}

/// Two controls with directories of their own and one object store.
fn two(store: &ObjectStore) -> [(tempfile::TempDir, Blobs); 2] {
    [(); 2].map(|()| {
        let dir = tempfile::tempdir().expect("a directory");
        let blobs = Blobs::open(dir.path(), Some(&address(store, "lark"))).expect("a store");
        (dir, blobs)
    })
}

async fn all(blobs: &Blobs, digest: &Digest, range: Option<ByteRange>) -> Result<Vec<u8>, BlobError> {
    let body = blobs.stream(digest, |_| range).await?;
    let pieces: Vec<_> = body.pieces.try_collect().await?;
    Ok(pieces.concat())
}

#[tokio::test]
async fn a_blob_of_any_length_is_read_by_another_control_whole_and_in_part() {
    let store = ObjectStore::start("lark");
    let [(_one, one), (_other, other)] = two(&store);
    for length in [0, 1, 8 << 20, (8 << 20) + 1, 20 << 20] {
        let bytes: Vec<u8> = (0..length).map(|place| (place % 251) as u8).collect();
        let (digest, _) = one.local().put(&bytes[..], None).expect("taken");
        assert!(!one.has(&digest).await.expect("an answer"), "it is not there to stay before it was sent");
        one.publish(std::slice::from_ref(&digest)).await.expect("sent");
        assert_eq!(other.length(&digest).await.expect("an answer"), Some(length));
        assert!(all(&other, &digest, None).await.expect("a blob") == bytes, "{length} bytes came back");
        if length > 1 {
            let range = ByteRange { first: 1, last: length - 1 };
            assert!(all(&other, &digest, Some(range)).await.expect("a part") == bytes[1..]);
        }
        other.bring(&digest).await.expect("brought");
        assert!(other.local().read(&digest, length).expect("a blob") == bytes);
    }
    assert_eq!(store.open_uploads(), 0);
}

#[tokio::test]
async fn what_the_object_store_changed_is_not_taken() {
    let store = ObjectStore::start("lark");
    let [(_one, one), (_other, other)] = two(&store);
    let (digest, _) = one.local().put(&b"a layer"[..], None).expect("taken");
    one.publish(std::slice::from_ref(&digest)).await.expect("sent");
    store.set_spoils(true);
    let refused = other.bring(&digest).await.expect_err("other bytes");
    assert!(matches!(refused, BlobError::Disk(mainyard_images::Error::DigestMismatch { .. })), "{refused}");
    assert!(!other.local().has(&digest));
    store.set_spoils(false);
    other.bring(&digest).await.expect("brought");
}

#[tokio::test]
async fn an_object_store_that_is_away_for_a_moment_is_asked_again() {
    let store = ObjectStore::start("lark");
    let [(_one, one), _] = two(&store);
    let (digest, _) = one.local().put(&b"a layer"[..], None).expect("taken");
    store.set_away(true);
    let back = async {
        while store.refused() < 3 {
            tokio::task::yield_now().await;
        }
        store.set_away(false);
    };
    let sent = one.publish(std::slice::from_ref(&digest));
    let ((), sent) = tokio::join!(back, sent);
    sent.expect("sent once it was back");
    assert!(one.has(&digest).await.expect("an answer"));
}

#[tokio::test]
async fn a_wrong_key_is_refused_with_the_object_stores_words() {
    let store = ObjectStore::start("lark");
    let dir = tempfile::tempdir().expect("a directory");
    let blobs = Blobs::open(dir.path(), Some(&address(&store, "wren"))).expect("a store");
    let (digest, _) = blobs.local().put(&b"a layer"[..], None).expect("taken");
    let refused = blobs.publish(&[digest]).await.expect_err("a wrong key").to_string();
    assert!(refused.contains("s3://larkfield-images/main") && refused.contains("403"), "{refused}");
}

#[tokio::test]
async fn only_old_blobs_that_nobody_needs_or_is_about_to_need_are_swept() {
    let store = ObjectStore::start("lark");
    let [(_one, one), (_other, other)] = two(&store);
    let mut digests = Vec::new();
    for word in ["needed", "noted", "spare", "spare too", "young"] {
        let (digest, _) = one.local().put(word.as_bytes(), None).expect("taken");
        if word != "young" {
            one.publish(std::slice::from_ref(&digest)).await.expect("sent");
        }
        digests.push(digest);
    }
    store.age(2 * DAY);
    one.publish(&digests[4..]).await.expect("sent");
    assert!(other.keep(&digests[1]).await.expect("kept"));
    let needed = HashSet::from([digests[0].clone()]);
    let freed = one.sweep(needed.clone(), DAY).await.expect("swept");
    assert_eq!(freed, ("spare".len() + "spare too".len()) as u64);
    let mut there = Vec::new();
    for digest in &digests {
        there.push(other.has(digest).await.expect("an answer"));
    }
    assert_eq!(there, [true, true, false, false, true]);
    store.age(2 * DAY);
    one.sweep(needed, DAY).await.expect("swept");
    assert_eq!(store.keys().len(), 1, "notes are swept as well: {:?}", store.keys());
}

#[test]
fn addresses() {
    let shown = |text: &str| match ObjectStoreAddress::parse(text) {
        Ok(address) => format!("{} {}", address.bucket, address.prefix),
        Err(error) => error.to_string(),
    };
    let texts =
        ["s3://larkfield", "s3://larkfield/", "s3://larkfield/a/b/", "larkfield", "s3://", "s3://La/x"];
    let lines: Vec<String> = texts.iter().map(|text| format!("{text} -> {}", shown(text))).collect();
    insta::assert_snapshot!(lines.join("\n"), @r#"
    s3://larkfield -> larkfield 
    s3://larkfield/ -> larkfield 
    s3://larkfield/a/b/ -> larkfield a/b
    larkfield -> "larkfield" is not the address of an S3 bucket; expected s3://BUCKET or s3://BUCKET/PREFIX
    s3:// -> "s3://" names no bucket: 3 to 63 of a-z, 0-9, - and .; expected s3://BUCKET or s3://BUCKET/PREFIX
    s3://La/x -> "s3://La/x" names no bucket: 3 to 63 of a-z, 0-9, - and .; expected s3://BUCKET or s3://BUCKET/PREFIX
    "#);
}
