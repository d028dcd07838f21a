//! How bodies, versions and cursors are read and written.

use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jexlin_api::Page;
use jexlin_app::commands::second_person::MaybePending;
use jexlin_app::error::{AppError, AppResult};
use jexlin_app::paging::{MOST_ITEMS, Paged, Paging, Versioned};
use jexlin_app::unit_of_work::UnitOfWork;
use jexlin_core::words::Word;
use rocket::data::{Data, FromData, Outcome as DataOutcome, ToByteUnit as _};
use rocket::http::{ContentType, Status};
use rocket::outcome::Outcome;
use rocket::request::{FromRequest, Request};
use rocket::response::{self, Responder, Response};
use rocket::tokio::io::{AsyncReadExt as _, copy, sink};
use serde::Serialize;
use serde::de::DeserializeOwned;
use zeroize::Zeroizing;

use crate::error::{last_error, status_of};
use crate::guards::{begin, demand_token};

/// The largest body, in bytes.
pub const MOST_BODY: u64 = 1024 * 1024;
/// So much of a body that is too large is read and thrown away, so that its sender gets the answer.
const MOST_DRAINED: u64 = 16 * MOST_BODY;

/// A JSON body of somebody without a session.
#[derive(Debug)]
pub struct Body<T>(pub T);

/// Who acts, and the JSON body of their request. The body is read first, within size and time;
/// then the session, the person, their duties and the clock are read, in the transaction that acts.
/// So a request counts when it is carried out, and no transaction waits for a slow sender.
#[derive(Debug)]
pub struct Call<T>(pub UnitOfWork, pub T);

/// The same with the bytes of a file. Whoever sends it must have a session before the bytes are
/// taken, and still have it when they are there.
#[derive(Debug)]
pub struct Upload<L: Limit>(pub UnitOfWork, pub L::Made);

/// How large a file may be, and what is made of it before a transaction begins.
#[rocket::async_trait]
pub trait Limit: Send {
    /// At most so many bytes.
    const BYTES: usize;
    /// What is made of it.
    type Made: Send + std::fmt::Debug;

    /// Reads the file.
    async fn make(request: &Request<'_>, bytes: Zeroizing<Vec<u8>>) -> AppResult<Self::Made>;
}

/// A body has so long to arrive.
const BODY_TIME: Duration = Duration::from_secs(15);
/// A file has so long to arrive.
const UPLOAD_TIME: Duration = Duration::from_secs(300);

fn failed<'r, T>(request: &'r Request<'_>, fault: AppError) -> DataOutcome<'r, T>
where
    T: FromData<'r, Error = ()>,
{
    let status = status_of(fault.kind);
    *last_error(request) = Some(fault);
    DataOutcome::Error((status, ()))
}

#[rocket::async_trait]
impl<'r, T: DeserializeOwned> FromData<'r> for Body<T> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> DataOutcome<'r, Self> {
        match read_json(data).await {
            Ok(body) => DataOutcome::Success(Self(body)),
            Err(fault) => failed(request, fault),
        }
    }
}

#[rocket::async_trait]
impl<'r, T: DeserializeOwned + Send> FromData<'r> for Call<T> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> DataOutcome<'r, Self> {
        let called = async {
            // Whoever has no token is not listened to.
            demand_token(request)?;
            let body = read_bytes(data, MOST_BODY, BODY_TIME).await?;
            let readings = jexlin_app::file_reader::keys_in(&body).await?;
            let mut unit = begin(request).await?;
            unit.readings = readings;
            Ok(Self(unit, parse(&body)?))
        };
        match called.await {
            Ok(call) => DataOutcome::Success(call),
            Err(fault) => failed(request, fault),
        }
    }
}

#[rocket::async_trait]
impl<'r, L: Limit> FromData<'r> for Upload<L> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> DataOutcome<'r, Self> {
        let called = async {
            begin(request).await?.commit().await?;
            let bytes = read_bytes(
                data,
                u64::try_from(L::BYTES).unwrap_or(u64::MAX),
                UPLOAD_TIME,
            )
            .await?;
            let made = L::make(request, bytes).await?;
            Ok(Self(begin(request).await?, made))
        };
        match called.await {
            Ok(call) => DataOutcome::Success(call),
            Err(fault) => failed(request, fault),
        }
    }
}

/// Reads a body within its size and time; the buffer is wiped when it is dropped.
async fn read_bytes(data: Data<'_>, limit: u64, time: Duration) -> AppResult<Zeroizing<Vec<u8>>> {
    let cut_off =
        |error: std::io::Error| AppError::malformed(format!("The body was cut off: {error}."));
    let reading = async {
        let mut stream = data.open(limit.saturating_add(MOST_DRAINED).bytes());
        // Grown by copying, so that what is left behind is wiped, too.
        let mut bytes = Zeroizing::new(Vec::with_capacity(4096));
        let mut chunk = Zeroizing::new(vec![0; 65_536]);
        loop {
            let count = stream.read(&mut chunk).await.map_err(cut_off)?;
            if count == 0 {
                return Ok(bytes);
            }
            if u64::try_from(bytes.len() + count).unwrap_or(u64::MAX) > limit {
                // Whoever is still sending would hear of a broken line instead of this answer.
                copy(&mut stream, &mut sink()).await.map_err(cut_off)?;
                return Err(AppError::malformed(format!(
                    "The body is longer than {limit} bytes."
                )));
            }
            if bytes.len() + count > bytes.capacity() {
                let mut larger = Zeroizing::new(Vec::with_capacity((bytes.len() + count) * 2));
                larger.extend_from_slice(&bytes);
                bytes = larger;
            }
            bytes.extend_from_slice(chunk.get(..count).unwrap_or_default());
        }
    };
    rocket::tokio::time::timeout(time, reading)
        .await
        .map_err(|_| AppError::too_slow())?
}

async fn read_json<T: DeserializeOwned>(data: Data<'_>) -> AppResult<T> {
    parse(&read_bytes(data, MOST_BODY, BODY_TIME).await?)
}

fn parse<T: DeserializeOwned>(bytes: &[u8]) -> AppResult<T> {
    let text = std::str::from_utf8(bytes)
        .map_err(|_| AppError::malformed("The body is not valid UTF-8."))?;
    let mut reader = serde_json::Deserializer::from_str(text);
    let read = serde_path_to_error::deserialize(&mut reader);
    let broken = |error: &serde_json::Error| {
        AppError::malformed(format!(
            "The body is not JSON, near line {} column {}.",
            error.line(),
            error.column()
        ))
    };
    let value = read.map_err(|error| {
        let (path, error) = (error.path().to_string(), error.into_inner());
        // A union of which no part is named is told as a lack of JSON.
        let is_json = || serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok();
        if error.classify() != serde_json::error::Category::Data && !is_json() {
            return broken(&error);
        }
        match (expected(&error.to_string()), path.as_str()) {
            (Some(words), "." | "?") => AppError::malformed(format!(
                "The body does not have the expected form: {words}."
            )),
            (Some(words), path) => AppError::field(path, words),
            (None, _) => AppError::malformed(format!(
                "The body does not have the expected form, near line {} column {}.",
                error.line(),
                error.column()
            )),
        }
    })?;
    reader.end().map_err(|error| broken(&error))?;
    Ok(value)
}

/// What of an error may be told. Its words can quote a value, and a value can be a secret: only a
/// field that is missing, and the words that a value can be, are ours.
fn expected(error: &str) -> Option<String> {
    if let Some(rest) = error.strip_prefix("missing field ") {
        return Some(format!("missing field {}", rest.split(" at line").next()?));
    }
    if !error.starts_with("unknown variant ") {
        return None;
    }
    let (_, words) = error.rsplit_once(", expected ")?;
    let words = words.split(" at line").next()?;
    Some(format!("expected {words}"))
}

/// The revision that a change is based on.
#[derive(Clone, Copy, Debug)]
pub struct IfMatch(pub i32);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for IfMatch {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, (Status, ()), Status> {
        let revision = request
            .headers()
            .get_one("If-Match")
            .and_then(|text| text.trim().trim_matches('"').parse().ok());
        revision.map_or_else(
            || {
                *last_error(request) = Some(AppError::needs_version());
                Outcome::Error((Status::PreconditionRequired, ()))
            },
            |version| Outcome::Success(Self(version)),
        )
    }
}

/// JSON with the revision as ETag.
#[derive(Debug)]
pub struct Tagged<T>(pub Versioned<T>);

impl<'r, T: Serialize> Responder<'r, 'static> for Tagged<T> {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let Versioned(revision, item) = self.0;
        let mut response = Sent(item).respond_to(request)?;
        response.set_raw_header("ETag", format!("\"{revision}\""));
        Ok(response)
    }
}

/// What was done, as [`Tagged`], or what waits for a second person (202).
#[derive(Debug)]
pub struct Decided<T>(pub MaybePending<T>);

impl<'r, T: Serialize> Responder<'r, 'static> for Decided<T> {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        match self.0 {
            MaybePending::Done(revision, item) => {
                Tagged(Versioned(revision, item)).respond_to(request)
            }
            MaybePending::Pending(act) => {
                let mut response = Sent(act).respond_to(request)?;
                response.set_status(Status::Accepted);
                Ok(response)
            }
        }
    }
}

/// JSON.
#[derive(Debug)]
pub struct Sent<T>(pub T);

impl<'r, T: Serialize> Responder<'r, 'static> for Sent<T> {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let text = serde_json::to_string(&self.0).map_err(|_| Status::InternalServerError)?;
        Response::build()
            .header(ContentType::JSON)
            .sized_body(text.len(), std::io::Cursor::new(text))
            .ok()
    }
}

/// Reads the cursor and the limit of a list.
///
/// # Errors
/// When the cursor is not one of ours.
pub fn paging<K: DeserializeOwned>(
    cursor: Option<&str>,
    limit: Option<i64>,
) -> AppResult<Paging<K>> {
    let after = match cursor.filter(|text| !text.is_empty()) {
        None => None,
        Some(text) => {
            let bytes = URL_SAFE_NO_PAD
                .decode(text)
                .map_err(|_| AppError::malformed("The cursor is not valid."))?;
            Some(
                serde_json::from_slice(&bytes)
                    .map_err(|_| AppError::malformed("The cursor is not valid."))?,
            )
        }
    };
    Ok(Paging {
        after,
        limit: limit.unwrap_or(100).clamp(1, MOST_ITEMS),
    })
}

/// A page with its cursor written.
pub fn encode_page<T, K: Serialize>(page: Paged<T, K>) -> Page<T> {
    let next = page
        .next
        .and_then(|key| serde_json::to_vec(&key).ok())
        .map(|bytes| URL_SAFE_NO_PAD.encode(bytes));
    Page {
        items: page.items,
        next,
    }
}

/// Reads an identifier that a query names.
///
/// # Errors
/// When it is none.
pub fn id(text: &str) -> AppResult<uuid::Uuid> {
    text.parse()
        .map_err(|_| AppError::malformed("An identifier in the address is not a UUID."))
}

/// Reads an identifier that a query may name.
///
/// # Errors
/// When it is there and none.
pub fn maybe_id(text: Option<&str>) -> AppResult<Option<uuid::Uuid>> {
    text.filter(|text| !text.is_empty()).map(id).transpose()
}

/// Reads a word that a query may name.
///
/// # Errors
/// When it is none of those that there are.
pub fn word<T: Word>(name: &str, text: Option<&str>) -> AppResult<Option<T>> {
    text.filter(|text| !text.is_empty())
        .map(|text| {
            T::find(text).ok_or_else(|| AppError::field(name, format!("it is {}", T::words())))
        })
        .transpose()
}
