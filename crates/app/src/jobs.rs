//! Jobs: how they are queued, and rotations that the end of a checkout asks for.

use chrono::{DateTime, Utc};
use jexlin_core::upkeep::ChangeMethod;
use jexlin_core::upkeep::JobCause;
use jexlin_core::upkeep::JobState;
use jexlin_core::upkeep::Task;
use jexlin_core::upkeep::back_off;
use jexlin_store::{AccountRow, CheckoutRow, JobRow, Tx};
use uuid::Uuid;

use crate::error::AppResult;

/// A queued job for a credential on a device.
pub fn queued(
    organisation: Uuid,
    account: &AccountRow,
    credential: Uuid,
    task: Task,
    method: ChangeMethod,
    cause: JobCause,
    asked_by: Option<Uuid>,
    now: DateTime<Utc>,
) -> JobRow {
    JobRow {
        id: Uuid::now_v7(),
        organisation,
        credential_id: credential,
        device_id: account.device_id,
        task: task.into(),
        method: method.into(),
        state: JobState::Queued.into(),
        step: String::new(),
        outcome: None,
        message: String::new(),
        asked_by,
        cause: cause.into(),
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

/// Notes the rotation that a checkout's end asks for as owed, if its gate said so and the
/// credential is the password of an account. Only a rotation that is done clears it. Whether one is
/// owed.
///
/// # Errors
/// [`crate::error::AppError`].
pub async fn owe_rotation(
    tx: &mut Tx,
    checkout: &CheckoutRow,
    now: DateTime<Utc>,
) -> AppResult<bool> {
    if !checkout.rotate_on_return {
        return Ok(false);
    }
    let Some(account) = tx.account_of(checkout.credential_id).await? else {
        return Ok(false);
    };
    tx.owe_rotation(account.id, now).await?;
    // At once, unless another job is under way; the scheduler sees to it otherwise.
    if queue(tx, &account, Task::Rotation, JobCause::Return, now).await? {
        tx.owed_again(account.id, now + back_off(0)).await?;
    }
    Ok(true)
}

/// Queues a job unless one is under way. Whether it was queued.
pub async fn queue(
    tx: &mut Tx,
    account: &AccountRow,
    task: Task,
    cause: JobCause,
    now: DateTime<Utc>,
) -> AppResult<bool> {
    let Some(credential) = account.credential_id else {
        return Ok(false);
    };
    let method = if tx.operator_of(account.device_id).await?.is_some() {
        ChangeMethod::Operator
    } else {
        ChangeMethod::Own
    };
    let organisation = tx.organisation();
    let job = queued(
        organisation,
        account,
        credential,
        task,
        method,
        cause,
        None,
        now,
    );
    // This holds the credential. One that is being removed gets no job.
    if tx.accounts_of(&[credential]).await?.is_empty() {
        return Ok(false);
    }
    Ok(!tx.add_jobs(vec![job]).await?.is_empty())
}
