//! People and groups.

use jexlin_api::{EditPerson, Group, NewGroup, NewPerson, Page, Person};
use jexlin_app::commands;
use rocket::{Route, delete, get, patch, post, put, routes};

use super::payload::{Call, Decided, IfMatch, Sent, Tagged, encode_page, id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        list,
        add,
        read,
        edit,
        groups,
        add_group,
        rename_group,
        remove_group,
        add_member,
        remove_member
    ]
}

/// The people of the organisation. Everybody may know their colleagues' names, to share with them.
#[utoipa::path(
    operation_id = "people_list",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Person>)),
)]
#[get("/api/v1/people?<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Person>>> {
    Ok(Sent(encode_page(
        commands::people::list(&mut unit, paging(cursor, limit)?).await?,
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

/// One person.
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

/// Changes a person: name, state, duties, password.
#[utoipa::path(
    operation_id = "people_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    request_body = EditPerson,
    responses((status = 200, body = Person)),
)]
#[patch("/api/v1/people/<person>", data = "<body>")]
pub async fn edit(
    person: &str,
    version: IfMatch,
    body: Call<EditPerson>,
) -> ApiResult<Decided<Person>> {
    let Call(mut unit, body) = body;
    Ok(Decided(
        commands::people::edit(&mut unit, id(person)?, version.0, body).await?,
    ))
}

/// The groups.
#[utoipa::path(
    operation_id = "people_groups",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Group>)),
)]
#[get("/api/v1/groups?<cursor>&<limit>")]
pub async fn groups(
    mut unit: Unit,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Group>>> {
    Ok(Sent(encode_page(
        commands::people::groups(&mut unit, paging(cursor, limit)?).await?,
    )))
}

/// Adds a group.
#[utoipa::path(
    operation_id = "people_add_group",
    context_path = "",
    request_body = NewGroup,
    responses((status = 200, body = Group)),
)]
#[post("/api/v1/groups", data = "<body>")]
pub async fn add_group(body: Call<NewGroup>) -> ApiResult<Tagged<Group>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::people::add_group(&mut unit, body).await?))
}

/// Renames a group.
#[utoipa::path(
    operation_id = "people_rename_group",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    request_body = NewGroup,
    responses((status = 200, body = Group)),
)]
#[patch("/api/v1/groups/<group>", data = "<body>")]
pub async fn rename_group(
    group: &str,
    version: IfMatch,
    body: Call<NewGroup>,
) -> ApiResult<Tagged<Group>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::people::rename_group(&mut unit, id(group)?, version.0, body).await?,
    ))
}

/// Removes a group; grants to it end.
#[utoipa::path(
    operation_id = "people_remove_group",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/groups/<group>")]
pub async fn remove_group(mut unit: Unit, group: &str, version: IfMatch) -> ApiResult<()> {
    Ok(commands::people::remove_group(&mut unit, id(group)?, version.0).await?)
}

/// Puts a person or a group into a group.
#[utoipa::path(
    operation_id = "people_add_member",
    context_path = "",
    responses((status = 200, body = Group)),
)]
#[put("/api/v1/groups/<group>/members/<subject>")]
pub async fn add_member(mut unit: Unit, group: &str, subject: &str) -> ApiResult<Decided<Group>> {
    Ok(Decided(
        commands::people::add_member(&mut unit, id(group)?, id(subject)?).await?,
    ))
}

/// Takes a person or a group out of a group.
#[utoipa::path(
    operation_id = "people_remove_member",
    context_path = "",
    responses((status = 200, body = Group)),
)]
#[delete("/api/v1/groups/<group>/members/<subject>")]
pub async fn remove_member(mut unit: Unit, group: &str, subject: &str) -> ApiResult<Tagged<Group>> {
    Ok(Tagged(
        commands::people::remove_member(&mut unit, id(group)?, id(subject)?).await?,
    ))
}
