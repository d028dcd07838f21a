//! The console's files, built ahead of time.

use std::path::{Path, PathBuf};

use jexlin_app::App;
use rocket::fs::NamedFile;
use rocket::http::Header;
use rocket::{Responder, Route, State, get, routes};

pub fn routes() -> Vec<Route> {
    routes![file, first]
}

/// A file with how long it may be kept.
#[derive(Responder)]
pub struct Kept {
    file: NamedFile,
    kept: Header<'static>,
}

async fn open(app: &App, path: &Path) -> Option<Kept> {
    let folder = app.config.console.as_ref()?;
    // Names under `assets` carry a hash of their content and never change.
    let kept = if path.starts_with("assets") {
        "public, max-age=31536000, immutable"
    } else {
        "no-cache"
    };
    let file = NamedFile::open(folder.join(path)).await.ok()?;
    Some(Kept {
        file,
        kept: Header::new("Cache-Control", kept),
    })
}

/// A file, or the page itself for the console's own addresses.
#[get("/<path..>", rank = 20)]
async fn file(app: &State<App>, path: PathBuf) -> Option<Kept> {
    if path.starts_with("api") || path.starts_with("health") {
        return None;
    }
    if path.extension().is_some() {
        open(app, &path).await
    } else {
        open(app, Path::new("index.html")).await
    }
}

#[get("/", rank = 19)]
async fn first(app: &State<App>) -> Option<Kept> {
    open(app, Path::new("index.html")).await
}
