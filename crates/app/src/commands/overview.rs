//! The first page: what waits, what is held, what failed or is due.

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use jexlin_api::{Overview, RotationsOnDay};
use jexlin_core::gate::RequestState;
use jexlin_core::people::Duty;
use jexlin_core::upkeep::CheckOutcome;
use jexlin_core::upkeep::JobState;
use jexlin_core::upkeep::Task;
use jexlin_store::JobFilter;

use super::checkouts::show_checkout;
use super::requests::show_request;
use super::upkeep::{show_job, show_view};
use crate::error::AppResult;
use crate::unit_of_work::UnitOfWork;

/// How many of each are shown.
const MOST: usize = 20;

/// The furthest that a clock is from UTC, in minutes: UTC+14 and UTC-12 are further than any.
const FURTHEST_ZONE: i32 = 14 * 60;

/// The six days before today, and today, each with what came of the rotations that ended on it.
fn week(
    now: DateTime<Utc>,
    minutes_ahead: i32,
    found: &[(NaiveDate, i64, i64)],
) -> Vec<RotationsOnDay> {
    let today = (now + TimeDelta::minutes(minutes_ahead.into())).date_naive();
    let days = (0..7).rev().map(|back| today - TimeDelta::days(back));
    days.map(|day| {
        let ended = found.iter().find(|(on, ..)| *on == day);
        let (done, failed) = ended.map_or((0, 0), |&(_, done, failed)| (done, failed));
        RotationsOnDay { day, done, failed }
    })
    .collect()
}

/// What waits for the asker, and what is wrong with what they look after; days are counted where
/// the clock is so many minutes ahead of UTC.
pub async fn overview(unit: &mut UnitOfWork, minutes_ahead: i32) -> AppResult<Overview> {
    let minutes_ahead = minutes_ahead.clamp(-FURTHEST_ZONE, FURTHEST_ZONE);
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
                limit: 100,
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
    let rotations = tx.rotations_by_day(person, now, minutes_ahead).await?;
    let checks = tx.checks_counted(person, now).await?;
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
            .chain(failed.into_iter().filter(|job| {
                // A rehearsal is looked at where it was asked for.
                job.row.latest && job.row.task.0 != Task::Rehearsal
            }))
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
        rotations: week(now, minutes_ahead, &rotations),
        checks: super::tables::show_checks(checks),
        due_soon: accounts
            .into_iter()
            .filter(|row| due(row.next_rotation_at))
            .take(MOST)
            .map(show_view)
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_week_has_seven_days_and_ends_with_the_day_where_the_person_is() {
        let now = "2026-11-29T23:30:00Z".parse().unwrap();
        let monday: NaiveDate = "2026-11-30".parse().unwrap();
        let found = [(monday, 2, 1), (monday - TimeDelta::days(7), 9, 9)];
        let days = week(now, 60, &found);
        assert_eq!(days.len(), 7);
        let last = days.last().unwrap();
        assert_eq!((last.day, last.done, last.failed), (monday, 2, 1));
        assert!(days[..6].iter().all(|day| day.done + day.failed == 0));
        assert_eq!(
            week(now, 0, &[]).last().unwrap().day,
            monday - TimeDelta::days(1)
        );
    }
}
