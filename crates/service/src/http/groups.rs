//! Groups and their members.

use jexlin_api::{Group, NewGroup, Page};
use jexlin_app::commands;
use rocket::{Route, delete, get, patch, post, put, routes};

use super::payload::{Call, Decided, IfMatch, Sent, Tagged, encode_page, id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        groups,
        add_group,
        rename_group,
        remove_group,
        add_member,
        remove_member
    ]
}

/// Lists groups, or the one of a name.
#[utoipa::path(
    operation_id = "groups_list",
    context_path = "",
    params(("name" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Group>)),
)]
#[get("/api/v1/groups?<name>&<cursor>&<limit>")]
pub async fn groups(
    mut unit: Unit,
    name: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Group>>> {
    Ok(Sent(encode_page(
        commands::groups::groups(&mut unit, name, paging(cursor, limit)?).await?,
    )))
}

/// Adds a group.
#[utoipa::path(
    operation_id = "groups_add",
    context_path = "",
    request_body = NewGroup,
    responses((status = 200, body = Group)),
)]
#[post("/api/v1/groups", data = "<body>")]
pub async fn add_group(body: Call<NewGroup>) -> ApiResult<Tagged<Group>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(commands::groups::add_group(&mut unit, body).await?))
}

/// Renames a group.
#[utoipa::path(
    operation_id = "groups_rename",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = NewGroup,
    responses((status = 200, body = Group)),
)]
#[patch("/api/v1/groups/<group>", data = "<body>")]
pub async fn rename_group(
    group: &str,
    revision: IfMatch,
    body: Call<NewGroup>,
) -> ApiResult<Tagged<Group>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::groups::rename_group(&mut unit, id(group)?, revision.0, body).await?,
    ))
}

/// Removes a group; grants to it end.
#[utoipa::path(
    operation_id = "groups_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/groups/<group>")]
pub async fn remove_group(mut unit: Unit, group: &str, revision: IfMatch) -> ApiResult<()> {
    Ok(commands::groups::remove_group(&mut unit, id(group)?, revision.0).await?)
}

/// Adds a person or a group to a group.
#[utoipa::path(
    operation_id = "groups_add_member",
    context_path = "",
    responses((status = 200, body = Group)),
)]
#[put("/api/v1/groups/<group>/members/<subject>")]
pub async fn add_member(mut unit: Unit, group: &str, subject: &str) -> ApiResult<Decided<Group>> {
    Ok(Decided(
        commands::groups::add_member(&mut unit, id(group)?, id(subject)?).await?,
    ))
}

/// Removes a person or a group from a group.
#[utoipa::path(
    operation_id = "groups_remove_member",
    context_path = "",
    responses((status = 200, body = Group)),
)]
#[delete("/api/v1/groups/<group>/members/<subject>")]
pub async fn remove_member(mut unit: Unit, group: &str, subject: &str) -> ApiResult<Tagged<Group>> {
    Ok(Tagged(
        commands::groups::remove_member(&mut unit, id(group)?, id(subject)?).await?,
    ))
}
