//! What takes a reveal or a use: secrets, one-time codes, the history and what is put back from it.

use std::collections::BTreeMap;

use jexlin_api::{CopyCredential, Credential, OneTimeCode, Page, PutBack, Reveal, Revealed, SecretText, SeedInPicture, Version};
use jexlin_core::access::{Allowed, AtLeast, mark};
use jexlin_core::gate::{self, Passed};
use jexlin_core::names::{LONGEST_FIELD, check_note};
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::one_time::{COUNTER, ONE_TIME_SEED, code_for};
use jexlin_core::vault::{Place, Sealed, WrappedKey, copy as reseal_copy, open, pictures, put_back as reseal};
use jexlin_store::{Approach, NewVersion, SealedVersion, Withheld};
use rocket::{Request, Route, get, post, routes};
use uuid::Uuid;
use zeroize::Zeroizing;

use super::exchange::{Call, Limit, Sent, Upload, Versioned, id};
use super::folders::allow_folder;
use super::people::named;
use super::vault::{allow_credential, keep_new, kind_of, show};
use crate::acting::Acting;
use crate::foreign;
use crate::judging;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![reveal, code, history, put_back, copy, read_picture]
}

/// The way through the gates, where any stand.
pub async fn through<L: AtLeast>(acting: &mut Acting, allowed: &Allowed<L>, gates: &[Uuid]) -> Answer<Passed<L>> {
    let (person, target, now) = (allowed.subject(), allowed.target(), acting.now);
    let stand = acting.tx()?.gate_set(gates).await?;
    let mut held = None;
    if !stand.is_empty() {
        let open = acting.tx()?.open_checkouts(target).await?;
        if let Some(row) = open.iter().find(|row| row.person_id == person && row.ends_at > now) {
            held = Some(row.to_core(acting.tx()?.checkout_gates(row.id).await?));
        }
    }
    gate::pass(allowed, &stand, held.as_ref(), now).map_err(|stopped| Fault::gate(&stopped))
}

/// The same, with the gates of a credential looked up.
pub async fn through_all<L: AtLeast>(acting: &mut Acting, allowed: &Allowed<L>) -> Answer<Passed<L>> {
    let gates: Vec<Uuid> = acting.tx()?.gates_of(allowed.target()).await?.gates().iter().map(|gate| gate.id).collect();
    through(acting, allowed, &gates).await
}

/// Approaches a value of a secret field: the level, then the gate, then the value, still withheld.
async fn approach<L: AtLeast>(acting: &mut Acting, target: Uuid, field: &str, number: Option<i32>) -> Answer<(Passed<L>, Option<Withheld<SealedVersion>>)> {
    let (person, now) = (acting.person.id, acting.now);
    let (Approach { reach, gates, path }, withheld) = acting.tx()?.approach_secret(person, target, now, field, number).await?;
    if reach.level().is_none() {
        return Err(Fault::unknown("credential"));
    }
    acting.naming(target, &path);
    let allowed = reach.allow::<L>()?;
    let passed = through(acting, &allowed, &gates).await?;
    if let Some(checkout) = passed.checkout() {
        acting.noting("checkout", checkout.to_string());
    }
    Ok((passed, withheld))
}

/// Shows a secret, once its audit event is durable.
#[utoipa::path(context_path = "", request_body = Reveal, responses((status = 200, body = Revealed)))]
#[post("/api/v1/credentials/<credential>/reveal", data = "<body>")]
pub async fn reveal(credential: &str, body: Call<Reveal>) -> Answer<Sent<Revealed>> {
    let Call(mut acting, body) = body;
    let target = id(credential)?;
    let field = body.field.unwrap_or_else(|| PASSWORD.to_owned());
    acting.intends("credential.reveal", "credential", Some(target), "");
    if field.len() > LONGEST_FIELD {
        return Err(Fault::field("field", "there is no such field"));
    }
    acting.noting("field", field.clone());
    if let Some(number) = body.version {
        acting.noting("version", number.to_string());
    }
    let (passed, withheld) = approach::<mark::Reveal>(&mut acting, target, &field, body.version).await?;
    if let Some(number) = body.version
        && acting.tx()?.versions(target).await?.iter().any(|row| row.field == field && row.number == number && row.state != "current")
    {
        allow_history(&mut acting, target).await?;
    }
    let withheld = withheld.ok_or_else(|| Fault::unknown("field or version"))?;
    let (event, receipt) = acting.done().await?;
    // From here on the event is durable.
    let sealed = withheld.after(&receipt)?;
    let place = Place { organisation: acting.organisation(), credential: target, field: &field, version: sealed.number };
    let plain = open(&passed, &acting.keys.key, &WrappedKey(sealed.data_key), &place, &Sealed(sealed.sealed))?;
    let text = plain.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?;
    Ok(Sent(Revealed { version: sealed.number, value: SecretText::new(text.to_owned()), event, field }))
}

/// The current one-time code, for everybody who may use the credential. The seed itself takes a
/// reveal. Where codes count up, each look takes the next one.
#[utoipa::path(context_path = "", responses((status = 200, body = OneTimeCode)))]
#[post("/api/v1/credentials/<credential>/code")]
pub async fn code(mut acting: Acting, credential: &str) -> Answer<Sent<OneTimeCode>> {
    let target = id(credential)?;
    acting.intends("credential.code", "credential", Some(target), "");
    let (passed, withheld) = approach::<mark::Use>(&mut acting, target, ONE_TIME_SEED, None).await?;
    let withheld = withheld.ok_or_else(|| Fault::unknown("seed of one-time codes"))?;
    let current = acting.tx()?.versions(target).await?.into_iter().find(|row| row.field == ONE_TIME_SEED && row.state == "current");
    let counted = current.and_then(|row| Some((row.number, row.facts.get(COUNTER)?.as_str()?.parse::<i64>().ok()?)));
    let count = match counted {
        Some((number, from)) => acting.tx()?.next_count(target, number, from).await?,
        None => 0,
    };
    if counted.is_some() {
        acting.noting("count", count.to_string());
    }
    let (event, receipt) = acting.done().await?;
    let sealed = withheld.after(&receipt)?;
    let place = Place { organisation: acting.organisation(), credential: target, field: ONE_TIME_SEED, version: sealed.number };
    let seconds = u64::try_from(acting.app.clock.now().timestamp()).unwrap_or(0);
    let count = u64::try_from(count).unwrap_or(0);
    let code = code_for(&passed, &acting.keys.key, &WrappedKey(sealed.data_key), &place, &Sealed(sealed.sealed), seconds, count)?;
    let digits = code.digits.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?;
    Ok(Sent(OneTimeCode { digits: SecretText::new(digits.to_owned()), left: code.left, period: code.period, event }))
}

fn facts(value: serde_json::Value) -> BTreeMap<String, String> {
    serde_json::from_value(value).unwrap_or_default()
}

/// Demands that former values may be seen: a grant can leave them out.
async fn allow_history(acting: &mut Acting, target: Uuid) -> Answer<()> {
    let (person, now) = (acting.person.id, acting.now);
    if acting.tx()?.may_see_history(person, target, now).await? {
        return Ok(());
    }
    Err(Fault::forbidden("Former values are not part of what was granted to you here.", "Ask a steward for a grant with the history of values."))
}

/// The versions of a credential's secrets, without their values.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Version>)))]
#[get("/api/v1/credentials/<credential>/history")]
pub async fn history(mut acting: Acting, credential: &str) -> Answer<Sent<Page<Version>>> {
    let target = id(credential)?;
    acting.intends("credential.history", "credential", Some(target), "");
    allow_credential::<mark::Reveal>(&mut acting, target).await?;
    allow_history(&mut acting, target).await?;
    let names = super::people::names(&mut acting).await?;
    let rows = acting.tx()?.versions(target).await?;
    acting.done().await?;
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
    Ok(Sent(Page { items: rows.into_iter().map(show).collect(), next: None }))
}

/// Puts a former value back as the current one of the vault; the device, if there is one, is not
/// told. Nobody sees the value: it takes `edit`.
#[utoipa::path(context_path = "", request_body = PutBack, responses((status = 200, body = Credential)))]
#[post("/api/v1/credentials/<credential>/put-back", data = "<body>")]
pub async fn put_back(credential: &str, body: Call<PutBack>) -> Answer<Versioned<Credential>> {
    let Call(mut acting, body) = body;
    let target = id(credential)?;
    let field = body.field.unwrap_or_else(|| PASSWORD.to_owned());
    acting.intends("credential.put-back", "credential", Some(target), "");
    let allowed = allow_credential::<mark::Edit>(&mut acting, target).await?;
    allow_history(&mut acting, target).await?;
    check_note(&body.why).map_err(|problem| Fault::field("why", problem))?;
    acting.noting("field", field.clone());
    acting.noting("version", body.version.to_string());
    if !body.why.is_empty() {
        acting.noting("why", body.why.clone());
    }
    let mut row = acting.tx()?.credential_locked(target).await?;
    let versions = acting.tx()?.versions(target).await?;
    let wanted = versions.iter().find(|version| version.field == field && version.number == body.version).ok_or_else(|| Fault::unknown("field or version"))?;
    if wanted.state == "current" {
        return Err(Fault::field("version", "this is the current value already"));
    }
    if field == PASSWORD && acting.tx()?.has_candidate(target).await? {
        return Err(Fault::rotating());
    }
    let (sealed, facts) = acting.tx()?.sealed_version(target, &field, body.version).await?;
    let (organisation, now, by) = (row.organisation, acting.now, acting.person.id);
    let number = acting.tx()?.next_number(target, &field).await?;
    let from = Place { organisation, credential: target, field: &field, version: body.version };
    let to = Place { version: number, ..from };
    let wrapped = WrappedKey(row.data_key.clone());
    let again = reseal(&mut acting.app.rng()?, &acting.keys.key, &wrapped, &from, &to, &Sealed(sealed))?;
    let new =
        NewVersion { credential: target, field: &field, number, state: "current", sealed: &again.0, now, by: Some(by), how: "restored", why: &body.why, facts };
    acting.tx()?.add_version(&new).await?;
    acting.tx()?.touch_credential(target, row.version, now, by).await?;
    if field == PASSWORD {
        judge_what_came(&mut acting, target).await?;
    }
    row.version += 1;
    row.changed_at = now;
    row.changed_by = Some(by);
    let shown = show(&mut acting, row, allowed.held()).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Copies a credential with its current values into a folder. Whoever may reveal it and edit there
/// could do so by hand; here no value comes out on the way.
#[utoipa::path(context_path = "", request_body = CopyCredential, responses((status = 200, body = Credential)))]
#[post("/api/v1/credentials/<credential>/copy", data = "<body>")]
pub async fn copy(credential: &str, body: Call<CopyCredential>) -> Answer<Versioned<Credential>> {
    let Call(mut acting, body) = body;
    let target = id(credential)?;
    acting.intends("credential.copy", "credential", Some(target), "");
    let level = allow_folder::<mark::Edit>(&mut acting, body.folder).await?.held();
    let allowed = allow_credential::<mark::Reveal>(&mut acting, target).await?;
    let passed = through_all(&mut acting, &allowed).await?;
    let row = acting.tx()?.credential(target).await?;
    let name = named("name", body.name.as_deref().unwrap_or(&row.name))?;
    let to = acting.tx()?.path_of(body.folder).await?;
    acting.noting("copied_to", format!("{to}/{name}"));
    let kind = kind_of(acting.tx()?, &row).await?;
    let fields = serde_json::from_value(row.fields.clone()).unwrap_or_default();
    // Its making is what is read again in the end; both are in the log, or neither.
    let made = keep_new(&mut acting, &kind, body.folder, &name, &fields, vec![]).await?;
    acting.tx()?.label_copy(made, &row.extra, &row.tags).await?;
    let kept = acting.tx()?.credential(made).await?;
    let (from_key, to_key) = (WrappedKey(row.data_key.clone()), WrappedKey(kept.data_key.clone()));
    let (organisation, now, by) = (acting.organisation(), acting.now, acting.person.id);
    let mut has_password = false;
    for version in acting.tx()?.versions(target).await?.into_iter().filter(|version| version.state == "current") {
        let (sealed, facts) = acting.tx()?.sealed_version(target, &version.field, version.number).await?;
        let from = Place { organisation, credential: target, field: &version.field, version: version.number };
        let to = Place { credential: made, version: 1, ..from };
        let again = reseal_copy(&passed, &mut acting.app.rng()?, &acting.keys.key, (&from_key, &from), (&to_key, &to), &Sealed(sealed))?;
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
        acting.tx()?.add_version(&new).await?;
        has_password |= version.field == PASSWORD;
    }
    if has_password {
        judge_what_came(&mut acting, made).await?;
    }
    super::attachments::copy_all(&mut acting, &passed, &row, &kept).await?;
    acting.also().await?;
    acting.intends("credential.add", "credential", None, &name);
    acting.noting("copy_of", target.to_string());
    let shown = show(&mut acting, kept, level).await?;
    acting.naming(made, &format!("{}/{}", shown.place, shown.name));
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Judges a password that came sealed, and refuses it where the folder insists on another.
async fn judge_what_came(acting: &mut Acting, target: Uuid) -> Answer<()> {
    let (app, keys) = (acting.app.clone(), acting.keys.clone());
    for it in acting.tx()?.to_judge_of(&[target], PASSWORD).await? {
        if judging::is_enforced(acting.tx()?, it.folder).await? {
            acting.value_may_be_asked().await?;
        }
        judging::admit_sealed(acting.tx()?, &app, &keys, &it).await?;
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

    async fn make(_: &Request<'_>, bytes: Zeroizing<Vec<u8>>) -> Answer<Self::Made> {
        foreign::picture(&bytes).await
    }
}

/// Reads the seed of one-time codes out of a QR picture (PNG or JPEG), the body. Nothing is stored.
#[utoipa::path(context_path = "", request_body(content = Vec<u8>, content_type = "image/png"), responses((status = 200, body = SeedInPicture)))]
#[post("/api/v1/read-picture", data = "<data>")]
pub async fn read_picture(data: Upload<Picture>) -> Answer<Sent<SeedInPicture>> {
    let Upload(mut acting, read) = data;
    acting.seen().await?;
    let address = read.map_err(|problem| Fault::field("picture", problem))?;
    Ok(Sent(SeedInPicture { address: SecretText::new(address.to_string()) }))
}
