//! The first page: what waits, what is held, what failed or is due.

use chrono::TimeDelta;
use jexlin_api::Overview;
use jexlin_core::gate::RequestState;
use jexlin_core::people::Duty;
use jexlin_core::upkeep::CheckOutcome;
use jexlin_core::upkeep::JobState;
use jexlin_store::JobFilter;

use super::checkouts::show_checkout;
use super::requests::show_request;
use super::upkeep::{show_job, show_view};
use crate::error::AppResult;
use crate::unit_of_work::UnitOfWork;

/// How many of each are shown.
const MOST: usize = 20;

/// What waits for the asker, and what is wrong with what they look after.
pub async fn overview(unit: &mut UnitOfWork) -> AppResult<Overview> {
    let (person, now) = (unit.person.id, unit.now);
    let tx = unit.tx()?;
    let waiting = tx
        .requests(person, Some(RequestState::Waiting), None, None, 100)
        .await?;
    let approved = tx
        .requests(person, Some(RequestState::Approved), None, None, 100)
        .await?;
    let held = tx.checkouts(Some(person), None, true, None, 100).await?;
    let failed = tx
        .jobs(
            person,
            now,
            &JobFilter {
                state: Some(JobState::Failed),
                limit: 20,
                ..JobFilter::default()
            },
        )
        .await?;
    let queued = tx
        .jobs(
            person,
            now,
            &JobFilter {
                state: Some(JobState::Queued),
                limit: 100,
                ..JobFilter::default()
            },
        )
        .await?;
    let accounts = tx.upkeep_views(person, now, None, 500).await?;
    let (settings, _) = crate::settings::settings(tx).await?;
    let mut devices = vec![];
    for row in unit
        .tx()?
        .devices_to_confirm(person, now, settings.trust_first_contact)
        .await?
        .into_iter()
        .take(MOST)
    {
        devices.push(super::devices::show_device(unit, row).await?);
    }
    let pending = super::pending_acts::for_asker(unit, true)
        .await?
        .into_iter()
        .filter(|act| act.own || act.may_confirm)
        .take(MOST)
        .collect();
    let concerned = unit.duty(Duty::People).is_ok() || unit.duty(Duty::Policy).is_ok();
    let two_people = if concerned {
        super::pending_acts::two_people(unit).await?
    } else {
        vec![]
    };
    unit.commit().await?;
    let (to_decide, asked): (Vec<_>, Vec<_>) =
        waiting.into_iter().partition(|row| row.person_id != person);
    let usable = approved
        .into_iter()
        .filter(|row| row.person_id == person && row.checkout_id.is_none() && row.expires_at > now);
    let soon = now + TimeDelta::days(1);
    let due = |time: Option<chrono::DateTime<chrono::Utc>>| time.is_some_and(|time| time <= soon);
    Ok(Overview {
        to_decide: to_decide
            .into_iter()
            .filter(|row| row.may_decide())
            .take(MOST)
            .map(show_request)
            .collect(),
        asked: asked
            .into_iter()
            .chain(usable)
            .take(MOST)
            .map(show_request)
            .collect(),
        held: held.into_iter().map(show_checkout).collect(),
        troubled_jobs: queued
            .into_iter()
            .filter(|job| job.row.outcome.is_some())
            .chain(failed)
            .take(MOST)
            .map(show_job)
            .collect(),
        troubled_accounts: accounts
            .iter()
            .filter(|row| {
                row.check_outcome
                    .is_some_and(|outcome| outcome != CheckOutcome::InSync)
            })
            .take(MOST)
            .cloned()
            .map(show_view)
            .collect(),
        devices,
        pending,
        two_people,
        due_soon: accounts
            .into_iter()
            .filter(|row| due(row.next_rotation_at))
            .take(MOST)
            .map(show_view)
            .collect(),
    })
}
