//! What takes a reveal or a use: secrets, one-time codes, the history and what is restored from it.

use std::collections::BTreeMap;

use jexlin_api::{
    CopyCredential, Credential, OneTimeCode, Page, Restore, Reveal, Revealed, SecretText,
    SeedInPicture, Version,
};
use jexlin_core::access::{AtLeast, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::gate::Passed;
use jexlin_core::names::{LONGEST_FIELD, check_note};
use jexlin_core::vault::ValueOrigin;
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::one_time::{COUNTER, ONE_TIME_SEED, code_for};
use jexlin_core::vault::{Place, Sealed, WrappedKey, copy as reseal_copy, open, restore as reseal};
use jexlin_store::{Approach, NewVersion, SealedVersion, Target, Withheld};
use uuid::Uuid;
use zeroize::Zeroizing;

use super::credentials::{keep_new, show};
use super::names::named;
use crate::assessment;
use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::guards::allow_folder;
use crate::guards::{through, through_all};
use crate::kinds::kind_of;
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

/// Approaches a value of a secret field: the level, then the gate, then the value, still withheld.
async fn approach<L: AtLeast>(
    unit: &mut UnitOfWork,
    target: Uuid,
    field: &str,
    number: Option<i32>,
) -> AppResult<(Passed<L>, Option<Withheld<SealedVersion>>)> {
    let (person, now) = (unit.person.id, unit.now);
    let (Approach { reach, gates, path }, withheld) = unit
        .tx()?
        .approach_secret(person, target, now, field, number)
        .await?;
    if reach.level().is_none() {
        return Err(AppError::unknown("credential"));
    }
    unit.set_target(target, &path);
    let allowed = unit.demand::<L>(reach)?;
    let passed = through(unit, &allowed, &gates).await?;
    if let Some(checkout) = passed.checkout() {
        unit.add_detail("checkout", checkout.to_string());
    }
    Ok((passed, withheld))
}

/// Shows a secret, once its audit event is durable.
pub async fn reveal(unit: &mut UnitOfWork, credential: Uuid, body: Reveal) -> AppResult<Revealed> {
    let target = credential;
    let field = body.field.unwrap_or_else(|| PASSWORD.to_owned());
    unit.begin_audit(
        Action::CredentialReveal,
        TargetType::Credential,
        Some(target),
        "",
    );
    if field.len() > LONGEST_FIELD {
        return Err(AppError::field("field", "there is no such field"));
    }
    unit.add_detail("field", field.clone());
    if let Some(number) = body.version {
        unit.add_detail("version", number.to_string());
    }
    let (passed, withheld) = approach::<mark::Reveal>(unit, target, &field, body.version).await?;
    if let Some(number) = body.version
        && unit.tx()?.versions(target).await?.iter().any(|row| {
            row.field == field && row.number == number && row.state != VersionState::Current
        })
    {
        allow_history(unit, target).await?;
    }
    let withheld = withheld.ok_or_else(|| AppError::unknown("field or version"))?;
    let (event, receipt) = unit.commit_audited().await?;
    // From here on the event is durable.
    let sealed = withheld.after(&receipt)?;
    let place = Place {
        organisation: unit.organisation(),
        credential: target,
        field: &field,
        version: sealed.number,
    };
    let plain = open(
        &passed,
        &unit.keys.key,
        &WrappedKey(sealed.data_key),
        &place,
        &Sealed(sealed.sealed),
    )?;
    let text = plain
        .expose_secret_text()
        .map_err(|error| AppError::internal(error.to_string()))?;
    Ok(Revealed {
        version: sealed.number,
        value: SecretText::new(text.to_owned()),
        event,
        field,
    })
}

/// The current one-time code, for everybody who may use the credential. The seed itself takes a
/// reveal. Where codes count up, each look takes the next one.
pub async fn code(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<OneTimeCode> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialCode,
        TargetType::Credential,
        Some(target),
        "",
    );
    let (passed, withheld) = approach::<mark::Use>(unit, target, ONE_TIME_SEED, None).await?;
    let withheld = withheld.ok_or_else(|| AppError::unknown("seed of one-time codes"))?;
    let current = unit
        .tx()?
        .versions(target)
        .await?
        .into_iter()
        .find(|row| row.field == ONE_TIME_SEED && row.state == VersionState::Current);
    let counted = current.and_then(|row| {
        Some((
            row.number,
            row.facts.get(COUNTER)?.as_str()?.parse::<i64>().ok()?,
        ))
    });
    let count = match counted {
        Some((number, from)) => unit.tx()?.next_count(target, number, from).await?,
        None => 0,
    };
    if counted.is_some() {
        unit.add_detail("count", count.to_string());
    }
    let (event, receipt) = unit.commit_audited().await?;
    let sealed = withheld.after(&receipt)?;
    let place = Place {
        organisation: unit.organisation(),
        credential: target,
        field: ONE_TIME_SEED,
        version: sealed.number,
    };
    let seconds = u64::try_from(unit.app.clock.now().timestamp()).unwrap_or(0);
    let count = u64::try_from(count).unwrap_or(0);
    let code = code_for(
        &passed,
        &unit.keys.key,
        &WrappedKey(sealed.data_key),
        &place,
        &Sealed(sealed.sealed),
        seconds,
        count,
    )?;
    let digits = code
        .digits
        .expose_secret_text()
        .map_err(|error| AppError::internal(error.to_string()))?;
    Ok(OneTimeCode {
        digits: SecretText::new(digits.to_owned()),
        left: code.left,
        period: code.period,
        event,
    })
}

fn facts(value: serde_json::Value) -> BTreeMap<String, String> {
    serde_json::from_value(value).unwrap_or_default()
}

/// Demands that former values may be seen: a grant can leave them out.
async fn allow_history(unit: &mut UnitOfWork, target: Uuid) -> AppResult<()> {
    let person = unit.person.id;
    if crate::guards::sees_history(unit, person, Target::Credential(target)).await? {
        return Ok(());
    }
    Err(AppError::forbidden(
        "Your grant here does not include former values.",
        "Ask a steward for a grant with the history of values.",
    ))
}

/// The versions of a credential's secrets, without their values.
pub async fn history(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<Page<Version>> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialHistory,
        TargetType::Credential,
        Some(target),
        "",
    );
    allow_credential::<mark::Reveal>(unit, target).await?;
    allow_history(unit, target).await?;
    let names = super::names::names(unit).await?;
    let rows = unit.tx()?.versions(target).await?;
    unit.commit_audited().await?;
    let show = |row: jexlin_store::VersionRow| Version {
        field: row.field,
        number: row.number,
        state: row.state.0,
        made_at: row.made_at,
        made_by: row.made_by.and_then(|id| names.get(&id).cloned()),
        made_how: row.made_how.0,
        reason: row.reason,
        facts: facts(row.facts),
    };
    Ok(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    })
}

/// Puts a former value back as the current one of the vault; the device, if there is one, is not
/// told. Nobody sees the value: it takes `edit`.
pub async fn restore(
    unit: &mut UnitOfWork,
    credential: Uuid,
    body: Restore,
) -> AppResult<Versioned<Credential>> {
    let target = credential;
    let field = body.field.unwrap_or_else(|| PASSWORD.to_owned());
    unit.begin_audit(
        Action::CredentialRestore,
        TargetType::Credential,
        Some(target),
        "",
    );
    let allowed = allow_credential::<mark::Edit>(unit, target).await?;
    allow_history(unit, target).await?;
    check_note(&body.reason).map_err(|problem| AppError::field("reason", problem))?;
    unit.add_detail("field", field.clone());
    unit.add_detail("version", body.version.to_string());
    if !body.reason.is_empty() {
        unit.add_detail("reason", body.reason.clone());
    }
    let mut row = unit.tx()?.credential_locked(target).await?;
    let versions = unit.tx()?.versions(target).await?;
    let wanted = versions
        .iter()
        .find(|version| version.field == field && version.number == body.version)
        .ok_or_else(|| AppError::unknown("field or version"))?;
    if wanted.state == VersionState::Current {
        return Err(AppError::field(
            "version",
            "this is the current value already",
        ));
    }
    if field == PASSWORD && unit.tx()?.has_candidate(target).await? {
        return Err(AppError::rotating());
    }
    let (sealed, facts) = unit
        .tx()?
        .sealed_version(target, &field, body.version)
        .await?;
    let (organisation, now, by) = (row.organisation, unit.now, unit.person.id);
    let number = unit.tx()?.next_number(target, &field).await?;
    let from = Place {
        organisation,
        credential: target,
        field: &field,
        version: body.version,
    };
    let to = Place {
        version: number,
        ..from
    };
    let wrapped = WrappedKey(row.data_key.clone());
    let again = reseal(
        &mut unit.app.rng()?,
        &unit.keys.key,
        &wrapped,
        &from,
        &to,
        &Sealed(sealed),
    )?;
    let new = NewVersion {
        credential: target,
        field: &field,
        number,
        state: VersionState::Current,
        sealed: &again.0,
        now,
        by: Some(by),
        how: ValueOrigin::Restored,
        reason: &body.reason,
        facts,
    };
    unit.tx()?.add_version(&new).await?;
    unit.tx()?
        .touch_credential(target, row.revision, now, by)
        .await?;
    if field == PASSWORD {
        assess_current_password(unit, target).await?;
    }
    row.revision += 1;
    row.changed_at = now;
    row.changed_by = Some(by);
    let shown = show(unit, row, allowed.held()).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Copies a credential with its current values into a folder. Whoever may reveal it and edit there
/// could do so by hand; here no value comes out on the way.
pub async fn copy(
    unit: &mut UnitOfWork,
    credential: Uuid,
    body: CopyCredential,
) -> AppResult<Versioned<Credential>> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialCopy,
        TargetType::Credential,
        Some(target),
        "",
    );
    let level = allow_folder::<mark::Edit>(unit, body.folder).await?.held();
    let allowed = allow_credential::<mark::Reveal>(unit, target).await?;
    let passed = through_all(unit, &allowed).await?;
    let row = unit.tx()?.credential(target).await?;
    let name = named("name", body.name.as_deref().unwrap_or(&row.name))?;
    let to = unit.tx()?.path_of(body.folder).await?;
    unit.add_detail("copied_to", format!("{to}/{name}"));
    let kind = kind_of(unit.tx()?, &row).await?;
    let fields = serde_json::from_value(row.fields.clone()).unwrap_or_default();
    // Its making is what is read again in the end; both are in the log, or neither.
    let made = keep_new(unit, &kind, body.folder, &name, &fields, vec![]).await?;
    unit.tx()?.label_copy(made, &row.extra, &row.tags).await?;
    let kept = unit.tx()?.credential(made).await?;
    let (from_key, to_key) = (
        WrappedKey(row.data_key.clone()),
        WrappedKey(kept.data_key.clone()),
    );
    let (organisation, now, by) = (unit.organisation(), unit.now, unit.person.id);
    let mut has_password = false;
    for version in unit
        .tx()?
        .versions(target)
        .await?
        .into_iter()
        .filter(|version| version.state == VersionState::Current)
    {
        let (sealed, facts) = unit
            .tx()?
            .sealed_version(target, &version.field, version.number)
            .await?;
        let from = Place {
            organisation,
            credential: target,
            field: &version.field,
            version: version.number,
        };
        let to = Place {
            credential: made,
            version: 1,
            ..from
        };
        let again = reseal_copy(
            &passed,
            &mut unit.app.rng()?,
            &unit.keys.key,
            (&from_key, &from),
            (&to_key, &to),
            &Sealed(sealed),
        )?;
        let new = NewVersion {
            credential: made,
            field: &version.field,
            number: 1,
            state: VersionState::Current,
            sealed: &again.0,
            now,
            by: Some(by),
            how: ValueOrigin::Typed,
            reason: "copied",
            facts,
        };
        unit.tx()?.add_version(&new).await?;
        has_password |= version.field == PASSWORD;
    }
    if has_password {
        assess_current_password(unit, made).await?;
    }
    super::attachments::copy_all(unit, &passed, &row, &kept).await?;
    unit.record().await?;
    unit.begin_audit(Action::CredentialAdd, TargetType::Credential, None, &name);
    unit.add_detail("copy_of", target.to_string());
    let shown = show(unit, kept, level).await?;
    unit.set_target(made, &format!("{}/{}", shown.place, shown.name));
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Assesses a password that came sealed, and refuses it where the folder insists on another.
async fn assess_current_password(unit: &mut UnitOfWork, target: Uuid) -> AppResult<()> {
    let (app, keys) = (unit.app.clone(), unit.keys.clone());
    for item in unit.tx()?.to_assess_of(&[target], PASSWORD).await? {
        if assessment::is_enforced(unit.tx()?, item.folder).await? {
            unit.value_may_be_asked().await?;
        }
        assessment::admit_sealed(unit.tx()?, &app, &keys, &item).await?;
    }
    Ok(())
}

/// Reads the seed of one-time codes out of a picture that was read already. Nothing is stored.
pub async fn seed_in_picture(
    unit: &mut UnitOfWork,
    read: Result<Zeroizing<String>, String>,
) -> AppResult<SeedInPicture> {
    unit.commit().await?;
    let address = read.map_err(|problem| AppError::field("picture", problem))?;
    Ok(SeedInPicture {
        address: SecretText::new(address.to_string()),
    })
}
