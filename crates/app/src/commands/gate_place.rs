//! What a gate is on.

use jexlin_core::access::Level;
use jexlin_core::audit::TargetType;
use jexlin_store::GateRow;
use jexlin_store::Target;
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::allow_steward;
use crate::unit_of_work::UnitOfWork;

/// What a gate is on.
#[derive(Clone, Copy, Debug)]
pub enum GatePlace {
    /// A folder.
    Folder(Uuid),
    /// A device.
    Device(Uuid),
    /// A credential.
    Credential(Uuid),
}

impl GatePlace {
    /// Exactly one of the three.
    pub fn of(
        folder: Option<Uuid>,
        device: Option<Uuid>,
        credential: Option<Uuid>,
    ) -> AppResult<Self> {
        match (folder, device, credential) {
            (Some(folder), None, None) => Ok(Self::Folder(folder)),
            (None, Some(device), None) => Ok(Self::Device(device)),
            (None, None, Some(credential)) => Ok(Self::Credential(credential)),
            _ => Err(AppError::field(
                "folder",
                "name exactly one of `folder`, `device` and `credential`",
            )),
        }
    }

    /// The place of a stored gate.
    pub fn of_row(row: &GateRow) -> AppResult<Self> {
        Self::of(row.folder_id, row.device_id, row.credential_id)
    }

    /// Its identifier and the word for what it is.
    pub const fn parts(self) -> (Uuid, TargetType) {
        match self {
            Self::Folder(id) => (id, TargetType::Folder),
            Self::Device(id) => (id, TargetType::Device),
            Self::Credential(id) => (id, TargetType::Credential),
        }
    }

    /// The level that the asker holds on it.
    pub async fn level(self, unit: &mut UnitOfWork) -> AppResult<Option<Level>> {
        let (person, now) = (unit.person.id, unit.now);
        Ok(match self {
            Self::Folder(folder) => unit.tx()?.reach_folder(person, folder, now).await?.level(),
            Self::Device(device) => match unit.tx()?.device(device).await {
                Ok(row) => unit
                    .tx()?
                    .reach_folder(person, row.folder_id, now)
                    .await?
                    .level(),
                Err(_) => None,
            },
            Self::Credential(credential) => unit
                .tx()?
                .reach_credential(person, credential, now)
                .await?
                .level(),
        })
    }

    /// Demands `steward` on it; returns its path.
    pub async fn allow_steward(self, unit: &mut UnitOfWork) -> AppResult<String> {
        match self {
            Self::Folder(folder) => allow_steward(unit, Target::Folder(folder)).await,
            Self::Credential(credential) => {
                allow_steward(unit, Target::Credential(credential)).await
            }
            Self::Device(device) => {
                let row = crate::guards::device_for_stewards(unit, device).await?;
                Ok(format!(
                    "{}/{}",
                    unit.tx()?.path_of(row.folder_id).await?,
                    row.name
                ))
            }
        }
    }
}
