//! Acts that take a second person: what they are, and how one is kept for somebody to confirm.

use chrono::TimeDelta;
use jexlin_api::{NewGate, PendingAct};
use jexlin_core::audit::Action;
use jexlin_core::gate::PendingActState;
use jexlin_core::gate::PendingActType;
use jexlin_core::people::Duty;
use jexlin_core::policy::settings::Settings;
use jexlin_store::Stored;
use jexlin_store::{PendingActRow, PendingActView};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::gate_place::GatePlace;
use crate::error::{AppError, AppResult};
use crate::unit_of_work::UnitOfWork;

/// A proposal expires undecided after so long.
const WAIT: TimeDelta = TimeDelta::days(7);

/// An act that one person proposes and another confirms.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// Change a gate so that it is weaker.
    ChangeGate {
        /// The gate.
        gate: Uuid,
        /// The revision that it is based on.
        revision: i32,
        /// What it becomes.
        to: NewGate,
    },
    /// Remove a gate.
    RemoveGate {
        /// The gate.
        gate: Uuid,
        /// The revision that it is based on.
        revision: i32,
    },
    /// Give somebody duties that they lack.
    GiveDuties {
        /// The person.
        person: Uuid,
        /// The revision that it is based on.
        revision: i32,
        /// All duties that they then hold.
        duties: Vec<Duty>,
    },
    /// Reset a password; its hash is kept meanwhile.
    ResetPassword {
        /// The person.
        person: Uuid,
        /// The revision that it is based on.
        revision: i32,
        /// The hash of the new password.
        phc: String,
    },
    /// Renew a client's secret.
    RenewSecret {
        /// The client.
        client: Uuid,
        /// The revision that it is based on.
        revision: i32,
    },
    /// Add somebody to a group that brings power.
    JoinGroup {
        /// The group.
        group: Uuid,
        /// The person.
        member: Uuid,
    },
    /// Loosen the settings.
    ChangeSettings {
        /// All settings.
        settings: Box<Settings>,
        /// The revision that it is based on.
        revision: i32,
    },
}

impl Act {
    /// What it is.
    #[must_use]
    pub const fn act_type(&self) -> PendingActType {
        match self {
            Self::ChangeGate { .. } => PendingActType::ChangeGate,
            Self::RemoveGate { .. } => PendingActType::RemoveGate,
            Self::GiveDuties { .. } => PendingActType::GiveDuties,
            Self::ResetPassword { .. } => PendingActType::ResetPassword,
            Self::RenewSecret { .. } => PendingActType::RenewSecret,
            Self::JoinGroup { .. } => PendingActType::JoinGroup,
            Self::ChangeSettings { .. } => PendingActType::ChangeSettings,
        }
    }

    /// Whether the organisation wants two people for it.
    pub const fn is_on(&self, settings: &Settings) -> bool {
        match self {
            Self::ChangeGate { .. } | Self::RemoveGate { .. } => settings.two_people_gates,
            Self::GiveDuties { .. } => settings.two_people_duties,
            Self::ResetPassword { .. } => settings.two_people_passwords,
            Self::RenewSecret { .. } => settings.two_people_clients,
            Self::JoinGroup { .. } => settings.two_people_groups,
            Self::ChangeSettings { .. } => settings.two_people_settings,
        }
    }

    /// How many others could confirm it.
    async fn others(&self, unit: &mut UnitOfWork) -> AppResult<i64> {
        let (me, now) = (unit.person.id, unit.now);
        Ok(match self {
            Self::ChangeGate { gate, .. } | Self::RemoveGate { gate, .. } => {
                let row = unit.tx()?.gate(*gate).await?;
                match GatePlace::of_row(&row)? {
                    GatePlace::Folder(folder) => {
                        unit.tx()?.other_stewards_of_folder(me, folder, now).await?
                    }
                    GatePlace::Credential(credential) => {
                        unit.tx()?
                            .other_stewards_of_credential(me, credential, now)
                            .await?
                    }
                    GatePlace::Device(device) => {
                        let folder = unit.tx()?.device(device).await?.folder_id;
                        unit.tx()?.other_stewards_of_folder(me, folder, now).await?
                    }
                }
            }
            Self::GiveDuties { person, duties, .. } => {
                let held = unit.tx()?.person(*person).await?.duties;
                let needed: Vec<Duty> = duties
                    .iter()
                    .copied()
                    .filter(|duty| !held.contains(&Stored(*duty)))
                    .chain([Duty::People])
                    .collect();
                unit.tx()?.others_with_duties(me, &needed).await?
            }
            Self::ResetPassword { .. } | Self::RenewSecret { .. } | Self::JoinGroup { .. } => {
                unit.tx()?.others_with_duties(me, &[Duty::People]).await?
            }
            Self::ChangeSettings { .. } => {
                unit.tx()?.others_with_duties(me, &[Duty::Policy]).await?
            }
        })
    }
}

/// What was done, or what waits for a second person (202).
#[derive(Debug)]
pub enum MaybePending<T> {
    /// It is done; the revision for `If-Match`.
    Done(i32, T),
    /// It waits.
    Pending(PendingAct),
}

/// Whether an act needs a second person here and now.
pub async fn needs_second(unit: &mut UnitOfWork, act: &Act) -> AppResult<bool> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    Ok(act.is_on(&settings) && act.others(unit).await? > 0)
}

/// Keeps an act for a second person, if it needs one here and now; the request has ended then. What
/// it takes must have been demanded already, and what was intended names its target.
pub async fn propose(
    unit: &mut UnitOfWork,
    act: Act,
    summary: &str,
) -> AppResult<Option<PendingAct>> {
    if !needs_second(unit, &act).await? {
        return Ok(None);
    }
    let (target_type, target, target_name) = unit
        .target()
        .ok_or_else(|| AppError::internal("nothing was intended"))?;
    let row = PendingActRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        act: act.act_type().into(),
        summary: summary.to_owned(),
        target_type: target_type.into(),
        target: target.unwrap_or_else(|| unit.organisation()),
        target_name: target_name.clone(),
        body: serde_json::to_value(&act).map_err(|error| AppError::internal(error.to_string()))?,
        state: PendingActState::Waiting.into(),
        proposed_by: unit.person.id,
        proposed_at: unit.now,
        expires_at: unit.now + WAIT,
        decided_by: None,
        decided_at: None,
        comment: String::new(),
    };
    unit.tx()?.add_pending_act(&row).await?;
    unit.begin_audit(Action::PendingActPropose, target_type, target, &target_name);
    unit.add_detail("act", row.id.to_string());
    unit.add_detail("summary", summary);
    let shown = show(
        PendingActView {
            row,
            proposed_by_name: unit.person.display_name.clone(),
        },
        unit.person.id,
        false,
    );
    unit.commit_audited().await?;
    Ok(Some(shown))
}

/// An act as the interface shows it.
pub fn show(view: PendingActView, me: Uuid, may_confirm: bool) -> PendingAct {
    let PendingActView {
        row,
        proposed_by_name,
    } = view;
    PendingAct {
        id: row.id,
        act: row.act.0,
        summary: row.summary,
        target_name: row.target_name,
        own: row.proposed_by == me,
        may_confirm: may_confirm && row.state == PendingActState::Waiting && row.proposed_by != me,
        state: row.state.0,
        proposed_by: proposed_by_name,
        proposed_at: row.proposed_at,
        expires_at: row.expires_at,
        decided_at: row.decided_at,
        comment: row.comment,
    }
}
