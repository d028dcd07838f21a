//! What can go wrong with the records, grouped by who is at fault.

use diesel::result::{DatabaseErrorKind, Error as DieselError};

/// What a change conflicts with. The first ones are unique indexes of the schema, each by its name
/// there; the others are found by queries before a change is made.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, strum::Display, strum::EnumString, strum::VariantArray,
)]
#[strum(serialize_all = "snake_case")]
pub enum Conflict {
    /// Another person has this sign-in name.
    PersonSignInName,
    /// Another group has this name.
    PeopleGroupName,
    /// Another folder in the same place has this name.
    FolderName,
    /// Another credential in the folder has this name.
    CredentialName,
    /// Another device in the folder has this name.
    DeviceName,
    /// Another kind has this name.
    KindName,
    /// Another saved search of the person has this name.
    SavedSearchName,
    /// Another attachment of the credential has this name.
    AttachmentName,
    /// Another password policy has this name.
    PasswordPolicyName,
    /// The subject has such a grant there.
    AccessGrantOnce,
    /// There is an upkeep plan there.
    UpkeepPlanPlace,
    /// There is a gate there.
    GatePlace,
    /// A job of the account has not ended.
    JobOneAtATime,
    /// Somebody else has the credential checked out.
    CheckoutOneHolder,
    /// The person has the credential checked out.
    CheckoutOnceEach,
    /// Another unique index.
    OtherIndex,
    /// A job of the account has not ended.
    JobUnderWay,
    /// Accounts of the device are in other folders.
    HasAccountsElsewhere,
    /// Another credential is the password of the account.
    AccountTaken,
    /// The account waits for the rotation after a checkout.
    RotationOwed,
    /// The credential is checked out, and must be rotated afterwards.
    MustRotate,
    /// The job is running, or has ended.
    JobRunning,
    /// The credential is checked out.
    CheckedOut,
    /// A device has the credential as its operator, or is reached with it.
    IsOperator,
    /// Devices elsewhere are reached through the device.
    IsJumpHost,
    /// The folder is in the bin.
    FolderRemoved,
    /// The device is in the bin.
    DeviceRemoved,
}

impl Conflict {
    /// Whether something else has the name.
    #[must_use]
    pub const fn is_name_taken(self) -> bool {
        matches!(
            self,
            Self::PersonSignInName
                | Self::PeopleGroupName
                | Self::FolderName
                | Self::CredentialName
                | Self::DeviceName
                | Self::KindName
                | Self::SavedSearchName
                | Self::AttachmentName
                | Self::PasswordPolicyName
        )
    }

    /// The conflict that a violated unique index stands for.
    fn of_index(name: Option<&str>) -> Self {
        name.and_then(|name| name.parse().ok())
            .unwrap_or(Self::OtherIndex)
    }
}

/// What `must_be_recorded` refuses a commit for; each is raised under its name.
#[derive(Clone, Copy, Debug, strum::EnumString)]
#[strum(serialize_all = "snake_case")]
enum Refusal {
    SessionOver,
    VaultLocked,
    KeysChanged,
}

impl From<Refusal> for StoreError {
    fn from(refusal: Refusal) -> Self {
        match refusal {
            Refusal::SessionOver => Self::SessionOver,
            Refusal::VaultLocked => Self::Locked,
            Refusal::KeysChanged => Self::KeysChanged,
        }
    }
}

/// Why the records could not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// There is no such row in this organisation.
    #[error("there is no such thing")]
    NotFound,
    /// Something else has this name or place already, or is under way there.
    #[error("this conflicts with what is there: {0}")]
    Conflict(Conflict),
    /// Somebody changed it in the meantime.
    #[error("somebody else has changed this in the meantime")]
    Stale,
    /// The session that a request came with is over, or its person may not act any more.
    #[error("the session is over")]
    SessionOver,
    /// Somebody has closed the vault of the organisation.
    #[error("the vault is locked")]
    Locked,
    /// The organisation's key has changed since this service read it.
    #[error("the keys have changed")]
    KeysChanged,
    /// The database does not answer, or has no room. It may come back.
    #[error("the database is not available: {0}")]
    Unavailable(String),
    /// Somebody else holds what this needs, for longer than it is waited for, or both waited for
    /// each other. Nothing was changed; another try may succeed.
    #[error("somebody else is changing the same records: {0}")]
    Busy(String),
    /// The database has a migration that this program does not know.
    #[error(
        "another version of Jexlin set this database up: its migration {0} is not known here. Run that \
         version, or a later one"
    )]
    UnknownMigration(String),
    /// Anything else; a defect of ours or of the database.
    #[error("the database refused: {0}")]
    Broken(String),
}

impl From<DieselError> for StoreError {
    fn from(error: DieselError) -> Self {
        match error {
            DieselError::NotFound => Self::NotFound,
            DieselError::DatabaseError(DatabaseErrorKind::UniqueViolation, info) => {
                Self::Conflict(Conflict::of_index(info.constraint_name()))
            }
            DieselError::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _) => Self::NotFound,
            DieselError::DatabaseError(
                DatabaseErrorKind::ClosedConnection | DatabaseErrorKind::UnableToSendCommand,
                info,
            ) => Self::Unavailable(info.message().to_owned()),
            DieselError::DatabaseError(_, info) => {
                let refusal = info.constraint_name().map(str::parse::<Refusal>);
                if let Some(Ok(refusal)) = refusal {
                    return refusal.into();
                }
                let message = info.message();
                // The driver gives no SQLSTATE, so that these are known by their texts.
                let busy = ["lock timeout", "deadlock detected", "could not serialize"];
                if busy.iter().any(|text| message.contains(text)) {
                    return Self::Busy(message.to_owned());
                }
                let passing = [
                    "No space left",
                    "terminating connection",
                    "the database system is",
                    "connection closed",
                    "statement timeout",
                ];
                if passing.iter().any(|text| message.contains(text)) {
                    Self::Unavailable(message.to_owned())
                } else {
                    Self::Broken(message.to_owned())
                }
            }
            other => Self::Broken(other.to_string()),
        }
    }
}
