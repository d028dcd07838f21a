//! Sessions: one's own, and by duty those of others.

use jexlin_api::{Session, SessionsEnded};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::people::Duty;
use jexlin_store::SessionRow;
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::unit_of_work::UnitOfWork;

/// Demands the duty `people` for the sessions of somebody else.
fn demand_people(unit: &UnitOfWork, person: Uuid) -> AppResult<()> {
    if person == unit.person.id {
        Ok(())
    } else {
        unit.duty(Duty::People)
    }
}

fn shown(unit: &UnitOfWork, row: SessionRow) -> Session {
    Session {
        current: row.id == unit.session.id,
        id: row.id,
        person: row.person_id,
        channel: row.channel.0,
        origin: row.origin,
        created_at: row.created_at,
        last_used_at: row.last_used_at,
        ends_at: row.ends_at,
    }
}

/// The sessions of a person, one's own when nobody is named. The list is short: a person has a few.
///
/// # Errors
/// [`AppError`] for the sessions of somebody else without the duty `people`.
pub async fn list(unit: &mut UnitOfWork, person: Option<Uuid>) -> AppResult<Vec<Session>> {
    let person = person.unwrap_or(unit.person.id);
    demand_people(unit, person)?;
    let now = unit.now;
    let rows = unit.tx()?.sessions_of(person, now).await?;
    let sessions = rows.into_iter().map(|row| shown(unit, row)).collect();
    unit.commit().await?;
    Ok(sessions)
}

/// Ends a session.
///
/// # Errors
/// [`AppError`] when there is none, as for one of somebody else without the duty `people`.
pub async fn end(unit: &mut UnitOfWork, session: Uuid) -> AppResult<()> {
    unit.begin_audit(Action::SessionEnd, TargetType::Person, None, "");
    let unknown = || AppError::unknown("session");
    let row = unit.tx()?.session(session).await.map_err(|_| unknown())?;
    // Whether somebody has a session is not told to just anybody.
    demand_people(unit, row.person_id).map_err(|_| unknown())?;
    let person = unit.tx()?.person(row.person_id).await?;
    unit.set_target(person.id, &person.sign_in_name);
    unit.add_detail("from", row.origin);
    unit.add_detail("channel", row.channel.0.to_string());
    let now = unit.now;
    unit.tx()?.end_session(session, now).await?;
    if session == unit.session.id {
        // The session ends with this very act.
        unit.tx()?.answer_to(None);
    }
    unit.commit_audited().await?;
    unit.app.personal.close(session);
    Ok(())
}

/// Ends all sessions of a person, but not the one that asks.
///
/// # Errors
/// [`AppError`] for those of somebody else without the duty `people`.
pub async fn end_all(unit: &mut UnitOfWork, person: Option<Uuid>) -> AppResult<SessionsEnded> {
    let person = person.unwrap_or(unit.person.id);
    unit.begin_audit(Action::SessionEnd, TargetType::Person, Some(person), "");
    demand_people(unit, person)?;
    let row = unit.tx()?.person(person).await?;
    unit.set_target(row.id, &row.sign_in_name);
    let (now, own) = (unit.now, unit.session.id);
    let sessions = unit.tx()?.sessions_of(person, now).await?;
    let ended = unit.tx()?.end_sessions_of(person, Some(own), now).await?;
    unit.add_detail("sessions", ended.to_string());
    unit.commit_audited().await?;
    for session in sessions.iter().filter(|session| session.id != own) {
        unit.app.personal.close(session.id);
    }
    Ok(SessionsEnded { ended })
}
