//! Changing the root key and the organisation's key while services run.
//!
//! Each step leaves a state from which everything opens: the next root key is in its file before
//! anything is wrapped under it, the organisation's key is under both until the change is finished,
//! and the file takes its place only once nothing is under the former root key any more.

use std::path::Path;

use chrono::TimeDelta;
use jexlin_api::ErrorCode;
use jexlin_api::{ChangeKey, ChangeRootKey, ChangeRootPassphrase, KeysView, ServiceView};
use jexlin_core::audit::Event;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::check_note;
use jexlin_core::vault::RootKey;
use jexlin_core::words::Word as _;
use jexlin_store::{OrganisationRow, Tx};
use uuid::Uuid;

use super::auth::secret;
use crate::app::App;
use crate::error::{AppError, AppResult};
use crate::keyring;
use crate::unit_of_work::UnitOfWork;

/// A service that has said nothing for so long does not run.
const SILENT: TimeDelta = TimeDelta::minutes(1);

/// The keys of the vault: which there are, and how far a change of them is.
pub async fn keys(unit: &mut UnitOfWork) -> AppResult<KeysView> {
    let organisation = unit.organisation();
    unit.begin(
        Action::KeysRead,
        TargetType::Organisation,
        Some(organisation),
        "",
    )?;
    let app = unit.app.clone();
    view(&app, unit.tx()?).await
}

async fn view(app: &App, tx: &mut Tx) -> AppResult<KeysView> {
    let row = tx.organisation_row().await?;
    let left = if row.former_key.is_some() {
        Some(tx.left_to_rewrap(row.key_number).await?)
    } else {
        None
    };
    let services = tx.services_since(app.clock.now() - SILENT).await?;
    let ready = |keys: &[String]| {
        row.next_root_key
            .as_ref()
            .is_none_or(|next| keys.contains(next))
    };
    Ok(KeysView {
        root_key: if row.root_key.is_empty() {
            app.keyring
                .root_names()
                .into_iter()
                .next()
                .unwrap_or_default()
        } else {
            row.root_key.clone()
        },
        services: services
            .into_iter()
            .map(|entry| ServiceView {
                ready: ready(&entry.root_keys),
                name: entry.name,
                seen_at: entry.seen_at,
            })
            .collect(),
        next_root_key: row.next_root_key,
        organisation_key: row.key_number,
        left,
    })
}

async fn begin(
    unit: &mut UnitOfWork,
    action: Action,
    reason: Option<&str>,
) -> AppResult<OrganisationRow> {
    let organisation = unit.organisation();
    unit.begin(action, TargetType::Organisation, Some(organisation), "")?;
    if let Some(reason) = reason.map(str::trim) {
        if reason.is_empty() {
            return Err(AppError::field(
                "reason",
                "a reason is required; it is recorded in the audit log",
            ));
        }
        check_note(reason).map_err(|problem| AppError::field("reason", problem))?;
        unit.add_detail("reason", reason);
    }
    let row = unit.tx()?.organisation_row().await?;
    unit.set_target(organisation, &row.name);
    Ok(row)
}

/// One step of a change of the root key.
#[derive(Clone, Copy)]
enum Step<'a> {
    Prepare(&'a RootKey),
    Finish(&'a str),
    Abandon,
}

impl Step<'_> {
    const fn action(self) -> Action {
        match self {
            Self::Prepare(_) => Action::RootKeyChange,
            Self::Finish(_) => Action::RootKeyFinish,
            Self::Abandon => Action::RootKeyAbandon,
        }
    }

    /// Does it in the organisation of a transaction.
    async fn take(self, app: &App, tx: &mut Tx, row: &OrganisationRow) -> AppResult<()> {
        match self {
            Self::Prepare(next) => {
                let (present, wrapped) = app.keyring.wrap_for(&mut app.rng()?, row, next)?;
                Ok(tx
                    .prepare_root_key(&present, Some((&next.name(), &wrapped.0)))
                    .await?)
            }
            Self::Finish(next) if row.next_root_key.is_none() && row.root_key == next => Ok(()),
            Self::Finish(_) if app.keyring.opens_next(row) => Ok(tx.finish_root_key().await?),
            Self::Finish(_) => Err(unfinished()),
            Self::Abandon => Ok(tx.prepare_root_key(&row.root_key, None).await?),
        }
    }

    /// Does it in every other organisation of the installation: all are under the one root key.
    async fn take_in_all_others(self, app: &App, but: Uuid) -> AppResult<()> {
        for (id, name) in app
            .store
            .organisations()
            .await?
            .into_iter()
            .filter(|(id, _)| *id != but)
        {
            let mut tx = app.store.begin(id).await?;
            let row = tx.organisation_row().await?;
            self.take(app, &mut tx, &row).await?;
            let mut event = Event::new(Uuid::now_v7(), id, app.clock.now(), self.action());
            event.target = id.to_string();
            event.target_type = TargetType::Organisation.word().into();
            event.target_name = name;
            let keys = app.keyring.open_organisation(&row)?;
            tx.commit_with(&event, &keys.mac).await?;
        }
        Ok(())
    }
}

/// Whether the change to this root key is finished in one of the organisations.
async fn is_finished_somewhere(app: &App, name: &str) -> AppResult<bool> {
    for (id, _) in app.store.organisations().await? {
        let mut tx = app.store.begin(id).await?;
        let row = tx.organisation_row().await?;
        tx.commit().await?;
        if row.root_key == name {
            return Ok(true);
        }
    }
    Ok(false)
}

fn unfinished() -> AppError {
    let advice = "Finish it: `jexlin keys finish-root`, or Settings → Keys.";
    AppError::conflict(
        ErrorCode::RootKeyChanging,
        "The change of the root key is finished for only some organisations.",
        advice,
    )
}

/// Prepares a change of the root key: makes the next one, writes it beside the present one's file,
/// and wraps every organisation's key under it too. Both open the vault until the change is
/// finished.
pub async fn change_root_key(unit: &mut UnitOfWork, body: ChangeRootKey) -> AppResult<KeysView> {
    let row = begin(unit, Action::RootKeyChange, Some(&body.reason)).await?;
    let app = unit.app.clone();
    // One at a time: guessing costs a second of Argon2id each.
    let mut opening = app.opening.lock().await;
    let (folder, present, new) = (
        app.config.folder.clone(),
        secret(&body.passphrase),
        secret(&body.new_passphrase),
    );
    let mut rng = app.rng()?;
    let made = tokio::task::spawn_blocking(move || -> AppResult<(RootKey, String)> {
        let _proof = keyring::read_root_key(&keyring::root_key_path(&folder), &present)
            .map_err(without_file)?;
        let next = RootKey::generate(&mut rng);
        let file = next
            .protect(&mut rng, &new)
            .map_err(|problem| AppError::field("new_passphrase", problem.to_string()))?;
        Ok((next, file))
    });
    let made = made
        .await
        .map_err(|error| AppError::internal(error.to_string()))?;
    let (next, file) = made
        .inspect_err(|fault| opening.refused += u32::from(fault.code == ErrorCode::NotAllowed))?;
    prepare(unit, &row, &next, &file).await?;
    app.keyring.open(next);
    drop(opening);
    crate::services::tell_of_this_service(&app).await?;
    after(unit).await
}

/// Changes the passphrase of this service's root key file. The root key stays, so nothing is wrapped
/// again; the files of other services and earlier copies keep the former passphrase.
pub async fn change_root_passphrase(
    unit: &mut UnitOfWork,
    body: ChangeRootPassphrase,
) -> AppResult<KeysView> {
    begin(unit, Action::RootKeyPassphrase, Some(&body.reason)).await?;
    let app = unit.app.clone();
    // One at a time: guessing costs a second of Argon2id each.
    let mut opening = app.opening.lock().await;
    let path = keyring::root_key_path(&app.config.folder);
    let (present, new) = (secret(&body.passphrase), secret(&body.new_passphrase));
    let (mut rng, from) = (app.rng()?, path.clone());
    let made = tokio::task::spawn_blocking(move || -> AppResult<(RootKey, String)> {
        let root = keyring::read_root_key(&from, &present).map_err(without_file)?;
        let file = root
            .protect(&mut rng, &new)
            .map_err(|problem| AppError::field("new_passphrase", problem.to_string()))?;
        Ok((root, file))
    });
    let made = made
        .await
        .map_err(|error| AppError::internal(error.to_string()))?;
    let (root, file) = made
        .inspect_err(|fault| opening.refused += u32::from(fault.code == ErrorCode::NotAllowed))?;
    unit.add_detail("root_key", root.name());
    unit.add_detail("service", crate::services::name(&app));
    let broken = |error: std::io::Error| {
        AppError::internal(format!("the root key file cannot be written: {error}"))
    };
    // Written before the event, and in its place after it: what is recorded is then only a rename
    // away, and the file that counts is whole at every moment.
    let beside = keyring::write_beside(&path, &file).map_err(broken)?;
    if let Err(fault) = unit.commit_audited().await {
        // What was not recorded is not kept: this file opens with the new passphrase.
        let _ = std::fs::remove_file(&beside);
        return Err(fault);
    }
    keyring::rename_durably(&beside, &path).map_err(broken)?;
    after(unit).await
}

fn without_file(fault: AppError) -> AppError {
    if fault.code != ErrorCode::NoRootKeyFile {
        return fault;
    }
    let advice = "Where the root key comes from the service manager, run `jexlind new-root-key FILE` on the service's machine.";
    AppError::conflict(
        ErrorCode::NoRootKeyFile,
        "There is no root key file with a passphrase on this service.",
        advice,
    )
}

async fn prepare(
    unit: &mut UnitOfWork,
    row: &OrganisationRow,
    next: &RootKey,
    file: &str,
) -> AppResult<()> {
    let app = unit.app.clone();
    let before = keyring::root_key_name_in(&keyring::next_root_key_path(&app.config.folder));
    if let Some(before) = before
        && is_finished_somewhere(&app, &before).await?
    {
        return Err(unfinished());
    }
    // The file first: what was wrapped under a key that was never written would be lost once it
    // counts.
    keyring::write_private(&keyring::next_root_key_path(&app.config.folder), file).map_err(
        |error| AppError::internal(format!("the next root key file cannot be written: {error}")),
    )?;
    unit.add_detail("root_key", next.name());
    Step::Prepare(next).take(&app, unit.tx()?, row).await?;
    Step::Prepare(next)
        .take_in_all_others(&app, unit.organisation())
        .await?;
    unit.commit_audited().await?;
    Ok(())
}

/// The state afterwards, read in a transaction of its own.
async fn after(unit: &UnitOfWork) -> AppResult<KeysView> {
    let mut tx = unit.app.store.begin(unit.organisation()).await?;
    let view = view(&unit.app, &mut tx).await?;
    tx.commit().await?;
    Ok(view)
}

/// Finishes a change of the root key: the former one opens nothing any more.
pub async fn finish_root_key(unit: &mut UnitOfWork) -> AppResult<KeysView> {
    let row = begin(unit, Action::RootKeyFinish, None).await?;
    let app = unit.app.clone();
    let _one = app.opening.lock().await;
    let next = row.next_root_key.clone().ok_or_else(no_change)?;
    unit.add_detail("root_key", next.clone());
    unit.add_detail("former_root_key", row.root_key.clone());
    crate::services::tell_of_this_service(&app).await?;
    let since = unit.now - SILENT;
    let services = unit.tx()?.services_since(since).await?;
    let without: Vec<String> = services
        .into_iter()
        .filter(|entry| !entry.root_keys.contains(&next))
        .map(|entry| entry.name)
        .collect();
    if !without.is_empty() {
        let what = format!(
            "These services do not have the next root key yet: {}.",
            without.join("; ")
        );
        let advice = "Copy root-key.next.json into the folder of each, and unlock it there with the new passphrase: `jexlin unlock`.";
        return Err(AppError::conflict(ErrorCode::RootKeyMissing, what, advice));
    }
    if !app.keyring.opens_next(&row) {
        return Err(AppError::conflict(
            ErrorCode::RootKeyMissing,
            "The next root key is not open in this service.",
            "Unlock it with the new passphrase: `jexlin unlock`.",
        ));
    }
    Step::Finish(&next)
        .take_in_all_others(&app, unit.organisation())
        .await?;
    Step::Finish(&next).take(&app, unit.tx()?, &row).await?;
    unit.commit_audited().await?;
    crate::services::settle_root_key(&app).await?;
    after(unit).await
}

fn no_change() -> AppError {
    AppError::conflict(
        ErrorCode::NoRootKeyChange,
        "The root key is not being changed.",
        "Prepare a change first: `jexlin keys change-root`.",
    )
}

/// Abandons a change of the root key that is not finished: the next one opens nothing any more.
pub async fn abandon_root_key(unit: &mut UnitOfWork) -> AppResult<KeysView> {
    let row = begin(unit, Action::RootKeyAbandon, None).await?;
    let app = unit.app.clone();
    let _one = app.opening.lock().await;
    let next = row.next_root_key.clone().ok_or_else(no_change)?;
    unit.add_detail("abandoned_root_key", next.clone());
    if is_finished_somewhere(&app, &next).await? {
        return Err(unfinished());
    }
    Step::Abandon
        .take_in_all_others(&app, unit.organisation())
        .await?;
    Step::Abandon.take(&app, unit.tx()?, &row).await?;
    unit.commit_audited().await?;
    app.keyring.keep_root(|name| name != next);
    let path = keyring::next_root_key_path(&app.config.folder);
    if keyring::root_key_name_in(&path).is_some_and(|name| name == next) {
        let _ = std::fs::remove_file(path);
    }
    after(unit).await
}

/// Changes the organisation's key. It counts at once; the data keys follow in the background.
pub async fn change_organisation_key(
    unit: &mut UnitOfWork,
    body: ChangeKey,
) -> AppResult<KeysView> {
    let row = begin(unit, Action::OrganisationKeyChange, Some(&body.reason)).await?;
    if row.former_key.is_some() {
        let advice = "Wait until it is done: `jexlin keys show`, or Settings → Keys.";
        return Err(AppError::conflict(
            ErrorCode::OrganisationKeyChanging,
            "Data keys are still moving to the current key.",
            advice,
        ));
    }
    if row.next_root_key.is_some() {
        let advice = "Finish or abandon that first: `jexlin keys finish-root`, or Settings → Keys.";
        return Err(AppError::conflict(
            ErrorCode::RootKeyChanging,
            "The root key is being changed.",
            advice,
        ));
    }
    let app = unit.app.clone();
    let new = app.keyring.change(&mut app.rng()?, &row)?;
    unit.add_detail("key_number", new.open.key.number().to_string());
    unit.tx()?
        .change_organisation_key(
            row.key_number,
            &new.wrapped.0,
            &new.former.0,
            &new.log_key_sealed.0,
        )
        .await?;
    unit.keys = new.open;
    unit.commit_audited().await?;
    app.keyring
        .take_over(unit.organisation(), std::sync::Arc::clone(&unit.keys));
    after(unit).await
}

/// Prepares the next root key where it comes from the service manager, on the service's machine:
/// writes it to a file for the manager, and wraps every organisation's key under it too.
///
/// # Errors
/// [`AppError`].
pub async fn new_root_key(app: &App, file: &Path) -> AppResult<String> {
    if file.exists() {
        return Err(AppError::conflict(
            ErrorCode::FileExists,
            format!("{} exists already.", file.display()),
            "Name a file that does not exist.",
        ));
    }
    let next = RootKey::generate(&mut app.rng()?);
    let text = next.expose_credential();
    let text = text.expose_secret_text().unwrap_or_default();
    keyring::write_private(file, text)
        .map_err(|error| AppError::internal(format!("{}: {error}", file.display())))?;
    Step::Prepare(&next)
        .take_in_all_others(app, Uuid::nil())
        .await?;
    Ok(next.name())
}
