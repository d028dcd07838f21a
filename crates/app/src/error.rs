//! Errors with two voices: problem details for the caller, other words and the request id for the
//! log. Every one says what failed and what to do now; they all stand here.

use std::collections::BTreeMap;

use jexlin_api::ErrorCode;
use jexlin_core::access::Denied;
use jexlin_core::gate::{RequestProblem, Stopped};
use jexlin_core::people::Duty;
use jexlin_core::vault::SealProblem;
use jexlin_store::{Conflict, StoreError};

/// Whose fault an error is, and what can be done about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ErrorKind {
    /// The request cannot be read.
    Malformed,
    /// The request did not arrive in time.
    TooSlow,
    /// A value is not usable.
    BadInput,
    /// Nobody is signed in.
    SignedOut,
    /// Not allowed.
    Forbidden,
    /// There is no such thing, or none that the caller may know of.
    Unknown,
    /// Not possible now.
    Conflict,
    /// A change does not say which revision it is based on.
    NeedsVersion,
    /// Somebody else has changed it meanwhile.
    Stale,
    /// Too many tries.
    Throttled,
    /// The service, the vault or the database is not ready.
    Unavailable,
    /// A defect of the service.
    Internal,
}

/// A refused or failed command.
#[derive(Clone, Debug)]
pub struct AppError {
    /// The stable code.
    pub code: ErrorCode,
    /// Whose fault it is.
    pub kind: ErrorKind,
    title: &'static str,
    detail: String,
    advice: String,
    fields: BTreeMap<String, String>,
    log: Option<String>,
    retry_after: Option<i64>,
    tells_of_value: bool,
}

/// What commands return.
pub type AppResult<T> = Result<T, AppError>;

impl AppError {
    fn new(
        kind: ErrorKind,
        code: ErrorCode,
        title: &'static str,
        detail: impl Into<String>,
        advice: impl Into<String>,
    ) -> Self {
        Self {
            code,
            kind,
            title,
            detail: detail.into(),
            advice: advice.into(),
            fields: BTreeMap::new(),
            log: None,
            retry_after: None,
            tells_of_value: false,
        }
    }

    /// Nobody is signed in, or the session has ended.
    #[must_use]
    pub fn signed_out(detail: &str) -> Self {
        Self::new(
            ErrorKind::SignedOut,
            ErrorCode::SignedOut,
            "Not signed in",
            detail,
            "Sign in and try again.",
        )
    }

    /// Signing in did not work. The same words whatever was wrong.
    #[must_use]
    pub fn sign_in() -> Self {
        let advice = "Check both. If you have forgotten your password, a person with the duty `people` can set a new one.";
        Self::new(
            ErrorKind::SignedOut,
            ErrorCode::SignInRefused,
            "Sign-in refused",
            "The name or the password is wrong, or the person may not sign in.",
            advice,
        )
    }

    /// Too many failed sign-ins.
    #[must_use]
    pub fn throttled(seconds: i64) -> Self {
        let mut fault = Self::new(
            ErrorKind::Throttled,
            ErrorCode::SignInThrottled,
            "Too many failed sign-ins",
            format!(
                "There were too many failed sign-ins for this name or from this address. The next one is possible in {seconds} seconds."
            ),
            "Wait, then try again with the right password.",
        );
        fault.retry_after = Some(seconds);
        fault
    }

    /// A duty is missing.
    #[must_use]
    pub fn needs_duty(duty: Duty) -> Self {
        Self::new(
            ErrorKind::Forbidden,
            ErrorCode::NeedsDuty,
            "A duty is missing",
            format!("This needs the duty `{duty}`."),
            "Ask an administrator who may give it to you.",
        )
    }

    /// A device is paused, so its operator is not used.
    #[must_use]
    pub fn device_paused(why: &str) -> Self {
        Self::conflict(
            ErrorCode::DevicePaused,
            format!("The device is paused: {why}."),
            "Correct the operator's password and have a steward resume the device.",
        )
    }

    /// Not allowed, for a reason in words.
    #[must_use]
    pub fn forbidden(detail: impl Into<String>, advice: &str) -> Self {
        Self::new(
            ErrorKind::Forbidden,
            ErrorCode::NotAllowed,
            "Not allowed",
            detail,
            advice,
        )
    }

    /// There is no such thing, or nothing reaches the asker.
    #[must_use]
    pub fn unknown(what: &str) -> Self {
        Self::new(
            ErrorKind::Unknown,
            ErrorCode::Unknown,
            "Not found",
            format!("There is no such {what}, or no grant lets you know of it."),
            "Check the name; if it should exist, ask a steward of its folder for a grant.",
        )
    }

    /// One field is wrong.
    #[must_use]
    pub fn field(name: &str, problem: impl Into<String>) -> Self {
        Self::bad_fields([(name.to_owned(), problem.into())].into())
    }

    /// Several fields are wrong.
    #[must_use]
    pub fn bad_fields(fields: BTreeMap<String, String>) -> Self {
        let detail = fields
            .iter()
            .map(|(name, problem)| format!("{name}: {problem}"))
            .collect::<Vec<_>>()
            .join("; ");
        let mut fault = Self::new(
            ErrorKind::BadInput,
            ErrorCode::BadInput,
            "The input is not valid",
            detail,
            "Nothing was changed. Fix the value above and try again.",
        );
        fault.fields = fields;
        fault
    }

    /// A file says what cannot be, each at a line.
    #[must_use]
    pub fn lines(problems: &[jexlin_core::access::file::Problem]) -> Self {
        const MOST: usize = 20;
        let place = |line: Option<usize>| {
            line.map_or_else(|| "file".to_owned(), |line| format!("line {line}"))
        };
        let mut fields = BTreeMap::<String, String>::new();
        for problem in problems {
            let said = fields.entry(place(problem.line)).or_default();
            *said = if said.is_empty() {
                problem.text.clone()
            } else {
                format!("{said}; {}", problem.text)
            };
        }
        let mut detail: Vec<String> = problems
            .iter()
            .take(MOST)
            .map(|problem| format!("{}: {}", place(problem.line), problem.text))
            .collect();
        if problems.len() > MOST {
            detail.push(format!("and {} more", problems.len() - MOST));
        }
        let mut fault = Self::new(
            ErrorKind::BadInput,
            ErrorCode::BadInput,
            "The input is not valid",
            detail.join("; "),
            "Nothing was changed. Fix the value above and try again.",
        );
        fault.fields = fields;
        fault
    }

    /// The body or a parameter cannot be read.
    #[must_use]
    pub fn malformed(detail: impl Into<String>) -> Self {
        Self::new(
            ErrorKind::Malformed,
            ErrorCode::Malformed,
            "The request cannot be read",
            detail,
            "Nothing was changed. Correct the request and send it again.",
        )
    }

    /// The body did not arrive in time.
    #[must_use]
    pub fn too_slow() -> Self {
        Self::new(
            ErrorKind::TooSlow,
            ErrorCode::TooSlow,
            "The request cannot be read",
            "The body did not arrive in time.",
            "Nothing was changed. Send it again.",
        )
    }

    /// Not possible now.
    #[must_use]
    pub fn conflict(code: ErrorCode, detail: impl Into<String>, advice: &str) -> Self {
        Self::new(
            ErrorKind::Conflict,
            code,
            "Not possible now",
            detail,
            advice,
        )
    }

    /// A rotation holds a candidate: setting a password now could lose the one the device has.
    #[must_use]
    pub fn rotating() -> Self {
        Self::conflict(
            ErrorCode::JobUnderWay,
            "A rotation of this password is under way or in doubt.",
            "Wait until it has ended; setting a password now could lose the one that the device has.",
        )
    }

    /// `If-Match` is missing.
    #[must_use]
    pub fn needs_version() -> Self {
        Self::new(
            ErrorKind::NeedsVersion,
            ErrorCode::NeedsIfMatch,
            "If-Match is missing",
            "This could overwrite another person's change.",
            "Read it first, and send its revision as If-Match.",
        )
    }

    /// Somebody changed it meanwhile.
    #[must_use]
    pub fn stale() -> Self {
        let advice = "Nothing was changed. Read it again and repeat your change.";
        Self::new(
            ErrorKind::Stale,
            ErrorCode::ChangedMeanwhile,
            "Changed in the meantime",
            "Another person has changed this since you read it.",
            advice,
        )
    }

    /// The vault is locked.
    #[must_use]
    pub fn locked() -> Self {
        let advice = "Unlock it with the root key's passphrase: `jexlin unlock`, or the console's first page.";
        Self::new(
            ErrorKind::Unavailable,
            ErrorCode::VaultLocked,
            "The vault is locked",
            "The vault has not been unlocked since the service started or since it was locked.",
            advice,
        )
    }

    /// The organisation's key has just changed.
    #[must_use]
    pub fn keys_changed() -> Self {
        let mut fault = Self::new(
            ErrorKind::Unavailable,
            ErrorCode::KeysChanged,
            "The keys have just changed",
            "The organisation's key has just been changed; this service reads the new one.",
            "Try again in a second; nothing was done.",
        );
        fault.retry_after = Some(1);
        fault
    }

    /// Set-up has not happened.
    #[must_use]
    pub fn needs_setup() -> Self {
        Self::new(
            ErrorKind::Unavailable,
            ErrorCode::NeedsSetup,
            "Not set up yet",
            "There is no organisation yet.",
            "Set it up with `jexlin setup` or in the console.",
        )
    }

    /// This credential has a gate.
    #[must_use]
    pub fn gate(stopped: &Stopped) -> Self {
        let advice = match stopped {
            Stopped::NeedsCheckout {
                needs_approval: true,
                ..
            } => "Request a checkout: `jexlin request ask`, or Request checkout in the console.",
            _ => {
                "Check it out with a reason: `jexlin checkout take`, or the button Check out in the console."
            }
        };
        Self::new(
            ErrorKind::Forbidden,
            ErrorCode::Gate,
            "This credential has a gate",
            stopped.to_string(),
            advice,
        )
    }

    /// Says that this answer depends on a value that is kept: too many such answers have to wait.
    #[must_use]
    pub const fn telling_of_a_value(mut self) -> Self {
        self.tells_of_value = true;
        self
    }

    /// Whether this answer depends on a value that is kept.
    #[must_use]
    pub const fn tells_of_value(&self) -> bool {
        self.tells_of_value
    }

    /// Too many answers that depended on values.
    #[must_use]
    pub fn asked_too_often(seconds: i64) -> Self {
        let mut fault = Self::new(
            ErrorKind::Throttled,
            ErrorCode::AskedTooOften,
            "Too many attempts",
            format!(
                "Too many of your changes were refused because of stored passwords; the next is accepted in {seconds} seconds."
            ),
            "Wait, and choose another password or folder.",
        );
        fault.retry_after = Some(seconds);
        fault
    }

    /// Ours or the database's fault; the caller learns nothing more.
    #[must_use]
    pub fn internal(log: impl Into<String>) -> Self {
        let mut fault = Self::new(
            ErrorKind::Internal,
            ErrorCode::Internal,
            "Internal error",
            "The service could not do this. Nothing was changed.",
            "Try again; if it happens again, give the administrator the request's number.",
        );
        fault.log = Some(log.into());
        fault
    }

    /// The database is away.
    #[must_use]
    pub fn unavailable(log: impl Into<String>) -> Self {
        let mut fault = Self::new(
            ErrorKind::Unavailable,
            ErrorCode::DatabaseAway,
            "The database is not available",
            "The database did not answer in time. Nothing was changed.",
            "Try again in a moment; the service continues by itself when the database is back.",
        );
        fault.log = Some(log.into());
        fault.retry_after = Some(5);
        fault
    }

    /// Somebody else holds the records that this needs.
    #[must_use]
    pub fn busy(log: impl Into<String>) -> Self {
        let mut fault = Self::new(
            ErrorKind::Unavailable,
            ErrorCode::RecordsBusy,
            "The records are busy",
            "Somebody else is changing the same records, and that takes longer than this waits. Nothing was changed.",
            "Try again in a moment.",
        );
        fault.log = Some(log.into());
        fault.retry_after = Some(2);
        fault
    }

    /// Whether the refusal is worth an audit event: not for slips of the pen.
    #[must_use]
    pub const fn is_refusal(&self) -> bool {
        use ErrorKind::{Conflict, Forbidden, Throttled, Unknown};
        matches!(self.kind, Conflict | Forbidden | Throttled | Unknown)
            || matches!(self.code, ErrorCode::SignInRefused)
    }

    /// A few words for it.
    #[must_use]
    pub const fn title(&self) -> &'static str {
        self.title
    }

    /// What to do now.
    #[must_use]
    pub fn advice(&self) -> &str {
        &self.advice
    }

    /// What is wrong with which field.
    #[must_use]
    pub const fn fields(&self) -> &BTreeMap<String, String> {
        &self.fields
    }

    /// What only the log is told.
    #[must_use]
    pub fn log(&self) -> Option<&str> {
        self.log.as_deref()
    }

    /// What it says, and what only the log is told.
    #[must_use]
    pub fn for_log(&self) -> String {
        match &self.log {
            Some(log) => format!("{} ({log})", self.detail),
            None => self.detail.clone(),
        }
    }

    /// The seconds to wait before another try.
    #[must_use]
    pub const fn retry_after(&self) -> Option<i64> {
        self.retry_after
    }

    /// What it says, for a log or a message.
    #[must_use]
    pub fn detail(&self) -> &str {
        &self.detail
    }
}

impl AppError {
    /// A thing that one may not know of answers as if it did not exist, by the name that was asked
    /// for.
    #[must_use]
    pub fn hide(self, what: &str) -> Self {
        if self.kind == ErrorKind::Unknown {
            Self::unknown(what)
        } else {
            self
        }
    }
}

impl From<StoreError> for AppError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::NotFound => Self::unknown("thing"),
            StoreError::Stale => Self::stale(),
            StoreError::Locked => Self::locked(),
            StoreError::KeysChanged => Self::keys_changed(),
            StoreError::SessionOver => Self::signed_out("The session has ended."),
            StoreError::Unavailable(log) => Self::unavailable(log),
            StoreError::Busy(log) => Self::busy(log),
            StoreError::Broken(log) => Self::internal(log),
            StoreError::UnknownMigration(_) => Self::internal(error.to_string()),
            StoreError::Conflict(conflict) => of_conflict(conflict),
        }
    }
}

/// What a conflict with a record says: its code, what happened, and what to do.
fn of_conflict(conflict: Conflict) -> AppError {
    let (code, detail, advice) = match conflict {
        Conflict::PersonSignInName => (
            ErrorCode::NameTaken,
            "This sign-in name is taken.",
            "Choose another.",
        ),
        Conflict::PeopleGroupName => (
            ErrorCode::NameTaken,
            "There is a group of this name.",
            "Choose another.",
        ),
        Conflict::FolderName => (
            ErrorCode::NameTaken,
            "There is a folder of this name in the same place.",
            "Choose another name or place.",
        ),
        Conflict::CredentialName => (
            ErrorCode::NameTaken,
            "There is a credential of this name in the same folder.",
            "Choose another name or folder.",
        ),
        Conflict::DeviceName => (
            ErrorCode::NameTaken,
            "There is a device of this name in the same folder.",
            "Choose another name or folder.",
        ),
        Conflict::KindName => (
            ErrorCode::NameTaken,
            "There is a kind of this name.",
            "Choose another.",
        ),
        Conflict::SavedSearchName => (
            ErrorCode::NameTaken,
            "You have a saved search of this name.",
            "Choose another, or remove that one first.",
        ),
        Conflict::AttachmentName => (
            ErrorCode::NameTaken,
            "There is an attachment of this name already.",
            "Choose another, or remove that one first.",
        ),
        Conflict::IsJumpHost => (
            ErrorCode::InUse,
            "Devices elsewhere are reached through a device in this folder.",
            "Choose another way for those first.",
        ),
        Conflict::HasAccountsElsewhere => (
            ErrorCode::HasAccounts,
            "Credentials elsewhere are accounts of a device in this folder.",
            "Remove them from the device, or move the device out first.",
        ),
        Conflict::PasswordPolicyName => (
            ErrorCode::NameTaken,
            "There is a password policy of this name.",
            "Choose another.",
        ),
        Conflict::AccessGrantOnce => (
            ErrorCode::AlreadyGranted,
            "They already have a grant there.",
            "Edit that grant: `jexlin grant edit`, or Edit in the console.",
        ),
        Conflict::UpkeepPlanPlace => (
            ErrorCode::AlreadyPlanned,
            "It already has an upkeep plan of its own.",
            "Edit that one.",
        ),
        Conflict::GatePlace => (
            ErrorCode::AlreadyGated,
            "It already has a gate of its own.",
            "Edit that one.",
        ),
        Conflict::JobOneAtATime | Conflict::JobUnderWay => (
            ErrorCode::JobUnderWay,
            "A job is under way for this account.",
            "Wait until it has ended: `jexlin upkeep watch`.",
        ),
        Conflict::CheckoutOneHolder | Conflict::CheckoutOnceEach => (
            ErrorCode::Held,
            "This credential is checked out, and its gate allows one holder at a time.",
            "Ask the holder to check it in, or wait until the checkout ends.",
        ),
        Conflict::AccountTaken => (
            ErrorCode::AccountTaken,
            "Another credential is already the password of this account.",
            "Remove that one from the device first, or use it.",
        ),
        Conflict::RotationOwed => (
            ErrorCode::RotationOwed,
            "The rotation after the last checkout is still pending for this account.",
            "Wait until it is done, or rotate it now: `jexlin upkeep rotate`.",
        ),
        Conflict::MustRotate => (
            ErrorCode::RotationOwed,
            "This credential is checked out, and its gate rotates it when it is checked in.",
            "Have it checked in first, or recall it.",
        ),
        Conflict::JobRunning => (
            ErrorCode::JobRunning,
            "This job is running or has ended; only a waiting job can be cancelled.",
            "Wait until it has ended.",
        ),
        Conflict::CheckedOut => (
            ErrorCode::Held,
            "This credential is checked out.",
            "Wait, or have a steward recall it.",
        ),
        Conflict::IsOperator => (
            ErrorCode::IsOperator,
            "A device is changed with this credential as its operator, or reached with it through a jump host.",
            "Give the device another one first.",
        ),
        Conflict::FolderRemoved => (
            ErrorCode::FolderRemoved,
            "The folder is in the bin.",
            "Restore the folder first: jexlin bin list.",
        ),
        Conflict::DeviceRemoved => (
            ErrorCode::DeviceRemoved,
            "The device is in the bin.",
            "Restore the device first: jexlin bin list.",
        ),
        Conflict::OtherIndex => (
            ErrorCode::Conflict,
            "This conflicts with what is there.",
            "Read it again and try again.",
        ),
    };
    AppError::conflict(code, detail, advice)
}

impl From<Denied> for AppError {
    fn from(denied: Denied) -> Self {
        match denied {
            Denied::Unknown => Self::unknown("thing"),
            Denied::TooLow { .. } => Self::forbidden(
                format!("{}.", sentence(&denied.to_string())),
                "Ask a steward of the folder for a higher level.",
            ),
        }
    }
}

impl From<RequestProblem> for AppError {
    fn from(problem: RequestProblem) -> Self {
        let detail = format!("{}.", sentence(&problem.to_string()));
        match problem {
            RequestProblem::Own
            | RequestProblem::NoApprover
            | RequestProblem::NotYours
            | RequestProblem::OwesAsker => Self::forbidden(detail, "Ask an approver of the gate."),
            RequestProblem::Settled(_) | RequestProblem::Expired | RequestProblem::GatesChanged => {
                Self::conflict(
                    ErrorCode::RequestSettled,
                    detail,
                    "Ask again if it is still needed.",
                )
            }
        }
    }
}

impl From<SealProblem> for AppError {
    fn from(problem: SealProblem) -> Self {
        Self::internal(problem.to_string())
    }
}

/// The first letter large.
fn sentence(text: &str) -> String {
    let mut letters = text.chars();
    letters
        .next()
        .map(|first| first.to_uppercase().collect::<String>() + letters.as_str())
        .unwrap_or_default()
}
