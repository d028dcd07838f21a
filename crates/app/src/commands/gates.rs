//! Gates.

use jexlin_api::ErrorCode;
use jexlin_api::{Gate, GateConditions, NewGate, Page};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::gate::{Gate as CoreGate, check_gate, is_weaker};
use jexlin_store::{ApproverRow, GateRow};
use uuid::Uuid;

use super::gate_place::GatePlace;
use super::names::member;
use super::names::names;
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::propose;
use crate::error::{AppError, AppResult};
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

/// A gate as the interface shows it.
pub async fn show_gate(unit: &mut UnitOfWork, gate: Uuid) -> AppResult<Gate> {
    let view = unit.tx()?.gate_view(gate).await?;
    let names = names(unit).await?;
    let (target, target_type) = GatePlace::of_row(&view.gate)?.parts();
    let mut approvers: Vec<_> = view
        .approvers
        .iter()
        .map(|row| member(row.subject, row.subject_is_group, &names))
        .collect();
    approvers.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Gate {
        id: view.gate.id,
        target_type,
        target,
        place: view.place,
        needs_reason: view.gate.needs_reason,
        needs_approval: view.gate.needs_approval,
        approvers,
        max_minutes: view.gate.max_minutes,
        one_holder: view.gate.one_holder,
        rotate_on_return: view.gate.rotate_on_return,
        revision: view.gate.revision,
    })
}

/// What the gates on the way to a credential ask for together; nothing where none stands.
pub async fn show_conditions(
    unit: &mut UnitOfWork,
    credential: Uuid,
) -> AppResult<Option<GateConditions>> {
    let set = unit.tx()?.gates_of(credential).await?;
    if set.is_empty() {
        return Ok(None);
    }
    let mut gates = vec![];
    for gate in set.gates() {
        gates.push(show_gate(unit, gate.id).await?);
    }
    Ok(Some(GateConditions {
        needs_reason: set.needs_reason(),
        needs_approval: set.needs_approval(),
        max_minutes: set.max_minutes(),
        one_holder: set.one_holder(),
        rotate_on_return: set.rotate_on_return(),
        gates,
    }))
}

/// Reads the terms of a gate, and who approves at it.
pub async fn parse(
    unit: &mut UnitOfWork,
    body: &NewGate,
    gate: Uuid,
    revision: i32,
) -> AppResult<(GateRow, Vec<ApproverRow>)> {
    let organisation = unit.organisation();
    let mut approvers = vec![];
    for person in &body.approver_people {
        unit.tx()?
            .person(*person)
            .await
            .map_err(|_| AppError::field("approver_people", "there is no such person"))?;
        approvers.push(ApproverRow {
            organisation,
            gate_id: gate,
            subject: *person,
            subject_is_group: false,
        });
    }
    for group in &body.approver_groups {
        unit.tx()?
            .group(*group)
            .await
            .map_err(|_| AppError::field("approver_groups", "there is no such group"))?;
        approvers.push(ApproverRow {
            organisation,
            gate_id: gate,
            subject: *group,
            subject_is_group: true,
        });
    }
    approvers.dedup();
    let core = CoreGate {
        id: gate,
        revision,
        needs_reason: body.needs_reason,
        needs_approval: !approvers.is_empty(),
        max_minutes: body.max_minutes,
        one_holder: body.one_holder,
        rotate_on_return: body.rotate_on_return,
    };
    check_gate(&core, approvers.len())
        .map_err(|problem| AppError::field("max_minutes", problem))?;
    let row = GateRow {
        id: gate,
        organisation,
        folder_id: body.folder,
        credential_id: body.credential,
        needs_reason: core.needs_reason,
        needs_approval: core.needs_approval,
        max_minutes: core.max_minutes,
        one_holder: core.one_holder,
        rotate_on_return: core.rotate_on_return,
        revision,
        device_id: body.device,
    };
    Ok((row, approvers))
}

/// The gates at places that the asker may know of.
pub async fn list(unit: &mut UnitOfWork) -> AppResult<Page<Gate>> {
    let rows = unit.tx()?.gates().await?;
    let mut items = vec![];
    for row in rows {
        if GatePlace::of_row(&row)?.level(unit).await?.is_some() {
            items.push(show_gate(unit, row.id).await?);
        }
    }
    items.sort_by_key(|gate| gate.place.to_lowercase());
    unit.commit().await?;
    Ok(Page { items, next: None })
}

/// Sets a gate at a folder, a device or a credential.
pub async fn add(unit: &mut UnitOfWork, body: NewGate) -> AppResult<Versioned<Gate>> {
    let place = GatePlace::of(body.folder, body.device, body.credential)?;
    let (target, target_type) = place.parts();
    unit.begin_audit(Action::GateAdd, target_type, Some(target), "");
    let path = place.allow_steward(unit).await?;
    unit.set_target(target, &path);
    let (row, approvers) = parse(unit, &body, Uuid::now_v7(), 1).await?;
    unit.tx()?.add_gate(&row, &approvers).await?;
    let shown = show_gate(unit, row.id).await?;
    unit.commit_audited().await?;
    Ok(Versioned(1, shown))
}

/// A gate that the asker is a steward of the place of; its path.
pub async fn gate_for_stewards(
    unit: &mut UnitOfWork,
    gate: Uuid,
    action: Action,
) -> AppResult<(GateRow, String)> {
    unit.begin_audit(action, TargetType::Gate, Some(gate), "");
    let row = unit
        .tx()?
        .gate(gate)
        .await
        .map_err(|_| AppError::unknown("gate"))?;
    let place = GatePlace::of_row(&row)?;
    let (target, target_type) = place.parts();
    unit.begin_audit(action, target_type, Some(target), "");
    let path = place
        .allow_steward(unit)
        .await
        .map_err(|fault| fault.hide("gate"))?;
    unit.set_target(target, &path);
    Ok((row, path))
}

/// Whether a change of a gate lets through what it stopped before.
pub async fn is_weakened(
    unit: &mut UnitOfWork,
    present: &GateRow,
    body: &NewGate,
) -> AppResult<bool> {
    let (after, approvers) = parse(unit, body, present.id, present.revision).await?;
    is_weaker_row(unit, present, &after, &approvers).await
}

/// The same, for a row that was read already.
pub async fn is_weaker_row(
    unit: &mut UnitOfWork,
    present: &GateRow,
    after: &GateRow,
    approvers: &[ApproverRow],
) -> AppResult<bool> {
    let before = unit.tx()?.gate_view(present.id).await?.approvers;
    let ids = |rows: &[ApproverRow]| rows.iter().map(|row| row.subject).collect::<Vec<_>>();
    Ok(is_weaker(
        (&present.to_core(), &ids(&before)),
        (&after.to_core(), &ids(approvers)),
    ))
}

/// Demands what it takes to bring something out from under gates: for what is moved, each gate that
/// no longer counts is removed, so whoever moves it must be a steward of that gate's place, and be
/// one who may remove it alone. It is asked when the move is made, in its transaction.
pub async fn may_leave(unit: &mut UnitOfWork, before: &[Uuid], after: &[Uuid]) -> AppResult<()> {
    for gate in before.iter().filter(|gate| !after.contains(gate)) {
        let row = unit.tx()?.gate(*gate).await?;
        let place = GatePlace::of_row(&row)?;
        let path = place.allow_steward(unit).await.map_err(|_| {
            AppError::forbidden(
                "A gate above it would no longer apply, and you are not a steward where that gate is set.",
                "Ask a steward there to move it.",
            )
        })?;
        unit.add_detail("left_gate_of", path.clone());
        if super::second_person::needs_second(
            unit,
            &Act::RemoveGate {
                gate: row.id,
                revision: row.revision,
            },
        )
        .await?
        {
            return Err(AppError::conflict(
                ErrorCode::NeedsSecondPerson,
                format!(
                    "The gate of {path} would no longer apply to it, and removing a gate needs a second steward."
                ),
                "Set a gate that is not weaker at its new place, or have this gate removed with a second steward first.",
            ));
        }
    }
    Ok(())
}

/// Changes a gate, in the transaction that is under way.
pub async fn change_now(
    unit: &mut UnitOfWork,
    gate: Uuid,
    revision: i32,
    body: &NewGate,
) -> AppResult<()> {
    let (row, approvers) = parse(unit, body, gate, revision).await?;
    Ok(unit.tx()?.edit_gate(&row, &approvers).await?)
}

/// Changes a gate; all its conditions are given. What makes it weaker waits for a second steward.
pub async fn edit(
    unit: &mut UnitOfWork,
    gate: Uuid,
    revision: i32,
    body: NewGate,
) -> AppResult<MaybePending<Gate>> {
    let (present, path) = gate_for_stewards(unit, gate, Action::GateEdit).await?;
    let body = NewGate {
        folder: present.folder_id,
        device: present.device_id,
        credential: present.credential_id,
        ..body
    };
    if is_weakened(unit, &present, &body).await? {
        let act = Act::ChangeGate {
            gate: present.id,
            revision,
            to: body.clone(),
        };
        if let Some(pending) = propose(unit, act, &format!("Weaken the gate of {path}")).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    change_now(unit, present.id, revision, &body).await?;
    let shown = show_gate(unit, present.id).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(shown.revision, shown))
}

/// Removes a gate. It waits for a second steward.
pub async fn remove(
    unit: &mut UnitOfWork,
    gate: Uuid,
    revision: i32,
) -> AppResult<MaybePending<()>> {
    let (row, path) = gate_for_stewards(unit, gate, Action::GateRemove).await?;
    let act = Act::RemoveGate {
        gate: row.id,
        revision,
    };
    if let Some(pending) = propose(unit, act, &format!("Remove the gate of {path}")).await? {
        return Ok(MaybePending::Pending(pending));
    }
    unit.tx()?.remove_gate(row.id, revision).await?;
    unit.commit_audited().await?;
    Ok(MaybePending::Done(0, ()))
}
