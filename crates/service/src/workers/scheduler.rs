//! The scheduler: works out what is due, queues it, and ends what has run out.

use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_app::app::App;
use jexlin_app::error::AppResult;
use jexlin_app::jobs::{owe_rotation, queue};
use jexlin_app::keyring::OpenKeys;
use jexlin_app::plans::parse_plan;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::audit::{Event, Outcome};
use jexlin_core::gate::CheckoutEnd;
use jexlin_core::gate::PendingActState;
use jexlin_core::gate::RequestState;
use jexlin_core::upkeep::JobCause;
use jexlin_core::upkeep::Task;
use jexlin_core::upkeep::back_off;
use jexlin_core::words::Word as _;
use jexlin_store::{AccountRow, Tx};
use uuid::Uuid;

const PAUSE: Duration = Duration::from_millis(500);
/// Every so many rounds the notes of how many credentials lie where are made fewer.
const ROUNDS: u32 = 600;
/// So many rows a round and transaction.
const BATCH: i64 = 200;

pub(super) async fn forever(app: App) {
    for round in (0..ROUNDS).cycle() {
        let mut done = schedule_once(&app).await;
        if round == 0 && done.is_ok() {
            done = fold(&app).await;
        }
        if let Err(fault) = done {
            tracing::warn!("the scheduler waits: {}", fault.for_log());
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        tokio::time::sleep(PAUSE).await;
    }
}

/// A file of which nothing was heard for so long does not come any more; its sender is cut off much
/// earlier.
const GIVEN_UP: TimeDelta = TimeDelta::minutes(10);

/// One round over all organisations.
///
/// # Errors
/// [`jexlin_app::error::AppError`] of the first organisation that could not be worked on.
pub async fn schedule_once(app: &App) -> AppResult<()> {
    let mut last = Ok(());
    for organisation in super::organisations(app).await {
        // One organisation's trouble is no other's.
        if let Err(fault) = schedule_one(app, organisation).await {
            tracing::warn!(%organisation, "the scheduler goes on with the next organisation: {}", fault.for_log());
            last = Err(fault);
        }
    }
    jexlin_app::operators::close_stale_operators(app).await;
    close_personal(app).await;
    last
}

/// Personal keys leave memory when their session does not count any more, however it ended.
async fn close_personal(app: &App) {
    let open = app.personal.sessions();
    if open.is_empty() {
        return;
    }
    let mut counting = vec![];
    for organisation in super::organisations(app).await {
        let found = async {
            let mut tx = app.store.begin(organisation).await?;
            let found = tx.sessions_that_count(&open, app.clock.now()).await?;
            tx.commit().await?;
            Ok::<Vec<Uuid>, jexlin_store::StoreError>(found)
        };
        match found.await {
            Ok(found) => counting.extend(found),
            // What cannot be looked at is kept until it can.
            Err(_) => return,
        }
    }
    for session in open.iter().filter(|session| !counting.contains(session)) {
        app.personal.close(*session);
    }
}

async fn schedule_one(app: &App, organisation: Uuid) -> AppResult<()> {
    let keys = app.keyring.keys(&app.store, organisation).await?;
    // What ends a checkout does not wait for what plans rotations.
    let ended = end_checkouts(app, organisation, &keys).await;
    let planned = async {
        plan(app, organisation).await?;
        owed(app, organisation).await?;
        due(app, organisation).await
    }
    .await;
    let expired = expire_requests(app, organisation, &keys).await;
    let purged = purge(app, organisation, &keys).await;
    if ended? + planned? > 0 {
        app.wake.notify_one();
    }
    expired?;
    purged
}

/// Queues the rotations that are owed and due to be tried, with back-off.
async fn owed(app: &App, organisation: Uuid) -> AppResult<()> {
    let now = app.clock.now();
    let mut tx = app.store.begin(organisation).await?;
    for account in tx.owed_rotations(now, BATCH).await? {
        if queue(&mut tx, &account, Task::Rotation, JobCause::Return, now).await? {
            app.wake.notify_one();
        }
        tx.owed_again(account.id, now + back_off(account.owed_tries))
            .await?;
    }
    Ok(tx.commit().await?)
}

/// Makes one note of many about how many credentials are in each folder.
async fn fold(app: &App) -> AppResult<()> {
    for organisation in super::organisations(app).await {
        let mut tx = app.store.begin(organisation).await?;
        tx.sum_credential_counts().await?;
        tx.commit().await?;
    }
    Ok(())
}

/// Purges what has been in the bin for as long as the settings say, but for accounts of devices:
/// the device could still have the password (promise 2). A steward purges those by hand.
async fn purge(app: &App, organisation: Uuid, keys: &OpenKeys) -> AppResult<()> {
    let mut tx = app.store.begin(organisation).await?;
    // Files that were on their way when a service ended are not known to anybody yet.
    tx.give_up_attachments(app.clock.now() - GIVEN_UP).await?;
    let (settings, _) = jexlin_app::settings::settings(&mut tx).await?;
    if settings.bin_days == 0 {
        return Ok(tx.commit().await?);
    }
    let now = app.clock.now();
    let due = tx
        .removals_to_purge(now - TimeDelta::days(settings.bin_days.into()), BATCH)
        .await?;
    for row in &due {
        let count = tx.purge_removal(row.id, now).await?;
        let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::BinPurge);
        event.target = row.target.to_string();
        event.target_type = TargetType::Removal.word().into();
        event.target_name.clone_from(&row.path);
        event
            .detail
            .insert("type".into(), row.target_type.0.word().into());
        event.detail.insert("credentials".into(), count.to_string());
        event.detail.insert(
            "because".into(),
            format!("{} days in the bin", settings.bin_days),
        );
        tx.record(&event, &keys.mac).await?;
    }
    if tx.is_revalidation_due() {
        jexlin_app::revalidation::revalidate(&mut tx, &keys.mac, now).await?;
    }
    Ok(tx.commit().await?)
}

/// Works out the due times of accounts whose plan, place or last job changed.
async fn plan(app: &App, organisation: Uuid) -> AppResult<()> {
    loop {
        let mut tx = app.store.begin(organisation).await?;
        let stale = tx.stale_accounts(BATCH).await?;
        let count = stale.len();
        let now = app.clock.now();
        for account in stale {
            let (check, rotation) = times(&mut tx, &account, now).await?;
            tx.set_due(account.id, check, rotation).await?;
        }
        tx.commit().await?;
        if i64::try_from(count).unwrap_or(0) < BATCH {
            return Ok(());
        }
    }
}

type Times = (Option<DateTime<Utc>>, Option<DateTime<Utc>>);

async fn times(tx: &mut Tx, account: &AccountRow, now: DateTime<Utc>) -> AppResult<Times> {
    let Some(credential) = account.credential_id else {
        return Ok((None, None));
    };
    let Ok(credential) = tx.credential(credential).await else {
        return Ok((None, None));
    };
    let Some(row) = tx.plan_of(account.id).await? else {
        return Ok((None, None));
    };
    let Ok(plan) = parse_plan(&row) else {
        tracing::error!(plan = %row.id, "a stored upkeep plan cannot be read; it is left out");
        return Ok((None, None));
    };
    // A password that was never rotated is as old as the credential.
    let last = account.rotated_at.unwrap_or(credential.created_at);
    Ok((
        plan.next_check(credential.id, now),
        plan.next_rotation(credential.id, last, now),
    ))
}

/// Queues what is due. How many jobs.
async fn due(app: &App, organisation: Uuid) -> AppResult<usize> {
    let now = app.clock.now();
    let mut tx = app.store.begin(organisation).await?;
    let mut queued = 0;
    for account in tx.due_accounts(now, BATCH).await? {
        let credential = match account.credential_id {
            Some(id) => tx.credential(id).await.ok(),
            None => None,
        };
        let Some(credential) = credential else {
            tx.set_due(account.id, None, None).await?;
            continue;
        };
        let rotates = account.next_rotation_at.is_some_and(|time| time <= now);
        let open = match tx.plan_of(account.id).await? {
            Some(row) => parse_plan(&row).is_ok_and(|plan| plan.open_at(now)),
            None => false,
        };
        // A rotation outside its hours waits for them; a held credential is rotated on its return.
        let held = !tx.open_checkouts(credential.id).await?.is_empty();
        let task = if rotates && open && !held {
            Some(Task::Rotation)
        } else if account.next_check_at.is_some_and(|time| time <= now) {
            Some(Task::Check)
        } else {
            None
        };
        if let Some(task) = task
            && queue(&mut tx, &account, task, JobCause::Plan, now).await?
        {
            queued += 1;
        }
        let (check, rotation) = times(&mut tx, &account, now).await?;
        let keep = account
            .next_rotation_at
            .filter(|time| *time <= now && held && open);
        tx.set_due(account.id, check, keep.or(rotation)).await?;
    }
    tx.commit().await?;
    Ok(queued)
}

/// Ends the checkouts whose time is over. How many.
async fn end_checkouts(app: &App, organisation: Uuid, keys: &OpenKeys) -> AppResult<usize> {
    let now = app.clock.now();
    let mut tx = app.store.begin(organisation).await?;
    let overdue = tx.overdue_checkouts(now, BATCH).await?;
    for row in &overdue {
        tx.end_checkout(row.id, now, CheckoutEnd::Time).await?;
        let rotates = owe_rotation(&mut tx, row, now).await?;
        let view = tx.checkout_view(row.id).await?;
        let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::CheckoutExpire);
        event.target = row.credential_id.to_string();
        event.target_type = TargetType::Credential.word().into();
        event.target_name = format!("{}/{}", view.place, view.credential_name);
        event.detail.insert("checkout".into(), row.id.to_string());
        event.detail.insert("holder".into(), view.person_name);
        event.detail.insert(
            "rotation".into(),
            if rotates { "owed" } else { "none" }.into(),
        );
        tx.record(&event, &keys.mac).await?;
    }
    tx.commit().await?;
    Ok(overdue.len())
}

/// Expires the requests that nobody answered or used in time.
async fn expire_requests(app: &App, organisation: Uuid, keys: &OpenKeys) -> AppResult<()> {
    let now = app.clock.now();
    let mut tx = app.store.begin(organisation).await?;
    for mut row in tx.overdue_requests(now, BATCH).await? {
        row.state = RequestState::Expired.into();
        tx.change_request(&row).await?;
        let view = tx.request_view(row.person_id, row.id).await?;
        let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::RequestExpire);
        event.target = row.credential_id.to_string();
        event.target_type = TargetType::Credential.word().into();
        event.target_name = format!("{}/{}", view.place, view.credential_name);
        event.detail.insert("request".into(), row.id.to_string());
        event.detail.insert("asked_by".into(), view.person_name);
        tx.record(&event, &keys.mac).await?;
    }
    for (action, count, origins) in tx
        .take_stranger_refusals(now - TimeDelta::minutes(1))
        .await?
    {
        if count == 0 {
            continue;
        }
        let mut event = Event::recorded(Uuid::now_v7(), organisation, now, &action);
        event.outcome = Outcome::Refused;
        event.target_type = TargetType::Person.word().into();
        event.detail.insert("count".into(), count.to_string());
        event.detail.insert("from".into(), origins.join(", "));
        event
            .detail
            .insert("refused".into(), "strangers, within a minute".into());
        tx.record(&event, &keys.mac).await?;
    }
    for row in tx.overdue_pending_acts(now, BATCH).await? {
        tx.settle_pending_act(row.id, PendingActState::Expired, None, now, "")
            .await?;
        let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::PendingActExpire);
        event.target = row.target.to_string();
        event.target_type = row.target_type.0.word().into();
        event.target_name = row.target_name;
        event.detail.insert("act".into(), row.id.to_string());
        event.detail.insert("summary".into(), row.summary);
        tx.record(&event, &keys.mac).await?;
    }
    tx.commit().await?;
    Ok(())
}
