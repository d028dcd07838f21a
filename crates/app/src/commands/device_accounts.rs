//! The accounts of a device: those in the vault, and those that were found there.

use std::collections::HashMap;

use jexlin_api::{DeviceAccount, DeviceAccounts, ErrorCode};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::dialogue::{Instructions, Purpose};
use jexlin_core::upkeep::{ChangeMethod, DeviceFacts, JobCause, Task};
use jexlin_store::DeviceRow;
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::device_for_stewards;
use crate::jobs::queued;
use crate::operators::device_facts;
use crate::unit_of_work::UnitOfWork;

/// Whether the operator of a device can list its accounts.
pub(super) fn lists_accounts(facts: &DeviceFacts) -> bool {
    match facts.dialogue.as_deref() {
        Some(instructions) => instructions.head().is_for(Purpose::List),
        None => facts.connector.instructions().is_none(),
    }
}

/// What is known of the accounts of a device: what a device says is for its stewards.
pub async fn accounts(unit: &mut UnitOfWork, device: Uuid) -> AppResult<DeviceAccounts> {
    let row = device_for_stewards(unit, device).await?;
    let shown = show_accounts(unit, &row).await?;
    unit.commit().await?;
    Ok(shown)
}

async fn show_accounts(unit: &mut UnitOfWork, on: &DeviceRow) -> AppResult<DeviceAccounts> {
    let (person, now) = (unit.person.id, unit.now);
    let family = on.connector.0.family();
    let last = unit.tx()?.last_listing(on.id).await?;
    let known: HashMap<String, Uuid> = unit
        .tx()?
        .credentials_on(on.id, family)
        .await?
        .into_iter()
        .collect();
    let mut items = vec![];
    for found in unit.tx()?.found_accounts(on.id).await? {
        let held = known.get(&family.login_key(&found.login)).copied();
        let (mut credential, mut credential_path) = (None, String::new());
        if let Some(id) = held {
            let approach = unit.tx()?.approach(person, id, now).await?;
            if approach.reach.level().is_some() {
                (credential, credential_path) = (Some(id), approach.path);
            }
        }
        items.push(DeviceAccount {
            found,
            credential,
            credential_path,
            in_vault: held.is_some(),
        });
    }
    Ok(DeviceAccounts {
        items,
        state: last.as_ref().map(|last| last.state.0),
        at: last
            .as_ref()
            .map(|last| last.finished_at.unwrap_or(last.queued_at)),
        message: last.map(|last| last.message).unwrap_or_default(),
    })
}

/// Has the operator of a device read which accounts there are.
pub async fn read_accounts(unit: &mut UnitOfWork, device: Uuid) -> AppResult<DeviceAccounts> {
    unit.begin_audit(
        Action::DeviceReadAccounts,
        TargetType::Device,
        Some(device),
        "",
    );
    let row = device_for_stewards(unit, device).await?;
    let kind = row.connector.0;
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let app = unit.app.clone();
    let facts = device_facts(&app, unit.tx()?, &row, &settings).await?;
    if !lists_accounts(&facts) {
        let what = facts.dialogue.as_deref().map(Instructions::kind);
        return Err(AppError::conflict(
            ErrorCode::NoOperator,
            match what {
                Some(what) => format!("The {what} of this device does not list accounts."),
                None => "This device has no dialogue or recipe yet.".to_owned(),
            },
            "Add its accounts by hand, or choose a version that lists them (`list` in `[begin]`).",
        ));
    }
    let Some(operator) = unit.tx()?.operator_of(device).await? else {
        return Err(AppError::conflict(
            ErrorCode::NoOperator,
            "The device has no operator.",
            "Set an operator: it is the one that reads the accounts.",
        ));
    };
    if row.paused_at.is_some() {
        return Err(AppError::device_paused(&row.paused_why));
    }
    let (organisation, by, now) = (unit.organisation(), unit.person.id, unit.now);
    let account = unit
        .tx()?
        .ensure_account(&row, kind.family(), &operator.login, now)
        .await?;
    let waiting = unit.tx()?.waiting_jobs(&[account.id]).await?;
    if let Some((waiting, Task::Listing)) = waiting.get(&account.id) {
        unit.tx()?.hurry_job(*waiting, now).await?;
    } else {
        let job = queued(
            organisation,
            &account,
            operator.binding.stored().credential,
            Task::Listing,
            ChangeMethod::Operator,
            JobCause::Person,
            Some(by),
            now,
        );
        unit.add_detail("job", job.id.to_string());
        if unit.tx()?.add_jobs(vec![job]).await?.is_empty() {
            return Err(AppError::conflict(
                ErrorCode::JobUnderWay,
                "A job of the device's operator is under way.",
                "Wait until it has ended, and try again.",
            ));
        }
    }
    let shown = show_accounts(unit, &row).await?;
    unit.commit_audited().await?;
    unit.app.wake.notify_one();
    Ok(shown)
}
