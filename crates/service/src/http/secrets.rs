//! What takes a reveal or a use: secrets, one-time codes, the history and what is restored from it.

use crate::guards::{through, through_all};
use std::collections::BTreeMap;

use jexlin_api::{
    CopyCredential, Credential, OneTimeCode, Page, Restore, Reveal, Revealed, SecretText,
    SeedInPicture, Version,
};
use jexlin_core::access::{AtLeast, mark};
use jexlin_core::gate::Passed;
use jexlin_core::names::{LONGEST_FIELD, check_note};
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::one_time::{COUNTER, ONE_TIME_SEED, code_for};
use jexlin_core::vault::{
    Place, Sealed, WrappedKey, copy as reseal_copy, open, pictures, restore as reseal,
};
use jexlin_store::{Approach, NewVersion, SealedVersion, Withheld};
use rocket::{Request, Route, get, post, routes};
use uuid::Uuid;
use zeroize::Zeroizing;

use super::names::named;
use super::payload::{Call, Limit, Sent, Upload, Versioned, id};
use super::vault::{keep_new, kind_of, show};
use crate::assessment;
use crate::error::{ApiError, ApiResult};
use crate::foreign;
use crate::guards::allow_credential;
use crate::guards::allow_folder;
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![reveal, code, history, restore, copy, read_picture]
}

/// Approaches a value of a secret field: the level, then the gate, then the value, still withheld.
async fn approach<L: AtLeast>(
    unit: &mut UnitOfWork,
    target: Uuid,
    field: &str,
    number: Option<i32>,
) -> ApiResult<(Passed<L>, Option<Withheld<SealedVersion>>)> {
    let (person, now) = (unit.person.id, unit.now);
    let (Approach { reach, gates, path }, withheld) = unit
        .tx()?
        .approach_secret(person, target, now, field, number)
        .await?;
    if reach.level().is_none() {
        return Err(ApiError::unknown("credential"));
    }
    unit.set_target(target, &path);
    let allowed = reach.allow::<L>()?;
    let passed = through(unit, &allowed, &gates).await?;
    if let Some(checkout) = passed.checkout() {
        unit.add_detail("checkout", checkout.to_string());
    }
    Ok((passed, withheld))
}

/// Shows a secret, once its audit event is durable.
#[utoipa::path(context_path = "", request_body = Reveal, responses((status = 200, body = Revealed)))]
#[post("/api/v1/credentials/<credential>/reveal", data = "<body>")]
pub async fn reveal(credential: &str, body: Call<Reveal>) -> ApiResult<Sent<Revealed>> {
    let Call(mut unit, body) = body;
    let target = id(credential)?;
    let field = body.field.unwrap_or_else(|| PASSWORD.to_owned());
    unit.begin_audit("credential.reveal", "credential", Some(target), "");
    if field.len() > LONGEST_FIELD {
        return Err(ApiError::field("field", "there is no such field"));
    }
    unit.add_detail("field", field.clone());
    if let Some(number) = body.version {
        unit.add_detail("version", number.to_string());
    }
    let (passed, withheld) =
        approach::<mark::Reveal>(&mut unit, target, &field, body.version).await?;
    if let Some(number) = body.version
        && unit
            .tx()?
            .versions(target)
            .await?
            .iter()
            .any(|row| row.field == field && row.number == number && row.state != "current")
    {
        allow_history(&mut unit, target).await?;
    }
    let withheld = withheld.ok_or_else(|| ApiError::unknown("field or version"))?;
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
        .map_err(|error| ApiError::internal(error.to_string()))?;
    Ok(Sent(Revealed {
        version: sealed.number,
        value: SecretText::new(text.to_owned()),
        event,
        field,
    }))
}

/// The current one-time code, for everybody who may use the credential. The seed itself takes a
/// reveal. Where codes count up, each look takes the next one.
#[utoipa::path(context_path = "", responses((status = 200, body = OneTimeCode)))]
#[post("/api/v1/credentials/<credential>/code")]
pub async fn code(mut unit: UnitOfWork, credential: &str) -> ApiResult<Sent<OneTimeCode>> {
    let target = id(credential)?;
    unit.begin_audit("credential.code", "credential", Some(target), "");
    let (passed, withheld) = approach::<mark::Use>(&mut unit, target, ONE_TIME_SEED, None).await?;
    let withheld = withheld.ok_or_else(|| ApiError::unknown("seed of one-time codes"))?;
    let current = unit
        .tx()?
        .versions(target)
        .await?
        .into_iter()
        .find(|row| row.field == ONE_TIME_SEED && row.state == "current");
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
        .map_err(|error| ApiError::internal(error.to_string()))?;
    Ok(Sent(OneTimeCode {
        digits: SecretText::new(digits.to_owned()),
        left: code.left,
        period: code.period,
        event,
    }))
}

fn facts(value: serde_json::Value) -> BTreeMap<String, String> {
    serde_json::from_value(value).unwrap_or_default()
}

/// Demands that former values may be seen: a grant can leave them out.
async fn allow_history(unit: &mut UnitOfWork, target: Uuid) -> ApiResult<()> {
    let (person, now) = (unit.person.id, unit.now);
    if unit.tx()?.may_see_history(person, target, now).await? {
        return Ok(());
    }
    Err(ApiError::forbidden(
        "Former values are not part of what was granted to you here.",
        "Ask a steward for a grant with the history of values.",
    ))
}

/// The versions of a credential's secrets, without their values.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Version>)))]
#[get("/api/v1/credentials/<credential>/history")]
pub async fn history(mut unit: UnitOfWork, credential: &str) -> ApiResult<Sent<Page<Version>>> {
    let target = id(credential)?;
    unit.begin_audit("credential.history", "credential", Some(target), "");
    allow_credential::<mark::Reveal>(&mut unit, target).await?;
    allow_history(&mut unit, target).await?;
    let names = super::names::names(&mut unit).await?;
    let rows = unit.tx()?.versions(target).await?;
    unit.commit_audited().await?;
    let show = |row: jexlin_store::VersionRow| Version {
        field: row.field,
        number: row.number,
        state: row.state,
        made_at: row.made_at,
        made_by: row.made_by.and_then(|id| names.get(&id).cloned()),
        made_how: row.made_how,
        why: row.why,
        facts: facts(row.facts),
    };
    Ok(Sent(Page {
        items: rows.into_iter().map(show).collect(),
        next: None,
    }))
}

/// Puts a former value back as the current one of the vault; the device, if there is one, is not
/// told. Nobody sees the value: it takes `edit`.
#[utoipa::path(context_path = "", request_body = Restore, responses((status = 200, body = Credential)))]
#[post("/api/v1/credentials/<credential>/restore", data = "<body>")]
pub async fn restore(credential: &str, body: Call<Restore>) -> ApiResult<Versioned<Credential>> {
    let Call(mut unit, body) = body;
    let target = id(credential)?;
    let field = body.field.unwrap_or_else(|| PASSWORD.to_owned());
    unit.begin_audit("credential.restore", "credential", Some(target), "");
    let allowed = allow_credential::<mark::Edit>(&mut unit, target).await?;
    allow_history(&mut unit, target).await?;
    check_note(&body.why).map_err(|problem| ApiError::field("why", problem))?;
    unit.add_detail("field", field.clone());
    unit.add_detail("version", body.version.to_string());
    if !body.why.is_empty() {
        unit.add_detail("why", body.why.clone());
    }
    let mut row = unit.tx()?.credential_locked(target).await?;
    let versions = unit.tx()?.versions(target).await?;
    let wanted = versions
        .iter()
        .find(|version| version.field == field && version.number == body.version)
        .ok_or_else(|| ApiError::unknown("field or version"))?;
    if wanted.state == "current" {
        return Err(ApiError::field(
            "version",
            "this is the current value already",
        ));
    }
    if field == PASSWORD && unit.tx()?.has_candidate(target).await? {
        return Err(ApiError::rotating());
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
        state: "current",
        sealed: &again.0,
        now,
        by: Some(by),
        how: "restored",
        why: &body.why,
        facts,
    };
    unit.tx()?.add_version(&new).await?;
    unit.tx()?
        .touch_credential(target, row.version, now, by)
        .await?;
    if field == PASSWORD {
        judge_what_came(&mut unit, target).await?;
    }
    row.version += 1;
    row.changed_at = now;
    row.changed_by = Some(by);
    let shown = show(&mut unit, row, allowed.held()).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.version, shown))
}

/// Copies a credential with its current values into a folder. Whoever may reveal it and edit there
/// could do so by hand; here no value comes out on the way.
#[utoipa::path(context_path = "", request_body = CopyCredential, responses((status = 200, body = Credential)))]
#[post("/api/v1/credentials/<credential>/copy", data = "<body>")]
pub async fn copy(
    credential: &str,
    body: Call<CopyCredential>,
) -> ApiResult<Versioned<Credential>> {
    let Call(mut unit, body) = body;
    let target = id(credential)?;
    unit.begin_audit("credential.copy", "credential", Some(target), "");
    let level = allow_folder::<mark::Edit>(&mut unit, body.folder)
        .await?
        .held();
    let allowed = allow_credential::<mark::Reveal>(&mut unit, target).await?;
    let passed = through_all(&mut unit, &allowed).await?;
    let row = unit.tx()?.credential(target).await?;
    let name = named("name", body.name.as_deref().unwrap_or(&row.name))?;
    let to = unit.tx()?.path_of(body.folder).await?;
    unit.add_detail("copied_to", format!("{to}/{name}"));
    let kind = kind_of(unit.tx()?, &row).await?;
    let fields = serde_json::from_value(row.fields.clone()).unwrap_or_default();
    // Its making is what is read again in the end; both are in the log, or neither.
    let made = keep_new(&mut unit, &kind, body.folder, &name, &fields, vec![]).await?;
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
        .filter(|version| version.state == "current")
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
            state: "current",
            sealed: &again.0,
            now,
            by: Some(by),
            how: "typed",
            why: "copied",
            facts,
        };
        unit.tx()?.add_version(&new).await?;
        has_password |= version.field == PASSWORD;
    }
    if has_password {
        judge_what_came(&mut unit, made).await?;
    }
    super::attachments::copy_all(&mut unit, &passed, &row, &kept).await?;
    unit.record().await?;
    unit.begin_audit("credential.add", "credential", None, &name);
    unit.add_detail("copy_of", target.to_string());
    let shown = show(&mut unit, kept, level).await?;
    unit.set_target(made, &format!("{}/{}", shown.place, shown.name));
    unit.commit_audited().await?;
    Ok(Versioned(shown.version, shown))
}

/// Judges a password that came sealed, and refuses it where the folder insists on another.
async fn judge_what_came(unit: &mut UnitOfWork, target: Uuid) -> ApiResult<()> {
    let (app, keys) = (unit.app.clone(), unit.keys.clone());
    for it in unit.tx()?.to_judge_of(&[target], PASSWORD).await? {
        if assessment::is_enforced(unit.tx()?, it.folder).await? {
            unit.value_may_be_asked().await?;
        }
        assessment::admit_sealed(unit.tx()?, &app, &keys, &it).await?;
    }
    Ok(())
}

/// The size of a picture.
#[derive(Debug)]
pub struct Picture;

#[rocket::async_trait]
impl Limit for Picture {
    const BYTES: usize = pictures::MOST_BYTES;
    type Made = Result<Zeroizing<String>, String>;

    async fn make(_: &Request<'_>, bytes: Zeroizing<Vec<u8>>) -> ApiResult<Self::Made> {
        foreign::picture(&bytes).await
    }
}

/// Reads the seed of one-time codes out of a QR picture (PNG or JPEG), the body. Nothing is stored.
#[utoipa::path(context_path = "", request_body(content = Vec<u8>, content_type = "image/png"), responses((status = 200, body = SeedInPicture)))]
#[post("/api/v1/read-picture", data = "<data>")]
pub async fn read_picture(data: Upload<Picture>) -> ApiResult<Sent<SeedInPicture>> {
    let Upload(mut unit, read) = data;
    unit.commit().await?;
    let address = read.map_err(|problem| ApiError::field("picture", problem))?;
    Ok(Sent(SeedInPicture {
        address: SecretText::new(address.to_string()),
    }))
}
