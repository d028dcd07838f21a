//! Acts that wait for a second person: proposed by one, confirmed or refused by another who may do the
//! same.

use super::second_person::{Act, show};
use jexlin_api::{ActConfirmed, Decide, Page, PendingAct, SecretText, TwoPeople};
use jexlin_core::names::check_note;
use jexlin_core::secret::Secret;
use jexlin_store::{PendingActRow, PendingActView, SettingsRow};
use rocket::{Route, get, post, routes};
use uuid::Uuid;

use super::clients::{client_to_renew, renew_now};
use super::gates::{change_now, gate_for_stewards};
use super::payload::{Call, Sent, id};
use super::people::{allow_giving, join};
use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::UnitOfWork;

/// So many are shown.
const MOST: i64 = 200;

pub fn routes() -> Vec<Route> {
    routes![list, confirm, refuse, withdraw]
}

/// Demands of the asker what the act itself takes.
async fn allow_act(act: &Act, unit: &mut UnitOfWork) -> ApiResult<()> {
    match act {
        Act::ChangeGate { gate, .. } => gate_for_stewards(unit, *gate, "gate.change")
            .await
            .map(|_| ()),
        Act::RemoveGate { gate, .. } => gate_for_stewards(unit, *gate, "gate.remove")
            .await
            .map(|_| ()),
        Act::GiveDuties { person, duties, .. } => {
            unit.begin_audit("person.change", "person", Some(*person), "");
            unit.duty("people")?;
            let row = unit.tx()?.person(*person).await?;
            unit.set_target(*person, &row.sign_in_name);
            if *person == unit.person.id {
                return Err(ApiError::forbidden(
                    "Nobody changes their own state or duties.",
                    "Ask another holder of the duty `people`.",
                ));
            }
            allow_giving(unit, &row.duties, duties)
        }
        Act::ResetPassword { person, .. } => {
            unit.begin_audit("person.change", "person", Some(*person), "");
            unit.duty("people")?;
            let row = unit.tx()?.person(*person).await?;
            unit.set_target(*person, &row.sign_in_name);
            Ok(())
        }
        Act::RenewSecret { client, .. } => {
            unit.begin_audit("client.secret", "person", Some(*client), "");
            client_to_renew(unit, *client).await.map(|_| ())
        }
        Act::JoinGroup { group, .. } => {
            unit.begin_audit("group.join", "group", Some(*group), "");
            unit.duty("people")
        }
        Act::ChangeSettings { .. } => {
            unit.begin_audit("settings.change", "settings", None, "");
            unit.duty("policy")
        }
    }
}

/// Does it, in the transaction that is under way. A new secret, where there is one.
async fn perform(act: Act, unit: &mut UnitOfWork, proposer: Uuid) -> ApiResult<Option<Secret>> {
    let now = unit.now;
    match act {
        Act::ChangeGate { gate, version, to } => change_now(unit, gate, version, &to).await?,
        Act::RemoveGate { gate, version } => unit.tx()?.remove_gate(gate, version).await?,
        Act::GiveDuties {
            person,
            version,
            duties,
        } => {
            let mut row = unit.tx()?.person(person).await?;
            unit.add_detail("duties", duties.join(", "));
            (row.duties, row.version) = (duties, version);
            unit.tx()?.change_person(&row).await?;
        }
        Act::ResetPassword {
            person,
            version,
            phc,
        } => {
            let mut row = unit.tx()?.person(person).await?;
            (row.password_phc, row.version, row.sign_in_by) = (Some(phc), version, Some(proposer));
            unit.add_detail("password", "set");
            unit.tx()?.change_person(&row).await?;
            unit.tx()?.end_sessions_of(person, None, now).await?;
        }
        Act::RenewSecret { client, version } => {
            let mut row = unit.tx()?.person(client).await?;
            row.version = version;
            return renew_now(unit, row).await.map(Some);
        }
        Act::JoinGroup { group, member } => {
            join(unit, group, member).await?;
        }
        Act::ChangeSettings { settings, version } => {
            let body = serde_json::to_value(&*settings)
                .map_err(|error| ApiError::internal(error.to_string()))?;
            let organisation = unit.organisation();
            unit.tx()?
                .change_settings(&SettingsRow {
                    organisation,
                    body,
                    version,
                })
                .await?;
        }
    }
    Ok(None)
}

fn read(row: &PendingActRow) -> ApiResult<Act> {
    serde_json::from_value(row.body.clone()).map_err(|_| {
        ApiError::conflict(
            "act-settled",
            "This act is no longer waiting.",
            "Propose it again if it is still needed.",
        )
    })
}

/// The pending acts that the asker proposed or could confirm; all of them for the duty `audit`.
pub async fn for_asker(unit: &mut UnitOfWork, waiting: bool) -> ApiResult<Vec<PendingAct>> {
    let me = unit.person.id;
    let audits = unit.duty("audit").is_ok();
    let mut items = vec![];
    for view in unit.tx()?.pending_acts(waiting, MOST).await? {
        let may = match read(&view.row) {
            Ok(act) if view.row.state == "waiting" => allow_act(&act, unit).await.is_ok(),
            _ => false,
        };
        if may || audits || view.row.proposed_by == me || view.row.decided_by == Some(me) {
            items.push(show(view, me, may));
        }
    }
    Ok(items)
}

/// The pending acts that the asker proposed or could confirm; all of them for the duty `audit`.
#[utoipa::path(context_path = "", params(("waiting" = Option<bool>, Query)), responses((status = 200, body = Page<PendingAct>)))]
#[get("/api/v1/pending-acts?<waiting>")]
pub async fn list(
    mut unit: UnitOfWork,
    waiting: Option<bool>,
) -> ApiResult<Sent<Page<PendingAct>>> {
    let items = for_asker(&mut unit, waiting.unwrap_or(false)).await?;
    unit.commit().await?;
    Ok(Sent(Page { items, next: None }))
}

/// A pending act that still waits, and that the asker may decide.
async fn waiting(unit: &mut UnitOfWork, act: Uuid) -> ApiResult<(PendingActRow, Act)> {
    let row = unit
        .tx()?
        .pending_act_locked(act)
        .await
        .map_err(|_| ApiError::unknown("pending act"))?;
    let settled = || {
        ApiError::conflict(
            "act-settled",
            "This act is no longer waiting.",
            "Propose it again if it is still needed.",
        )
    };
    if row.proposed_by == unit.person.id {
        return Err(ApiError::forbidden(
            "Nobody confirms or refuses what they proposed.",
            "Another person who may do the same decides.",
        ));
    }
    if row.state != "waiting" || unit.now >= row.expires_at {
        return Err(settled());
    }
    let wanted = read(&row)?;
    // For whoever may not do the same, there is no such act.
    allow_act(&wanted, unit)
        .await
        .map_err(|_| ApiError::unknown("pending act"))?;
    Ok((row, wanted))
}

/// Confirms what somebody else proposed, and does it.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = ActConfirmed)))]
#[post("/api/v1/pending-acts/<act>/confirm", data = "<body>")]
pub async fn confirm(act: &str, body: Call<Decide>) -> ApiResult<Sent<ActConfirmed>> {
    let Call(mut unit, body) = body;
    let target = id(act)?;
    unit.begin_audit("pending-act.confirm", "pending-act", Some(target), "");
    check_note(&body.comment).map_err(|problem| ApiError::field("comment", problem))?;
    let (row, wanted) = waiting(&mut unit, target).await?;
    // Who proposed it must still be somebody who may.
    let proposer = unit.tx()?.person(row.proposed_by).await?;
    if proposer.state != "active" {
        return Err(ApiError::conflict(
            "act-settled",
            "Whoever proposed this may not act any more.",
            "Refuse it.",
        ));
    }
    unit.add_detail("act", target.to_string());
    unit.add_detail("proposed_by", proposer.display_name.clone());
    let secret = perform(wanted, &mut unit, proposer.id).await?;
    unit.record().await?;
    let (me, now) = (unit.person.id, unit.now);
    unit.tx()?
        .settle_pending_act(target, "confirmed", Some(me), now, &body.comment)
        .await?;
    unit.begin_audit(
        "pending-act.confirm",
        &row.target_type,
        Some(row.target),
        &row.target_name,
    );
    unit.add_detail("act", target.to_string());
    unit.add_detail("summary", row.summary.clone());
    unit.commit_audited().await?;
    let view = PendingActView {
        row: PendingActRow {
            state: "confirmed".into(),
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
                .map_err(|error| ApiError::internal(error.to_string()))?
                .to_owned(),
        )),
        None => None,
    };
    Ok(Sent(ActConfirmed {
        act: show(view, me, false),
        secret,
    }))
}

async fn end(
    mut unit: UnitOfWork,
    act: &str,
    comment: String,
    state: &str,
) -> ApiResult<Sent<PendingAct>> {
    let target = id(act)?;
    let action = if state == "refused" {
        "pending-act.refuse"
    } else {
        "pending-act.withdraw"
    };
    unit.begin_audit(action, "pending-act", Some(target), "");
    check_note(&comment).map_err(|problem| ApiError::field("comment", problem))?;
    let row = if state == "refused" {
        waiting(&mut unit, target).await?.0
    } else {
        let row = unit
            .tx()?
            .pending_act_locked(target)
            .await
            .map_err(|_| ApiError::unknown("pending act"))?;
        if row.proposed_by != unit.person.id {
            return Err(ApiError::unknown("pending act"));
        }
        if row.state != "waiting" {
            return Err(ApiError::conflict(
                "act-settled",
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
    unit.begin_audit(action, &row.target_type, Some(row.target), &row.target_name);
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
    Ok(Sent(show(
        PendingActView {
            row,
            proposed_by_name: proposer.display_name,
        },
        me,
        false,
    )))
}

/// Refuses what somebody else proposed.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = PendingAct)))]
#[post("/api/v1/pending-acts/<act>/refuse", data = "<body>")]
pub async fn refuse(act: &str, body: Call<Decide>) -> ApiResult<Sent<PendingAct>> {
    let Call(unit, body) = body;
    end(unit, act, body.comment, "refused").await
}

/// Withdraws what one proposed oneself.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = PendingAct)))]
#[post("/api/v1/pending-acts/<act>/withdraw", data = "<body>")]
pub async fn withdraw(act: &str, body: Call<Decide>) -> ApiResult<Sent<PendingAct>> {
    let Call(unit, body) = body;
    end(unit, act, body.comment, "withdrawn").await
}

/// Which acts need a second person, and where that is off or impossible.
pub async fn two_people(unit: &mut UnitOfWork) -> ApiResult<Vec<TwoPeople>> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let me = unit.person.id;
    let people = unit
        .tx()?
        .others_with_duties(me, &["people".to_owned()])
        .await?
        > 0;
    let policy = unit
        .tx()?
        .others_with_duties(me, &["policy".to_owned()])
        .await?
        > 0;
    let state = |on: bool, possible: bool| {
        if !on {
            "off"
        } else if possible {
            "on"
        } else {
            "impossible"
        }
        .to_owned()
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
            what: "resetting passwords of people with power".into(),
            state: state(settings.two_people_passwords, people),
        },
        TwoPeople {
            what: "renewing secrets of clients".into(),
            state: state(settings.two_people_clients, people),
        },
        TwoPeople {
            what: "joining groups that bring power".into(),
            state: state(settings.two_people_groups, people),
        },
        TwoPeople {
            what: "loosening these settings".into(),
            state: state(settings.two_people_settings, policy),
        },
        TwoPeople {
            what: "approvers who do not owe their sign-in to the asker".into(),
            state: state(settings.independent_approvers, true),
        },
    ])
}
