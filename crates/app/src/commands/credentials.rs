//! Credentials.

use std::collections::BTreeMap;

use jexlin_api::ErrorCode;
use jexlin_api::{Credential, EditCredential, FindingItem, NewCredential, SecretText};
use jexlin_core::access::{Level, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::check_note;
use jexlin_core::policy::{About, Finding};
use jexlin_core::secret::Secret;
use jexlin_core::vault::RemovedType;
use jexlin_core::vault::ValueOrigin;
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::{Facts, FieldType, Given, Kind, PASSWORD};
use jexlin_core::vault::readings::Readings;
use jexlin_core::vault::ssh_keys::SshKey;
use jexlin_core::vault::{Place, WrappedKey};
use jexlin_core::words::Word as _;
use jexlin_store::{CredentialChange, CredentialRow, NewVersion, Target};
use uuid::Uuid;

use super::bindings::enroll;
use super::kinds::{read_fields, show_fields};
use super::names::named;
use super::removal::removal;
use super::tags::read_tags;
use crate::assessment::{self, Rule};
use crate::error::{AppError, AppResult};
use crate::file_reader;
use crate::guards::allow_credential;
use crate::guards::allow_folder;
use crate::kinds::{kind_of, own_fields_of};
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

fn fields_of(row: &CredentialRow) -> BTreeMap<String, String> {
    serde_json::from_value(row.fields.clone()).unwrap_or_default()
}

async fn findings(unit: &mut UnitOfWork, row: &CredentialRow) -> AppResult<Vec<FindingItem>> {
    let (person, now) = (unit.person.id, unit.now);
    let from = assessment::thresholds(unit.tx()?).await?;
    let words = unit.tx()?.findings_of(row.id, person, now, from).await?;
    let lacks = unit
        .tx()?
        .assessment(row.id)
        .await?
        .map(|row| row.lacks)
        .unwrap_or_default();
    let show = |word: &String| {
        let finding = Finding::find(word)?;
        let detail = if finding == Finding::BreaksPolicy {
            lacks.join("; ")
        } else {
            String::new()
        };
        Some(FindingItem {
            name: finding,
            detail,
            advice: finding.advice().into(),
        })
    };
    Ok(words.iter().filter_map(show).collect())
}

/// Shows a credential without its secrets.
pub async fn show(
    unit: &mut UnitOfWork,
    row: CredentialRow,
    level: Level,
) -> AppResult<Credential> {
    let kind = kind_of(unit.tx()?, &row).await?;
    let fields = fields_of(&row);
    let mut facts: BTreeMap<String, Facts> = kind.facts(
        &fields,
        &file_reader::certificates(&kind.certificates(&fields)).await,
    );
    let tx = unit.tx()?;
    let place = tx.path_of(row.folder_id).await?;
    let current: Vec<_> = tx
        .versions(row.id)
        .await?
        .into_iter()
        .filter(|version| version.state == VersionState::Current)
        .collect();
    for version in &current {
        let known: Facts = serde_json::from_value(version.facts.clone()).unwrap_or_default();
        if !known.is_empty() {
            facts.insert(version.field.clone(), known);
        }
    }
    let device = match row.device_id {
        // The device may be in the bin.
        Some(device) => tx.device(device).await.ok(),
        None => None,
    };
    let device_name = device.as_ref().map(|device| device.name.clone());
    let state = if row.device_id.is_some() {
        tx.account_of(row.id).await?
    } else {
        None
    };
    let upkeep = state.map(|state| {
        super::upkeep::show_state(state, row.id, &place, &row.name, device_name.as_deref())
    });
    let mut people = [None, None];
    for (shown, person) in people.iter_mut().zip([row.created_by, row.changed_by]) {
        if let Some(person) = person {
            *shown = tx
                .person(person)
                .await
                .ok()
                .map(|person| person.display_name);
        }
    }
    let [created_by, changed_by] = people;
    let rotates_itself = device.as_ref().is_some_and(|device| {
        let connector = unit.app.connector(device.connector.0);
        connector.is_ok_and(|connector| connector.capabilities().changes_as_itself)
    });
    let (person, now) = (unit.person.id, unit.now);
    let connection_line = match &device {
        None => None,
        Some(device) => {
            let reach = unit
                .tx()?
                .reach_folder(person, device.folder_id, now)
                .await?;
            let user = fields.get("user_name").map_or("", String::as_str);
            let port = u16::try_from(device.port).unwrap_or_default();
            let line = device
                .connector
                .0
                .connection_line(user, &device.address, port);
            line.filter(|_| reach.level().is_some())
        }
    };
    let favourite = unit.tx()?.is_favourite(person, row.id).await?;
    let gate = super::gates::show_conditions(unit, row.id).await?;
    let findings = if level >= Level::Reveal {
        findings(unit, &row).await?
    } else {
        vec![]
    };
    let attachments = super::attachments::of(unit, row.id).await?;
    Ok(Credential {
        extra: show_fields(&own_fields_of(&row)),
        fields,
        facts,
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place,
        kind: row.kind,
        secret_fields: current.into_iter().map(|version| version.field).collect(),
        device: row.device_id,
        device_name,
        connection_line,
        rotates_itself,
        level,
        gate,
        upkeep,
        tags: row.tags,
        favourite,
        findings,
        attachments,
        created_at: row.created_at,
        created_by,
        changed_at: row.changed_at,
        changed_by,
        revision: row.revision,
    })
}

/// A new value of a secret field, and where it came from.
pub type NewSecret = (String, Given, ValueOrigin);

/// Reads the secrets that somebody gave, by the kind; each problem is named by its field.
fn read_secrets(
    kind: &Kind,
    password: Option<&SecretText>,
    others: &BTreeMap<String, SecretText>,
    readings: &Readings,
) -> AppResult<Vec<NewSecret>> {
    let given = password
        .map(|value| (PASSWORD.to_owned(), value))
        .into_iter()
        .chain(others.iter().map(|(name, value)| (name.clone(), value)));
    let (mut read, mut problems) = (vec![], BTreeMap::new());
    for (name, value) in given {
        match kind.read_secret(&name, value.expose_secret(), readings) {
            Ok(secret) => read.push((name, secret, ValueOrigin::Typed)),
            Err(problem) => {
                problems.insert(name, problem);
            }
        }
    }
    if problems.is_empty() {
        Ok(read)
    } else {
        Err(AppError::bad_fields(problems))
    }
}

/// Makes a password by what counts.
pub fn generated(unit: &UnitOfWork, rule: &Rule, user_name: &str) -> AppResult<Secret> {
    let about = About {
        user_name,
        used_ago: None,
    };
    rule.policy
        .generate(&mut unit.app.rng()?, about)
        .map_err(|problem| {
            AppError::field(
                "policy",
                format!("the policy “{}” cannot be met: {problem}", rule.name),
            )
        })
}

/// Makes the main secret of a kind: a password by what counts, or a key.
fn make_main(
    unit: &UnitOfWork,
    kind: &Kind,
    rule: &Rule,
    user_name: &str,
    key_type: Option<&str>,
) -> AppResult<Given> {
    if kind
        .field(PASSWORD)
        .is_some_and(|field| field.holds == FieldType::SshKey)
    {
        let key = SshKey::generate(
            &mut unit.app.rng()?,
            key_type.unwrap_or("ed25519"),
            user_name,
        )
        .map_err(|problem| AppError::field("key", problem.to_string()))?;
        return Ok(Given {
            facts: key.facts(),
            value: key.into_text(),
        });
    }
    Ok(Given {
        value: generated(unit, rule, user_name)?,
        facts: Facts::new(),
    })
}

fn user_of(fields: &BTreeMap<String, String>) -> &str {
    fields.get("user_name").map_or("", String::as_str)
}

fn changed_kind(kind: &Kind) -> AppError {
    AppError::conflict(
        ErrorCode::KindChanged,
        format!(
            "The fields of the kind {} have changed since the form was opened.",
            kind.label.to_lowercase()
        ),
        "Open the form again; copy what you typed first.",
    )
}

fn to_json<T: serde::Serialize>(value: &T) -> AppResult<serde_json::Value> {
    serde_json::to_value(value).map_err(|error| AppError::internal(error.to_string()))
}

/// A typed password is compared with former ones only for whoever could see them: the answer would
/// tell others what they are.
async fn allow_comparing(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<()> {
    let (person, now) = (unit.person.id, unit.now);
    let here = Target::Credential(credential);
    let seen = crate::guards::sees_history(unit, person, here).await?;
    let approach = unit.tx()?.approach(person, credential, now).await?;
    let passed = match approach.reach.allow::<mark::Reveal>() {
        Ok(allowed) => crate::guards::through_all(unit, &allowed).await.is_ok(),
        Err(_) => false,
    };
    if seen && passed {
        return Ok(());
    }
    Err(AppError::forbidden(
        "The policy compares a password with former ones, which you may not see now.",
        "Generate one, or check the credential out first.",
    ))
}

/// Keeps new values of secret fields, assessed where there is something to assess. Their numbers go on
/// from what is there.
async fn keep_secrets(
    unit: &mut UnitOfWork,
    kind: &Kind,
    row: &CredentialRow,
    secrets: &[NewSecret],
    reason: &str,
    rule: &Rule,
) -> AppResult<()> {
    let (organisation, credential, now, by) = (row.organisation, row.id, unit.now, unit.person.id);
    let data_key = unit.keys.key.unwrap_data_key(
        organisation,
        credential,
        &WrappedKey(row.data_key.clone()),
    )?;
    let mut rng = unit.app.rng()?;
    for (field, given, how) in secrets {
        let number = unit.tx()?.next_number(credential, field).await?;
        let sealed = data_key.seal(
            &mut rng,
            &Place {
                organisation,
                credential,
                field,
                version: number,
            },
            &given.value,
        )?;
        let facts = to_json(&given.facts)?;
        let new = NewVersion {
            credential,
            field,
            number,
            state: VersionState::Current,
            sealed: &sealed.0,
            now,
            by: Some(by),
            how: *how,
            reason,
            facts,
        };
        unit.tx()?.add_version(&new).await?;
        unit.add_detail(field, how.word());
        if field == PASSWORD {
            if *how == ValueOrigin::Typed && number > 1 && rule.policy.not_last > 0 {
                allow_comparing(unit, credential).await?;
                unit.value_may_be_asked().await?;
            }
            let (app, keys) = (unit.app.clone(), unit.keys.clone());
            assessment::admit_and_keep(
                unit.tx()?,
                &app,
                &keys,
                kind,
                row,
                number,
                &given.value,
                rule,
            )
            .await?;
        }
    }
    if !reason.is_empty() {
        unit.add_detail("reason", reason);
    }
    Ok(())
}

/// Adds a credential whose parts have been read; for what brings things in.
pub async fn keep_new(
    unit: &mut UnitOfWork,
    kind: &Kind,
    folder: Uuid,
    name: &str,
    fields: &BTreeMap<String, String>,
    secrets: Vec<NewSecret>,
) -> AppResult<Uuid> {
    let rule = assessment::rule_for(unit.tx()?, folder, None).await?;
    let row = new_row(unit, kind, folder, name, fields)?;
    unit.tx()?.add_credential(&row).await?;
    keep_secrets(unit, kind, &row, &secrets, "", &rule).await?;
    Ok(row.id)
}

fn new_row(
    unit: &UnitOfWork,
    kind: &Kind,
    folder: Uuid,
    name: &str,
    fields: &BTreeMap<String, String>,
) -> AppResult<CredentialRow> {
    let (organisation, now, by) = (unit.organisation(), unit.now, unit.person.id);
    let credential = Uuid::now_v7();
    let (_, wrapped) =
        unit.keys
            .key
            .generate_data_key(&mut unit.app.rng()?, organisation, credential)?;
    Ok(CredentialRow {
        id: credential,
        organisation,
        folder_id: folder,
        kind: kind.name.clone(),
        name: named("name", name)?,
        fields: to_json(fields)?,
        device_id: None,
        data_key: wrapped.0,
        created_at: now,
        created_by: Some(by),
        changed_at: now,
        changed_by: Some(by),
        removed_at: None,
        revision: 1,
        removal_id: None,
        extra: serde_json::json!([]),
        tags: vec![],
    })
}

/// Adds a credential.
pub async fn add(unit: &mut UnitOfWork, body: NewCredential) -> AppResult<Versioned<Credential>> {
    unit.begin_audit(
        Action::CredentialAdd,
        TargetType::Credential,
        None,
        &body.name,
    );
    let known = crate::kinds::find(unit.tx()?, &body.kind)
        .await?
        .ok_or_else(|| AppError::field("kind", "there is no such kind; see `jexlin kind list`"))?;
    if known.retired
        || (!known.own
            && crate::settings::settings(unit.tx()?)
                .await?
                .0
                .only_own_kinds)
    {
        return Err(AppError::field(
            "kind",
            "this kind is retired; see `jexlin kind list`",
        ));
    }
    if body
        .kind_revision
        .is_some_and(|revision| revision != known.revision)
    {
        return Err(changed_kind(&known.kind));
    }
    let extra = read_fields(&body.extra);
    let kind = known
        .kind
        .with_extra(&extra)
        .map_err(|problem| AppError::field("extra", problem))?;
    check_note(&body.reason).map_err(|problem| AppError::field("reason", problem))?;
    let mut fields = body.fields;
    kind.check_plain(&fields, &BTreeMap::new(), &unit.readings)
        .map_err(AppError::bad_fields)?;
    kind.complete(&mut fields, &BTreeMap::new(), &unit.readings);
    let level = allow_folder::<mark::Edit>(unit, body.folder).await?.held();
    let rule = assessment::rule_for(unit.tx()?, body.folder, body.policy).await?;
    let mut secrets = read_secrets(&kind, body.password.as_ref(), &body.secrets, &unit.readings)?;
    if let (Some(main), false) = (
        kind.field(PASSWORD),
        secrets.iter().any(|(name, ..)| name == PASSWORD),
    ) {
        if kind.generates {
            secrets.push((
                PASSWORD.to_owned(),
                make_main(unit, &kind, &rule, user_of(&fields), body.key.as_deref())?,
                ValueOrigin::Generated,
            ));
        } else if main.required {
            let label = main.label.to_lowercase();
            return Err(AppError::field(
                PASSWORD,
                format!(
                    "a {} needs a {label}, which cannot be generated",
                    kind.label.to_lowercase()
                ),
            ));
        }
    }
    for field in kind
        .fields
        .iter()
        .filter(|field| field.required && field.holds.is_secret() && field.name != PASSWORD)
    {
        if !secrets.iter().any(|(name, ..)| *name == field.name) {
            return Err(AppError::field(&field.name, "this field is required"));
        }
    }
    let mut row = new_row(unit, &kind, body.folder, &body.name, &fields)?;
    row.extra = to_json(&extra)?;
    row.tags = read_tags(&body.tags)?;
    unit.tx()?.add_credential(&row).await?;
    keep_secrets(unit, &kind, &row, &secrets, &body.reason, &rule).await?;
    if let Some(device) = body.device {
        enroll(unit, row.id, user_of(&fields), device, true).await?;
        row.device_id = Some(device);
    }
    let shown = show(unit, row, level).await?;
    unit.set_target(shown.id, &format!("{}/{}", shown.place, shown.name));
    unit.commit_audited().await?;
    Ok(Versioned(1, shown))
}

/// One credential, without its secrets.
pub async fn read(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<Versioned<Credential>> {
    let target = credential;
    let level = allow_credential::<mark::List>(unit, target).await?.held();
    let row = unit.tx()?.credential(target).await?;
    let shown = show(unit, row, level).await?;
    unit.commit().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Moves a credential that is being edited to another folder. Moving changes who has access to it:
/// it takes a steward here and an editor there. Whether it was moved.
async fn edit_folder(
    unit: &mut UnitOfWork,
    row: &mut CredentialRow,
    folder: Option<Uuid>,
) -> AppResult<bool> {
    let Some(folder) = folder.filter(|folder| *folder != row.folder_id) else {
        return Ok(false);
    };
    allow_credential::<mark::Steward>(unit, row.id).await?;
    allow_folder::<mark::Edit>(unit, folder).await?;
    row.folder_id = folder;
    let to = unit.tx()?.path_of(folder).await?;
    unit.add_detail("moved_to", to);
    Ok(true)
}

/// The fields of a credential after an edit, and its fields of its own; an empty value removes a
/// field.
async fn edit_fields(
    unit: &mut UnitOfWork,
    known: &crate::kinds::Known,
    row: &mut CredentialRow,
    body: &EditCredential,
) -> AppResult<(Kind, BTreeMap<String, String>)> {
    let kept = fields_of(row);
    let mut fields = kept.clone();
    for (name, value) in &body.fields {
        if value.is_empty() {
            fields.remove(name);
        } else {
            fields.insert(name.clone(), value.clone());
        }
        let name: String = name.chars().take(40).collect();
        unit.add_detail(&format!("field {name}"), "changed");
    }
    if let Some(extra) = &body.extra {
        let extra = read_fields(extra);
        known
            .kind
            .clone()
            .with_extra(&extra)
            .map_err(|problem| AppError::field("extra", problem))?;
        row.extra = to_json(&extra)?;
        let names: Vec<&str> = extra.iter().map(|field| field.name.as_str()).collect();
        unit.add_detail("extra fields", names.join(", "));
    }
    let kind = kind_of(unit.tx()?, row).await?;
    kind.check_plain(&fields, &kept, &unit.readings)
        .map_err(AppError::bad_fields)?;
    kind.complete(&mut fields, &kept, &unit.readings);
    row.fields = to_json(&fields)?;
    Ok((kind, fields))
}

/// Gives a credential other tags. Where a grant is for one of them alone, that changes who has
/// access.
async fn edit_tags(
    unit: &mut UnitOfWork,
    row: &mut CredentialRow,
    tags: &[String],
) -> AppResult<()> {
    let tags = read_tags(tags)?;
    let changed: Vec<String> = tags
        .iter()
        .chain(&row.tags)
        .filter(|tag| tags.contains(tag) != row.tags.contains(tag))
        .cloned()
        .collect();
    let now = unit.now;
    if unit
        .tx()?
        .tags_move_access(row.folder_id, &changed, now)
        .await?
    {
        allow_credential::<mark::Steward>(unit, row.id).await?;
    }
    row.tags = tags;
    unit.add_detail("tags", row.tags.join(", "));
    Ok(())
}

/// Makes a credential the password of an account on a device, or of none any more.
async fn edit_device(
    unit: &mut UnitOfWork,
    row: &mut CredentialRow,
    body: &EditCredential,
    user_name: &str,
    renamed: bool,
) -> AppResult<()> {
    match (row.device_id, body.device) {
        (Some(present), None) if body.no_device => {
            unit.tx()?.withdraw_from_account(row.id).await?;
            row.device_id = None;
            unit.add_detail("device", format!("none; it was {present}"));
        }
        (present, Some(device)) if present != Some(device) || renamed => {
            unit.tx()?.withdraw_from_account(row.id).await?;
            enroll(unit, row.id, user_name, device, false).await?;
            row.device_id = Some(device);
        }
        (Some(_), _) if renamed => {
            return Err(AppError::conflict(
                ErrorCode::IsAccount,
                "This credential is the password of an account on a device, and the user name is \
                 the account's.",
                "Name the device with the new user name to make it the password of that account, \
                 or remove it from the device first.",
            ));
        }
        _ => {}
    }
    Ok(())
}

/// The new values of secret fields: those that were given, and one that is to be generated.
fn new_secrets(
    unit: &UnitOfWork,
    kind: &Kind,
    body: &EditCredential,
    rule: &Rule,
    user_name: &str,
) -> AppResult<Vec<NewSecret>> {
    let mut secrets = read_secrets(kind, body.password.as_ref(), &body.secrets, &unit.readings)?;
    if body.generate && body.password.is_none() {
        if !kind.generates {
            return Err(AppError::field(
                "generate",
                format!(
                    "the secret of a {} cannot be generated: it is issued elsewhere",
                    kind.label.to_lowercase()
                ),
            ));
        }
        secrets.push((
            PASSWORD.to_owned(),
            make_main(unit, kind, rule, user_name, body.key.as_deref())?,
            ValueOrigin::Generated,
        ));
    }
    Ok(secrets)
}

/// Assesses a password that stays by what counts from now on, and where it comes to, admits it there.
async fn assess_kept(unit: &mut UnitOfWork, row: &CredentialRow, moved: bool) -> AppResult<()> {
    let (app, keys) = (unit.app.clone(), unit.keys.clone());
    for mut kept in unit.tx()?.to_assess_of(&[row.id], PASSWORD).await? {
        kept.folder = row.folder_id;
        kept.name.clone_from(&row.name);
        kept.fields.clone_from(&row.fields);
        if !moved {
            assessment::again(unit.tx()?, &app, &keys, &kept).await?;
            continue;
        }
        if assessment::is_enforced(unit.tx()?, row.folder_id).await? {
            // Whether it complies tells something of the value: only to whoever could see it.
            let reach = allow_credential::<mark::Reveal>(unit, row.id).await?;
            crate::guards::through_all(unit, &reach).await?;
            unit.value_may_be_asked().await?;
        }
        assessment::admit_sealed(unit.tx()?, &app, &keys, &kept).await?;
    }
    Ok(())
}

/// Removes secret fields; their values stay in the history. The password is what a credential is
/// for, and a field that its kind requires is not removed.
async fn remove_secrets(
    unit: &mut UnitOfWork,
    kind: &Kind,
    credential: Uuid,
    body: &EditCredential,
) -> AppResult<()> {
    for name in &body.remove_secrets {
        let broken = |problem: &str| AppError::field("remove_secrets", problem);
        if body.secrets.contains_key(name) {
            return Err(broken("a field is set and removed at once"));
        }
        let secret = kind
            .fields
            .iter()
            .find(|field| field.name == *name && field.holds.is_secret() && field.name != PASSWORD);
        match secret {
            None => return Err(broken("there is no such secret field that can be removed")),
            Some(field) if field.required => return Err(broken("its kind requires this field")),
            Some(_) => {}
        }
        if !unit.tx()?.end_current_version(credential, name).await? {
            return Err(broken("this field has no value"));
        }
        unit.add_detail(name, "removed");
    }
    Ok(())
}

/// Whether an edit leaves a credential as it is.
fn changes_nothing(before: &CredentialRow, row: &CredentialRow, body: &EditCredential) -> bool {
    body.password.is_none()
        && body.secrets.is_empty()
        && body.remove_secrets.is_empty()
        && !body.generate
        && (&before.name, before.folder_id, before.device_id)
            == (&row.name, row.folder_id, row.device_id)
        && (&before.fields, &before.extra, &before.tags) == (&row.fields, &row.extra, &row.tags)
}

/// Edits a credential: name, folder, fields, tags, device, or secrets in the vault.
pub async fn edit(
    unit: &mut UnitOfWork,
    credential: Uuid,
    revision: i32,
    body: EditCredential,
) -> AppResult<Versioned<Credential>> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialEdit,
        TargetType::Credential,
        Some(target),
        "",
    );
    let allowed = allow_credential::<mark::Edit>(unit, target).await?;
    let mut row = unit.tx()?.credential_locked(target).await?;
    if row.revision != revision {
        return Err(AppError::stale());
    }
    let known = crate::kinds::find(unit.tx()?, &row.kind)
        .await?
        .ok_or_else(|| AppError::internal("a credential without a kind"))?;
    if body
        .kind_revision
        .is_some_and(|revision| revision != known.revision)
    {
        return Err(changed_kind(&known.kind));
    }
    check_note(&body.reason).map_err(|problem| AppError::field("reason", problem))?;
    let before = row.clone();
    if let Some(name) = &body.name {
        row.name = named("name", name)?;
        unit.add_detail("name", row.name.clone());
    }
    let gates = unit.tx()?.gate_ids_of(target).await?;
    let moved = edit_folder(unit, &mut row, body.folder).await?;
    let kept = fields_of(&row);
    let (kind, fields) = edit_fields(unit, &known, &mut row, &body).await?;
    if let Some(tags) = &body.tags {
        edit_tags(unit, &mut row, tags).await?;
    }
    let user_name = user_of(&fields);
    let renamed = user_name != user_of(&kept);
    edit_device(unit, &mut row, &body, user_name, renamed).await?;
    if changes_nothing(&before, &row, &body) {
        unit.undo();
        unit.reopen().await?;
        let shown = show(unit, before, allowed.held()).await?;
        return Ok(Versioned(shown.revision, shown));
    }
    remove_secrets(unit, &kind, target, &body).await?;
    let rule = assessment::rule_for(unit.tx()?, row.folder_id, body.policy).await?;
    let secrets = new_secrets(unit, &kind, &body, &rule, user_name)?;
    let new_password = secrets.iter().any(|(field, ..)| field == PASSWORD);
    if new_password && unit.tx()?.has_candidate(target).await? {
        return Err(AppError::rotating());
    }
    row.changed_at = unit.now;
    row.changed_by = Some(unit.person.id);
    keep_secrets(unit, &kind, &row, &secrets, &body.reason, &rule).await?;
    if !new_password && (moved || fields != kept || body.name.is_some()) {
        assess_kept(unit, &row, moved).await?;
    }
    let change = CredentialChange {
        id: target,
        revision,
        name: &row.name,
        folder_id: row.folder_id,
        fields: &row.fields,
        extra: &row.extra,
        tags: &row.tags,
        now: row.changed_at,
        by: row.changed_by,
    };
    unit.tx()?.edit_credential(&change).await?;
    let after = unit.tx()?.gate_ids_of(target).await?;
    super::gates::may_leave(unit, &gates, &after).await?;
    row.revision += 1;
    let shown = show(unit, row, allowed.held()).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Moves a credential to the bin, from where it can be restored.
pub async fn remove(unit: &mut UnitOfWork, credential: Uuid, revision: i32) -> AppResult<Uuid> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialRemove,
        TargetType::Credential,
        Some(target),
        "",
    );
    allow_credential::<mark::Steward>(unit, target).await?;
    let now = unit.now;
    let row = unit.tx()?.credential_locked(target).await?;
    let path = format!("{}/{}", unit.tx()?.path_of(row.folder_id).await?, row.name);
    let going = removal(
        unit,
        RemovedType::Credential,
        target,
        path,
        row.folder_id,
        1,
    );
    unit.tx()?.add_removal(&going).await?;
    unit.tx()?
        .remove_credential(target, revision, going.id, now)
        .await?;
    unit.commit_audited().await?;
    Ok(going.id)
}
