//! Password policies, the generator, and the policies that folders set.

use jexlin_api::ErrorCode;
use jexlin_api::{
    Generated, NewPasswordPolicy, Page, PasswordPolicy, PasswordRule, PasswordRuleItem, SecretText,
    TryPolicy, TryResult,
};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::policy::RuleMode;
use jexlin_core::policy::{About, PolicyProblem, assess};
use jexlin_core::vault::Key;
use jexlin_core::words::Word as _;
use jexlin_store::{PolicyRow, RuleRow};
use uuid::Uuid;

use super::auth::secret;
use super::names::named;
use crate::assessment;
use crate::error::{AppError, AppResult};
use crate::guards::allow_folder;
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

fn unusable(problem: &PolicyProblem) -> AppError {
    AppError::field("rules", problem.to_string())
}

fn show_policy(row: PolicyRow) -> AppResult<PasswordPolicy> {
    let rules = serde_json::from_value(row.rules)
        .map_err(|error| AppError::internal(format!("policy {}: {error}", row.id)))?;
    Ok(PasswordPolicy {
        id: row.id,
        name: row.name,
        is_default: row.is_default,
        rules,
        revision: row.revision,
    })
}

/// The password policies.
pub async fn policies(unit: &mut UnitOfWork) -> AppResult<Page<PasswordPolicy>> {
    let rows = unit.tx()?.policies().await?;
    unit.commit().await?;
    Ok(Page {
        items: rows
            .into_iter()
            .map(show_policy)
            .collect::<AppResult<_>>()?,
        next: None,
    })
}

/// Adds a password policy.
pub async fn add_policy(
    unit: &mut UnitOfWork,
    body: NewPasswordPolicy,
) -> AppResult<Versioned<PasswordPolicy>> {
    unit.begin(
        Action::PolicyAdd,
        TargetType::PasswordPolicy,
        None,
        &body.name,
    )?;
    body.rules.check().map_err(|problem| unusable(&problem))?;
    let rules =
        serde_json::to_value(&body.rules).map_err(|error| AppError::internal(error.to_string()))?;
    let row = PolicyRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        name: named("name", &body.name)?,
        rules,
        is_default: false,
        revision: 1,
    };
    unit.tx()?.add_policy(&row).await?;
    unit.set_target(row.id, &row.name);
    unit.commit_audited().await?;
    Ok(Versioned(1, show_policy(row)?))
}

/// Changes a password policy.
pub async fn edit_policy(
    unit: &mut UnitOfWork,
    policy: Uuid,
    revision: i32,
    body: NewPasswordPolicy,
) -> AppResult<Versioned<PasswordPolicy>> {
    let target = policy;
    unit.begin(
        Action::PolicyEdit,
        TargetType::PasswordPolicy,
        Some(target),
        &body.name,
    )?;
    body.rules.check().map_err(|problem| unusable(&problem))?;
    let mut row = unit.tx()?.policy(Some(target)).await?;
    row.name = named("name", &body.name)?;
    row.rules =
        serde_json::to_value(&body.rules).map_err(|error| AppError::internal(error.to_string()))?;
    row.revision = revision;
    unit.tx()?.edit_policy(&row).await?;
    unit.tx()?.reassess_all(None).await?;
    unit.add_detail("rules", row.rules.to_string());
    unit.commit_audited().await?;
    row.revision += 1;
    Ok(Versioned(row.revision, show_policy(row)?))
}

/// Makes a policy the one that counts where no other is named.
pub async fn make_default(unit: &mut UnitOfWork, policy: Uuid) -> AppResult<PasswordPolicy> {
    let target = policy;
    unit.begin(
        Action::PolicyMakeDefault,
        TargetType::PasswordPolicy,
        Some(target),
        "",
    )?;
    let mut row = unit
        .tx()?
        .policy(Some(target))
        .await
        .map_err(|_| AppError::unknown("password policy"))?;
    unit.set_target(target, &row.name);
    unit.tx()?.make_policy_default(target).await?;
    unit.tx()?.reassess_all(None).await?;
    unit.commit_audited().await?;
    row.is_default = true;
    show_policy(row)
}

/// Removes a policy that nothing names.
pub async fn remove_policy(unit: &mut UnitOfWork, policy: Uuid, revision: i32) -> AppResult<()> {
    let target = policy;
    unit.begin(
        Action::PolicyRemove,
        TargetType::PasswordPolicy,
        Some(target),
        "",
    )?;
    let row = unit
        .tx()?
        .policy(Some(target))
        .await
        .map_err(|_| AppError::unknown("password policy"))?;
    unit.set_target(target, &row.name);
    if row.is_default {
        return Err(AppError::conflict(
            ErrorCode::IsDefault,
            "This is the default policy.",
            "Make another one the default first.",
        ));
    }
    let used = unit.tx()?.policy_in_use(target).await?;
    if used > 0 {
        return Err(AppError::conflict(
            ErrorCode::InUse,
            format!("Folders and upkeep plans that use this policy: {used}."),
            "Give them another policy first.",
        ));
    }
    unit.tx()?.remove_policy(target, revision).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Generates a password by a policy, the default one when none is named, and stores it nowhere.
pub async fn generate(unit: &mut UnitOfWork, policy: Option<Uuid>) -> AppResult<Generated> {
    let row = unit.tx()?.policy(policy).await?;
    unit.commit().await?;
    let made = show_policy(row)?
        .rules
        .generate(&mut unit.app.rng()?, About::default())
        .map_err(|problem| unusable(&problem))?;
    let text = made
        .expose_secret_text()
        .map_err(|error| AppError::internal(error.to_string()))?;
    Ok(Generated {
        password: SecretText::new(text.to_owned()),
    })
}

/// Shows what rules make, and what a password lacks by them. Nothing is stored.
pub async fn try_policy(unit: &mut UnitOfWork, body: TryPolicy) -> AppResult<TryResult> {
    let rules = match body.rules {
        Some(rules) => rules,
        None => {
            show_policy(
                unit.tx()?
                    .policy(body.policy)
                    .await
                    .map_err(|_| AppError::unknown("password policy"))?,
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
                .map_err(|error| AppError::internal(error.to_string()))?
                .to_owned(),
        ));
    }
    let given = body.password.as_ref().map(secret);
    let assessed = match &given {
        Some(password) => Some(
            assessment::estimate(|| {
                assess(
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
        reason = "must be between 0 and a few thousand"
    )]
    let bits = bits.floor() as u32;
    Ok(TryResult {
        bits,
        samples,
        score: assessed.as_ref().map(|assessed| assessed.score),
        lacks: assessed.map(|assessed| assessed.lacks).unwrap_or_default(),
    })
}

async fn show_rule(unit: &mut UnitOfWork, row: RuleRow) -> AppResult<PasswordRuleItem> {
    let place = unit.tx()?.path_of(row.folder_id).await?;
    Ok(PasswordRuleItem {
        folder: row.folder_id,
        place,
        rule: PasswordRule {
            mode: row.mode.0,
            policies: row.policies,
        },
    })
}

/// What counts for the passwords in a folder, and from where.
pub async fn password_rule(
    unit: &mut UnitOfWork,
    folder: Uuid,
) -> AppResult<Option<PasswordRuleItem>> {
    let target = folder;
    allow_folder::<mark::List>(unit, target).await?;
    let shown = match unit.tx()?.password_rule_for(target).await? {
        Some(row) => Some(show_rule(unit, row).await?),
        None => None,
    };
    unit.commit().await?;
    Ok(shown)
}

/// Sets what a folder demands of the passwords in it and below.
pub async fn set_password_rule(
    unit: &mut UnitOfWork,
    folder: Uuid,
    body: PasswordRule,
) -> AppResult<PasswordRuleItem> {
    let target = folder;
    unit.begin_audit(
        Action::FolderPasswordRule,
        TargetType::Folder,
        Some(target),
        "",
    );
    allow_folder::<mark::Steward>(unit, target).await?;
    let path = unit.tx()?.path_of(target).await?;
    unit.set_target(target, &path);
    let several = match body.mode {
        RuleMode::Advise | RuleMode::Enforce => false,
        RuleMode::Choose => true,
    };
    if body.policies.is_empty() || body.policies.len() > 20 || (!several && body.policies.len() > 1)
    {
        return Err(AppError::field(
            "policies",
            if several {
                "1 to 20 policies can be chosen from"
            } else {
                "exactly one policy can be advised or enforced"
            },
        ));
    }
    let mut names = vec![];
    for policy in &body.policies {
        names.push(
            unit.tx()?
                .policy(Some(*policy))
                .await
                .map_err(|_| AppError::unknown("password policy"))?
                .name,
        );
    }
    unit.add_detail("mode", body.mode.word());
    unit.add_detail("policies", names.join(", "));
    let row = RuleRow {
        folder_id: target,
        organisation: unit.organisation(),
        mode: body.mode.into(),
        policies: body.policies,
    };
    unit.tx()?.set_password_rule(&row).await?;
    let shown = show_rule(unit, row).await?;
    unit.commit_audited().await?;
    Ok(shown)
}

/// Takes away what a folder demands of its own; what is above counts again.
pub async fn remove_password_rule(unit: &mut UnitOfWork, folder: Uuid) -> AppResult<()> {
    let target = folder;
    unit.begin_audit(
        Action::FolderPasswordRule,
        TargetType::Folder,
        Some(target),
        "",
    );
    allow_folder::<mark::Steward>(unit, target).await?;
    let path = unit.tx()?.path_of(target).await?;
    unit.set_target(target, &path);
    unit.add_detail("mode", "none of its own");
    unit.tx()?.remove_password_rule(target).await?;
    unit.commit_audited().await?;
    Ok(())
}
