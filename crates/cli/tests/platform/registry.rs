//! The registry, row by row of the distribution specification: spoken to over HTTP with a general client, which knows nothing
//! of the platform's own code. `docs/registry.md` has the same rows.

use std::future::Future;
use std::pin::Pin;

use reqwest::{Method, Response, StatusCode};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

use crate::common::Platform;

pub(crate) const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
const INDEX: &str = "application/vnd.oci.image.index.v1+json";
const CONFIG: &str = "application/vnd.oci.image.config.v1+json";
const LAYER: &str = "application/vnd.oci.image.layer.v1.tar";
const EMPTY: &str = "application/vnd.oci.empty.v1+json";

/// A client of a registry.
pub(crate) struct Client<'a> {
    platform: &'a Platform,
    base: String,
    http: reqwest::Client,
    token: String,
}

pub(crate) fn digest(bytes: &[u8]) -> String {
    let hex: String = Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect();
    format!("sha256:{hex}")
}

/// A header of an answer.
fn header<'a>(answer: &'a Response, name: &str) -> &'a str {
    answer.headers().get(name).unwrap_or_else(|| panic!("no {name}: {answer:?}")).to_str().expect("text")
}

/// The code of a refusal, with its status.
pub(crate) async fn refused(answer: Response) -> (u16, String) {
    let status = answer.status().as_u16();
    let body: Value = answer.json().await.expect("an error of the specification");
    (status, body["errors"][0]["code"].as_str().unwrap_or_else(|| panic!("no code: {body}")).to_owned())
}

pub(crate) fn is(status: u16, code: &str) -> (u16, String) {
    (status, code.to_owned())
}

impl<'a> Client<'a> {
    pub(crate) fn of(platform: &'a Platform) -> Client<'a> {
        let http = reqwest::Client::builder().no_proxy().build().expect("a client");
        Client { platform, base: format!("http://{}", platform.api), http, token: platform.token() }
    }
}

impl Client<'_> {
    pub(crate) async fn send(
        &self,
        method: &str,
        path: &str,
        headers: &[(&str, &str)],
        body: Vec<u8>,
    ) -> Response {
        let method = Method::from_bytes(method.as_bytes()).expect("a method");
        let url = if path.starts_with("http") { path.to_owned() } else { format!("{}{path}", self.base) };
        let mut request = self.http.request(method, url).basic_auth("mira", Some(&self.token));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        request.body(body).send().await.expect("an answer")
    }

    async fn get(&self, path: &str) -> Response {
        self.send("GET", path, &[], Vec::new()).await
    }

    /// Pushes a blob in two requests; gives its digest.
    pub(crate) async fn push(&self, repository: &str, bytes: &[u8]) -> String {
        let begun = self.send("POST", &format!("/v2/{repository}/blobs/uploads/"), &[], Vec::new()).await;
        assert_eq!(begun.status(), StatusCode::ACCEPTED);
        let (place, digest) = (header(&begun, "location").to_owned(), digest(bytes));
        let ended = self.send("PUT", &format!("{place}?digest={digest}"), &[], bytes.to_vec()).await;
        assert_eq!(ended.status(), StatusCode::CREATED);
        digest
    }

    pub(crate) async fn put(
        &self,
        repository: &str,
        reference: &str,
        kind: &str,
        manifest: &[u8],
    ) -> Response {
        let path = format!("/v2/{repository}/manifests/{reference}");
        self.send("PUT", &path, &[("content-type", kind)], manifest.to_vec()).await
    }

    /// Pushes a small image that no processor runs, so that it is a manifest and nothing else; gives its digest.
    async fn push_image(&self, repository: &str, reference: &str, word: &str) -> String {
        let manifest = self.image_of(repository, word, "s390x", "").await;
        let put = self.put(repository, reference, MANIFEST, &manifest).await;
        assert_eq!(put.status(), StatusCode::CREATED, "{}", put.text().await.unwrap_or_default());
        digest(&manifest)
    }

    /// The manifest of a small image, whose blobs are pushed.
    pub(crate) async fn image_of(
        &self,
        repository: &str,
        word: &str,
        processor: &str,
        more: &str,
    ) -> Vec<u8> {
        let layer = word.repeat(1000).into_bytes();
        let config = json!({"os": "linux", "architecture": processor, "rootfs": {"type": "layers", "diff_ids": [digest(&layer)]}});
        let config = config.to_string().into_bytes();
        let (layer_digest, config_digest) =
            (self.push(repository, &layer).await, self.push(repository, &config).await);
        format!(
            r#"{{"schemaVersion":2,"mediaType":"{MANIFEST}","config":{{"mediaType":"{CONFIG}","digest":"{config_digest}","size":{}}},"layers":[{{"mediaType":"{LAYER}","digest":"{layer_digest}","size":{}}}]{more}}}"#,
            config.len(),
            layer.len()
        )
        .into_bytes()
    }
}

type Row = (&'static str, for<'a> fn(&'a Client<'a>) -> Pin<Box<dyn Future<Output = ()> + 'a>>);

macro_rules! rows {
    ($($words:literal => $name:ident;)*) => { &[$(($words, |client| Box::pin($name(client)))),*] };
}

/// The requirements, in the words of `docs/registry.md`.
const ROWS: &[Row] = rows! {
    "A request without a credential is told where to get a token, and for what" => challenge;
    "A member's name with a token as the password, or the token alone, lets a client in" => credentials;
    "A token of the registry is good for its scopes only, and ends with the token that it was given for" => scopes;
    "A blob comes in two requests, or in one" => monolithic;
    "A blob comes in parts that follow each other; others are refused" => chunked;
    "An upload goes on where it ended, also after control was killed" => resumed;
    "A blob with another digest is refused, and nothing of it is there" => wrong_digest;
    "A blob of another repository is mounted; one that is not there is uploaded" => mounted;
    "An upload can be given up" => given_up;
    "Two pushes of one blob at the same time are one blob" => twice;
    "A blob is read whole, in ranges, and by its head" => blob_read;
    "A manifest is read by tag and by digest as it came, with its type" => manifest_read;
    "A manifest whose blobs are not there is refused" => missing_parts;
    "A manifest that says another length of a blob than it has is refused" => lying_length;
    "What is no manifest, or is too long, is refused" => no_manifest;
    "Tags are listed by name, in pages" => tags;
    "Repositories are listed by name, in pages" => catalog;
    "What is about a manifest is listed, also of one kind only, and before the manifest is there" => referrers;
    "An index stands for its manifests, which must be there" => index;
    "A tag, a manifest and a blob are removed; what others need stays" => removed;
    "Other names, paths and methods are refused with their code" => other_names;
    "An image that is pushed can be deployed, and one that was added can be pulled" => deployed;
};

async fn challenge(client: &Client<'_>) {
    let url = format!("{}/v2/lockers/locker-api/manifests/1.4.0", client.base);
    let answer = client.http.get(url).send().await.expect("an answer");
    let words = header(&answer, "www-authenticate").to_owned();
    assert_eq!(refused(answer).await, is(401, "UNAUTHORIZED"));
    let realm = format!("Bearer realm=\"{}/v2/token\"", client.base);
    assert!(
        words.starts_with(&realm) && words.ends_with("scope=\"repository:lockers/locker-api:pull\""),
        "{words}"
    );
    // Nothing else is learnt: what is there and what is not look the same.
    for path in ["/v2/", "/v2/none/manifests/none", "/v2/none", "/v2/none/blobs/none", "/v2/_catalog"] {
        let answer = client.http.get(format!("{}{path}", client.base)).send().await.expect("an answer");
        assert_eq!(refused(answer).await, is(401, "UNAUTHORIZED"), "{path}");
    }
}

async fn credentials(client: &Client<'_>) {
    assert_eq!(client.get("/v2/").await.status(), StatusCode::OK);
    let ask = async |with: &dyn Fn(reqwest::RequestBuilder) -> reqwest::RequestBuilder| {
        with(client.http.get(format!("{}/v2/", client.base))).send().await.expect("an answer").status()
    };
    assert_eq!(ask(&|request| request.bearer_auth(&client.token)).await, StatusCode::OK);
    assert_eq!(ask(&|request| request.basic_auth("mira", Some("guess"))).await, StatusCode::UNAUTHORIZED);
    assert_eq!(
        ask(&|request| request.basic_auth("noor", Some(&client.token))).await,
        StatusCode::UNAUTHORIZED
    );
    assert_eq!(ask(&|request| request.header("authorization", "Basic ?")).await, StatusCode::UNAUTHORIZED);
    let twice =
        |request: reqwest::RequestBuilder| request.bearer_auth(&client.token).bearer_auth(&client.token);
    assert_eq!(ask(&twice).await, StatusCode::UNAUTHORIZED);
}

async fn scopes(client: &Client<'_>) {
    let made = client.platform.ok(&["token", "add", "builder", "--json"]);
    let made: Value = serde_json::from_str(&made).expect("JSON");
    let (secret, id) = (made["token"].as_str().expect("a token"), made["id"].as_str().expect("an id"));
    let url = format!("{}/v2/token?service=main-yard&scope=repository:scoped:pull,push", client.base);
    let given: Value = client
        .http
        .get(url)
        .basic_auth("mira", Some(secret))
        .send()
        .await
        .expect("an answer")
        .json()
        .await
        .expect("JSON");
    let token = given["token"].as_str().expect("a token");
    let ask = async |method: Method, path: &str| {
        let request = client.http.request(method, format!("{}{path}", client.base)).bearer_auth(token);
        request.send().await.expect("an answer").status().as_u16()
    };
    assert_eq!(ask(Method::POST, "/v2/scoped/blobs/uploads/").await, 202);
    assert_eq!(ask(Method::GET, "/v2/scoped/tags/list").await, 404, "allowed, and not there");
    assert_eq!(ask(Method::DELETE, "/v2/scoped/manifests/one").await, 401);
    assert_eq!(ask(Method::POST, "/v2/other/blobs/uploads/").await, 401);
    assert_eq!(ask(Method::GET, "/v2/_catalog").await, 401);
    assert_eq!(ask(Method::GET, "/api/v1/images").await, 401, "it opens nothing of the API");
    // It gives itself no further scopes.
    assert_eq!(ask(Method::GET, "/v2/token?scope=repository:other:pull,push,delete").await, 403);
    client.platform.ok(&["token", "remove", id]);
    assert_eq!(ask(Method::POST, "/v2/scoped/blobs/uploads/").await, 401);
}

async fn monolithic(client: &Client<'_>) {
    let two = client.push("mono", b"in two requests").await;
    let one = digest(b"in one");
    let path = format!("/v2/mono/blobs/uploads/?digest={one}");
    let answer = client.send("POST", &path, &[], b"in one".to_vec()).await;
    assert_eq!(
        (answer.status(), header(&answer, "docker-content-digest")),
        (StatusCode::CREATED, one.as_str())
    );
    assert_eq!(header(&answer, "location"), format!("/v2/mono/blobs/{one}"));
    for (digest, content) in [(two, "in two requests"), (one, "in one")] {
        assert_eq!(
            client.get(&format!("/v2/mono/blobs/{digest}")).await.text().await.expect("text"),
            content
        );
    }
}

async fn chunked(client: &Client<'_>) {
    let begun = client.send("POST", "/v2/parts/blobs/uploads/", &[], Vec::new()).await;
    let place = header(&begun, "location").to_owned();
    let part = async |range: &str, bytes: &[u8]| {
        client.send("PATCH", &place, &[("content-range", range)], bytes.to_vec()).await
    };
    let first = part("0-4", b"first").await;
    assert_eq!((first.status(), header(&first, "range")), (StatusCode::ACCEPTED, "0-4"));
    assert_eq!(refused(part("0-4", b"again").await).await, is(416, "RANGE_INVALID"));
    assert_eq!(refused(part("6-9", b"gap!").await).await, is(416, "RANGE_INVALID"));
    assert_eq!(refused(part("5-20", b"long").await).await, is(416, "RANGE_INVALID"));
    assert_eq!(part("5-9", b"next.").await.status(), StatusCode::ACCEPTED);
    let whole = digest(b"firstnext.last");
    let ended = client
        .send("PUT", &format!("{place}?digest={whole}"), &[("content-range", "10-13")], b"last".to_vec())
        .await;
    assert_eq!(ended.status(), StatusCode::CREATED);
    let gone = client.get(&place).await;
    assert_eq!(refused(gone).await, is(404, "BLOB_UPLOAD_UNKNOWN"));
    let of_another = place.replace("/v2/parts/", "/v2/others/");
    assert_eq!(refused(client.get(&of_another).await).await, is(404, "BLOB_UPLOAD_UNKNOWN"));
}

async fn resumed(client: &Client<'_>) {
    let begun = client.send("POST", "/v2/resumed/blobs/uploads/", &[], Vec::new()).await;
    let place = header(&begun, "location").to_owned();
    let (half, all) = (vec![7; 3 << 20], vec![7; 6 << 20]);
    assert_eq!(client.send("PATCH", &place, &[], half.clone()).await.status(), StatusCode::ACCEPTED);
    for pid in client.platform.part("control") {
        // SAFETY: it is this test's own platform's.
        unsafe { libc::kill(pid, libc::SIGKILL) };
    }
    // Connections of before broke with it.
    let client = Client::of(client.platform);
    let answer = client.get(&place).await;
    assert_eq!((answer.status(), header(&answer, "range")), (StatusCode::NO_CONTENT, "0-3145727"));
    let path = format!("{place}?digest={}", digest(&all));
    assert_eq!(
        client.send("PUT", &path, &[("content-range", "3145728-6291455")], half).await.status(),
        StatusCode::CREATED
    );
    let blob = client.get(&format!("/v2/resumed/blobs/{}", digest(&all))).await;
    assert_eq!(blob.bytes().await.expect("bytes"), all);
}

async fn wrong_digest(client: &Client<'_>) {
    let said = digest(b"something else");
    let answer =
        client.send("POST", &format!("/v2/wrong/blobs/uploads/?digest={said}"), &[], b"this".to_vec()).await;
    assert_eq!(refused(answer).await, is(400, "DIGEST_INVALID"));
    for digest in [said, digest(b"this")] {
        let answer = client.get(&format!("/v2/wrong/blobs/{digest}")).await;
        assert_eq!(refused(answer).await, is(404, "BLOB_UNKNOWN"));
    }
    for said in ["sha512:00", "sha256:00", "md5:00", ""] {
        let answer = client
            .send("POST", &format!("/v2/wrong/blobs/uploads/?digest={said}"), &[], b"this".to_vec())
            .await;
        assert_eq!(refused(answer).await, is(400, "DIGEST_INVALID"), "{said}");
    }
    let begun = client.send("POST", "/v2/wrong/blobs/uploads/", &[], Vec::new()).await;
    let unsaid = client.send("PUT", header(&begun, "location"), &[], b"this".to_vec()).await;
    assert_eq!(refused(unsaid).await, is(400, "DIGEST_INVALID"));
}

async fn mounted(client: &Client<'_>) {
    let digest = client.push("from", b"to be mounted").await;
    let before = client.get(&format!("/v2/to/blobs/{digest}")).await;
    assert_eq!(refused(before).await, is(404, "BLOB_UNKNOWN"));
    let path = |mount: &str, from: &str| format!("/v2/to/blobs/uploads/?mount={mount}&from={from}");
    let answer = client.send("POST", &path(&digest, "from"), &[], Vec::new()).await;
    assert_eq!(
        (answer.status(), header(&answer, "docker-content-digest")),
        (StatusCode::CREATED, digest.as_str())
    );
    assert_eq!(client.get(&format!("/v2/to/blobs/{digest}")).await.status(), StatusCode::OK);
    let missing = super::registry::digest(b"not there");
    for (mount, from) in [(missing.as_str(), "from"), (&digest, "nowhere"), ("none", "from")] {
        let answer = client.send("POST", &path(mount, from), &[], Vec::new()).await;
        assert_eq!(answer.status(), StatusCode::ACCEPTED, "{mount} {from}");
        assert!(header(&answer, "location").starts_with("/v2/to/blobs/uploads/"));
    }
}

async fn given_up(client: &Client<'_>) {
    let begun = client.send("POST", "/v2/given-up/blobs/uploads/", &[], Vec::new()).await;
    let place = header(&begun, "location").to_owned();
    assert_eq!(client.send("DELETE", &place, &[], Vec::new()).await.status(), StatusCode::NO_CONTENT);
    assert_eq!(
        refused(client.send("PATCH", &place, &[], b"x".to_vec()).await).await,
        is(404, "BLOB_UPLOAD_UNKNOWN")
    );
}

async fn twice(client: &Client<'_>) {
    let bytes = vec![3; 2 << 20];
    let pushes = (0..6).map(|_| client.push("twice", &bytes));
    let digests = futures_util::future::join_all(pushes).await;
    assert!(digests.iter().all(|digest| *digest == digests[0]));
    let read = client.get(&format!("/v2/twice/blobs/{}", digests[0])).await;
    assert_eq!(read.bytes().await.expect("bytes"), bytes);
}

async fn blob_read(client: &Client<'_>) {
    let digest = client.push("read", b"0123456789").await;
    let path = format!("/v2/read/blobs/{digest}");
    let head = client.send("HEAD", &path, &[], Vec::new()).await;
    assert_eq!((head.status(), header(&head, "content-length")), (StatusCode::OK, "10"));
    assert_eq!(header(&head, "docker-content-digest"), digest);
    for (range, expected, said) in [
        ("bytes=2-4", "234", "bytes 2-4/10"),
        ("bytes=7-", "789", "bytes 7-9/10"),
        ("bytes=-2", "89", "bytes 8-9/10"),
    ] {
        let answer = client.send("GET", &path, &[("range", range)], Vec::new()).await;
        assert_eq!((answer.status(), header(&answer, "content-range")), (StatusCode::PARTIAL_CONTENT, said));
        assert_eq!(answer.text().await.expect("text"), expected);
    }
    let past = client.send("GET", &path, &[("range", "bytes=10-")], Vec::new()).await;
    assert_eq!(refused(past).await, is(416, "RANGE_INVALID"));
}

async fn manifest_read(client: &Client<'_>) {
    // Spaces and order are part of a digest: what is read is what was pushed, byte by byte.
    let mut manifest = client.image_of("as-it-came", "one", "s390x", "").await;
    manifest.extend(b"\n\n  ");
    let put = client.put("as-it-came", "one", MANIFEST, &manifest).await;
    let digest = digest(&manifest);
    assert_eq!((put.status(), header(&put, "docker-content-digest")), (StatusCode::CREATED, digest.as_str()));
    assert_eq!(header(&put, "location"), format!("/v2/as-it-came/manifests/{digest}"));
    for reference in ["one", &digest] {
        let path = format!("/v2/as-it-came/manifests/{reference}");
        let head = client.send("HEAD", &path, &[], Vec::new()).await;
        assert_eq!(header(&head, "content-length"), manifest.len().to_string());
        let answer = client.get(&path).await;
        assert_eq!(
            (header(&answer, "content-type"), header(&answer, "docker-content-digest")),
            (MANIFEST, digest.as_str())
        );
        assert_eq!(answer.bytes().await.expect("bytes"), manifest);
    }
    let other = client.put("as-it-came", &super::registry::digest(b"other"), MANIFEST, &manifest).await;
    assert_eq!(refused(other).await, is(400, "DIGEST_INVALID"));
}

async fn missing_parts(client: &Client<'_>) {
    let manifest = client.image_of("has-parts", "part", "s390x", "").await;
    let answer = client.put("has-none", "one", MANIFEST, &manifest).await;
    assert_eq!(refused(answer).await, is(404, "MANIFEST_BLOB_UNKNOWN"));
    assert_eq!(refused(client.get("/v2/has-none/manifests/one").await).await, is(404, "MANIFEST_UNKNOWN"));
}

async fn lying_length(client: &Client<'_>) {
    let manifest = client.image_of("lies", "length", "s390x", "").await;
    let text = String::from_utf8(manifest).expect("text");
    let lie = text.replace("\"size\":6000", "\"size\":6");
    assert_ne!(lie, text);
    let answer = client.put("lies", "one", MANIFEST, lie.as_bytes()).await;
    assert_eq!(refused(answer).await, is(400, "MANIFEST_INVALID"));
    assert_eq!(client.put("lies", "one", MANIFEST, text.as_bytes()).await.status(), StatusCode::CREATED);
}

async fn no_manifest(client: &Client<'_>) {
    let manifest = client.image_of("none", "none", "s390x", "").await;
    for (what, kind, bytes) in [
        ("no JSON", MANIFEST, b"{".to_vec()),
        ("another type than it says", INDEX, manifest.clone()),
        ("no type of a manifest", "application/json", manifest.clone()),
        ("layers that the configuration does not have", MANIFEST, {
            let config = client.push("none", br#"{"rootfs":{"diff_ids":[]}}"#).await;
            let mut read: Value = serde_json::from_slice(&manifest).expect("JSON");
            read["config"]["digest"] = config.into();
            read.to_string().into_bytes()
        }),
    ] {
        let answer = client.put("none", "one", kind, &bytes).await;
        assert_eq!(refused(answer).await, is(400, "MANIFEST_INVALID"), "{what}");
    }
    let long = client.put("none", "one", MANIFEST, &vec![b' '; (4 << 20) + 1]).await;
    assert_eq!(refused(long).await, is(413, "SIZE_INVALID"));
}

/// All pages of a list, following its links.
async fn pages(client: &Client<'_>, first: &str, key: &str) -> Vec<String> {
    let (mut all, mut next) = (Vec::new(), Some(first.to_owned()));
    while let Some(path) = next.take() {
        let answer = client.get(&path).await;
        let link = answer.headers().get("link").map(|link| link.to_str().expect("text").to_owned());
        next = link.map(|link| {
            let (path, rest) = link.trim_start_matches('<').split_once('>').expect("a link");
            assert_eq!(rest, "; rel=\"next\"");
            path.to_owned()
        });
        let page: Value = answer.json().await.expect("JSON");
        let part = page[key].as_array().unwrap_or_else(|| panic!("no {key}: {page}")).clone();
        assert!(part.len() <= 2);
        all.extend(part.iter().map(|name| name.as_str().expect("text").to_owned()));
    }
    all
}

async fn tags(client: &Client<'_>) {
    for tag in ["b", "a", "c10", "c2", "Z"] {
        client.push_image("tagged", tag, "tagged").await;
    }
    assert_eq!(pages(client, "/v2/tagged/tags/list?n=2", "tags").await, ["Z", "a", "b", "c10", "c2"]);
    let after: Value = client.get("/v2/tagged/tags/list?last=b").await.json().await.expect("JSON");
    assert_eq!(after, json!({"name": "tagged", "tags": ["c10", "c2"]}));
    let none: Value = client.get("/v2/tagged/tags/list?n=0").await.json().await.expect("JSON");
    assert_eq!(none["tags"], json!([]));
    assert_eq!(refused(client.get("/v2/nowhere/tags/list").await).await, is(404, "NAME_UNKNOWN"));
}

async fn catalog(client: &Client<'_>) {
    client.push_image("listed/two", "one", "x").await;
    client.push_image("listed/one", "one", "x").await;
    let all = pages(client, "/v2/_catalog?n=2", "repositories").await;
    assert!(all.is_sorted() && all.iter().filter(|name| name.starts_with("listed/")).count() == 2, "{all:?}");
    assert!(
        all.contains(&"lockers/locker-api".to_owned()),
        "images that were added are listed as well: {all:?}"
    );
}

async fn referrers(client: &Client<'_>) {
    let subject = client.image_of("about", "about", "s390x", "").await;
    let subject = digest(&subject);
    client.push("about", b"{}").await;
    let about = |kind: &str| {
        let (empty, size) = (digest(b"{}"), 2);
        json!({
            "schemaVersion": 2, "mediaType": MANIFEST, "artifactType": kind,
            "config": {"mediaType": EMPTY, "digest": empty, "size": size},
            "layers": [{"mediaType": EMPTY, "digest": empty, "size": size}],
            "subject": {"mediaType": MANIFEST, "digest": subject, "size": 1},
            "annotations": {"org.example.made": "by a test"},
        })
    };
    let list = async |query: &str| {
        let answer = client.get(&format!("/v2/about/referrers/{subject}{query}")).await;
        assert_eq!((answer.status(), header(&answer, "content-type")), (StatusCode::OK, INDEX));
        let filters =
            answer.headers().get("oci-filters-applied").map(|value| value.to_str().expect("text").to_owned());
        (
            answer.json::<Value>().await.expect("JSON")["manifests"].as_array().expect("a list").clone(),
            filters,
        )
    };
    assert_eq!(list("").await, (Vec::new(), None), "nothing is an empty index, not an error");
    for kind in ["application/example.signature", "application/example.bill"] {
        let manifest = about(kind).to_string().into_bytes();
        let put = client.put("about", &digest(&manifest), MANIFEST, &manifest).await;
        assert_eq!((put.status(), header(&put, "oci-subject")), (StatusCode::CREATED, subject.as_str()));
    }
    let (all, _) = list("").await;
    assert_eq!(all.len(), 2);
    assert_eq!(all[0]["annotations"]["org.example.made"], "by a test");
    let (some, filters) = list("?artifactType=application/example.bill").await;
    assert_eq!((some.len(), filters.as_deref()), (1, Some("artifactType")));
    assert_eq!(some[0]["artifactType"], "application/example.bill");
}

async fn index(client: &Client<'_>) {
    let mut inner = Vec::new();
    for processor in ["s390x", "riscv64"] {
        let manifest = client.image_of("many", processor, processor, "").await;
        let digest = digest(&manifest);
        inner.push(json!({"mediaType": MANIFEST, "digest": digest, "size": manifest.len(), "platform": {"os": "linux", "architecture": processor}}));
        if processor == "s390x" {
            assert_eq!(client.put("many", &digest, MANIFEST, &manifest).await.status(), StatusCode::CREATED);
        }
    }
    let list = |inner: &[Value]| {
        json!({"schemaVersion": 2, "mediaType": INDEX, "manifests": inner}).to_string().into_bytes()
    };
    let answer = client.put("many", "all", INDEX, &list(&inner)).await;
    assert_eq!(refused(answer).await, is(404, "MANIFEST_BLOB_UNKNOWN"), "one of them is not there");
    let whole = list(&inner[..1]);
    assert_eq!(client.put("many", "all", INDEX, &whole).await.status(), StatusCode::CREATED);
    let answer = client.get("/v2/many/manifests/all").await;
    assert_eq!(header(&answer, "content-type"), INDEX);
    assert_eq!(answer.bytes().await.expect("bytes"), whole);
    let needed = client
        .send(
            "DELETE",
            &format!("/v2/many/manifests/{}", inner[0]["digest"].as_str().expect("text")),
            &[],
            Vec::new(),
        )
        .await;
    assert_eq!(refused(needed).await, is(409, "CONFLICT"));
}

async fn removed(client: &Client<'_>) {
    let digest = client.push_image("goes", "one", "goes").await;
    client.push_image("goes", "two", "goes").await;
    let manifest: Value = client.get("/v2/goes/manifests/one").await.json().await.expect("JSON");
    let layer = format!("/v2/goes/blobs/{}", manifest["layers"][0]["digest"].as_str().expect("text"));
    let remove = async |path: &str| client.send("DELETE", path, &[], Vec::new()).await;
    assert_eq!(refused(remove(&layer).await).await, is(409, "CONFLICT"), "the manifest needs it");
    assert_eq!(remove("/v2/goes/manifests/one").await.status(), StatusCode::ACCEPTED);
    assert_eq!(refused(client.get("/v2/goes/manifests/one").await).await, is(404, "MANIFEST_UNKNOWN"));
    assert_eq!(client.get("/v2/goes/manifests/two").await.status(), StatusCode::OK, "the other tag stays");
    assert_eq!(remove(&format!("/v2/goes/manifests/{digest}")).await.status(), StatusCode::ACCEPTED);
    assert_eq!(refused(client.get("/v2/goes/manifests/two").await).await, is(404, "MANIFEST_UNKNOWN"));
    assert_eq!(
        refused(remove(&format!("/v2/goes/manifests/{digest}")).await).await,
        is(404, "MANIFEST_UNKNOWN")
    );
    assert_eq!(remove(&layer).await.status(), StatusCode::ACCEPTED);
    assert_eq!(refused(client.get(&layer).await).await, is(404, "BLOB_UNKNOWN"));
    assert_eq!(refused(remove(&layer).await).await, is(404, "BLOB_UNKNOWN"));
}

async fn other_names(client: &Client<'_>) {
    for (method, path, expected) in [
        ("GET", "/v2/UPPER/manifests/one", is(400, "NAME_INVALID")),
        ("GET", "/v2/a..b/manifests/one", is(400, "NAME_INVALID")),
        ("GET", "/v2/a%2fb/manifests/one", is(400, "NAME_INVALID")),
        ("GET", "/v2/a/manifests/%6fne", is(400, "NAME_INVALID")),
        ("GET", "/v2/a/manifests/.one", is(400, "MANIFEST_INVALID")),
        ("GET", "/v2/a/blobs/one", is(400, "DIGEST_INVALID")),
        ("GET", "/v2/a/blobs/uploads/0", is(404, "BLOB_UPLOAD_UNKNOWN")),
        ("POST", "/v2/a/manifests/one", is(405, "UNSUPPORTED")),
        ("GET", "/v2/a/other", is(405, "UNSUPPORTED")),
        ("GET", "/v2/_catalog?n=many", is(405, "UNSUPPORTED")),
    ] {
        assert_eq!(
            refused(client.send(method, path, &[], Vec::new()).await).await,
            expected,
            "{method} {path}"
        );
    }
}

async fn deployed(client: &Client<'_>) {
    let added = client.get("/v2/lockers/locker-api/manifests/1.5.0").await;
    assert_eq!(added.status(), StatusCode::OK);
    let (kind, bytes) = (header(&added, "content-type").to_owned(), added.bytes().await.expect("bytes"));
    let manifest: Value = serde_json::from_slice(&bytes).expect("JSON");
    let parts = manifest["layers"].as_array().expect("layers").iter().chain([&manifest["config"]]);
    for part in parts {
        let digest = part["digest"].as_str().expect("a digest");
        let blob =
            client.get(&format!("/v2/lockers/locker-api/blobs/{digest}")).await.bytes().await.expect("bytes");
        assert_eq!(self::digest(&blob), digest);
        assert_eq!(client.push("team/pushed", &blob).await, digest);
    }
    assert_eq!(client.put("team/pushed", "1.0.0", &kind, &bytes).await.status(), StatusCode::CREATED);
    let images: Vec<Value> =
        serde_json::from_str(&client.platform.ok(&["image", "list", "--json"])).expect("JSON");
    let pushed = images.iter().find(|image| image["image"] == "team/pushed:1.0.0").expect("it is listed");
    assert_eq!(pushed["digest"], digest(&bytes));
    client.platform.ok(&["deploy", "staging/locker-api", "--image", "team/pushed:1.0.0"]);
    // A list of manifests is run by the one for this machine.
    let processor = if std::env::consts::ARCH == "aarch64" { "arm64" } else { "amd64" };
    let list = json!({"schemaVersion": 2, "mediaType": INDEX, "manifests": [
        {"mediaType": kind, "digest": digest(&bytes), "size": bytes.len(), "platform": {"os": "linux", "architecture": processor}},
    ]});
    let list = list.to_string().into_bytes();
    assert_eq!(client.put("team/pushed", "many", INDEX, &list).await.status(), StatusCode::CREATED);
    client.platform.ok(&["deploy", "staging/locker-api", "--image", "team/pushed:many"]);
    let read = client.get("/v2/team/pushed/manifests/many").await;
    assert_eq!(header(&read, "docker-content-digest"), digest(&list), "a client gets the list");
    // The image's own health check is shown and offered, and nothing runs it.
    let layer = vec![0; 1024];
    let config = json!({
        "os": "linux", "architecture": processor, "rootfs": {"type": "layers", "diff_ids": [digest(&layer)]},
        "config": {"Cmd": ["/app"], "Healthcheck": {"Test": ["CMD-SHELL", "curl -f http://localhost:8080/health || exit 1"]}},
    });
    let config = config.to_string().into_bytes();
    let checked = json!({
        "schemaVersion": 2, "mediaType": MANIFEST,
        "config": {"mediaType": CONFIG, "digest": client.push("team/checked", &config).await, "size": config.len()},
        "layers": [{"mediaType": LAYER, "digest": client.push("team/checked", &layer).await, "size": layer.len()}],
    });
    let put = client.put("team/checked", "1", MANIFEST, checked.to_string().as_bytes()).await;
    assert_eq!(put.status(), StatusCode::CREATED);
    let shown = client.platform.ok(&["image", "show", "team/checked:1"]);
    assert!(shown.contains("curl -f http://localhost:8080/health || exit 1 (not run by itself"), "{shown}");
    let added = client.platform.ok(&[
        "add",
        "workload",
        "staging/checked",
        "--image",
        "team/checked:1",
        "--forecast",
    ]);
    assert!(added.contains("to ask the same, add --ready /health"), "{added}");
    // What is removed by the platform's own command is gone here as well.
    client.platform.ok(&["image", "remove", "team/pushed:many"]);
    assert_eq!(
        refused(client.get("/v2/team/pushed/manifests/many").await).await,
        is(404, "MANIFEST_UNKNOWN")
    );
}

#[tokio::test]
async fn every_requirement_of_the_distribution_specification_is_met() {
    let platform = Platform::start(true);
    let client = Client::of(&platform);
    for (words, row) in ROWS {
        eprintln!("{words}");
        row(&client).await;
    }
}

#[test]
fn the_page_on_the_registry_has_every_requirement() {
    let page = include_str!("../../../../docs/registry.md");
    for (words, _) in ROWS {
        assert!(page.lines().any(|line| line.starts_with(&format!("| {words} | §"))), "{words}");
    }
    let listed = page.lines().filter(|line| line.contains(" | §")).count();
    assert_eq!(listed, ROWS.len());
}
