//! Acts that wait for a second person: proposed by one, confirmed or refused by another who may do
//! the same.

use jexlin_api::ErrorCode;
use jexlin_api::{ActConfirmed, Decide, Page, PendingAct, SecretText, TwoPeople};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::gate::ControlState;
use jexlin_core::gate::PendingActState;
use jexlin_core::names::check_note;
use jexlin_core::people::Duty;
use jexlin_core::people::PersonState;
use jexlin_core::secret::Secret;
use jexlin_store::Stored;
use jexlin_store::{PendingActRow, PendingActView, SettingsRow};
use uuid::Uuid;

use super::clients::{client_to_renew, renew_now};
use super::gates::{change_now, gate_for_stewards};
use super::groups::join;
use super::people::{allow_giving, words};
use super::second_person::{Act, show};
use crate::error::{AppError, AppResult};
use crate::unit_of_work::UnitOfWork;

/// So many are shown.
const MOST: i64 = 200;

/// Demands of the asker what the act itself takes.
async fn allow_act(act: &Act, unit: &mut UnitOfWork) -> AppResult<()> {
    match act {
        Act::ChangeGate { gate, .. } => gate_for_stewards(unit, *gate, Action::GateEdit)
            .await
            .map(|_| ()),
        Act::RemoveGate { gate, .. } => gate_for_stewards(unit, *gate, Action::GateRemove)
            .await
            .map(|_| ()),
        Act::GiveDuties { person, duties, .. } => {
            unit.begin(Action::PersonEdit, TargetType::Person, Some(*person), "")?;
            let row = unit.tx()?.person(*person).await?;
            unit.set_target(*person, &row.sign_in_name);
            if *person == unit.person.id {
                return Err(AppError::forbidden(
                    "You cannot change your own state or duties.",
                    "Ask another holder of the duty `people`.",
                ));
            }
            allow_giving(unit, &row.held_duties(), duties)
        }
        Act::ResetPassword { person, .. } => {
            unit.begin(Action::PersonEdit, TargetType::Person, Some(*person), "")?;
            let row = unit.tx()?.person(*person).await?;
            unit.set_target(*person, &row.sign_in_name);
            Ok(())
        }
        Act::RenewSecret { client, .. } => {
            unit.begin(Action::ClientRenew, TargetType::Person, Some(*client), "")?;
            client_to_renew(unit, *client).await.map(|_| ())
        }
        Act::JoinGroup { group, .. } => {
            unit.begin(Action::GroupAddMember, TargetType::Group, Some(*group), "")
        }
        Act::ChangeSettings { .. } => {
            unit.begin(Action::SettingsEdit, TargetType::Settings, None, "")
        }
    }
}

/// Does it, in the transaction that is under way. A new secret, where there is one.
async fn perform(act: Act, unit: &mut UnitOfWork, proposer: Uuid) -> AppResult<Option<Secret>> {
    let now = unit.now;
    match act {
        Act::ChangeGate { gate, revision, to } => change_now(unit, gate, revision, &to).await?,
        Act::RemoveGate { gate, revision } => unit.tx()?.remove_gate(gate, revision).await?,
        Act::GiveDuties {
            person,
            revision,
            duties,
        } => {
            let mut row = unit.tx()?.person(person).await?;
            unit.add_detail("duties", words(&duties));
            (row.duties, row.revision) = (duties.into_iter().map(Stored).collect(), revision);
            unit.tx()?.edit_person(&row).await?;
        }
        Act::ResetPassword {
            person,
            revision,
            phc,
        } => {
            let mut row = unit.tx()?.person(person).await?;
            (row.password_phc, row.revision, row.sign_in_by) =
                (Some(phc), revision, Some(proposer));
            unit.add_detail("password", "set");
            unit.tx()?.edit_person(&row).await?;
            unit.tx()?.end_sessions_of(person, None, now).await?;
        }
        Act::RenewSecret { client, revision } => {
            let mut row = unit.tx()?.person(client).await?;
            row.revision = revision;
            return renew_now(unit, row).await.map(Some);
        }
        Act::JoinGroup { group, member } => {
            join(unit, group, member).await?;
        }
        Act::ChangeSettings { settings, revision } => {
            let body = serde_json::to_value(&*settings)
                .map_err(|error| AppError::internal(error.to_string()))?;
            let organisation = unit.organisation();
            unit.tx()?
                .edit_settings(&SettingsRow {
                    organisation,
                    body,
                    revision,
                })
                .await?;
        }
    }
    Ok(None)
}

fn read(row: &PendingActRow) -> AppResult<Act> {
    serde_json::from_value(row.body.clone()).map_err(|_| {
        AppError::conflict(
            ErrorCode::ActSettled,
            "This act is no longer waiting.",
            "Propose it again if it is still needed.",
        )
    })
}

/// The pending acts that the asker proposed or could confirm; all of them for the duty `audit`.
pub async fn for_asker(unit: &mut UnitOfWork, waiting: bool) -> AppResult<Vec<PendingAct>> {
    let me = unit.person.id;
    let audits = unit.duty(Duty::Audit).is_ok();
    let mut items = vec![];
    for view in unit.tx()?.pending_acts(waiting, MOST).await? {
        let may = match read(&view.row) {
            Ok(act) if view.row.state == PendingActState::Waiting => {
                allow_act(&act, unit).await.is_ok()
            }
            _ => false,
        };
        if may || audits || view.row.proposed_by == me || view.row.decided_by == Some(me) {
            items.push(show(view, me, may));
        }
    }
    Ok(items)
}

/// The pending acts that the asker proposed or could confirm; all of them for the duty `audit`.
pub async fn list(unit: &mut UnitOfWork, waiting: Option<bool>) -> AppResult<Page<PendingAct>> {
    let items = for_asker(unit, waiting.unwrap_or(false)).await?;
    unit.commit().await?;
    Ok(Page { items, next: None })
}

/// A pending act that still waits, and that the asker may decide.
async fn waiting(unit: &mut UnitOfWork, act: Uuid) -> AppResult<(PendingActRow, Act)> {
    let row = unit
        .tx()?
        .pending_act_locked(act)
        .await
        .map_err(|_| AppError::unknown("pending act"))?;
    let settled = || {
        AppError::conflict(
            ErrorCode::ActSettled,
            "This act is no longer waiting.",
            "Propose it again if it is still needed.",
        )
    };
    if row.proposed_by == unit.person.id {
        return Err(AppError::forbidden(
            "You cannot confirm or refuse what you proposed.",
            "Another person who may do the same must decide.",
        ));
    }
    if row.state != PendingActState::Waiting || unit.now >= row.expires_at {
        return Err(settled());
    }
    let wanted = read(&row)?;
    // For whoever may not do the same, there is no such act.
    allow_act(&wanted, unit)
        .await
        .map_err(|_| AppError::unknown("pending act"))?;
    Ok((row, wanted))
}

/// Confirms what somebody else proposed, and does it.
pub async fn confirm(unit: &mut UnitOfWork, act: Uuid, body: Decide) -> AppResult<ActConfirmed> {
    let target = act;
    unit.begin_audit(
        Action::PendingActConfirm,
        TargetType::PendingAct,
        Some(target),
        "",
    );
    check_note(&body.comment).map_err(|problem| AppError::field("comment", problem))?;
    let (row, wanted) = waiting(unit, target).await?;
    // Who proposed it must still be somebody who may.
    let proposer = unit.tx()?.person(row.proposed_by).await?;
    if proposer.state != PersonState::Active {
        return Err(AppError::conflict(
            ErrorCode::ActSettled,
            "The person who proposed this may no longer do it.",
            "Refuse it.",
        ));
    }
    unit.add_detail("act", target.to_string());
    unit.add_detail("proposed_by", proposer.display_name.clone());
    let secret = perform(wanted, unit, proposer.id).await?;
    unit.record().await?;
    let (me, now) = (unit.person.id, unit.now);
    unit.tx()?
        .settle_pending_act(
            target,
            PendingActState::Confirmed,
            Some(me),
            now,
            &body.comment,
        )
        .await?;
    unit.begin_audit(
        Action::PendingActConfirm,
        row.target_type.0,
        Some(row.target),
        &row.target_name,
    );
    unit.add_detail("act", target.to_string());
    unit.add_detail("summary", row.summary.clone());
    unit.commit_audited().await?;
    let view = PendingActView {
        row: PendingActRow {
            state: PendingActState::Confirmed.into(),
            decided_by: Some(me),
            decided_at: Some(now),
            comment: body.comment,
            ..row
        },
        proposed_by_name: proposer.display_name,
    };
    let secret = match secret {
        Some(secret) => Some(SecretText::new(
            secret
                .expose_secret_text()
                .map_err(|error| AppError::internal(error.to_string()))?
                .to_owned(),
        )),
        None => None,
    };
    Ok(ActConfirmed {
        act: show(view, me, false),
        secret,
    })
}

async fn end(
    unit: &mut UnitOfWork,
    act: Uuid,
    comment: String,
    state: PendingActState,
) -> AppResult<PendingAct> {
    let target = act;
    let action = if state == PendingActState::Refused {
        Action::PendingActRefuse
    } else {
        Action::PendingActWithdraw
    };
    unit.begin_audit(action, TargetType::PendingAct, Some(target), "");
    check_note(&comment).map_err(|problem| AppError::field("comment", problem))?;
    let row = if state == PendingActState::Refused {
        waiting(unit, target).await?.0
    } else {
        let row = unit
            .tx()?
            .pending_act_locked(target)
            .await
            .map_err(|_| AppError::unknown("pending act"))?;
        if row.proposed_by != unit.person.id {
            return Err(AppError::unknown("pending act"));
        }
        if row.state != PendingActState::Waiting {
            return Err(AppError::conflict(
                ErrorCode::ActSettled,
                "This act is no longer waiting.",
                "There is nothing left to do.",
            ));
        }
        row
    };
    let (me, now) = (unit.person.id, unit.now);
    unit.tx()?
        .settle_pending_act(target, state, Some(me), now, &comment)
        .await?;
    unit.begin_audit(
        action,
        row.target_type.0,
        Some(row.target),
        &row.target_name,
    );
    unit.add_detail("act", target.to_string());
    unit.add_detail("summary", row.summary.clone());
    let proposer = unit.tx()?.person(row.proposed_by).await?;
    unit.commit_audited().await?;
    let row = PendingActRow {
        state: state.into(),
        decided_by: Some(me),
        decided_at: Some(now),
        comment,
        ..row
    };
    Ok(show(
        PendingActView {
            row,
            proposed_by_name: proposer.display_name,
        },
        me,
        false,
    ))
}

/// Refuses what somebody else proposed.
pub async fn refuse(unit: &mut UnitOfWork, act: Uuid, body: Decide) -> AppResult<PendingAct> {
    end(unit, act, body.comment, PendingActState::Refused).await
}

/// Withdraws what one proposed oneself.
pub async fn withdraw(unit: &mut UnitOfWork, act: Uuid, body: Decide) -> AppResult<PendingAct> {
    end(unit, act, body.comment, PendingActState::Withdrawn).await
}

/// Which acts need a second person, and where that is off or impossible.
pub async fn two_people(unit: &mut UnitOfWork) -> AppResult<Vec<TwoPeople>> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let me = unit.person.id;
    let people = unit.tx()?.others_with_duties(me, &[Duty::People]).await? > 0;
    let policy = unit.tx()?.others_with_duties(me, &[Duty::Policy]).await? > 0;
    let state = |on: bool, possible: bool| {
        if !on {
            ControlState::Off
        } else if possible {
            ControlState::On
        } else {
            ControlState::Impossible
        }
    };
    Ok(vec![
        // Where a gate has one steward only is seen there.
        TwoPeople {
            what: "weakening or removing a gate".into(),
            state: state(settings.two_people_gates, true),
        },
        TwoPeople {
            what: "giving duties".into(),
            state: state(settings.two_people_duties, people),
        },
        TwoPeople {
            what: "resetting passwords of people with duties, stewardship or approvals".into(),
            state: state(settings.two_people_passwords, people),
        },
        TwoPeople {
            what: "renewing secrets of clients".into(),
            state: state(settings.two_people_clients, people),
        },
        TwoPeople {
            what: "joining groups that bring stewardship or approvals".into(),
            state: state(settings.two_people_groups, people),
        },
        TwoPeople {
            what: "loosening these settings".into(),
            state: state(settings.two_people_settings, policy),
        },
        TwoPeople {
            what: "approvers whose sign-in password the requester did not set".into(),
            state: state(settings.independent_approvers, true),
        },
    ])
}
