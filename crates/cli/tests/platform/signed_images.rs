//! Signed images: an environment that asks for a key runs what it signed, and nothing else.

use serde_json::Value;

use crate::common::Platform;
use crate::outside_images::{add_as_mira, curl};

const IMAGE: &str = "lockers/locker-api:1.5.0";

fn key(platform: &Platform, file: &str) -> (String, String) {
    let path = platform.dir.path().join(file).display().to_string();
    let public = platform.ok(&["image", "signing-key", &path]).trim().to_owned();
    assert_eq!(platform.ok(&["image", "signing-key", &path]).trim(), public, "one that is there is read");
    (path, public)
}

fn deploy(platform: &Platform) -> crate::common::Said {
    platform.run(&["deploy", "staging/locker-api", "--image", IMAGE])
}

#[test]
fn an_environment_runs_what_its_key_signed() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let (release, public) = key(&platform, "release.pem");
    let (other, _) = key(&platform, "other.pem");
    let rule = format!("release={public}");
    let wrong =
        platform.run(&["environment", "image-rule", "staging", "--signed-by", "release=ed25519:short"]);
    assert!(wrong.code == 3 && wrong.err.contains("the key release is none"), "{wrong:?}");
    let set = platform.ok(&["environment", "image-rule", "staging", "--signed-by", &rule]);
    assert!(
        set.contains("runs images that release signed; courier-web, label-printer, locker-api run images"),
        "{set}"
    );
    // What runs stays, and may be scaled and restarted; what is new is refused.
    platform.ok(&["scale", "staging/locker-api", "3"]);
    let refused = deploy(&platform);
    assert!(
        refused.code == 3 && refused.err.contains("not-signed: staging runs what release signed"),
        "{refused:?}"
    );
    platform.ok(&["image", "sign", IMAGE, "--key", &other]);
    assert!(deploy(&platform).err.contains("not-signed"), "another's signature is not enough");
    let signed = platform.ok(&["image", "sign", IMAGE, "--key", &release]);
    assert!(signed.contains(&public), "{signed}");
    let done = deploy(&platform);
    assert_eq!(done.code, 0, "{done:?}");
    let shown: Value = serde_json::from_str(&platform.ok(&["image", "show", IMAGE, "--json"])).expect("JSON");
    let digest = shown["digest"].as_str().expect("a digest").to_owned();
    assert_eq!(shown["signed_by"].as_array().map(Vec::len), Some(2));

    // A signature that does not fit is not kept: that of this image, pushed as one of another.
    let token = platform.token();
    let base = format!("http://{}/v2/lockers/locker-api", platform.api);
    let list = curl(&token, &["-s", &format!("{base}/referrers/{digest}")]);
    let list: Value = serde_json::from_slice(&list).expect("a list");
    assert_eq!(list["manifests"].as_array().map(Vec::len), Some(2), "{list}");
    let first = list["manifests"][0]["digest"].as_str().expect("a digest");
    let manifest = curl(&token, &["-s", &format!("{base}/manifests/{first}")]);
    let images: Value = serde_json::from_str(&platform.ok(&["image", "list", "--json"])).expect("JSON");
    let images = images.as_array().expect("rows");
    let victim = images.iter().find(|it| it["image"] == "lockers/locker-api:1.4.0").expect("it is there");
    let victim = victim["digest"].as_str().expect("a digest");
    let forged = String::from_utf8(manifest).expect("text").replace(&digest, victim);
    let file = platform.dir.path().join("forged.json");
    std::fs::write(&file, forged).expect("a file");
    let kind = "content-type: application/vnd.oci.image.manifest.v1+json";
    let data = format!("@{}", file.display());
    let put = ["-s", "-X", "PUT", "-H", kind, "--data-binary", &data, &format!("{base}/manifests/forged")];
    let answer = String::from_utf8(curl(&token, &put)).expect("text");
    assert!(answer.contains("MANIFEST_INVALID") && answer.contains("is a signature of"), "{answer}");

    // Signatures come along when the image is pulled from here; an image that is not signed waits, and says so.
    let there = Platform::start(false);
    assert_eq!(add_as_mira(&there, platform.api, &token).code, 0);
    there.ok(&["environment", "add", "production"]);
    there.ok(&["environment", "image-rule", "production", "--signed-by", &rule]);
    let text = "application = \"lockers\"\n[workload.signed]\nimage = \"forge/lockers/locker-api:1.5.0\"\nports = { http = 8080 }\n\
                [workload.unsigned]\nimage = \"forge/lockers/locker-api:1.4.0\"\n";
    let file = there.dir.path().join("mainyard.toml");
    std::fs::write(&file, text).expect("a file");
    there.run(&["declare", &file.display().to_string(), "--in", "production", "--no-wait"]);
    there.workload("production/signed", |workload| workload["state"] == "steady");
    there.workload("production/unsigned", |workload| workload["reason"]["code"] == "not-signed");
    // Once it is signed there, it runs.
    there.ok(&["image", "sign", "forge/lockers/locker-api:1.4.0", "--key", &release]);
    there.workload("production/unsigned", |workload| workload["reason"]["code"] != "not-signed");
}
