//! Personal folders. Their key is in the memory of one open session and nowhere else; the log says
//! that somebody opened theirs or added to it, and never what is in it.

use chrono::TimeDelta;
use jexlin_api::ErrorCode;
use jexlin_api::{
    ChangePassphrase, MoveIn, MoveOut, NewPersonalItem, Page, Passphrase, PersonalItem,
    PersonalState, Revealed, SecretText,
};
use jexlin_core::access::{Level, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::vault::RemovedType;
use jexlin_core::vault::ValueOrigin;
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::{Kind, PASSWORD};
use jexlin_core::vault::personal::{PersonalFields, PersonalKey, Protected, check_passphrase};
use jexlin_core::vault::{Place, Sealed, WrappedKey};
use jexlin_store::{CredentialRow, PersonalFolderRow, PersonalItemRow, Target};
use uuid::Uuid;

use super::auth::secret;
use super::credentials::{generated, keep_new};
use super::removal::removal;
use crate::assessment;
use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::guards::allow_folder;
use crate::guards::through_all;
use crate::paging::Versioned;
use crate::throttle::check_throttle;
use crate::unit_of_work::UnitOfWork;

fn opened(unit: &UnitOfWork) -> Option<PersonalKey> {
    unit.app.personal.get(
        unit.session.id,
        unit.now,
        TimeDelta::minutes(unit.app.config.idle_minutes),
    )
}

fn key(unit: &UnitOfWork) -> AppResult<PersonalKey> {
    opened(unit).ok_or_else(|| {
        AppError::conflict(
            ErrorCode::PersonalClosed,
            "Your personal folder is not open in this session.",
            "Open it with its passphrase: jexlin personal open, or its page in the console.",
        )
    })
}

async fn allowed(unit: &mut UnitOfWork) -> AppResult<()> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    if settings.personal_folders {
        return Ok(());
    }
    Err(AppError::forbidden(
        "Your organisation does not allow personal folders.",
        "You can still open yours and move what is in it to a folder.",
    ))
}

fn folder_missing() -> AppError {
    AppError::conflict(
        ErrorCode::NoPersonalFolder,
        "You have no personal folder yet.",
        "Create it with a passphrase of its own: jexlin personal create. A forgotten passphrase cannot be recovered.",
    )
}

/// How one's personal folder is.
pub async fn state(unit: &mut UnitOfWork) -> AppResult<PersonalState> {
    let person = unit.person.id;
    let exists = unit.tx()?.personal_folder(person).await?.is_some();
    let allowed = crate::settings::settings(unit.tx()?)
        .await?
        .0
        .personal_folders;
    let open = exists && opened(unit).is_some();
    unit.commit().await?;
    Ok(PersonalState {
        allowed,
        exists,
        open,
    })
}

/// Argon2id takes memory and time: so many at once, and not on a thread that answers others.
async fn hashing<T: Send + 'static>(
    unit: &UnitOfWork,
    work: impl FnOnce() -> T + Send + 'static,
) -> AppResult<T> {
    let place = unit
        .app
        .hashing
        .clone()
        .acquire_owned()
        .await
        .map_err(|error| AppError::internal(error.to_string()))?;
    let done = tokio::task::spawn_blocking(work)
        .await
        .map_err(|error| AppError::internal(error.to_string()));
    drop(place);
    done
}

/// Makes one's personal folder, and opens it. Nobody can recover a forgotten passphrase.
pub async fn create(unit: &mut UnitOfWork, body: Passphrase) -> AppResult<()> {
    unit.begin_audit(Action::PersonalCreate, TargetType::PersonalFolder, None, "");
    allowed(unit).await?;
    let (organisation, person, now) = (unit.organisation(), unit.person.id, unit.now);
    if unit.tx()?.personal_folder(person).await?.is_some() {
        return Err(AppError::conflict(
            ErrorCode::HasPersonalFolder,
            "You have a personal folder already.",
            "Open it with its passphrase.",
        ));
    }
    let passphrase = secret(&body.passphrase);
    check_passphrase(&passphrase).map_err(|problem| AppError::field("passphrase", problem))?;
    let mut rng = unit.app.rng()?;
    let (key, protected) = hashing(unit, move || {
        PersonalKey::create(&mut rng, organisation, person, &passphrase)
    })
    .await??;
    let row = PersonalFolderRow {
        person_id: person,
        organisation,
        salt: protected.salt,
        sealed_key: protected.sealed_key,
        made_at: now,
        revision: 1,
    };
    unit.tx()?.add_personal_folder(&row).await?;
    unit.commit_audited().await?;
    unit.app.personal.put(unit.session.id, key, now);
    Ok(())
}

/// Opens the key of a personal folder. Tries are slowed like sign-ins.
async fn open_with(
    unit: &mut UnitOfWork,
    row: &PersonalFolderRow,
    passphrase: &SecretText,
) -> AppResult<PersonalKey> {
    let (organisation, person, now) = (unit.organisation(), unit.person.id, unit.now);
    // Noted beforehand and taken back by a success, as at the door.
    let tries = format!("personal:{person}");
    let mut tx = unit.app.store.begin(organisation).await?;
    check_throttle(&mut tx, std::slice::from_ref(&tries), now).await?;
    let failures = tx
        .throttle(&tries)
        .await?
        .map_or(0, |throttle| throttle.failures);
    tx.note_failure(&tries, failures.saturating_add(1), now)
        .await?;
    tx.commit().await?;
    let protected = Protected {
        salt: row.salt.clone(),
        sealed_key: row.sealed_key.clone(),
    };
    let passphrase = secret(passphrase);
    let Ok(key) = hashing(unit, move || {
        PersonalKey::open(organisation, person, &protected, &passphrase)
    })
    .await?
    else {
        return Err(AppError::forbidden(
            "The passphrase does not open your personal folder.",
            "Check it. A forgotten passphrase cannot be recovered.",
        ));
    };
    unit.tx()?.forget_failures(&tries).await?;
    Ok(key)
}

/// Opens one's personal folder for this session. Tries are slowed like sign-ins.
pub async fn open_folder(unit: &mut UnitOfWork, body: Passphrase) -> AppResult<()> {
    unit.begin_audit(Action::PersonalOpen, TargetType::PersonalFolder, None, "");
    let (person, now) = (unit.person.id, unit.now);
    let row = unit
        .tx()?
        .personal_folder(person)
        .await?
        .ok_or_else(folder_missing)?;
    let key = open_with(unit, &row, &body.passphrase).await?;
    unit.commit_audited().await?;
    unit.app.personal.put(unit.session.id, key, now);
    Ok(())
}

/// Closes it for this session.
pub async fn lock(unit: &mut UnitOfWork) -> AppResult<()> {
    unit.commit().await?;
    unit.app.personal.close(unit.session.id);
    Ok(())
}

/// Gives it another passphrase; it takes the present one. No item is touched.
pub async fn protect(unit: &mut UnitOfWork, body: ChangePassphrase) -> AppResult<()> {
    unit.begin_audit(
        Action::PersonalPassphrase,
        TargetType::PersonalFolder,
        None,
        "",
    );
    let passphrase = secret(&body.passphrase);
    check_passphrase(&passphrase).map_err(|problem| AppError::field("passphrase", problem))?;
    let person = unit.person.id;
    let mut row = unit
        .tx()?
        .personal_folder(person)
        .await?
        .ok_or_else(folder_missing)?;
    let key = open_with(unit, &row, &body.present).await?;
    let mut rng = unit.app.rng()?;
    let protected = hashing(unit, move || key.protect(&mut rng, &passphrase)).await??;
    (row.salt, row.sealed_key) = (protected.salt, protected.sealed_key);
    unit.tx()?.protect_personal_folder(&row).await?;
    unit.commit_audited().await?;
    Ok(())
}

fn show(row: &PersonalItemRow, item: &PersonalFields) -> PersonalItem {
    PersonalItem {
        id: row.id,
        name: item.name.clone(),
        user_name: item.user_name.clone(),
        url: item.url.clone(),
        note: item.note.clone(),
        changed_at: row.changed_at,
        revision: row.revision,
    }
}

/// What is in one's personal folder, by name.
pub async fn list(unit: &mut UnitOfWork) -> AppResult<Page<PersonalItem>> {
    let (key, person) = (key(unit)?, unit.person.id);
    let rows = unit.tx()?.personal_items(person).await?;
    unit.commit().await?;
    let mut items = vec![];
    for row in &rows {
        items.push(show(
            row,
            &key.open_item(row.id, row.revision, &row.sealed)?,
        ));
    }
    items.sort_by_key(|item| item.name.to_lowercase());
    Ok(Page { items, next: None })
}

fn fill(item: &mut PersonalFields, given: NewPersonalItem) -> AppResult<()> {
    let fields = [
        (&mut item.name, given.name),
        (&mut item.user_name, given.user_name),
        (&mut item.url, given.url),
        (&mut item.note, given.note),
    ];
    for (field, given) in fields {
        if let Some(given) = given {
            given.trim().clone_into(field);
        }
    }
    if let Some(password) = given.password {
        password.expose_secret().clone_into(&mut item.password);
    }
    item.check()
        .map_err(|(field, problem)| AppError::field(field, problem))
}

async fn store(
    unit: &mut UnitOfWork,
    key: &PersonalKey,
    item: &PersonalFields,
) -> AppResult<PersonalItemRow> {
    let item_id = Uuid::now_v7();
    let sealed = key.seal(&mut unit.app.rng()?, item_id, 1, item)?;
    let row = PersonalItemRow {
        id: item_id,
        organisation: unit.organisation(),
        person_id: unit.person.id,
        sealed,
        changed_at: unit.now,
        revision: 1,
    };
    unit.tx()?.add_personal_item(&row).await?;
    Ok(row)
}

/// Adds something; without a password one is generated.
pub async fn add(
    unit: &mut UnitOfWork,
    body: NewPersonalItem,
) -> AppResult<Versioned<PersonalItem>> {
    unit.begin_audit(Action::PersonalAdd, TargetType::PersonalFolder, None, "");
    allowed(unit).await?;
    let key = key(unit)?;
    let mut item = PersonalFields::default();
    fill(&mut item, body)?;
    if item.password.is_empty() {
        let rule = assessment::any_rule(unit.tx()?).await?;
        let made = generated(unit, &rule, &item.user_name)?;
        made.expose_secret_text()
            .map_err(|error| AppError::internal(error.to_string()))?
            .clone_into(&mut item.password);
    }
    let row = store(unit, &key, &item).await?;
    unit.commit_audited().await?;
    Ok(Versioned(1, show(&row, &item)))
}

async fn own_item(
    unit: &mut UnitOfWork,
    item_id: Uuid,
) -> AppResult<(PersonalKey, PersonalItemRow, PersonalFields)> {
    let (target, key, person) = (item_id, key(unit)?, unit.person.id);
    let row = unit
        .tx()?
        .personal_item(person, target)
        .await
        .map_err(|_| AppError::unknown("item in your personal folder"))?;
    let item = key.open_item(row.id, row.revision, &row.sealed)?;
    Ok((key, row, item))
}

/// Changes something.
pub async fn edit(
    unit: &mut UnitOfWork,
    item_id: Uuid,
    revision: i32,
    body: NewPersonalItem,
) -> AppResult<Versioned<PersonalItem>> {
    unit.begin_audit(Action::PersonalEdit, TargetType::PersonalFolder, None, "");
    allowed(unit).await?;
    let (key, mut row, mut item) = own_item(unit, item_id).await?;
    fill(&mut item, body)?;
    row.revision = revision;
    row.sealed = key.seal(&mut unit.app.rng()?, row.id, revision + 1, &item)?;
    row.changed_at = unit.now;
    unit.tx()?.edit_personal_item(&row).await?;
    unit.commit_audited().await?;
    row.revision += 1;
    Ok(Versioned(row.revision, show(&row, &item)))
}

/// Removes something permanently: there is no bin that others could look into.
pub async fn remove(unit: &mut UnitOfWork, item_id: Uuid, revision: i32) -> AppResult<()> {
    unit.begin_audit(Action::PersonalRemove, TargetType::PersonalFolder, None, "");
    let (_, row, _) = own_item(unit, item_id).await?;
    unit.tx()?
        .remove_personal_item(row.person_id, row.id, revision)
        .await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Shows a secret of one's own, once its event is durable.
pub async fn reveal(unit: &mut UnitOfWork, item_id: Uuid) -> AppResult<Revealed> {
    unit.begin_audit(Action::PersonalReveal, TargetType::PersonalFolder, None, "");
    let (_, row, item) = own_item(unit, item_id).await?;
    let (event, _) = unit.commit_audited().await?;
    Ok(Revealed {
        field: PASSWORD.into(),
        version: row.revision,
        value: SecretText::new(item.password.clone()),
        event,
    })
}

/// Takes something out into a shared folder, as a login. Possible as well where personal folders
/// are no longer allowed.
pub async fn move_out(unit: &mut UnitOfWork, item_id: Uuid, body: MoveOut) -> AppResult<()> {
    unit.begin_audit(Action::PersonalMoveOut, TargetType::Credential, None, "");
    allow_folder::<mark::Edit>(unit, body.folder).await?;
    let (_, row, item) = own_item(unit, item_id).await?;
    let kind = Kind::find("login").ok_or_else(|| AppError::internal("no logins"))?;
    let fields = [
        ("user_name", &item.user_name),
        ("url", &item.url),
        ("note", &item.note),
    ];
    let fields = fields
        .into_iter()
        .filter(|(_, value)| !value.is_empty())
        .map(|(name, value)| (name.to_owned(), value.clone()))
        .collect();
    kind.check_plain(&fields, &std::collections::BTreeMap::new(), &unit.readings)
        .map_err(AppError::bad_fields)?;
    let given = kind
        .read_secret(PASSWORD, &item.password, &unit.readings)
        .map_err(|problem| AppError::field(PASSWORD, problem))?;
    let made = keep_new(
        unit,
        &kind,
        body.folder,
        &item.name,
        &fields,
        vec![(PASSWORD.to_owned(), given, ValueOrigin::Typed)],
    )
    .await?;
    unit.tx()?
        .remove_personal_item(row.person_id, row.id, row.revision)
        .await?;
    let path = format!("{}/{}", unit.tx()?.path_of(body.folder).await?, item.name);
    unit.set_target(made, &path);
    unit.commit_audited().await?;
    Ok(())
}

/// Refuses to move a credential into a personal folder unless it is a login by itself, and unless
/// the caller knows that others lose access. Returns the names of the others.
async fn check_others(
    unit: &mut UnitOfWork,
    row: &CredentialRow,
    others_lose_access: bool,
) -> AppResult<String> {
    if row.device_id.is_some() || !unit.tx()?.attachments(row.id).await?.is_empty() {
        return Err(AppError::conflict(
            ErrorCode::NotPersonal,
            "It is an account on a device, or has attachments.",
            "Only a login by itself can be moved into a personal folder.",
        ));
    }
    let person = unit.person.id;
    let reaching = unit
        .tx()?
        .grants_reaching(Target::Credential(row.id))
        .await?;
    let others: Vec<&str> = reaching
        .iter()
        .filter(|grant| grant.person_id != Some(person))
        .map(|grant| grant.subject_name.as_str())
        .collect();
    if !others.is_empty() && !others_lose_access {
        return Err(AppError::conflict(
            ErrorCode::OthersLoseAccess,
            format!(
                "Others have access to it and would lose it: {}.",
                others.join(", ")
            ),
            "Confirm that others lose access: --others-lose-access, or the box in the console.",
        ));
    }
    Ok(others.join(", "))
}

/// The fields of a shared login that a personal item has, without its secret.
fn personal_fields(row: &CredentialRow) -> NewPersonalItem {
    let text = |name: &str| {
        let value = row.fields.get(name).and_then(serde_json::Value::as_str);
        Some(value.unwrap_or_default().to_owned())
    };
    NewPersonalItem {
        name: Some(row.name.clone()),
        user_name: text("user_name"),
        url: text("url"),
        note: text("note"),
        password: None,
    }
}

/// Moves a shared login into one's own folder; the shared one goes to the bin.
pub async fn move_in(unit: &mut UnitOfWork, body: MoveIn) -> AppResult<Versioned<PersonalItem>> {
    let target = body.credential;
    let action = Action::PersonalMoveIn;
    unit.begin_audit(action, TargetType::Credential, Some(target), "");
    allowed(unit).await?;
    let key = key(unit)?;
    let allowed = allow_credential::<mark::Steward>(unit, target).await?;
    let (person, now) = (unit.person.id, unit.now);
    let row = unit.tx()?.credential_locked(target).await?;
    let path = format!("{}/{}", unit.tx()?.path_of(row.folder_id).await?, row.name);
    let others = check_others(unit, &row, body.others_lose_access).await?;
    unit.add_detail("others", others);
    let reach = unit
        .tx()?
        .reach_credential(person, target, now)
        .await?
        .allow::<mark::Reveal>()?;
    debug_assert!(allowed.held() == Level::Steward);
    let passed = through_all(unit, &reach).await?;
    let versions = unit.tx()?.versions(target).await?;
    let current = versions
        .iter()
        .find(|version| version.field == PASSWORD && version.state == VersionState::Current);
    let Some(current) = current else {
        return Err(AppError::conflict(
            ErrorCode::NotPersonal,
            "It has no password.",
            "Only a login can be moved into a personal folder.",
        ));
    };
    let (sealed, _) = unit
        .tx()?
        .sealed_version(target, PASSWORD, current.number)
        .await?;
    let place = Place {
        organisation: unit.organisation(),
        credential: target,
        field: PASSWORD,
        version: current.number,
    };
    let mut item = PersonalFields::default();
    fill(&mut item, personal_fields(&row))?;
    let item_id = Uuid::now_v7();
    let (wrapped, sealed) = (WrappedKey(row.data_key.clone()), Sealed(sealed));
    let sealed = key.take_in(
        &mut unit.app.rng()?,
        item_id,
        &mut item,
        &passed,
        &unit.keys.key,
        &wrapped,
        &place,
        &sealed,
    )?;
    let kept = PersonalItemRow {
        id: item_id,
        organisation: unit.organisation(),
        person_id: person,
        sealed,
        changed_at: now,
        revision: 1,
    };
    unit.tx()?.add_personal_item(&kept).await?;
    let removed = RemovedType::Credential;
    let going = removal(unit, removed, target, path, row.folder_id, 1);
    unit.tx()?.add_removal(&going).await?;
    unit.tx()?
        .remove_credential(target, row.revision, going.id, now)
        .await?;
    unit.commit_audited().await?;
    Ok(Versioned(1, show(&kept, &item)))
}
