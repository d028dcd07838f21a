//! Password policies, the generator, what folders demand, and what the organisation has set.

use jexlin_api::{
    Generated, NewPasswordPolicy, Page, PasswordPolicy, PasswordRule, PasswordRuleItem, TryPolicy,
    TryResult,
};
use jexlin_app::commands;
use rocket::{Route, delete, get, post, put, routes};

use super::payload::{Call, IfMatch, Sent, Tagged, id, maybe_id};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        policies,
        add_policy,
        edit_policy,
        make_default,
        remove_policy,
        generate,
        try_policy,
        password_rule,
        set_password_rule,
        remove_password_rule
    ]
}

/// Lists password policies. Not paged: an organisation has few.
#[utoipa::path(
    operation_id = "policies",
    context_path = "",
    responses((status = 200, body = Page<PasswordPolicy>)),
)]
#[get("/api/v1/password-policies")]
pub async fn policies(mut unit: Unit) -> ApiResult<Sent<Page<PasswordPolicy>>> {
    Ok(Sent(commands::policies::policies(&mut unit).await?))
}

/// Adds a password policy.
#[utoipa::path(
    operation_id = "policies_add",
    context_path = "",
    request_body = NewPasswordPolicy,
    responses((status = 200, body = PasswordPolicy)),
)]
#[post("/api/v1/password-policies", data = "<body>")]
pub async fn add_policy(body: Call<NewPasswordPolicy>) -> ApiResult<Tagged<PasswordPolicy>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::policies::add_policy(&mut unit, body).await?,
    ))
}

/// Edits a password policy.
#[utoipa::path(
    operation_id = "policies_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = NewPasswordPolicy,
    responses((status = 200, body = PasswordPolicy)),
)]
#[put("/api/v1/password-policies/<policy>", data = "<body>")]
pub async fn edit_policy(
    policy: &str,
    revision: IfMatch,
    body: Call<NewPasswordPolicy>,
) -> ApiResult<Tagged<PasswordPolicy>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::policies::edit_policy(&mut unit, id(policy)?, revision.0, body).await?,
    ))
}

/// Makes a policy the default.
#[utoipa::path(
    operation_id = "policies_make_default",
    context_path = "",
    responses((status = 200, body = PasswordPolicy)),
)]
#[post("/api/v1/password-policies/<policy>/default")]
pub async fn make_default(mut unit: Unit, policy: &str) -> ApiResult<Sent<PasswordPolicy>> {
    Ok(Sent(
        commands::policies::make_default(&mut unit, id(policy)?).await?,
    ))
}

/// Removes a password policy that is not in use.
#[utoipa::path(
    operation_id = "policies_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/password-policies/<policy>")]
pub async fn remove_policy(mut unit: Unit, policy: &str, revision: IfMatch) -> ApiResult<()> {
    Ok(commands::policies::remove_policy(&mut unit, id(policy)?, revision.0).await?)
}

/// Generates a password by a policy, by default the default policy, and does not store it.
#[utoipa::path(
    operation_id = "policies_generate",
    context_path = "",
    params(("policy" = Option<String>, Query)),
    responses((status = 200, body = Generated)),
)]
#[post("/api/v1/generate?<policy>")]
pub async fn generate(mut unit: Unit, policy: Option<&str>) -> ApiResult<Sent<Generated>> {
    Ok(Sent(
        commands::policies::generate(&mut unit, maybe_id(policy)?).await?,
    ))
}

/// Generates samples by rules, and checks a password against them. Nothing is stored.
#[utoipa::path(
    operation_id = "policies_try",
    context_path = "",
    request_body = TryPolicy,
    responses((status = 200, body = TryResult)),
)]
#[post("/api/v1/password-policies/try", data = "<body>")]
pub async fn try_policy(body: Call<TryPolicy>) -> ApiResult<Sent<TryResult>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::policies::try_policy(&mut unit, body).await?))
}

/// Reads the password policy that applies in a folder, and where it is set.
#[utoipa::path(
    operation_id = "policies_password_rule",
    context_path = "",
    responses((status = 200, body = PasswordRuleItem), (status = 404)),
)]
#[get("/api/v1/folders/<folder>/password-rule")]
pub async fn password_rule(
    mut unit: Unit,
    folder: &str,
) -> ApiResult<Sent<Option<PasswordRuleItem>>> {
    Ok(Sent(
        commands::policies::password_rule(&mut unit, id(folder)?).await?,
    ))
}

/// Sets the password policy of a folder and what is below it.
#[utoipa::path(
    operation_id = "policies_set_password_rule",
    context_path = "",
    request_body = PasswordRule,
    responses((status = 200, body = PasswordRuleItem)),
)]
#[put("/api/v1/folders/<folder>/password-rule", data = "<body>")]
pub async fn set_password_rule(
    folder: &str,
    body: Call<PasswordRule>,
) -> ApiResult<Sent<PasswordRuleItem>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::policies::set_password_rule(&mut unit, id(folder)?, body).await?,
    ))
}

/// Removes the folder's own password policy; the one above applies again.
#[utoipa::path(
    operation_id = "policies_remove_password_rule",
    context_path = "",
    responses((status = 200)),
)]
#[delete("/api/v1/folders/<folder>/password-rule")]
pub async fn remove_password_rule(mut unit: Unit, folder: &str) -> ApiResult<()> {
    Ok(commands::policies::remove_password_rule(&mut unit, id(folder)?).await?)
}
