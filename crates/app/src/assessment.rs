//! What counts for a password where it is kept, and the assessment of it when it is set.

use jexlin_core::policy::RuleMode;
use jexlin_core::policy::{
    About, Assessment, PasswordPolicy, assess, assess_sealed, lacks_sealed, sha1_of,
};
use jexlin_core::secret::Secret;
use jexlin_core::vault::kinds::{FieldType, Kind, PASSWORD};
use jexlin_core::vault::{Place, Sealed, WrappedKey};
use jexlin_store::{AssessmentRow, CredentialRow, Thresholds, ToAssess, Tx};
use uuid::Uuid;

use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring::OpenKeys;

/// The policy that counts, and how.
#[derive(Clone, Debug)]
pub struct Rule {
    /// The policy.
    pub policy: PasswordPolicy,
    /// Its name.
    pub name: String,
    /// Whether only what complies is stored.
    pub enforced: bool,
}

/// From where on something is a finding.
///
/// # Errors
/// [`AppError`].
pub async fn thresholds(tx: &mut Tx) -> AppResult<Thresholds> {
    let (settings, _) = crate::settings::settings(tx).await?;
    Ok(Thresholds {
        weak_below: settings.weak_below.into(),
        old_days: settings.old_days.into(),
        soon_days: settings.expires_soon_days.into(),
    })
}

async fn rule_of(tx: &mut Tx, policy: Option<Uuid>, enforced: bool) -> AppResult<Rule> {
    let row = tx.policy(policy).await?;
    let policy = serde_json::from_value(row.rules)
        .map_err(|error| AppError::internal(format!("policy {}: {error}", row.id)))?;
    Ok(Rule {
        policy,
        name: row.name,
        enforced,
    })
}

/// What counts in a folder. Where people choose, `chosen` is theirs; the first when they chose
/// none.
///
/// # Errors
/// [`AppError`] when they chose one that is not among those to choose from.
pub async fn rule_for(tx: &mut Tx, folder: Uuid, chosen: Option<Uuid>) -> AppResult<Rule> {
    let row = tx.password_rule_for(folder).await?;
    let (policies, mode) = row.map_or((vec![], RuleMode::Advise), |row| (row.policies, row.mode.0));
    if let Some(chosen) = chosen
        && !(mode == RuleMode::Choose && policies.contains(&chosen))
    {
        return Err(AppError::field(
            "policy",
            "this policy is not among those that the folder lets people choose",
        ));
    }
    rule_of(
        tx,
        chosen.or_else(|| policies.first().copied()),
        mode != RuleMode::Advise,
    )
    .await
}

/// All that count in a folder for what is there already: where people choose, any of them will do.
async fn rules_for(tx: &mut Tx, folder: Uuid) -> AppResult<Vec<Rule>> {
    let mut rules = vec![];
    if let Some(row) = tx
        .password_rule_for(folder)
        .await?
        .filter(|row| row.mode == RuleMode::Choose)
    {
        for policy in row.policies {
            rules.push(rule_of(tx, Some(policy), true).await?);
        }
    } else {
        rules.push(rule_for(tx, folder, None).await?);
    }
    Ok(rules)
}

/// Whether only what complies is kept in a folder.
///
/// # Errors
/// [`AppError`].
pub async fn is_enforced(tx: &mut Tx, folder: Uuid) -> AppResult<bool> {
    Ok(rules_for(tx, folder)
        .await?
        .iter()
        .any(|rule| rule.enforced))
}

/// What a password lacks by that of several policies which it is nearest to meeting: nothing, if it
/// meets any.
fn least_lacking(
    rules: &[Rule],
    mut lacks: impl FnMut(&PasswordPolicy) -> AppResult<Vec<String>>,
) -> AppResult<Vec<String>> {
    let mut least: Option<Vec<String>> = None;
    for rule in rules {
        let lacks = lacks(&rule.policy)?;
        if least.as_ref().is_none_or(|least| lacks.len() < least.len()) {
            least = Some(lacks);
        }
    }
    Ok(least.unwrap_or_default())
}

/// What a folder that insists says of what does not comply.
fn demands(rules: &[Rule]) -> String {
    let names: Vec<String> = rules
        .iter()
        .map(|rule| format!("“{}”", rule.name))
        .collect();
    if names.len() == 1 {
        format!("the folder demands the policy {}", names.concat())
    } else {
        format!(
            "the folder demands one of the policies {}",
            names.join(", ")
        )
    }
}

/// The default policy.
///
/// # Errors
/// [`AppError`].
pub async fn any_rule(tx: &mut Tx) -> AppResult<Rule> {
    rule_of(tx, None, false).await
}

/// Whether the main secret of a kind is a password that can be assessed.
fn is_assessed(kind: &Kind) -> bool {
    kind.field(PASSWORD)
        .is_some_and(|field| field.holds == FieldType::Secret)
}

fn text<'a>(fields: &'a serde_json::Value, name: &str) -> &'a str {
    fields
        .get(name)
        .and_then(serde_json::Value::as_str)
        .unwrap_or_default()
}

/// So many estimates of strength at a time.
static ESTIMATES: tokio::sync::Semaphore = tokio::sync::Semaphore::const_new(2);

/// Estimates strength where nobody else is kept waiting by it, and with a bounded share of the
/// machine.
pub async fn estimate<T>(work: impl FnOnce() -> T) -> T {
    let _turn = ESTIMATES.acquire().await;
    tokio::task::block_in_place(work)
}

/// Assesses a password that is about to be kept as version `number`, and refuses it where the rule is
/// enforced and it does not comply.
///
/// # Errors
/// [`AppError`] with what it lacks.
pub async fn admit(
    tx: &mut Tx,
    app: &App,
    keys: &OpenKeys,
    row: &CredentialRow,
    number: i32,
    password: &Secret,
    rule: &Rule,
) -> AppResult<Assessment> {
    let fingerprints = keys.key.fingerprint_key();
    let near = [
        row.name.as_str(),
        text(&row.fields, "user_name"),
        text(&row.fields, "url"),
    ];
    let leaked = app.leaks.count(sha1_of(password)).await;
    let mut assessed = estimate(|| assess(password, &near, None, leaked, &fingerprints)).await;
    let used_ago = tx
        .used_ago(row.id, PASSWORD, &assessed.fingerprint, number)
        .await?;
    let about = About {
        user_name: text(&row.fields, "user_name"),
        used_ago,
    };
    assessed.lacks = rule
        .policy
        .lacks(password.expose_secret_text().unwrap_or_default(), about);
    if rule.enforced && !assessed.lacks.is_empty() {
        let fault = AppError::field(
            PASSWORD,
            format!(
                "the folder demands the policy “{}”: {}",
                rule.name,
                assessed.lacks.join("; ")
            ),
        );
        return Err(if used_ago.is_some() {
            fault.telling_of_a_value()
        } else {
            fault
        });
    }
    Ok(assessed)
}

/// Keeps the assessment of what is now the current password.
///
/// # Errors
/// [`AppError`].
pub async fn keep(
    tx: &mut Tx,
    credential: Uuid,
    number: i32,
    made_at: chrono::DateTime<chrono::Utc>,
    assessed: Assessment,
) -> AppResult<()> {
    let row = AssessmentRow {
        credential_id: credential,
        organisation: tx.organisation(),
        number,
        score: assessed.score.into(),
        fingerprint: assessed.fingerprint.to_vec(),
        lacks: assessed.lacks,
        leaked: i64::try_from(assessed.leaked).unwrap_or(i64::MAX),
        made_at,
        stale: false,
    };
    Ok(tx.keep_assessment(&row, PASSWORD).await?)
}

/// Assesses and keeps the assessment of a new current password, if passwords of the kind are assessed.
///
/// # Errors
/// [`AppError`] where the rule is enforced and it does not comply.
#[allow(
    clippy::too_many_arguments,
    reason = "each is one thing that an assessment rests on"
)]
pub async fn admit_and_keep(
    tx: &mut Tx,
    app: &App,
    keys: &OpenKeys,
    kind: &Kind,
    row: &CredentialRow,
    number: i32,
    password: &Secret,
    rule: &Rule,
) -> AppResult<()> {
    if !is_assessed(kind) {
        return Ok(());
    }
    let assessed = admit(tx, app, keys, row, number, password, rule).await?;
    keep(tx, row.id, number, row.changed_at, assessed).await
}

/// Assesses a sealed password by what counts, without anything of it coming out but the hash to look
/// it up by. None when passwords of its kind are not assessed.
async fn assessed(
    tx: &mut Tx,
    app: &App,
    keys: &OpenKeys,
    it: &ToAssess,
    rules: &[Rule],
) -> AppResult<Option<Assessment>> {
    let organisation = tx.organisation();
    if !crate::kinds::kind(tx, &it.kind)
        .await?
        .is_some_and(|kind| is_assessed(&kind))
    {
        return Ok(None);
    }
    let place = Place {
        organisation,
        credential: it.credential,
        field: PASSWORD,
        version: it.number,
    };
    let near = [
        it.name.as_str(),
        text(&it.fields, "user_name"),
        text(&it.fields, "url"),
    ];
    let (wrapped, sealed) = (WrappedKey(it.data_key.clone()), Sealed(it.sealed.clone()));
    let mut sha1 = [0; 20];
    let leaks = |hash: &[u8; 20]| {
        sha1 = *hash;
        0
    };
    let mut assessment =
        estimate(|| assess_sealed(&keys.key, &wrapped, &place, &sealed, &near, None, leaks))
            .await?;
    assessment.leaked = app.leaks.count(sha1).await;
    let used_ago = tx
        .used_ago(it.credential, PASSWORD, &assessment.fingerprint, it.number)
        .await?;
    let about = About {
        user_name: text(&it.fields, "user_name"),
        used_ago,
    };
    assessment.lacks = least_lacking(rules, |policy| {
        Ok(lacks_sealed(
            &keys.key, &wrapped, &place, &sealed, policy, about,
        )?)
    })?;
    Ok(Some(assessment))
}

/// Assesses a stored password again.
///
/// # Errors
/// [`AppError`].
pub async fn again(tx: &mut Tx, app: &App, keys: &OpenKeys, item: &ToAssess) -> AppResult<()> {
    let rules = rules_for(tx, item.folder).await?;
    match assessed(tx, app, keys, item, &rules).await? {
        Some(assessed) => keep(tx, item.credential, item.number, item.made_at, assessed).await,
        None => Ok(tx.forget_assessment(item.credential).await?),
    }
}

/// Assesses a sealed password that comes to where it was not before (restored, copied, moved) by what
/// counts there, and keeps the assessment.
///
/// # Errors
/// [`AppError`] where a rule is enforced and it does not comply.
pub async fn admit_sealed(
    tx: &mut Tx,
    app: &App,
    keys: &OpenKeys,
    item: &ToAssess,
) -> AppResult<()> {
    let rules = rules_for(tx, item.folder).await?;
    let Some(assessed) = assessed(tx, app, keys, item, &rules).await? else {
        return Ok(tx.forget_assessment(item.credential).await?);
    };
    if rules.iter().any(|rule| rule.enforced) && !assessed.lacks.is_empty() {
        return Err(AppError::field(
            PASSWORD,
            format!("{}: {}", demands(&rules), assessed.lacks.join("; ")),
        )
        .telling_of_a_value());
    }
    keep(tx, item.credential, item.number, item.made_at, assessed).await
}

/// Looks whether the passwords in a folder and below it that rules from above count for comply with
/// what its new place enforces. Assessing them in full is left to the worker.
///
/// # Errors
/// [`AppError`] with how many do not.
pub async fn admit_folder(
    tx: &mut Tx,
    keys: &OpenKeys,
    folder: Uuid,
    parent: Uuid,
) -> AppResult<()> {
    let rules = rules_for(tx, parent).await?;
    if !rules.iter().any(|rule| rule.enforced) {
        return Ok(());
    }
    let organisation = tx.organisation();
    let (all, mut failing) = (tx.ruled_from_above(folder).await?, 0);
    for chunk in all.chunks(500) {
        for item in tx.to_assess_of(chunk, PASSWORD).await? {
            if !crate::kinds::kind(tx, &item.kind)
                .await?
                .is_some_and(|kind| is_assessed(&kind))
            {
                continue;
            }
            let place = Place {
                organisation,
                credential: item.credential,
                field: PASSWORD,
                version: item.number,
            };
            let about = About {
                user_name: text(&item.fields, "user_name"),
                used_ago: None,
            };
            let (wrapped, sealed) = (
                WrappedKey(item.data_key.clone()),
                Sealed(item.sealed.clone()),
            );
            let lacks = least_lacking(&rules, |policy| {
                Ok(lacks_sealed(
                    &keys.key, &wrapped, &place, &sealed, policy, about,
                )?)
            })?;
            failing += usize::from(!lacks.is_empty());
        }
    }
    match failing {
        0 => Ok(()),
        1 => Err(AppError::field(
            "parent",
            format!(
                "{}, and one password in what is moved does not comply",
                demands(&rules)
            ),
        )
        .telling_of_a_value()),
        _ => Err(AppError::field(
            "parent",
            format!(
                "{}, and {failing} passwords in what is moved do not comply",
                demands(&rules)
            ),
        )
        .telling_of_a_value()),
    }
}

/// What a rotation makes its password by: the plan's own policy, unless the folder insists on
/// another.
///
/// # Errors
/// [`AppError`].
pub async fn rule_for_rotation(
    tx: &mut Tx,
    folder: Uuid,
    planned: Option<Uuid>,
) -> AppResult<Rule> {
    let chosen = match (planned, tx.password_rule_for(folder).await?) {
        (Some(planned), Some(row)) if row.mode != RuleMode::Advise => row
            .policies
            .contains(&planned)
            .then_some(planned)
            .or_else(|| row.policies.first().copied()),
        (Some(planned), _) => Some(planned),
        (None, row) => row.and_then(|row| row.policies.first().copied()),
    };
    rule_of(tx, chosen, true).await
}
