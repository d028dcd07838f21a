//! What counts for a password where it is kept, and the judgement of it when it is set.

use jexlin_core::policy::settings::Settings;
use jexlin_core::policy::{About, Judgement, PasswordPolicy, judge, judge_sealed, sha1_of};
use jexlin_core::secret::Secret;
use jexlin_core::vault::kinds::{FieldType, Kind, PASSWORD};
use jexlin_core::vault::{Place, Sealed, WrappedKey};
use jexlin_store::{CredentialRow, JudgementRow, Thresholds, ToJudge, Tx};
use uuid::Uuid;

use crate::app::App;
use crate::keyring::OpenKeys;
use crate::problem::{Answer, Fault};

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

/// The settings of an organisation.
///
/// # Errors
/// [`Fault`].
pub async fn settings(tx: &mut Tx) -> Answer<(Settings, i32)> {
    let row = tx.settings().await?;
    let settings = serde_json::from_value(row.body).map_err(|error| Fault::internal(format!("stored settings: {error}")))?;
    Ok((settings, row.version))
}

/// From where on something is a finding.
///
/// # Errors
/// [`Fault`].
pub async fn thresholds(tx: &mut Tx) -> Answer<Thresholds> {
    let (settings, _) = settings(tx).await?;
    Ok(Thresholds { weak_below: settings.weak_below.into(), old_days: settings.old_days.into(), soon_days: settings.expires_soon_days.into() })
}

async fn rule_of(tx: &mut Tx, policy: Option<Uuid>, enforced: bool) -> Answer<Rule> {
    let row = tx.policy(policy).await?;
    let policy = serde_json::from_value(row.rules).map_err(|error| Fault::internal(format!("policy {}: {error}", row.id)))?;
    Ok(Rule { policy, name: row.name, enforced })
}

/// What counts in a folder. Where people choose, `chosen` is theirs; the first when they chose none.
///
/// # Errors
/// [`Fault`] when they chose one that is not among those to choose from.
pub async fn rule_for(tx: &mut Tx, folder: Uuid, chosen: Option<Uuid>) -> Answer<Rule> {
    let row = tx.password_rule_for(folder).await?;
    let (policies, mode) = row.map_or((vec![], "advise".to_owned()), |row| (row.policies, row.mode));
    if let Some(chosen) = chosen
        && !(mode == "choose" && policies.contains(&chosen))
    {
        return Err(Fault::field("policy", "this policy is not among those that the folder lets people choose"));
    }
    rule_of(tx, chosen.or_else(|| policies.first().copied()), mode != "advise").await
}

/// The default policy.
///
/// # Errors
/// [`Fault`].
pub async fn any_rule(tx: &mut Tx) -> Answer<Rule> {
    rule_of(tx, None, false).await
}

/// Whether the main secret of a kind is a password that can be judged.
fn is_judged(kind: &Kind) -> bool {
    kind.field(PASSWORD).is_some_and(|field| field.holds == FieldType::Secret)
}

fn text<'a>(fields: &'a serde_json::Value, name: &str) -> &'a str {
    fields.get(name).and_then(serde_json::Value::as_str).unwrap_or_default()
}

/// Judges a password that is about to be kept as version `number`, and refuses it where the rule is
/// enforced and it does not comply.
///
/// # Errors
/// [`Fault`] with what it lacks.
pub async fn admit(tx: &mut Tx, app: &App, keys: &OpenKeys, row: &CredentialRow, number: i32, password: &Secret, rule: &Rule) -> Answer<Judgement> {
    let fingerprints = keys.key.fingerprint_key();
    let near = [row.name.as_str(), text(&row.fields, "user_name"), text(&row.fields, "url")];
    let leaked = app.leaks.count(sha1_of(password)).await;
    let mut judged = judge(password, &near, None, leaked, &fingerprints);
    let used_ago = tx.used_ago(row.id, PASSWORD, &judged.fingerprint, number).await?;
    let about = About { user_name: text(&row.fields, "user_name"), used_ago };
    judged.lacks = rule.policy.lacks(password.expose_secret_text().unwrap_or_default(), about);
    if rule.enforced && !judged.lacks.is_empty() {
        return Err(Fault::field(PASSWORD, format!("the folder demands the policy “{}”: {}", rule.name, judged.lacks.join("; "))));
    }
    Ok(judged)
}

/// Keeps the judgement of what is now the current password.
///
/// # Errors
/// [`Fault`].
pub async fn keep(tx: &mut Tx, credential: Uuid, number: i32, made_at: chrono::DateTime<chrono::Utc>, judged: Judgement) -> Answer<()> {
    let row = JudgementRow {
        credential_id: credential,
        organisation: tx.organisation(),
        number,
        score: judged.score.into(),
        fingerprint: judged.fingerprint.to_vec(),
        lacks: judged.lacks,
        leaked: i64::try_from(judged.leaked).unwrap_or(i64::MAX),
        made_at,
        stale: false,
    };
    Ok(tx.keep_judgement(&row, PASSWORD).await?)
}

/// Judges and keeps the judgement of a new current password, if passwords of the kind are judged.
///
/// # Errors
/// [`Fault`] where the rule is enforced and it does not comply.
#[allow(clippy::too_many_arguments, reason = "each is one thing that a judgement rests on")]
pub async fn admit_and_keep(
    tx: &mut Tx,
    app: &App,
    keys: &OpenKeys,
    kind: &Kind,
    row: &CredentialRow,
    number: i32,
    password: &Secret,
    rule: &Rule,
) -> Answer<()> {
    if !is_judged(kind) {
        return Ok(());
    }
    let judged = admit(tx, app, keys, row, number, password, rule).await?;
    keep(tx, row.id, number, row.changed_at, judged).await
}

/// Judges a stored password anew; nothing of it comes out but the hash to look it up by.
///
/// # Errors
/// [`Fault`].
pub async fn again(tx: &mut Tx, app: &App, keys: &OpenKeys, it: &ToJudge) -> Answer<()> {
    let organisation = tx.organisation();
    if !crate::routes::kind(tx, &it.kind).await?.is_some_and(|kind| is_judged(&kind)) {
        return Ok(tx.forget_judgement(it.credential).await?);
    }
    let rule = rule_for(tx, it.folder, None).await?;
    let place = Place { organisation, credential: it.credential, field: PASSWORD, version: it.number };
    let near = [it.name.as_str(), text(&it.fields, "user_name"), text(&it.fields, "url")];
    let (wrapped, sealed) = (WrappedKey(it.data_key.clone()), Sealed(it.sealed.clone()));
    let mut sha1 = [0; 20];
    let open = |sha1: &mut [u8; 20], leaked: u64, about: About<'_>| {
        judge_sealed(&keys.key, &wrapped, &place, &sealed, &near, Some((&rule.policy, about)), |hash| {
            *sha1 = *hash;
            leaked
        })
    };
    // The first look gives the fingerprint and the hash, by which the rest is looked up.
    let first = open(&mut sha1, 0, About::default())?;
    let leaked = app.leaks.count(sha1).await;
    let used_ago = tx.used_ago(it.credential, PASSWORD, &first.fingerprint, it.number).await?;
    let judged = open(&mut sha1, leaked, About { user_name: text(&it.fields, "user_name"), used_ago })?;
    keep(tx, it.credential, it.number, it.made_at, judged).await
}
