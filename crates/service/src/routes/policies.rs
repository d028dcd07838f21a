//! Password policies, the generator, what folders demand, and what the organisation has set.

use jexlin_api::{Generated, NewPasswordPolicy, Page, PasswordPolicy, PasswordRule, PasswordRuleItem, SecretText, SettingsItem, Tried, TryPolicy};
use jexlin_core::access::mark;
use jexlin_core::policy::settings::Settings;
use jexlin_core::policy::{About, PolicyProblem, judge};
use jexlin_core::vault::Key;
use jexlin_store::{PolicyRow, RuleRow, SettingsRow};
use rocket::{Route, delete, get, post, put, routes};
use uuid::Uuid;

use super::door::secret;
use super::exchange::{Call, IfMatch, Sent, Versioned, id, maybe_id};
use super::folders::allow_folder;
use super::pending::{Act, MaybePending, propose};
use super::people::named;
use crate::acting::Acting;
use crate::judging;
use crate::problem::{Answer, Fault};

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

fn unusable(problem: &PolicyProblem) -> Fault {
    Fault::field("rules", problem.to_string())
}

fn show_policy(row: PolicyRow) -> Answer<PasswordPolicy> {
    let rules = serde_json::from_value(row.rules).map_err(|error| Fault::internal(format!("policy {}: {error}", row.id)))?;
    Ok(PasswordPolicy { id: row.id, name: row.name, is_default: row.is_default, rules, version: row.version })
}

/// The password policies.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<PasswordPolicy>)))]
#[get("/api/v1/password-policies")]
pub async fn policies(mut acting: Acting) -> Answer<Sent<Page<PasswordPolicy>>> {
    let rows = acting.tx()?.policies().await?;
    acting.seen().await?;
    Ok(Sent(Page { items: rows.into_iter().map(show_policy).collect::<Answer<_>>()?, next: None }))
}

/// Adds a password policy.
#[utoipa::path(context_path = "", request_body = NewPasswordPolicy, responses((status = 200, body = PasswordPolicy)))]
#[post("/api/v1/password-policies", data = "<body>")]
pub async fn add_policy(body: Call<NewPasswordPolicy>) -> Answer<Versioned<PasswordPolicy>> {
    let Call(mut acting, body) = body;
    acting.intends("policy.add", "password-policy", None, &body.name);
    acting.duty("policy")?;
    body.rules.check().map_err(|problem| unusable(&problem))?;
    let rules = serde_json::to_value(&body.rules).map_err(|error| Fault::internal(error.to_string()))?;
    let row = PolicyRow { id: Uuid::now_v7(), organisation: acting.organisation(), name: named("name", &body.name)?, rules, is_default: false, version: 1 };
    acting.tx()?.add_policy(&row).await?;
    acting.naming(row.id, &row.name);
    acting.done().await?;
    Ok(Versioned(1, show_policy(row)?))
}

/// Changes a password policy.
#[utoipa::path(context_path = "", request_body = NewPasswordPolicy, responses((status = 200, body = PasswordPolicy)))]
#[put("/api/v1/password-policies/<policy>", data = "<body>")]
pub async fn change_policy(policy: &str, version: IfMatch, body: Call<NewPasswordPolicy>) -> Answer<Versioned<PasswordPolicy>> {
    let Call(mut acting, body) = body;
    let target = id(policy)?;
    acting.intends("policy.change", "password-policy", Some(target), &body.name);
    acting.duty("policy")?;
    body.rules.check().map_err(|problem| unusable(&problem))?;
    let mut row = acting.tx()?.policy(Some(target)).await?;
    row.name = named("name", &body.name)?;
    row.rules = serde_json::to_value(&body.rules).map_err(|error| Fault::internal(error.to_string()))?;
    row.version = version.0;
    acting.tx()?.change_policy(&row).await?;
    acting.tx()?.judge_all_again(None).await?;
    acting.noting("rules", row.rules.to_string());
    acting.done().await?;
    row.version += 1;
    Ok(Versioned(row.version, show_policy(row)?))
}

/// Makes a policy the one that counts where no other is named.
#[utoipa::path(context_path = "", responses((status = 200, body = PasswordPolicy)))]
#[post("/api/v1/password-policies/<policy>/default")]
pub async fn make_default(mut acting: Acting, policy: &str) -> Answer<Sent<PasswordPolicy>> {
    let target = id(policy)?;
    acting.intends("policy.default", "password-policy", Some(target), "");
    acting.duty("policy")?;
    let mut row = acting.tx()?.policy(Some(target)).await.map_err(|_| Fault::unknown("password policy"))?;
    acting.naming(target, &row.name);
    acting.tx()?.make_policy_default(target).await?;
    acting.tx()?.judge_all_again(None).await?;
    acting.done().await?;
    row.is_default = true;
    Ok(Sent(show_policy(row)?))
}

/// Removes a policy that nothing names.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/password-policies/<policy>")]
pub async fn remove_policy(mut acting: Acting, policy: &str, version: IfMatch) -> Answer<()> {
    let target = id(policy)?;
    acting.intends("policy.remove", "password-policy", Some(target), "");
    acting.duty("policy")?;
    let row = acting.tx()?.policy(Some(target)).await.map_err(|_| Fault::unknown("password policy"))?;
    acting.naming(target, &row.name);
    if row.is_default {
        return Err(Fault::conflict("is-default", "This is the default policy.", "Make another one the default first."));
    }
    let used = acting.tx()?.policy_in_use(target).await?;
    if used > 0 {
        return Err(Fault::conflict("in-use", format!("{used} folders or upkeep plans name this policy."), "Give them another one first."));
    }
    acting.tx()?.remove_policy(target, version.0).await?;
    acting.done().await?;
    Ok(())
}

/// Generates a password by a policy, the default one when none is named, and stores it nowhere.
#[utoipa::path(context_path = "", params(("policy" = Option<String>, Query)), responses((status = 200, body = Generated)))]
#[post("/api/v1/generate?<policy>")]
pub async fn generate(mut acting: Acting, policy: Option<&str>) -> Answer<Sent<Generated>> {
    let row = acting.tx()?.policy(maybe_id(policy)?).await?;
    acting.seen().await?;
    let made = show_policy(row)?.rules.generate(&mut acting.app.rng()?, About::default()).map_err(|problem| unusable(&problem))?;
    let text = made.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?;
    Ok(Sent(Generated { password: SecretText::new(text.to_owned()) }))
}

/// Shows what rules make, and what a password lacks by them. Nothing is stored.
#[utoipa::path(context_path = "", request_body = TryPolicy, responses((status = 200, body = Tried)))]
#[post("/api/v1/password-policies/try", data = "<body>")]
pub async fn try_policy(body: Call<TryPolicy>) -> Answer<Sent<Tried>> {
    let Call(mut acting, body) = body;
    let rules = match body.rules {
        Some(rules) => rules,
        None => show_policy(acting.tx()?.policy(body.policy).await.map_err(|_| Fault::unknown("password policy"))?)?.rules,
    };
    acting.seen().await?;
    let bits = rules.check().map_err(|problem| unusable(&problem))?;
    let about = About { user_name: &body.user_name, used_ago: None };
    let mut rng = acting.app.rng()?;
    let mut samples = vec![];
    for _ in 0..5 {
        let made = rules.generate(&mut rng, about).map_err(|problem| unusable(&problem))?;
        samples.push(SecretText::new(made.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?.to_owned()));
    }
    let given = body.password.as_ref().map(secret);
    let judged = match &given {
        Some(password) => Some(judging::estimate(|| judge(password, &[&body.user_name], Some((&rules, about)), 0, &Key::from_bytes([0; 32]))).await),
        None => None,
    };
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "between 0 and a few thousand")]
    let bits = bits.floor() as u32;
    Ok(Sent(Tried { bits, samples, score: judged.as_ref().map(|judged| judged.score), lacks: judged.map(|judged| judged.lacks).unwrap_or_default() }))
}

async fn show_rule(acting: &mut Acting, row: RuleRow) -> Answer<PasswordRuleItem> {
    let place = acting.tx()?.path_of(row.folder_id).await?;
    Ok(PasswordRuleItem { folder: row.folder_id, place, rule: PasswordRule { mode: row.mode, policies: row.policies } })
}

/// What counts for the passwords in a folder, and from where.
#[utoipa::path(context_path = "", responses((status = 200, body = PasswordRuleItem), (status = 404)))]
#[get("/api/v1/folders/<folder>/password-rule")]
pub async fn password_rule(mut acting: Acting, folder: &str) -> Answer<Sent<Option<PasswordRuleItem>>> {
    let target = id(folder)?;
    allow_folder::<mark::List>(&mut acting, target).await?;
    let shown = match acting.tx()?.password_rule_for(target).await? {
        Some(row) => Some(show_rule(&mut acting, row).await?),
        None => None,
    };
    acting.seen().await?;
    Ok(Sent(shown))
}

/// Sets what a folder demands of the passwords in it and below.
#[utoipa::path(context_path = "", request_body = PasswordRule, responses((status = 200, body = PasswordRuleItem)))]
#[put("/api/v1/folders/<folder>/password-rule", data = "<body>")]
pub async fn set_password_rule(folder: &str, body: Call<PasswordRule>) -> Answer<Sent<PasswordRuleItem>> {
    let Call(mut acting, body) = body;
    let target = id(folder)?;
    acting.intends("folder.password-rule", "folder", Some(target), "");
    allow_folder::<mark::Steward>(&mut acting, target).await?;
    let path = acting.tx()?.path_of(target).await?;
    acting.naming(target, &path);
    let several = match body.mode.as_str() {
        "advise" | "enforce" => false,
        "choose" => true,
        _ => return Err(Fault::field("mode", "it is advise, enforce or choose")),
    };
    if body.policies.is_empty() || body.policies.len() > 20 || (!several && body.policies.len() > 1) {
        return Err(Fault::field("policies", if several { "1 to 20 policies can be chosen from" } else { "one policy is advised or enforced" }));
    }
    let mut names = vec![];
    for policy in &body.policies {
        names.push(acting.tx()?.policy(Some(*policy)).await.map_err(|_| Fault::unknown("password policy"))?.name);
    }
    acting.noting("mode", body.mode.clone());
    acting.noting("policies", names.join(", "));
    let row = RuleRow { folder_id: target, organisation: acting.organisation(), mode: body.mode, policies: body.policies };
    acting.tx()?.set_password_rule(&row).await?;
    let shown = show_rule(&mut acting, row).await?;
    acting.done().await?;
    Ok(Sent(shown))
}

/// Takes away what a folder demands of its own; what is above counts again.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/folders/<folder>/password-rule")]
pub async fn remove_password_rule(mut acting: Acting, folder: &str) -> Answer<()> {
    let target = id(folder)?;
    acting.intends("folder.password-rule", "folder", Some(target), "");
    allow_folder::<mark::Steward>(&mut acting, target).await?;
    let path = acting.tx()?.path_of(target).await?;
    acting.naming(target, &path);
    acting.noting("mode", "none of its own");
    acting.tx()?.remove_password_rule(target).await?;
    acting.done().await?;
    Ok(())
}

/// What the organisation has set. Everybody may know it: it tells how long things are shown and kept.
#[utoipa::path(context_path = "", responses((status = 200, body = SettingsItem)))]
#[get("/api/v1/settings")]
pub async fn settings(mut acting: Acting) -> Answer<Versioned<SettingsItem>> {
    let (settings, version) = judging::settings(acting.tx()?).await?;
    acting.seen().await?;
    Ok(Versioned(version, SettingsItem { settings, version }))
}

/// Changes it; all of it is given anew.
#[utoipa::path(context_path = "", request_body = Object, responses((status = 200, body = SettingsItem)))]
#[put("/api/v1/settings", data = "<body>")]
pub async fn change_settings(version: IfMatch, body: Call<Settings>) -> Answer<MaybePending<SettingsItem>> {
    let Call(mut acting, settings) = body;
    acting.intends("settings.change", "settings", None, "");
    acting.duty("policy")?;
    settings.check().map_err(|(field, problem)| Fault::field(field, problem))?;
    let (before, _) = judging::settings(acting.tx()?).await?;
    let value = |settings: &Settings| serde_json::to_value(settings).map_err(|error| Fault::internal(error.to_string()));
    let (old, new) = (value(&before)?, value(&settings)?);
    for (name, value) in new.as_object().into_iter().flatten().filter(|(name, value)| old.get(name.as_str()) != Some(value)) {
        acting.noting(name, value.to_string());
    }
    if before.is_loosened_by(&settings) {
        let act = Act::ChangeSettings { settings: Box::new(settings.clone()), version: version.0 };
        if let Some(pending) = propose(&mut acting, act, "Let one person do what two were needed for, or trust devices at first contact").await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    let row = SettingsRow { organisation: acting.organisation(), body: new, version: version.0 };
    acting.tx()?.change_settings(&row).await?;
    acting.done().await?;
    Ok(MaybePending::Done(version.0 + 1, SettingsItem { settings, version: version.0 + 1 }))
}
