//! Changing the root key and the organisation's key while services run.
//!
//! Each step leaves a state from which everything opens: the next root key is in its file before
//! anything is wrapped under it, the organisation's key is under both until the change is finished, and
//! the file takes its place only once nothing is under the former root key any more.

use std::path::Path;

use chrono::TimeDelta;
use jexlin_api::{ChangeKey, ChangeRootKey, KeysView, ServiceView};
use jexlin_core::audit::Event;
use jexlin_core::names::check_note;
use jexlin_core::vault::RootKey;
use jexlin_store::{OrganisationRow, Tx};
use rocket::{Route, get, post, routes};
use uuid::Uuid;

use super::auth::secret;
use super::payload::{Call, Sent};
use crate::app::App;
use crate::error::{ApiError, ApiResult};
use crate::keyring;
use crate::unit_of_work::UnitOfWork;

pub fn routes() -> Vec<Route> {
    routes![
        keys,
        change_root_key,
        finish_root_key,
        abandon_root_key,
        change_organisation_key
    ]
}

/// A service that has said nothing for so long does not run.
const SILENT: TimeDelta = TimeDelta::minutes(1);

/// The keys of the vault: which there are, and how far a change of them is.
#[utoipa::path(context_path = "", responses((status = 200, body = KeysView)))]
#[get("/api/v1/keys")]
pub async fn keys(mut unit: UnitOfWork) -> ApiResult<Sent<KeysView>> {
    unit.begin_audit("keys.read", "organisation", Some(unit.organisation()), "");
    unit.duty("recovery")?;
    let app = unit.app.clone();
    view(&app, unit.tx()?).await.map(Sent)
}

async fn view(app: &App, tx: &mut Tx) -> ApiResult<KeysView> {
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
            .map(|one| ServiceView {
                ready: ready(&one.root_keys),
                name: one.name,
                seen_at: one.seen_at,
            })
            .collect(),
        next_root_key: row.next_root_key,
        organisation_key: row.key_number,
        left,
    })
}

async fn begin(
    unit: &mut UnitOfWork,
    action: &str,
    reason: Option<&str>,
) -> ApiResult<OrganisationRow> {
    let organisation = unit.organisation();
    unit.begin_audit(action, "organisation", Some(organisation), "");
    unit.duty("recovery")?;
    if let Some(reason) = reason.map(str::trim) {
        if reason.is_empty() {
            return Err(ApiError::field(
                "reason",
                "a reason is required; it is recorded in the audit log",
            ));
        }
        check_note(reason).map_err(|problem| ApiError::field("reason", problem))?;
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
    const fn action(self) -> &'static str {
        match self {
            Self::Prepare(_) => "root-key.change",
            Self::Finish(_) => "root-key.finish",
            Self::Abandon => "root-key.abandon",
        }
    }

    /// Does it in the organisation of a transaction.
    async fn take(self, app: &App, tx: &mut Tx, row: &OrganisationRow) -> ApiResult<()> {
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
    async fn take_in_all_others(self, app: &App, but: Uuid) -> ApiResult<()> {
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
            event.target_type = "organisation".into();
            event.target_name = name;
            let keys = app.keyring.open_organisation(&row)?;
            tx.commit_with(&event, &keys.mac).await?;
        }
        Ok(())
    }
}

/// Whether the change to this root key is finished in one of the organisations.
async fn is_finished_somewhere(app: &App, name: &str) -> ApiResult<bool> {
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

fn unfinished() -> ApiError {
    let advice = "Finish it: `jexlin keys finish-root`, or Settings → Keys.";
    ApiError::conflict(
        "root-key-changing",
        "A change of the root key is finished in a part of the organisations.",
        advice,
    )
}

/// Prepares a change of the root key: makes the next one, writes it beside the present one's file, and
/// wraps every organisation's key under it too. Both open the vault until the change is finished.
#[utoipa::path(context_path = "", request_body = ChangeRootKey, responses((status = 200, body = KeysView)))]
#[post("/api/v1/keys/root", data = "<body>")]
pub async fn change_root_key(body: Call<ChangeRootKey>) -> ApiResult<Sent<KeysView>> {
    let Call(mut unit, body) = body;
    let row = begin(&mut unit, "root-key.change", Some(&body.reason)).await?;
    let app = unit.app.clone();
    // One at a time: guessing costs a second of Argon2id each.
    let mut opening = app.opening.lock().await;
    let (folder, present, new) = (
        app.config.folder.clone(),
        secret(&body.passphrase),
        secret(&body.new_passphrase),
    );
    let mut rng = app.rng()?;
    let made = tokio::task::spawn_blocking(move || -> ApiResult<(RootKey, String)> {
        let _proof = keyring::read_root_key(&keyring::root_key_path(&folder), &present)
            .map_err(without_file)?;
        let next = RootKey::generate(&mut rng);
        let file = next
            .protect(&mut rng, &new)
            .map_err(|problem| ApiError::field("new_passphrase", problem.to_string()))?;
        Ok((next, file))
    });
    let made = made
        .await
        .map_err(|error| ApiError::internal(error.to_string()))?;
    let (next, file) =
        made.inspect_err(|fault| opening.refused += u32::from(fault.code == "not-allowed"))?;
    prepare(&mut unit, &row, &next, &file).await?;
    app.keyring.open(next);
    drop(opening);
    crate::workers::tell_of_this_service(&app).await?;
    after(&unit).await
}

fn without_file(fault: ApiError) -> ApiError {
    if fault.code != "no-root-key-file" {
        return fault;
    }
    let advice = "Where the root key comes from the service manager, run `jexlind new-root-key FILE` on the service's machine.";
    ApiError::conflict(
        "no-root-key-file",
        "There is no root key file with a passphrase here.",
        advice,
    )
}

async fn prepare(
    unit: &mut UnitOfWork,
    row: &OrganisationRow,
    next: &RootKey,
    file: &str,
) -> ApiResult<()> {
    let app = unit.app.clone();
    let before = keyring::root_key_name_in(&keyring::next_root_key_path(&app.config.folder));
    if let Some(before) = before
        && is_finished_somewhere(&app, &before).await?
    {
        return Err(unfinished());
    }
    // The file first: what was wrapped under a key that was never written would be lost once it counts.
    keyring::write_private(&keyring::next_root_key_path(&app.config.folder), file).map_err(
        |error| ApiError::internal(format!("the next root key file cannot be written: {error}")),
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
async fn after(unit: &UnitOfWork) -> ApiResult<Sent<KeysView>> {
    let mut tx = unit.app.store.begin(unit.organisation()).await?;
    let view = view(&unit.app, &mut tx).await?;
    tx.commit().await?;
    Ok(Sent(view))
}

/// Finishes a change of the root key: the former one opens nothing any more.
#[utoipa::path(context_path = "", responses((status = 200, body = KeysView)))]
#[post("/api/v1/keys/root/finish")]
pub async fn finish_root_key(mut unit: UnitOfWork) -> ApiResult<Sent<KeysView>> {
    let row = begin(&mut unit, "root-key.finish", None).await?;
    let app = unit.app.clone();
    let _one = app.opening.lock().await;
    let next = row.next_root_key.clone().ok_or_else(no_change)?;
    unit.add_detail("root_key", next.clone());
    unit.add_detail("former_root_key", row.root_key.clone());
    crate::workers::tell_of_this_service(&app).await?;
    let since = unit.now - SILENT;
    let services = unit.tx()?.services_since(since).await?;
    let without: Vec<String> = services
        .into_iter()
        .filter(|one| !one.root_keys.contains(&next))
        .map(|one| one.name)
        .collect();
    if !without.is_empty() {
        let what = format!(
            "These services do not have the next root key yet: {}.",
            without.join("; ")
        );
        let advice = "Copy root-key.next.json into the folder of each, and unlock it there with the new passphrase: `jexlin unlock`.";
        return Err(ApiError::conflict("root-key-missing", what, advice));
    }
    if !app.keyring.opens_next(&row) {
        return Err(ApiError::conflict(
            "root-key-missing",
            "The next root key is not open in this service.",
            "Unlock it with the new passphrase: `jexlin unlock`.",
        ));
    }
    Step::Finish(&next)
        .take_in_all_others(&app, unit.organisation())
        .await?;
    Step::Finish(&next).take(&app, unit.tx()?, &row).await?;
    unit.commit_audited().await?;
    crate::workers::settle_root_key(&app).await?;
    after(&unit).await
}

fn no_change() -> ApiError {
    ApiError::conflict(
        "no-root-key-change",
        "The root key is not being changed.",
        "Prepare a change first: `jexlin keys change-root`.",
    )
}

/// Abandons a change of the root key that is not finished: the next one opens nothing any more.
#[utoipa::path(context_path = "", responses((status = 200, body = KeysView)))]
#[post("/api/v1/keys/root/abandon")]
pub async fn abandon_root_key(mut unit: UnitOfWork) -> ApiResult<Sent<KeysView>> {
    let row = begin(&mut unit, "root-key.abandon", None).await?;
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
    after(&unit).await
}

/// Changes the organisation's key. It counts at once; the data keys follow in the background.
#[utoipa::path(context_path = "", request_body = ChangeKey, responses((status = 200, body = KeysView)))]
#[post("/api/v1/keys/organisation", data = "<body>")]
pub async fn change_organisation_key(body: Call<ChangeKey>) -> ApiResult<Sent<KeysView>> {
    let Call(mut unit, body) = body;
    let row = begin(&mut unit, "organisation-key.change", Some(&body.reason)).await?;
    if row.former_key.is_some() {
        let advice = "Wait until it is done: `jexlin keys show`, or Settings → Keys.";
        return Err(ApiError::conflict(
            "organisation-key-changing",
            "Data keys are still moving to the present key.",
            advice,
        ));
    }
    if row.next_root_key.is_some() {
        let advice = "Finish or abandon that first: `jexlin keys finish-root`, or Settings → Keys.";
        return Err(ApiError::conflict(
            "root-key-changing",
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
    after(&unit).await
}

/// Prepares the next root key where it comes from the service manager, on the service's machine: writes
/// it to a file for the manager, and wraps every organisation's key under it too.
///
/// # Errors
/// [`ApiError`].
pub async fn new_root_key(app: &App, file: &Path) -> ApiResult<String> {
    if file.exists() {
        return Err(ApiError::conflict(
            "file-exists",
            format!("{} exists already.", file.display()),
            "Name a file that does not exist.",
        ));
    }
    let next = RootKey::generate(&mut app.rng()?);
    let text = next.expose_credential();
    let text = text.expose_secret_text().unwrap_or_default();
    keyring::write_private(file, text)
        .map_err(|error| ApiError::internal(format!("{}: {error}", file.display())))?;
    Step::Prepare(&next)
        .take_in_all_others(app, Uuid::nil())
        .await?;
    Ok(next.name())
}
