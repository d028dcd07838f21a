//! Credentials.

use jexlin_api::{Credential, CredentialItem, EditCredential, NewCredential, Page, Table};
use jexlin_app::commands;
use jexlin_app::paging::MOST_ITEMS;
use jexlin_core::upkeep::CheckOutcome;
use jexlin_core::vault::{CredentialSort, CredentialView};
use rocket::{FromForm, Route, delete, get, patch, post, routes};
use uuid::Uuid;

use super::payload::{Call, IfMatch, Sent, Tagged, encode_page, id, maybe_id, paging, word};
use crate::error::ApiResult;
use crate::guards::Unit;

/// How a list of credentials is narrowed.
#[derive(Debug, FromForm)]
pub struct Narrowed<'r> {
    folder: Option<&'r str>,
    below: Option<&'r str>,
    find: Option<&'r str>,
    name: Option<&'r str>,
    user: Option<&'r str>,
    kind: Option<&'r str>,
    tag: Option<&'r str>,
    device: Option<&'r str>,
    on: Option<&'r str>,
    check: Option<&'r str>,
    finding: Option<&'r str>,
    view: Option<&'r str>,
}

impl<'r> Narrowed<'r> {
    fn read(self) -> ApiResult<commands::credential_lists::Narrowed<'r>> {
        Ok(commands::credential_lists::Narrowed {
            folder: maybe_id(self.folder)?,
            below: maybe_id(self.below)?,
            find: self.find,
            name: self.name,
            user: self.user,
            kind: self.kind,
            tag: self.tag,
            device: self.device,
            on: maybe_id(self.on)?,
            check: word("check", self.check)?,
            finding: self.finding,
            view: word("view", self.view)?,
        })
    }
}

pub fn routes() -> Vec<Route> {
    routes![list, table, add, read, edit, remove]
}

/// Adds a credential.
#[utoipa::path(
    operation_id = "credentials_add",
    context_path = "",
    request_body = NewCredential,
    responses((status = 200, body = Credential)),
)]
#[post("/api/v1/credentials", data = "<body>")]
pub async fn add(body: Call<NewCredential>) -> ApiResult<Tagged<Credential>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::credentials::add(&mut unit, body).await?))
}

/// Reads a credential, without its secrets.
#[utoipa::path(
    operation_id = "credentials_read",
    context_path = "",
    responses((status = 200, body = Credential)),
)]
#[get("/api/v1/credentials/<credential>")]
pub async fn read(mut unit: Unit, credential: &str) -> ApiResult<Tagged<Credential>> {
    Ok(Tagged(
        commands::credentials::read(&mut unit, id(credential)?).await?,
    ))
}

/// Edits a credential: name, folder, fields, tags, device, or secrets in the vault.
#[utoipa::path(
    operation_id = "credentials_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = EditCredential,
    responses((status = 200, body = Credential)),
)]
#[patch("/api/v1/credentials/<credential>", data = "<body>")]
pub async fn edit(
    credential: &str,
    revision: IfMatch,
    body: Call<EditCredential>,
) -> ApiResult<Tagged<Credential>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::credentials::edit(&mut unit, id(credential)?, revision.0, body).await?,
    ))
}

/// Moves a credential to the bin, from where it can be restored.
#[utoipa::path(
    operation_id = "credentials_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/credentials/<credential>")]
pub async fn remove(mut unit: Unit, credential: &str, revision: IfMatch) -> ApiResult<Sent<Uuid>> {
    Ok(Sent(
        commands::credentials::remove(&mut unit, id(credential)?, revision.0).await?,
    ))
}

/// Lists the credentials that the caller may list, filtered. `find` searches everything that is not
/// secret, word by word; if nothing has all words, similar credentials are returned with `near`
/// set. `view` is `favourites`, `recent`, `most-used`, `mine`, `shared-with-me`, `shared-by-me` or
/// `with-nobody`.
#[utoipa::path(operation_id = "credentials_list", context_path = "", params(
    ("folder" = Option<String>, Query), ("below" = Option<String>, Query), ("find" = Option<String>, Query), ("name" = Option<String>, Query),
    ("user" = Option<String>, Query), ("kind" = Option<String>, Query), ("tag" = Option<String>, Query), ("device" = Option<String>, Query), ("on" = Option<String>, Query),
    ("check" = Option<CheckOutcome>, Query), ("finding" = Option<String>, Query), ("view" = Option<CredentialView>, Query), ("cursor" = Option<String>, Query),
    ("limit" = Option<i64>, Query)
), responses((status = 200, body = Page<CredentialItem>)))]
#[get("/api/v1/credentials?<cursor>&<limit>&<narrowed..>")]
pub async fn list(
    mut unit: Unit,
    narrowed: Narrowed<'_>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<CredentialItem>>> {
    Ok(Sent(encode_page(
        commands::credential_lists::list(&mut unit, narrowed.read()?, paging(cursor, limit)?)
            .await?,
    )))
}

/// A part of the table of the credentials that the caller may list, filtered as a list is, from any
/// row on, with the number of all rows. `sort` is `name`, `user-name`, `kind`, `device`, `folder`,
/// `check` or `changed`; with `-` before it the last come first. Each call looks at every row of the
/// table: to read all, use the list.
#[utoipa::path(operation_id = "credentials_table", context_path = "", params(
    ("folder" = Option<String>, Query), ("below" = Option<String>, Query), ("find" = Option<String>, Query), ("name" = Option<String>, Query),
    ("user" = Option<String>, Query), ("kind" = Option<String>, Query), ("tag" = Option<String>, Query), ("device" = Option<String>, Query), ("on" = Option<String>, Query),
    ("check" = Option<CheckOutcome>, Query), ("finding" = Option<String>, Query), ("view" = Option<CredentialView>, Query), ("sort" = Option<String>, Query),
    ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = Table<CredentialItem>)))]
#[get("/api/v1/credentials/table?<sort>&<from>&<limit>&<narrowed..>")]
pub async fn table(
    mut unit: Unit,
    narrowed: Narrowed<'_>,
    sort: Option<&str>,
    from: Option<i64>,
    limit: Option<i64>,
) -> ApiResult<Sent<Table<CredentialItem>>> {
    let sort = sort.unwrap_or("name");
    let part = commands::credential_lists::Part {
        sort: word::<CredentialSort>("sort", Some(sort.trim_start_matches('-')))?
            .unwrap_or(CredentialSort::Name),
        down: sort.starts_with('-'),
        from: from.unwrap_or(0),
        limit: limit.unwrap_or(100).clamp(1, MOST_ITEMS),
    };
    Ok(Sent(
        commands::credential_lists::table(&mut unit, narrowed.read()?, part).await?,
    ))
}
