//! The console's files, carried in the binary.

use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist/"]
#[allow_missing = true]
struct Files;

/// A file of the console; every other path is a view of it, which the console itself shows.
pub async fn file(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    if path.starts_with("api/") {
        let problem = crate::problem::Problem::not_found(format!("the API has nothing at /{path}"));
        return actix_web::ResponseError::error_response(&problem);
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
