//! People and groups.

use jexlin_api::{EditPerson, Grant, NewPerson, Page, Person, SeenItem};
use jexlin_app::commands;
use rocket::{Route, get, patch, post, routes};

use super::payload::{Call, Decided, IfMatch, Sent, Tagged, encode_page, id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, add, read, grants, seen, edit]
}

/// Lists the people of the organisation, or the one of a sign-in name. Everybody may read the names of their colleagues, to share
/// with them.
#[utoipa::path(
    operation_id = "people_list",
    context_path = "",
    params(("name" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Person>)),
)]
#[get("/api/v1/people?<name>&<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    name: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Person>>> {
    Ok(Sent(encode_page(
        commands::people::list(&mut unit, name, paging(cursor, limit)?).await?,
    )))
}

/// Adds a person.
#[utoipa::path(
    operation_id = "people_add",
    context_path = "",
    request_body = NewPerson,
    responses((status = 200, body = Person)),
)]
#[post("/api/v1/people", data = "<body>")]
pub async fn add(body: Call<NewPerson>) -> ApiResult<Decided<Person>> {
    let Call(mut unit, body) = body;
    Ok(Decided(commands::people::add(&mut unit, body).await?))
}

/// Reads a person.
#[utoipa::path(
    operation_id = "people_read",
    context_path = "",
    responses((status = 200, body = Person)),
)]
#[get("/api/v1/people/<person>")]
pub async fn read(mut unit: Unit, person: &str) -> ApiResult<Tagged<Person>> {
    Ok(Tagged(
        commands::people::read(&mut unit, id(person)?).await?,
    ))
}

/// Lists the grants to a person and to the groups that they are in: what they have access to, and by
/// which way. For the person, and with the duty `access` or `audit`.
#[utoipa::path(
    operation_id = "people_grants",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Grant>)),
)]
#[get("/api/v1/people/<person>/grants?<cursor>&<limit>")]
pub async fn grants(
    mut unit: Unit,
    person: &str,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Grant>>> {
    Ok(Sent(encode_page(
        commands::grants::of_person(&mut unit, id(person)?, paging(cursor, limit)?).await?,
    )))
}

/// Lists the credentials whose secrets a person has revealed or exported, the latest first, at most
/// 2,000: for the person; with the duty `audit`; and for a steward, those that they are a steward of.
#[utoipa::path(
    operation_id = "people_seen",
    context_path = "",
    responses((status = 200, body = Page<SeenItem>)),
)]
#[get("/api/v1/people/<person>/seen")]
pub async fn seen(mut unit: Unit, person: &str) -> ApiResult<Sent<Page<SeenItem>>> {
    Ok(Sent(
        commands::favourites::seen(&mut unit, id(person)?).await?,
    ))
}

/// Edits a person: name, state, duties, password.
#[utoipa::path(
    operation_id = "people_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = EditPerson,
    responses((status = 200, body = Person)),
)]
#[patch("/api/v1/people/<person>", data = "<body>")]
pub async fn edit(
    person: &str,
    revision: IfMatch,
    body: Call<EditPerson>,
) -> ApiResult<Decided<Person>> {
    let Call(mut unit, body) = body;
    Ok(Decided(
        commands::people::edit(&mut unit, id(person)?, revision.0, body).await?,
    ))
}
