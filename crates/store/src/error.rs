//! What can go wrong with the records, grouped by who is at fault.

use diesel::result::{DatabaseErrorKind, Error as DieselError};

/// Why the records could not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// There is no such row in this organisation.
    #[error("there is no such thing")]
    NotFound,
    /// Something else has this name or place already. Names the database's constraint.
    #[error("this conflicts with what is there: {0}")]
    Conflict(String),
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
    /// Anything else; a defect of ours or of the database.
    #[error("the database refused: {0}")]
    Broken(String),
}

impl From<DieselError> for StoreError {
    fn from(error: DieselError) -> Self {
        match error {
            DieselError::NotFound => Self::NotFound,
            DieselError::DatabaseError(DatabaseErrorKind::UniqueViolation, info) => {
                Self::Conflict(info.constraint_name().unwrap_or("unknown").to_owned())
            }
            DieselError::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _) => Self::NotFound,
            DieselError::DatabaseError(
                DatabaseErrorKind::ClosedConnection | DatabaseErrorKind::UnableToSendCommand,
                info,
            ) => Self::Unavailable(info.message().to_owned()),
            DieselError::DatabaseError(_, info) => {
                let message = info.message();
                if message == "the session is over" {
                    return Self::SessionOver;
                }
                if message == "the vault is locked" {
                    return Self::Locked;
                }
                if message == "the keys have changed" {
                    return Self::KeysChanged;
                }
                let passing = [
                    "No space left",
                    "terminating connection",
                    "the database system is",
                    "connection closed",
                    "statement timeout",
                    "deadlock detected",
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
