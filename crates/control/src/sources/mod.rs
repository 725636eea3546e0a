//! Following Git: looking at repositories, and what people do with sources.
//!
//! One task looks; the core decides. What a commit declares is read from the repository as it is kept here, so that a
//! control that takes over knows it again without asking the repository's server.

pub mod acts;
pub mod back;
mod found;
mod looking;
pub mod pushes;

pub use looking::{Follower, follow_all};

use actix_web::web;

const ONE: &str = "/environments/{environment}/sources/{name}";

/// The paths.
pub fn routes(app: &mut web::ServiceConfig) {
    app.route("/sources", web::get().to(acts::list))
        .service(
            web::resource(ONE)
                .route(web::get().to(acts::show))
                .route(web::put().to(acts::add))
                .route(web::patch().to(acts::change))
                .route(web::delete().to(acts::remove)),
        )
        .route(&format!("{ONE}/look"), web::post().to(acts::look))
        .route(&format!("{ONE}/compare"), web::get().to(acts::compare))
        .route(&format!("{ONE}/catch-up"), web::post().to(acts::catch_up))
        .route(&format!("{ONE}/hold"), web::post().to(acts::hold))
        .route(&format!("{ONE}/write-back"), web::post().to(back::write))
        .route(&format!("{ONE}/resume"), web::post().to(acts::resume))
        .route("/environments/{environment}/workloads/{name}/promote-in-git", web::post().to(back::promote))
        .service(
            web::resource("/pushes/{environment}/{name}")
                .app_data(web::PayloadConfig::new(crate::JSON_LIMIT))
                .route(web::post().to(pushes::pushed)),
        );
}
