//! The console's files, carried in the binary.

use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist/"]
#[allow_missing = true]
struct Files;

/// A file of the console; every other path is a view of it, which the console itself shows.
pub(crate) async fn file(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    // Only the API's own spelling reaches the API; what looks like it in another spelling is no view of the console.
    let first = path.split('/').next().unwrap_or_default().to_ascii_lowercase();
    let plain = first != "api" && !request.path().contains("//") && !first.contains('%');
    if !plain
        || crate::paths::written_plainly(&format!("/{path}"), "/{view}/{a}/{b}/{c}/{d}/{e}/{f}").is_err()
            && !path.is_empty()
    {
        let problem =
            mainyard_api::Problem::bad_path("this is neither a page of the console nor a path of the API");
        return crate::problem::respond(&problem);
    }
    let found = Files::get(path).filter(|_| !path.is_empty()).map(|file| (path, file));
    let Some((name, file)) = found.or_else(|| Some(("index.html", Files::get("index.html")?))) else {
        let text = "The console is not in this build. Build it with: make build\n";
        return HttpResponse::NotFound().content_type("text/plain").body(text);
    };
    // Names of built files hold a hash of their content.
    let caching =
        if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    HttpResponse::Ok()
        .content_type(file.metadata.mimetype())
        .insert_header(("cache-control", caching))
        .insert_header(("x-content-type-options", "nosniff"))
        .insert_header((
            "content-security-policy",
            "default-src 'self'; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'",
        ))
        .body(file.data.into_owned())
}
