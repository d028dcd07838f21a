//! Signing in to jump hosts, on the way to the devices behind them.

use chrono::TimeDelta;
use jexlin_core::upkeep::{
    Binding, ConnectorKind, DeviceFacts, JumpConnection, JumpHost, NoPermit, SendPermit,
    budget_allows,
};
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::{Place, Sealed, WrappedKey, open_for_device};
use jexlin_devices::{Probe, jump_host};
use jexlin_store::{DeviceRow, Receipt, SealedVersion, Tx, Withheld};
use uuid::Uuid;

use crate::app::App;
use crate::error::AppResult;
use crate::keyring::OpenKeys;

/// A password that may be sent to a jump host, once its event is durable.
#[derive(Debug)]
pub struct Waiting {
    /// The credential that the event is about.
    pub credential: Uuid,
    permit: SendPermit<JumpHost>,
    login: String,
    host: DeviceRow,
    sealed: Withheld<SealedVersion>,
}

/// Whoever may sign in to the jump host of a device, or why nobody may; nobody needs to where the
/// device is reached directly.
///
/// # Errors
/// [`crate::error::AppError`].
pub async fn prepare(
    tx: &mut Tx,
    device: &DeviceRow,
    facts: &DeviceFacts,
) -> AppResult<Result<Option<Waiting>, String>> {
    let Some(host) = tx.jump_host(device).await? else {
        return Ok(Ok(None));
    };
    let Some(view) = tx.jump_account_of(device.id).await? else {
        return Ok(Err(
            "no account is chosen for the jump host of the device; choose one".to_owned(),
        ));
    };
    let permit = match permit(&view.binding, facts) {
        Ok(permit) => permit,
        Err(why) => return Ok(Err(why)),
    };
    let credential = view.binding.stored().credential;
    Ok(Ok(Some(Waiting {
        credential,
        permit,
        login: view.login,
        host,
        sealed: tx.sealed_for_job(credential, PASSWORD, None).await?,
    })))
}

/// The permit to sign in to the jump host of a device, or why there is none.
fn permit(binding: &Binding, facts: &DeviceFacts) -> Result<SendPermit<JumpHost>, String> {
    binding.permit_jump_host(facts).map_err(|no| match no {
        NoPermit::Suspended(why) => format!("the jump host: {why}"),
        NoPermit::LeaseOver | NoPermit::OtherBinding => {
            "no binding lets this password be sent to the jump host".to_owned()
        }
    })
}

/// Whether somebody may sign in to the jump host of a device, or need not.
///
/// # Errors
/// [`crate::error::AppError`].
pub async fn counts(tx: &mut Tx, device: &DeviceRow, facts: &DeviceFacts) -> AppResult<bool> {
    if device.jump_host_id.is_none() {
        return Ok(true);
    }
    let bound = tx.jump_account_of(device.id).await?;
    Ok(bound.is_some_and(|bound| permit(&bound.binding, facts).is_ok()))
}

/// Signs in, unless a connection is open already. Returns the connection, or why there is none. One job
/// signs in at a time, within the lockout budget of the account there.
///
/// # Errors
/// [`crate::error::AppError`].
pub async fn sign_in(
    app: &App,
    organisation: Uuid,
    keys: &OpenKeys,
    waiting: Waiting,
    receipt: &Receipt,
) -> AppResult<Result<JumpConnection, String>> {
    let host = waiting.host;
    let sealed = waiting.sealed.after(receipt)?;
    let place = Place {
        organisation,
        credential: sealed.credential,
        field: PASSWORD,
        version: sealed.number,
    };
    let login = open_for_device(
        &waiting.permit,
        &waiting.login,
        &keys.key,
        &WrappedKey(sealed.data_key),
        &place,
        &Sealed(sealed.sealed),
    )?;
    let connection = login.connection();
    let turn = app.sign_ins.on(host.id);
    let (_signing_in, waited) = match turn.clone().try_lock_owned() {
        Ok(first) => (first, false),
        Err(_) => (turn.lock_owned().await, true),
    };
    if jump_host::is_open(&connection) {
        return Ok(Ok(connection));
    }
    if waited {
        return Ok(Err(
            "no connection to the jump host: another job has just tried".to_owned(),
        ));
    }
    let mut tx = app.store.begin(organisation).await?;
    let account = match tx.account_of(sealed.credential).await? {
        Some(account) => account,
        None => {
            let family = ConnectorKind::Ssh.family();
            tx.ensure_account(&host, family, login.login(), app.clock.now())
                .await?
        }
    };
    let now = app.clock.now();
    let failures = tx
        .failed_logins(account.id, now - TimeDelta::hours(1))
        .await?;
    if !budget_allows(&failures, now) {
        return Ok(Err(
            "too many sign-ins at the jump host failed within the last hour, and another could lock the account there".to_owned(),
        ));
    }
    // It counts as failed until it has succeeded.
    tx.note_failed_login(account.id, now).await?;
    tx.commit().await?;
    let opened = match jump_host::open(&login).await.result {
        Probe::Opened => Ok(connection),
        Probe::Closed => {
            let what = if login.is_key() { "key" } else { "password" };
            return Ok(Err(format!(
                "the jump host does not take the {what} of its account"
            )));
        }
        Probe::NoAnswer(why) => Err(format!("the jump host: {why}")),
    };
    let mut tx = app.store.begin(organisation).await?;
    tx.forgive_login(account.id).await?;
    tx.commit().await?;
    Ok(opened)
}
