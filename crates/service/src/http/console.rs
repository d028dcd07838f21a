//! The console's files, built and compressed ahead of time.

use std::convert::Infallible;
use std::path::{Path, PathBuf};

use jexlin_app::App;
use rocket::http::{ContentType, Header};
use rocket::request::{FromRequest, Outcome, Request};
use rocket::response::{Responder, Result};
use rocket::tokio::fs::File;
use rocket::{Route, State, get, routes};

pub fn routes() -> Vec<Route> {
    routes![file, first]
}

/// Whether whoever asks takes a file compressed with Brotli (RFC 7932), as all browsers do.
struct TakesBrotli(bool);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for TakesBrotli {
    type Error = Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Infallible> {
        let takes = request
            .headers()
            .get("Accept-Encoding")
            .flat_map(|header| header.split(','))
            .any(|coding| coding.trim().eq_ignore_ascii_case("br"));
        Outcome::Success(Self(takes))
    }
}

/// A file with its type, whether it is compressed, and how long it may be kept.
pub struct Kept {
    file: (ContentType, File),
    brotli: bool,
    kept: &'static str,
}

impl<'r> Responder<'r, 'static> for Kept {
    fn respond_to(self, request: &'r Request<'_>) -> Result<'static> {
        let mut response = self.file.respond_to(request)?;
        response.set_header(Header::new("Cache-Control", self.kept));
        response.set_header(Header::new("Vary", "Accept-Encoding"));
        if self.brotli {
            response.set_header(Header::new("Content-Encoding", "br"));
        }
        Ok(response)
    }
}

async fn open(app: &App, path: &Path, brotli: bool) -> Option<Kept> {
    let folder = app.config.console.as_ref()?;
    // Names under `assets` carry a hash of their content and never change.
    let kept = if path.starts_with("assets") {
        "public, max-age=31536000, immutable"
    } else {
        "no-cache"
    };
    let extension = path.extension()?.to_str()?;
    let file = folder.join(path);
    let beside = file.with_extension(format!("{extension}.br"));
    let (file, brotli) = match File::open(&beside).await {
        Ok(compressed) if brotli => (compressed, true),
        _ => (File::open(&file).await.ok()?, false),
    };
    // A folder can be opened, and has nothing to send.
    if !file.metadata().await.ok()?.is_file() {
        return None;
    }
    let kind = ContentType::from_extension(extension).unwrap_or(ContentType::Binary);
    Some(Kept {
        file: (kind, file),
        brotli,
        kept,
    })
}

/// A file, or the page itself for the console's own addresses.
#[get("/<path..>", rank = 20)]
async fn file(app: &State<App>, path: PathBuf, takes: TakesBrotli) -> Option<Kept> {
    if path.starts_with("api") || path.starts_with("health") {
        return None;
    }
    if path.extension().is_some() {
        open(app, &path, takes.0).await
    } else {
        open(app, Path::new("index.html"), takes.0).await
    }
}

#[get("/", rank = 19)]
async fn first(app: &State<App>, takes: TakesBrotli) -> Option<Kept> {
    open(app, Path::new("index.html"), takes.0).await
}
