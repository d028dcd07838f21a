//! What a gate stands at.

use crate::guards::allow_steward;
use jexlin_core::access::Level;
use jexlin_store::GateRow;
use jexlin_store::Target;
use uuid::Uuid;

use crate::error::{ApiError, ApiResult};
use crate::unit_of_work::UnitOfWork;

/// What a gate stands at.
#[derive(Clone, Copy, Debug)]
pub enum GatePlace {
    Folder(Uuid),
    Device(Uuid),
    Credential(Uuid),
}

impl GatePlace {
    /// Exactly one of the three.
    pub fn of(
        folder: Option<Uuid>,
        device: Option<Uuid>,
        credential: Option<Uuid>,
    ) -> ApiResult<Self> {
        match (folder, device, credential) {
            (Some(folder), None, None) => Ok(Self::Folder(folder)),
            (None, Some(device), None) => Ok(Self::Device(device)),
            (None, None, Some(credential)) => Ok(Self::Credential(credential)),
            _ => Err(ApiError::field(
                "folder",
                "name exactly one of `folder`, `device` and `credential`",
            )),
        }
    }

    /// The place of a stored gate.
    pub fn of_row(row: &GateRow) -> ApiResult<Self> {
        Self::of(row.folder_id, row.device_id, row.credential_id)
    }

    /// Its identifier and the word for what it is.
    pub const fn parts(self) -> (Uuid, &'static str) {
        match self {
            Self::Folder(id) => (id, "folder"),
            Self::Device(id) => (id, "device"),
            Self::Credential(id) => (id, "credential"),
        }
    }

    /// The level that the asker holds on it.
    pub async fn level(self, unit: &mut UnitOfWork) -> ApiResult<Option<Level>> {
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
    pub async fn allow_steward(self, unit: &mut UnitOfWork) -> ApiResult<String> {
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
