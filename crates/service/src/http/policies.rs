//! Password policies, the generator, what folders demand, and what the organisation has set.

use jexlin_api::{
    Generated, NewPasswordPolicy, Page, PasswordPolicy, PasswordRule, PasswordRuleItem, SecretText,
    SettingsItem, Tried, TryPolicy,
};
use jexlin_core::access::mark;
use jexlin_core::policy::settings::Settings;
use jexlin_core::policy::{About, PolicyProblem, judge};
use jexlin_core::vault::Key;
use jexlin_store::{PolicyRow, RuleRow, SettingsRow};
use rocket::{Route, delete, get, post, put, routes};
use uuid::Uuid;

use super::auth::secret;
use super::names::named;
use super::payload::{Call, IfMatch, Sent, Versioned, id, maybe_id};
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::propose;
use crate::assessment;
use crate::error::{ApiError, ApiResult};
use crate::guards::allow_folder;
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![
        policies,
        add_policy,
        change_policy,
        make_default,
        remove_policy,
        generate,
        try_policy,
        password_rule,
        set_password_rule,
        remove_password_rule,
        settings,
        change_settings
    ]
}

fn unusable(problem: &PolicyProblem) -> ApiError {
    ApiError::field("rules", problem.to_string())
}

fn show_policy(row: PolicyRow) -> ApiResult<PasswordPolicy> {
    let rules = serde_json::from_value(row.rules)
        .map_err(|error| ApiError::internal(format!("policy {}: {error}", row.id)))?;
    Ok(PasswordPolicy {
        id: row.id,
        name: row.name,
        is_default: row.is_default,
        rules,
        version: row.version,
    })
}

/// The password policies.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<PasswordPolicy>)))]
#[get("/api/v1/password-policies")]
pub async fn policies(mut unit: UnitOfWork) -> ApiResult<Sent<Page<PasswordPolicy>>> {
    let rows = unit.tx()?.policies().await?;
    unit.commit().await?;
    Ok(Sent(Page {
        items: rows
            .into_iter()
            .map(show_policy)
            .collect::<ApiResult<_>>()?,
        next: None,
    }))
}

/// Adds a password policy.
#[utoipa::path(context_path = "", request_body = NewPasswordPolicy, responses((status = 200, body = PasswordPolicy)))]
#[post("/api/v1/password-policies", data = "<body>")]
pub async fn add_policy(body: Call<NewPasswordPolicy>) -> ApiResult<Versioned<PasswordPolicy>> {
    let Call(mut unit, body) = body;
    unit.begin_audit("policy.add", "password-policy", None, &body.name);
    unit.duty("policy")?;
    body.rules.check().map_err(|problem| unusable(&problem))?;
    let rules =
        serde_json::to_value(&body.rules).map_err(|error| ApiError::internal(error.to_string()))?;
    let row = PolicyRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        name: named("name", &body.name)?,
        rules,
        is_default: false,
        version: 1,
    };
    unit.tx()?.add_policy(&row).await?;
    unit.set_target(row.id, &row.name);
    unit.commit_audited().await?;
    Ok(Versioned(1, show_policy(row)?))
}

/// Changes a password policy.
#[utoipa::path(context_path = "", request_body = NewPasswordPolicy, responses((status = 200, body = PasswordPolicy)))]
#[put("/api/v1/password-policies/<policy>", data = "<body>")]
pub async fn change_policy(
    policy: &str,
    version: IfMatch,
    body: Call<NewPasswordPolicy>,
) -> ApiResult<Versioned<PasswordPolicy>> {
    let Call(mut unit, body) = body;
    let target = id(policy)?;
    unit.begin_audit("policy.change", "password-policy", Some(target), &body.name);
    unit.duty("policy")?;
    body.rules.check().map_err(|problem| unusable(&problem))?;
    let mut row = unit.tx()?.policy(Some(target)).await?;
    row.name = named("name", &body.name)?;
    row.rules =
        serde_json::to_value(&body.rules).map_err(|error| ApiError::internal(error.to_string()))?;
    row.version = version.0;
    unit.tx()?.change_policy(&row).await?;
    unit.tx()?.judge_all_again(None).await?;
    unit.add_detail("rules", row.rules.to_string());
    unit.commit_audited().await?;
    row.version += 1;
    Ok(Versioned(row.version, show_policy(row)?))
}

/// Makes a policy the one that counts where no other is named.
#[utoipa::path(context_path = "", responses((status = 200, body = PasswordPolicy)))]
#[post("/api/v1/password-policies/<policy>/default")]
pub async fn make_default(mut unit: UnitOfWork, policy: &str) -> ApiResult<Sent<PasswordPolicy>> {
    let target = id(policy)?;
    unit.begin_audit("policy.default", "password-policy", Some(target), "");
    unit.duty("policy")?;
    let mut row = unit
        .tx()?
        .policy(Some(target))
        .await
        .map_err(|_| ApiError::unknown("password policy"))?;
    unit.set_target(target, &row.name);
    unit.tx()?.make_policy_default(target).await?;
    unit.tx()?.judge_all_again(None).await?;
    unit.commit_audited().await?;
    row.is_default = true;
    Ok(Sent(show_policy(row)?))
}

/// Removes a policy that nothing names.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/password-policies/<policy>")]
pub async fn remove_policy(mut unit: UnitOfWork, policy: &str, version: IfMatch) -> ApiResult<()> {
    let target = id(policy)?;
    unit.begin_audit("policy.remove", "password-policy", Some(target), "");
    unit.duty("policy")?;
    let row = unit
        .tx()?
        .policy(Some(target))
        .await
        .map_err(|_| ApiError::unknown("password policy"))?;
    unit.set_target(target, &row.name);
    if row.is_default {
        return Err(ApiError::conflict(
            "is-default",
            "This is the default policy.",
            "Make another one the default first.",
        ));
    }
    let used = unit.tx()?.policy_in_use(target).await?;
    if used > 0 {
        return Err(ApiError::conflict(
            "in-use",
            format!("{used} folders or upkeep plans name this policy."),
            "Give them another one first.",
        ));
    }
    unit.tx()?.remove_policy(target, version.0).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Generates a password by a policy, the default one when none is named, and stores it nowhere.
#[utoipa::path(context_path = "", params(("policy" = Option<String>, Query)), responses((status = 200, body = Generated)))]
#[post("/api/v1/generate?<policy>")]
pub async fn generate(mut unit: UnitOfWork, policy: Option<&str>) -> ApiResult<Sent<Generated>> {
    let row = unit.tx()?.policy(maybe_id(policy)?).await?;
    unit.commit().await?;
    let made = show_policy(row)?
        .rules
        .generate(&mut unit.app.rng()?, About::default())
        .map_err(|problem| unusable(&problem))?;
    let text = made
        .expose_secret_text()
        .map_err(|error| ApiError::internal(error.to_string()))?;
    Ok(Sent(Generated {
        password: SecretText::new(text.to_owned()),
    }))
}

/// Shows what rules make, and what a password lacks by them. Nothing is stored.
#[utoipa::path(context_path = "", request_body = TryPolicy, responses((status = 200, body = Tried)))]
#[post("/api/v1/password-policies/try", data = "<body>")]
pub async fn try_policy(body: Call<TryPolicy>) -> ApiResult<Sent<Tried>> {
    let Call(mut unit, body) = body;
    let rules = match body.rules {
        Some(rules) => rules,
        None => {
            show_policy(
                unit.tx()?
                    .policy(body.policy)
                    .await
                    .map_err(|_| ApiError::unknown("password policy"))?,
            )?
            .rules
        }
    };
    unit.commit().await?;
    let bits = rules.check().map_err(|problem| unusable(&problem))?;
    let about = About {
        user_name: &body.user_name,
        used_ago: None,
    };
    let mut rng = unit.app.rng()?;
    let mut samples = vec![];
    for _ in 0..5 {
        let made = rules
            .generate(&mut rng, about)
            .map_err(|problem| unusable(&problem))?;
        samples.push(SecretText::new(
            made.expose_secret_text()
                .map_err(|error| ApiError::internal(error.to_string()))?
                .to_owned(),
        ));
    }
    let given = body.password.as_ref().map(secret);
    let judged = match &given {
        Some(password) => Some(
            assessment::estimate(|| {
                judge(
                    password,
                    &[&body.user_name],
                    Some((&rules, about)),
                    0,
                    &Key::from_bytes([0; 32]),
                )
            })
            .await,
        ),
        None => None,
    };
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "between 0 and a few thousand"
    )]
    let bits = bits.floor() as u32;
    Ok(Sent(Tried {
        bits,
        samples,
        score: judged.as_ref().map(|judged| judged.score),
        lacks: judged.map(|judged| judged.lacks).unwrap_or_default(),
    }))
}

async fn show_rule(unit: &mut UnitOfWork, row: RuleRow) -> ApiResult<PasswordRuleItem> {
    let place = unit.tx()?.path_of(row.folder_id).await?;
    Ok(PasswordRuleItem {
        folder: row.folder_id,
        place,
        rule: PasswordRule {
            mode: row.mode,
            policies: row.policies,
        },
    })
}

/// What counts for the passwords in a folder, and from where.
#[utoipa::path(context_path = "", responses((status = 200, body = PasswordRuleItem), (status = 404)))]
#[get("/api/v1/folders/<folder>/password-rule")]
pub async fn password_rule(
    mut unit: UnitOfWork,
    folder: &str,
) -> ApiResult<Sent<Option<PasswordRuleItem>>> {
    let target = id(folder)?;
    allow_folder::<mark::List>(&mut unit, target).await?;
    let shown = match unit.tx()?.password_rule_for(target).await? {
        Some(row) => Some(show_rule(&mut unit, row).await?),
        None => None,
    };
    unit.commit().await?;
    Ok(Sent(shown))
}

/// Sets what a folder demands of the passwords in it and below.
#[utoipa::path(context_path = "", request_body = PasswordRule, responses((status = 200, body = PasswordRuleItem)))]
#[put("/api/v1/folders/<folder>/password-rule", data = "<body>")]
pub async fn set_password_rule(
    folder: &str,
    body: Call<PasswordRule>,
) -> ApiResult<Sent<PasswordRuleItem>> {
    let Call(mut unit, body) = body;
    let target = id(folder)?;
    unit.begin_audit("folder.password-rule", "folder", Some(target), "");
    allow_folder::<mark::Steward>(&mut unit, target).await?;
    let path = unit.tx()?.path_of(target).await?;
    unit.set_target(target, &path);
    let several = match body.mode.as_str() {
        "advise" | "enforce" => false,
        "choose" => true,
        _ => return Err(ApiError::field("mode", "it is advise, enforce or choose")),
    };
    if body.policies.is_empty() || body.policies.len() > 20 || (!several && body.policies.len() > 1)
    {
        return Err(ApiError::field(
            "policies",
            if several {
                "1 to 20 policies can be chosen from"
            } else {
                "one policy is advised or enforced"
            },
        ));
    }
    let mut names = vec![];
    for policy in &body.policies {
        names.push(
            unit.tx()?
                .policy(Some(*policy))
                .await
                .map_err(|_| ApiError::unknown("password policy"))?
                .name,
        );
    }
    unit.add_detail("mode", body.mode.clone());
    unit.add_detail("policies", names.join(", "));
    let row = RuleRow {
        folder_id: target,
        organisation: unit.organisation(),
        mode: body.mode,
        policies: body.policies,
    };
    unit.tx()?.set_password_rule(&row).await?;
    let shown = show_rule(&mut unit, row).await?;
    unit.commit_audited().await?;
    Ok(Sent(shown))
}

/// Takes away what a folder demands of its own; what is above counts again.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/folders/<folder>/password-rule")]
pub async fn remove_password_rule(mut unit: UnitOfWork, folder: &str) -> ApiResult<()> {
    let target = id(folder)?;
    unit.begin_audit("folder.password-rule", "folder", Some(target), "");
    allow_folder::<mark::Steward>(&mut unit, target).await?;
    let path = unit.tx()?.path_of(target).await?;
    unit.set_target(target, &path);
    unit.add_detail("mode", "none of its own");
    unit.tx()?.remove_password_rule(target).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// What the organisation has set. Everybody may know it: it tells how long things are shown and kept.
#[utoipa::path(context_path = "", responses((status = 200, body = SettingsItem)))]
#[get("/api/v1/settings")]
pub async fn settings(mut unit: UnitOfWork) -> ApiResult<Versioned<SettingsItem>> {
    let (settings, version) = crate::settings::settings(unit.tx()?).await?;
    unit.commit().await?;
    Ok(Versioned(version, SettingsItem { settings, version }))
}

/// Changes it; all of it is given anew.
#[utoipa::path(context_path = "", request_body = Object, responses((status = 200, body = SettingsItem)))]
#[put("/api/v1/settings", data = "<body>")]
pub async fn change_settings(
    version: IfMatch,
    body: Call<Settings>,
) -> ApiResult<MaybePending<SettingsItem>> {
    let Call(mut unit, settings) = body;
    unit.begin_audit("settings.change", "settings", None, "");
    unit.duty("policy")?;
    settings
        .check()
        .map_err(|(field, problem)| ApiError::field(field, problem))?;
    let (before, _) = crate::settings::settings(unit.tx()?).await?;
    let value = |settings: &Settings| {
        serde_json::to_value(settings).map_err(|error| ApiError::internal(error.to_string()))
    };
    let (old, new) = (value(&before)?, value(&settings)?);
    for (name, value) in new
        .as_object()
        .into_iter()
        .flatten()
        .filter(|(name, value)| old.get(name.as_str()) != Some(value))
    {
        unit.add_detail(name, value.to_string());
    }
    if before.is_loosened_by(&settings) {
        let act = Act::ChangeSettings {
            settings: Box::new(settings.clone()),
            version: version.0,
        };
        if let Some(pending) = propose(
            &mut unit,
            act,
            "Let one person do what two were needed for, or trust devices at first contact",
        )
        .await?
        {
            return Ok(MaybePending::Pending(pending));
        }
    }
    let row = SettingsRow {
        organisation: unit.organisation(),
        body: new,
        version: version.0,
    };
    unit.tx()?.change_settings(&row).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(
        version.0 + 1,
        SettingsItem {
            settings,
            version: version.0 + 1,
        },
    ))
}
