//! From the paths that people know to identifiers.

use jexlin_api::{LookedUp, LookupType};
use jexlin_core::access::mark;
use jexlin_core::names::parse_path;
use jexlin_core::people::Duty;
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::{allow_credential, allow_folder};
use crate::unit_of_work::UnitOfWork;

/// What a path names: a credential before a folder, and a folder before a device, unless a type is
/// asked for. What the asker may not know of does not exist.
///
/// # Errors
/// [`AppError`] when the text is no path, or nothing of it is known.
pub async fn lookup(
    unit: &mut UnitOfWork,
    path: &str,
    wanted: Option<LookupType>,
) -> AppResult<LookedUp> {
    let names = parse_path(path).map_err(|problem| AppError::field("path", problem.to_string()))?;
    let mut names: Vec<&str> = names.iter().map(|name| name.as_str()).collect();
    let last = names.pop().ok_or_else(|| AppError::unknown("path"))?;
    let mut place = None;
    for name in names {
        let found = unit.tx()?.folder_named(place, name).await?;
        place = Some(found.ok_or_else(|| AppError::unknown("path"))?);
    }
    let types = match wanted {
        Some(wanted) => vec![wanted],
        None => vec![
            LookupType::Credential,
            LookupType::Folder,
            LookupType::Device,
        ],
    };
    for looked_for in types {
        if let Some(id) = find(unit, looked_for, place, last).await? {
            unit.commit().await?;
            return Ok(LookedUp {
                found: looked_for,
                id,
            });
        }
    }
    Err(AppError::unknown("path"))
}

/// Whoever reads the whole log, or repairs access everywhere, knows of everything.
fn knows_all(unit: &UnitOfWork) -> bool {
    [Duty::Audit, Duty::Access]
        .into_iter()
        .any(|duty| unit.duty(duty).is_ok())
}

/// Something of a name in a folder, if the asker may know of it.
async fn find(
    unit: &mut UnitOfWork,
    looked_for: LookupType,
    place: Option<Uuid>,
    name: &str,
) -> AppResult<Option<Uuid>> {
    match (looked_for, place) {
        (LookupType::Folder, place) => {
            let Some(id) = unit.tx()?.folder_named(place, name).await? else {
                return Ok(None);
            };
            if knows_all(unit) || allow_folder::<mark::List>(unit, id).await.is_ok() {
                return Ok(Some(id));
            }
            // On the way to something that the asker may list.
            let (person, now) = (unit.person.id, unit.now);
            let visible = unit.tx()?.visible_folders(person, now).await?;
            Ok(visible.iter().any(|folder| folder.id == id).then_some(id))
        }
        (LookupType::Credential, Some(place)) => {
            let Some(id) = unit.tx()?.credential_named(place, name).await? else {
                return Ok(None);
            };
            let known = knows_all(unit) || allow_credential::<mark::List>(unit, id).await.is_ok();
            Ok(known.then_some(id))
        }
        (LookupType::Device, Some(place)) => {
            let Some(id) = unit.tx()?.device_named(place, name).await? else {
                return Ok(None);
            };
            let known = knows_all(unit) || allow_folder::<mark::List>(unit, place).await.is_ok();
            Ok(known.then_some(id))
        }
        (LookupType::Credential | LookupType::Device, None) => Ok(None),
    }
}
