//! Password policies, the generator, what folders demand, and what the organisation has set.

use jexlin_api::{
    Generated, NewPasswordPolicy, Page, PasswordPolicy, PasswordRule, PasswordRuleItem,
    SettingsItem, Tried, TryPolicy,
};
use jexlin_app::commands;
use jexlin_core::policy::settings::Settings;
use rocket::{Route, delete, get, post, put, routes};

use super::payload::{Call, Decided, IfMatch, Sent, Tagged, id, maybe_id};
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
        remove_password_rule,
        settings,
        edit_settings
    ]
}

/// The password policies. It comes whole: an organisation has few policies.
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

/// Changes a password policy.
#[utoipa::path(
    operation_id = "policies_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    request_body = NewPasswordPolicy,
    responses((status = 200, body = PasswordPolicy)),
)]
#[put("/api/v1/password-policies/<policy>", data = "<body>")]
pub async fn edit_policy(
    policy: &str,
    version: IfMatch,
    body: Call<NewPasswordPolicy>,
) -> ApiResult<Tagged<PasswordPolicy>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::policies::edit_policy(&mut unit, id(policy)?, version.0, body).await?,
    ))
}

/// Makes a policy the one that counts where no other is named.
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

/// Removes a policy that nothing names.
#[utoipa::path(
    operation_id = "policies_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/password-policies/<policy>")]
pub async fn remove_policy(mut unit: Unit, policy: &str, version: IfMatch) -> ApiResult<()> {
    Ok(commands::policies::remove_policy(&mut unit, id(policy)?, version.0).await?)
}

/// Generates a password by a policy, the default one when none is named, and stores it nowhere.
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

/// Shows what rules make, and what a password lacks by them. Nothing is stored.
#[utoipa::path(
    operation_id = "policies_try",
    context_path = "",
    request_body = TryPolicy,
    responses((status = 200, body = Tried)),
)]
#[post("/api/v1/password-policies/try", data = "<body>")]
pub async fn try_policy(body: Call<TryPolicy>) -> ApiResult<Sent<Tried>> {
    let Call(mut unit, body) = body;
    Ok(Sent(commands::policies::try_policy(&mut unit, body).await?))
}

/// What counts for the passwords in a folder, and from where.
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

/// Sets what a folder demands of the passwords in it and below.
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

/// Takes away what a folder demands of its own; what is above counts again.
#[utoipa::path(
    operation_id = "policies_remove_password_rule",
    context_path = "",
    responses((status = 200)),
)]
#[delete("/api/v1/folders/<folder>/password-rule")]
pub async fn remove_password_rule(mut unit: Unit, folder: &str) -> ApiResult<()> {
    Ok(commands::policies::remove_password_rule(&mut unit, id(folder)?).await?)
}

/// What the organisation has set. Everybody may know it: it tells how long things are shown and
/// kept.
#[utoipa::path(
    operation_id = "policies_settings",
    context_path = "",
    responses((status = 200, body = SettingsItem)),
)]
#[get("/api/v1/settings")]
pub async fn settings(mut unit: Unit) -> ApiResult<Tagged<SettingsItem>> {
    Ok(Tagged(commands::policies::settings(&mut unit).await?))
}

/// Changes it; all of it is given anew.
#[utoipa::path(
    operation_id = "settings_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The version that the change is based on")),
    request_body = Settings,
    responses((status = 200, body = SettingsItem)),
)]
#[put("/api/v1/settings", data = "<body>")]
pub async fn edit_settings(
    version: IfMatch,
    body: Call<Settings>,
) -> ApiResult<Decided<SettingsItem>> {
    let Call(mut unit, settings) = body;
    Ok(Decided(
        commands::policies::edit_settings(&mut unit, version.0, settings).await?,
    ))
}
