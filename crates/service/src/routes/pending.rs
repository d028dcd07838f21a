//! Acts that wait for a second person: proposed by one, confirmed or refused by another who may do the
//! same.

use chrono::TimeDelta;
use jexlin_api::{ActConfirmed, Decide, NewGate, Page, PendingAct, SecretText, TwoPeople};
use jexlin_core::names::check_note;
use jexlin_core::policy::settings::Settings;
use jexlin_core::secret::Secret;
use jexlin_store::{PendingActRow, PendingActView, SettingsRow};
use rocket::http::Status;
use rocket::request::Request;
use rocket::response::{self, Responder};
use rocket::{Route, get, post, routes};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::clients::{client_to_renew, renew_now};
use super::exchange::{Call, Sent, Versioned, id};
use super::gates::{GatePlace, change_now, gate_for_stewards};
use super::people::{allow_giving, join};
use crate::acting::Acting;
use crate::judging;
use crate::problem::{Answer, Fault};

/// A proposal expires undecided after so long.
const WAIT: TimeDelta = TimeDelta::days(7);
/// So many are shown.
const MOST: i64 = 200;

pub fn routes() -> Vec<Route> {
    routes![list, confirm, refuse, withdraw]
}

/// An act that one person proposes and another confirms.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// Change a gate so that it is weaker.
    ChangeGate { gate: Uuid, version: i32, to: NewGate },
    /// Remove a gate.
    RemoveGate { gate: Uuid, version: i32 },
    /// Give somebody duties that they lack.
    GiveDuties { person: Uuid, version: i32, duties: Vec<String> },
    /// Reset a password; its hash is kept meanwhile.
    ResetPassword { person: Uuid, version: i32, phc: String },
    /// Renew a client's secret.
    RenewSecret { client: Uuid, version: i32 },
    /// Add somebody to a group that brings power.
    JoinGroup { group: Uuid, member: Uuid },
    /// Loosen the settings.
    ChangeSettings { settings: Box<Settings>, version: i32 },
}

impl Act {
    const fn word(&self) -> &'static str {
        match self {
            Self::ChangeGate { .. } => "change-gate",
            Self::RemoveGate { .. } => "remove-gate",
            Self::GiveDuties { .. } => "give-duties",
            Self::ResetPassword { .. } => "reset-password",
            Self::RenewSecret { .. } => "renew-secret",
            Self::JoinGroup { .. } => "join-group",
            Self::ChangeSettings { .. } => "change-settings",
        }
    }

    const fn is_on(&self, settings: &Settings) -> bool {
        match self {
            Self::ChangeGate { .. } | Self::RemoveGate { .. } => settings.two_people_gates,
            Self::GiveDuties { .. } => settings.two_people_duties,
            Self::ResetPassword { .. } => settings.two_people_passwords,
            Self::RenewSecret { .. } => settings.two_people_clients,
            Self::JoinGroup { .. } => settings.two_people_groups,
            Self::ChangeSettings { .. } => settings.two_people_settings,
        }
    }

    /// Demands of the asker what the act itself takes.
    async fn allow(&self, acting: &mut Acting) -> Answer<()> {
        match self {
            Self::ChangeGate { gate, .. } => gate_for_stewards(acting, *gate, "gate.change").await.map(|_| ()),
            Self::RemoveGate { gate, .. } => gate_for_stewards(acting, *gate, "gate.remove").await.map(|_| ()),
            Self::GiveDuties { person, duties, .. } => {
                acting.intends("person.change", "person", Some(*person), "");
                acting.duty("people")?;
                let row = acting.tx()?.person(*person).await?;
                acting.naming(*person, &row.sign_in_name);
                if *person == acting.person.id {
                    return Err(Fault::forbidden("Nobody changes their own state or duties.", "Ask another holder of the duty `people`."));
                }
                allow_giving(acting, &row.duties, duties)
            }
            Self::ResetPassword { person, .. } => {
                acting.intends("person.change", "person", Some(*person), "");
                acting.duty("people")?;
                let row = acting.tx()?.person(*person).await?;
                acting.naming(*person, &row.sign_in_name);
                Ok(())
            }
            Self::RenewSecret { client, .. } => {
                acting.intends("client.secret", "person", Some(*client), "");
                client_to_renew(acting, *client).await.map(|_| ())
            }
            Self::JoinGroup { group, .. } => {
                acting.intends("group.join", "group", Some(*group), "");
                acting.duty("people")
            }
            Self::ChangeSettings { .. } => {
                acting.intends("settings.change", "settings", None, "");
                acting.duty("policy")
            }
        }
    }

    /// How many others could confirm it.
    async fn others(&self, acting: &mut Acting) -> Answer<i64> {
        let (me, now) = (acting.person.id, acting.now);
        Ok(match self {
            Self::ChangeGate { gate, .. } | Self::RemoveGate { gate, .. } => {
                let row = acting.tx()?.gate(*gate).await?;
                match GatePlace::of_row(&row)? {
                    GatePlace::Folder(folder) => acting.tx()?.other_stewards_of_folder(me, folder, now).await?,
                    GatePlace::Credential(credential) => acting.tx()?.other_stewards_of_credential(me, credential, now).await?,
                    GatePlace::Device(device) => {
                        let folder = acting.tx()?.device(device).await?.folder_id;
                        acting.tx()?.other_stewards_of_folder(me, folder, now).await?
                    }
                }
            }
            Self::GiveDuties { person, duties, .. } => {
                let held = acting.tx()?.person(*person).await?.duties;
                let needed: Vec<String> = duties.iter().filter(|duty| !held.contains(duty)).cloned().chain(["people".to_owned()]).collect();
                acting.tx()?.others_with_duties(me, &needed).await?
            }
            Self::ResetPassword { .. } | Self::RenewSecret { .. } | Self::JoinGroup { .. } => {
                acting.tx()?.others_with_duties(me, &["people".to_owned()]).await?
            }
            Self::ChangeSettings { .. } => acting.tx()?.others_with_duties(me, &["policy".to_owned()]).await?,
        })
    }

    /// Does it, in the transaction that is under way. A new secret, where there is one.
    async fn perform(self, acting: &mut Acting, proposer: Uuid) -> Answer<Option<Secret>> {
        let now = acting.now;
        match self {
            Self::ChangeGate { gate, version, to } => change_now(acting, gate, version, &to).await?,
            Self::RemoveGate { gate, version } => acting.tx()?.remove_gate(gate, version).await?,
            Self::GiveDuties { person, version, duties } => {
                let mut row = acting.tx()?.person(person).await?;
                acting.noting("duties", duties.join(", "));
                (row.duties, row.version) = (duties, version);
                acting.tx()?.change_person(&row).await?;
            }
            Self::ResetPassword { person, version, phc } => {
                let mut row = acting.tx()?.person(person).await?;
                (row.password_phc, row.version, row.sign_in_by) = (Some(phc), version, Some(proposer));
                acting.noting("password", "set");
                acting.tx()?.change_person(&row).await?;
                acting.tx()?.end_sessions_of(person, None, now).await?;
            }
            Self::RenewSecret { client, version } => {
                let mut row = acting.tx()?.person(client).await?;
                row.version = version;
                return renew_now(acting, row).await.map(Some);
            }
            Self::JoinGroup { group, member } => {
                join(acting, group, member).await?;
            }
            Self::ChangeSettings { settings, version } => {
                let body = serde_json::to_value(&*settings).map_err(|error| Fault::internal(error.to_string()))?;
                let organisation = acting.organisation();
                acting.tx()?.change_settings(&SettingsRow { organisation, body, version }).await?;
            }
        }
        Ok(None)
    }
}

/// What was done, or what waits for a second person (202).
#[derive(Debug)]
pub enum MaybePending<T> {
    /// It is done; the version for `If-Match`.
    Done(i32, T),
    /// It waits.
    Pending(PendingAct),
}

impl<'r, T: Serialize> Responder<'r, 'static> for MaybePending<T> {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        match self {
            Self::Done(version, item) => Versioned(version, item).respond_to(request),
            Self::Pending(act) => {
                let mut response = Sent(act).respond_to(request)?;
                response.set_status(Status::Accepted);
                Ok(response)
            }
        }
    }
}

/// Whether an act needs a second person here and now.
pub async fn needs_second(acting: &mut Acting, act: &Act) -> Answer<bool> {
    let (settings, _) = judging::settings(acting.tx()?).await?;
    Ok(act.is_on(&settings) && act.others(acting).await? > 0)
}

/// Keeps an act for a second person, if it needs one here and now; the request has ended then. What it
/// takes must have been demanded already, and what was intended names its target.
pub async fn propose(acting: &mut Acting, act: Act, summary: &str) -> Answer<Option<PendingAct>> {
    if !needs_second(acting, &act).await? {
        return Ok(None);
    }
    let (target_kind, target, target_name) = acting.target();
    let row = PendingActRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        act: act.word().into(),
        summary: summary.to_owned(),
        target_kind: target_kind.clone(),
        target: target.unwrap_or_else(|| acting.organisation()),
        target_name: target_name.clone(),
        body: serde_json::to_value(&act).map_err(|error| Fault::internal(error.to_string()))?,
        state: "waiting".into(),
        proposed_by: acting.person.id,
        proposed_at: acting.now,
        expires_at: acting.now + WAIT,
        decided_by: None,
        decided_at: None,
        comment: String::new(),
    };
    acting.tx()?.add_pending_act(&row).await?;
    acting.intends("pending-act.propose", &target_kind, target, &target_name);
    acting.noting("act", row.id.to_string());
    acting.noting("summary", summary);
    let shown = show(PendingActView { row, proposed_by_name: acting.person.display_name.clone() }, acting.person.id, false);
    acting.done().await?;
    Ok(Some(shown))
}

fn show(view: PendingActView, me: Uuid, may_confirm: bool) -> PendingAct {
    let PendingActView { row, proposed_by_name } = view;
    PendingAct {
        id: row.id,
        act: row.act,
        summary: row.summary,
        target_name: row.target_name,
        own: row.proposed_by == me,
        may_confirm: may_confirm && row.state == "waiting" && row.proposed_by != me,
        state: row.state,
        proposed_by: proposed_by_name,
        proposed_at: row.proposed_at,
        expires_at: row.expires_at,
        decided_at: row.decided_at,
        comment: row.comment,
    }
}

fn read(row: &PendingActRow) -> Answer<Act> {
    serde_json::from_value(row.body.clone())
        .map_err(|_| Fault::conflict("act-settled", "This act is no longer waiting.", "Propose it again if it is still needed."))
}

/// The pending acts that the asker proposed or could confirm; all of them for the duty `audit`.
pub async fn for_asker(acting: &mut Acting, waiting: bool) -> Answer<Vec<PendingAct>> {
    let me = acting.person.id;
    let audits = acting.duty("audit").is_ok();
    let mut items = vec![];
    for view in acting.tx()?.pending_acts(waiting, MOST).await? {
        let may = match read(&view.row) {
            Ok(act) if view.row.state == "waiting" => act.allow(acting).await.is_ok(),
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
pub async fn list(mut acting: Acting, waiting: Option<bool>) -> Answer<Sent<Page<PendingAct>>> {
    let items = for_asker(&mut acting, waiting.unwrap_or(false)).await?;
    acting.seen().await?;
    Ok(Sent(Page { items, next: None }))
}

/// A pending act that still waits, and that the asker may decide.
async fn waiting(acting: &mut Acting, act: Uuid) -> Answer<(PendingActRow, Act)> {
    let row = acting.tx()?.pending_act_locked(act).await.map_err(|_| Fault::unknown("pending act"))?;
    let settled = || Fault::conflict("act-settled", "This act is no longer waiting.", "Propose it again if it is still needed.");
    if row.proposed_by == acting.person.id {
        return Err(Fault::forbidden("Nobody confirms or refuses what they proposed.", "Another person who may do the same decides."));
    }
    if row.state != "waiting" || acting.now >= row.expires_at {
        return Err(settled());
    }
    let wanted = read(&row)?;
    // For whoever may not do the same, there is no such act.
    wanted.allow(acting).await.map_err(|_| Fault::unknown("pending act"))?;
    Ok((row, wanted))
}

/// Confirms what somebody else proposed, and does it.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = ActConfirmed)))]
#[post("/api/v1/pending-acts/<act>/confirm", data = "<body>")]
pub async fn confirm(act: &str, body: Call<Decide>) -> Answer<Sent<ActConfirmed>> {
    let Call(mut acting, body) = body;
    let target = id(act)?;
    acting.intends("pending-act.confirm", "pending-act", Some(target), "");
    check_note(&body.comment).map_err(|problem| Fault::field("comment", problem))?;
    let (row, wanted) = waiting(&mut acting, target).await?;
    // Who proposed it must still be somebody who may.
    let proposer = acting.tx()?.person(row.proposed_by).await?;
    if proposer.state != "active" {
        return Err(Fault::conflict("act-settled", "Whoever proposed this may not act any more.", "Refuse it."));
    }
    acting.noting("act", target.to_string());
    acting.noting("proposed_by", proposer.display_name.clone());
    let secret = wanted.perform(&mut acting, proposer.id).await?;
    acting.also().await?;
    let (me, now) = (acting.person.id, acting.now);
    acting.tx()?.settle_pending_act(target, "confirmed", Some(me), now, &body.comment).await?;
    acting.intends("pending-act.confirm", &row.target_kind, Some(row.target), &row.target_name);
    acting.noting("act", target.to_string());
    acting.noting("summary", row.summary.clone());
    acting.done().await?;
    let view = PendingActView {
        row: PendingActRow { state: "confirmed".into(), decided_by: Some(me), decided_at: Some(now), comment: body.comment, ..row },
        proposed_by_name: proposer.display_name,
    };
    let secret = match secret {
        Some(secret) => Some(SecretText::new(secret.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?.to_owned())),
        None => None,
    };
    Ok(Sent(ActConfirmed { act: show(view, me, false), secret }))
}

async fn end(mut acting: Acting, act: &str, comment: String, state: &str) -> Answer<Sent<PendingAct>> {
    let target = id(act)?;
    let action = if state == "refused" { "pending-act.refuse" } else { "pending-act.withdraw" };
    acting.intends(action, "pending-act", Some(target), "");
    check_note(&comment).map_err(|problem| Fault::field("comment", problem))?;
    let row = if state == "refused" {
        waiting(&mut acting, target).await?.0
    } else {
        let row = acting.tx()?.pending_act_locked(target).await.map_err(|_| Fault::unknown("pending act"))?;
        if row.proposed_by != acting.person.id {
            return Err(Fault::unknown("pending act"));
        }
        if row.state != "waiting" {
            return Err(Fault::conflict("act-settled", "This act is no longer waiting.", "There is nothing left to do."));
        }
        row
    };
    let (me, now) = (acting.person.id, acting.now);
    acting.tx()?.settle_pending_act(target, state, Some(me), now, &comment).await?;
    acting.intends(action, &row.target_kind, Some(row.target), &row.target_name);
    acting.noting("act", target.to_string());
    acting.noting("summary", row.summary.clone());
    let proposer = acting.tx()?.person(row.proposed_by).await?;
    acting.done().await?;
    let row = PendingActRow { state: state.into(), decided_by: Some(me), decided_at: Some(now), comment, ..row };
    Ok(Sent(show(PendingActView { row, proposed_by_name: proposer.display_name }, me, false)))
}

/// Refuses what somebody else proposed.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = PendingAct)))]
#[post("/api/v1/pending-acts/<act>/refuse", data = "<body>")]
pub async fn refuse(act: &str, body: Call<Decide>) -> Answer<Sent<PendingAct>> {
    let Call(acting, body) = body;
    end(acting, act, body.comment, "refused").await
}

/// Withdraws what one proposed oneself.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = PendingAct)))]
#[post("/api/v1/pending-acts/<act>/withdraw", data = "<body>")]
pub async fn withdraw(act: &str, body: Call<Decide>) -> Answer<Sent<PendingAct>> {
    let Call(acting, body) = body;
    end(acting, act, body.comment, "withdrawn").await
}

/// Which acts need a second person, and where that is off or impossible.
pub async fn two_people(acting: &mut Acting) -> Answer<Vec<TwoPeople>> {
    let (settings, _) = judging::settings(acting.tx()?).await?;
    let me = acting.person.id;
    let people = acting.tx()?.others_with_duties(me, &["people".to_owned()]).await? > 0;
    let policy = acting.tx()?.others_with_duties(me, &["policy".to_owned()]).await? > 0;
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
        TwoPeople { what: "weakening or removing a gate".into(), state: state(settings.two_people_gates, true) },
        TwoPeople { what: "giving duties".into(), state: state(settings.two_people_duties, people) },
        TwoPeople { what: "resetting passwords of people with power".into(), state: state(settings.two_people_passwords, people) },
        TwoPeople { what: "renewing secrets of clients".into(), state: state(settings.two_people_clients, people) },
        TwoPeople { what: "joining groups that bring power".into(), state: state(settings.two_people_groups, people) },
        TwoPeople { what: "loosening these settings".into(), state: state(settings.two_people_settings, policy) },
        TwoPeople { what: "approvers who do not owe their sign-in to the asker".into(), state: state(settings.independent_approvers, true) },
    ])
}
