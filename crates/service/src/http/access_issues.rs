//! Access put in order: what has no steward, what is of no use, what changes hands.

use jexlin_api::{
    AccessIssue, AccessIssuesFixed, FixAccessIssues, Page, StewardshipTransferred,
    TransferStewardship,
};
use jexlin_app::commands;
use rocket::{Route, get, post, routes};

use super::payload::{Call, Sent, encode_page, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![list, fix, transfer_stewardship]
}

/// Lists access issues, for the duty `access`: folders and names of people, and nothing about what
/// is inside.
#[utoipa::path(
    operation_id = "access_issues_list",
    context_path = "",
    params(("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<AccessIssue>)),
)]
#[get("/api/v1/access-issues?<cursor>&<limit>")]
pub async fn list(
    mut unit: Unit,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<AccessIssue>>> {
    let page = commands::access_issues::list(&mut unit, paging(cursor, limit)?).await?;
    Ok(Sent(encode_page(page)))
}

/// Fixes access issues, for the duty `access`: removes redundant and expired grants, and appoints
/// somebody else as a steward where there is none. The caller gains no access.
#[utoipa::path(
    operation_id = "access_issues_fix",
    context_path = "",
    request_body = FixAccessIssues,
    responses((status = 200, body = AccessIssuesFixed)),
)]
#[post("/api/v1/access-issues", data = "<body>")]
pub async fn fix(body: Call<FixAccessIssues>) -> ApiResult<Sent<AccessIssuesFixed>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::access_issues::fix(&mut unit, body).await?))
}

/// Transfers stewardship that one person holds by grants to them to another person. Everybody may
/// transfer their own; holders of the duty `access` anybody's, but not to themselves; others that
/// on what they are a steward of.
#[utoipa::path(
    operation_id = "access_issues_transfer_stewardship",
    context_path = "",
    request_body = TransferStewardship,
    responses((status = 200, body = StewardshipTransferred)),
)]
#[post("/api/v1/transfer-stewardship", data = "<body>")]
pub async fn transfer_stewardship(
    body: Call<TransferStewardship>,
) -> ApiResult<Sent<StewardshipTransferred>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::access_issues::transfer_stewardship(&mut unit, body).await?,
    ))
}
