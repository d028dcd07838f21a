//! What is demanded before anything is done: a level on a folder, a credential or a device, and the
//! way through the gates.

use jexlin_core::access::reference::Credential;
use jexlin_core::access::{Allowed, AtLeast, includes_history, mark};
use jexlin_core::audit::TargetType;
use jexlin_core::gate::{self, Passed};
use jexlin_core::people::Duty;
use jexlin_core::words::Word as _;
use jexlin_store::{Approach, DeviceRow, Spot, Target};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::unit_of_work::UnitOfWork;

/// Demands a level on a credential, and notes its name for the record.
pub async fn allow_credential<L: AtLeast>(
    unit: &mut UnitOfWork,
    credential: Uuid,
) -> AppResult<Allowed<L>> {
    let (person, now) = (unit.person.id, unit.now);
    let approach = unit.tx()?.approach(person, credential, now).await?;
    allow_approach(unit, credential, &approach)
}

/// The same, with an approach that was read before.
pub fn allow_approach<L: AtLeast>(
    unit: &mut UnitOfWork,
    credential: Uuid,
    approach: &Approach,
) -> AppResult<Allowed<L>> {
    if approach.reach.level().is_some() {
        unit.set_target(credential, &approach.path);
    }
    unit.demand::<L>(approach.reach).map_err(|denied| {
        if approach.reach.level().is_none() {
            AppError::unknown("credential")
        } else {
            denied.into()
        }
    })
}

/// Demands a level on a folder.
pub async fn allow_folder<L: AtLeast>(
    unit: &mut UnitOfWork,
    folder: Uuid,
) -> AppResult<Allowed<L>> {
    let (person, now) = (unit.person.id, unit.now);
    let reach = unit.tx()?.reach_folder(person, folder, now).await?;
    unit.demand::<L>(reach).map_err(|denied| {
        if reach.level().is_none() {
            AppError::unknown("folder")
        } else {
            denied.into()
        }
    })
}

/// Whether a person who may see the values of a credential, or of everything that grants on a
/// folder reach, may see former values too.
pub async fn sees_history(unit: &mut UnitOfWork, person: Uuid, target: Target) -> AppResult<bool> {
    let now = unit.now;
    let rows = unit.tx()?.grants_for(person, target).await?;
    let credential = match target {
        Target::Folder(_) => None,
        Target::Credential(id) => {
            let row = unit.tx()?.credential(id).await?;
            Some(Credential {
                folder: row.folder_id,
                kind: row.kind,
                tags: row.tags,
            })
        }
    };
    let grants: Vec<_> = rows
        .iter()
        .filter_map(|row| Some((row.to_plain()?, row.history)))
        .collect();
    let grants = grants.iter().map(|(grant, history)| (grant, *history));
    Ok(includes_history(grants, credential.as_ref(), now))
}

/// Exactly one of a folder and a credential.
pub fn target_of(folder: Option<Uuid>, credential: Option<Uuid>) -> AppResult<Target> {
    match (folder, credential) {
        (Some(folder), None) => Ok(Target::Folder(folder)),
        (None, Some(credential)) => Ok(Target::Credential(credential)),
        _ => Err(AppError::field(
            "folder",
            "name exactly one of `folder` and `credential`",
        )),
    }
}

/// Demands `steward` on a folder or credential; returns its path.
pub async fn allow_steward(unit: &mut UnitOfWork, target: Target) -> AppResult<String> {
    match target {
        Target::Folder(folder) => {
            allow_folder::<mark::Steward>(unit, folder).await?;
            Ok(unit.tx()?.path_of(folder).await?)
        }
        Target::Credential(credential) => {
            allow_credential::<mark::Steward>(unit, credential).await?;
            place_of(unit, credential).await
        }
    }
}

/// Demands that the organisation lets stewards grant, or the duty `access`.
pub async fn allow_sharing(unit: &mut UnitOfWork) -> AppResult<()> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    if settings.shares || unit.duty(Duty::Access).is_ok() {
        return Ok(());
    }
    Err(AppError::forbidden(
        "In this organisation, granting needs the duty `access`.",
        "Ask a person with the duty `access` who is also a steward here.",
    ))
}

/// The path of a credential.
pub async fn place_of(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<String> {
    let row = unit.tx()?.credential(credential).await?;
    Ok(format!(
        "{}/{}",
        unit.tx()?.path_of(row.folder_id).await?,
        row.name
    ))
}

/// The identifier and the word for what it is.
pub fn target_type_of(target: Target) -> (Uuid, TargetType) {
    match target {
        Target::Folder(id) => (id, TargetType::Folder),
        Target::Credential(id) => (id, TargetType::Credential),
    }
}

/// Looks at something whose access is asked about: for oneself, for its stewards, and with the duty
/// `audit`.
pub async fn spot(unit: &mut UnitOfWork, target: Target, for_oneself: bool) -> AppResult<Spot> {
    let (target_id, target_type) = target_type_of(target);
    if unit.duty(Duty::Audit).is_err() {
        match target {
            Target::Credential(credential) if for_oneself => {
                allow_credential::<mark::List>(unit, credential).await?;
            }
            Target::Folder(folder) if for_oneself => {
                allow_folder::<mark::List>(unit, folder).await?;
            }
            _ => {
                allow_steward(unit, target).await?;
            }
        }
    }
    let spot = unit
        .tx()?
        .spot(target)
        .await
        .map_err(|_| AppError::unknown(target_type.word()))?;
    unit.set_target(target_id, &spot.place);
    Ok(spot)
}

/// The way through the gates, where any stand.
pub async fn through<L: AtLeast>(
    unit: &mut UnitOfWork,
    allowed: &Allowed<L>,
    gates: &[Uuid],
) -> AppResult<Passed<L>> {
    let (person, target, now) = (allowed.subject(), allowed.target(), unit.now);
    let stand = unit.tx()?.gate_set(gates).await?;
    let mut held = None;
    if !stand.is_empty() {
        let open = unit.tx()?.open_checkouts(target).await?;
        if let Some(row) = open
            .iter()
            .find(|row| row.person_id == person && row.ends_at > now)
        {
            held = Some(row.to_core(unit.tx()?.checkout_gates(row.id).await?));
        }
    }
    gate::pass(allowed, &stand, held.as_ref(), now).map_err(|stopped| AppError::gate(&stopped))
}

/// The same, with the gates of a credential looked up.
pub async fn through_all<L: AtLeast>(
    unit: &mut UnitOfWork,
    allowed: &Allowed<L>,
) -> AppResult<Passed<L>> {
    let gates: Vec<Uuid> = unit
        .tx()?
        .gates_of(allowed.target())
        .await?
        .gates()
        .iter()
        .map(|gate| gate.id)
        .collect();
    through(unit, allowed, &gates).await
}

/// A device that the asker is a steward of. One that they may not know of does not exist for them.
pub async fn device_for_stewards(unit: &mut UnitOfWork, device: Uuid) -> AppResult<DeviceRow> {
    let row = unit
        .tx()?
        .device(device)
        .await
        .map_err(|_| AppError::unknown("device"))?;
    let (person, now) = (unit.person.id, unit.now);
    let reach = unit.tx()?.reach_folder(person, row.folder_id, now).await?;
    if reach.level().is_none() {
        return Err(AppError::unknown("device"));
    }
    unit.set_target(device, &row.name);
    unit.demand::<mark::Steward>(reach)?;
    Ok(row)
}
