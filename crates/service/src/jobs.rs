//! Jobs: how they are queued, and rotations that the end of a checkout asks for.

use chrono::{DateTime, Utc};
use jexlin_core::upkeep::back_off;
use jexlin_store::{AccountRow, CheckoutRow, JobRow, StoreError, Tx};
use uuid::Uuid;

use crate::error::ApiResult;

/// A queued job for a credential on a device.
pub fn queued(
    organisation: Uuid,
    account: &AccountRow,
    credential: Uuid,
    task: &str,
    way: &str,
    cause: &str,
    asked_by: Option<Uuid>,
    now: DateTime<Utc>,
) -> JobRow {
    JobRow {
        id: Uuid::now_v7(),
        organisation,
        credential_id: credential,
        device_id: account.device_id,
        task: task.to_owned(),
        way: way.to_owned(),
        state: "queued".into(),
        step: String::new(),
        outcome: None,
        message: String::new(),
        asked_by,
        cause: cause.to_owned(),
        queued_at: now,
        not_before: now,
        started_at: None,
        finished_at: None,
        attempts: 0,
        leased_until: None,
        account_id: account.id,
        fence: 0,
        faults: 0,
    }
}

/// Notes the rotation that a checkout's end asks for as owed, if its gate said so and the credential
/// is the password of an account. Only a rotation that is done clears it. Whether one is owed.
///
/// # Errors
/// [`crate::error::ApiError`].
pub async fn owe_rotation(
    tx: &mut Tx,
    checkout: &CheckoutRow,
    now: DateTime<Utc>,
) -> ApiResult<bool> {
    if !checkout.rotate_on_return {
        return Ok(false);
    }
    let Some(account) = tx.account_of(checkout.credential_id).await? else {
        return Ok(false);
    };
    tx.owe_rotation(account.id, now).await?;
    // At once, unless another job is under way; the scheduler sees to it otherwise.
    if queue(tx, &account, "rotation", "return", now).await? {
        tx.owed_again(account.id, now + back_off(0)).await?;
    }
    Ok(true)
}

/// Queues a job unless one is under way. Whether it was queued.
pub async fn queue(
    tx: &mut Tx,
    account: &AccountRow,
    task: &str,
    cause: &str,
    now: DateTime<Utc>,
) -> ApiResult<bool> {
    let Some(credential) = account.credential_id else {
        return Ok(false);
    };
    let way = if tx.operator_of(account.device_id).await?.is_some() {
        "operator"
    } else {
        "self"
    };
    let organisation = tx.organisation();
    let job = queued(
        organisation,
        account,
        credential,
        task,
        way,
        cause,
        None,
        now,
    );
    // A conflict would end the transaction: look first. The row of the credential is held, so that
    // nobody queues another in between.
    tx.credential_locked(credential).await?;
    if tx.job_under_way(account.id).await? {
        return Ok(false);
    }
    match tx.add_job(&job).await {
        Ok(()) => Ok(true),
        Err(StoreError::Conflict(_)) => Ok(false),
        Err(error) => Err(error.into()),
    }
}
