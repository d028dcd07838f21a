//! Which password may be sent to which device: accounts, operators, jump accounts.

use jexlin_api::ErrorCode;
use jexlin_core::access::{Level, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::upkeep::account::{Family, check_login};
use jexlin_core::upkeep::identity::Identity;
use jexlin_core::upkeep::{ConnectorKind, Role};
use jexlin_core::vault::VersionState;
use jexlin_core::vault::kinds::{FieldType, PASSWORD};
use jexlin_core::words::Word as _;
use jexlin_store::{DeviceRow, ScopeEntry};
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::guards::through;
use crate::kinds::kind_of;
use crate::operators::device_facts;
use crate::unit_of_work::UnitOfWork;

/// Demands that the asker may see a credential's password at this moment, its gates passed.
pub(super) async fn pass_reveal(
    unit: &mut UnitOfWork,
    credential: Uuid,
    what: &'static str,
) -> AppResult<()> {
    let (person, now) = (unit.person.id, unit.now);
    let approach = unit.tx()?.approach(person, credential, now).await?;
    if approach.reach.level().is_none() {
        return Err(AppError::unknown(what));
    }
    let allowed = unit.demand::<mark::Reveal>(approach.reach)?;
    through(unit, &allowed, &approach.gates).await?;
    Ok(())
}

/// The name and version of a dialogue.
pub(super) async fn dialogue_name(unit: &mut UnitOfWork, id: Uuid) -> AppResult<String> {
    let dialogue = unit.tx()?.dialogue(id).await?;
    Ok(format!("{} {}", dialogue.name, dialogue.number))
}

/// Records on a credential that its password may be sent somewhere, with what is recorded already.
pub(super) async fn record_binding(
    unit: &mut UnitOfWork,
    credential: Uuid,
    on: &DeviceRow,
    role: Role,
) -> AppResult<()> {
    let place = crate::guards::place_of(unit, credential).await?;
    let host = unit.tx()?.jump_host(on).await?;
    let at = match &host {
        Some(host) if role == Role::JumpHost => host,
        _ => on,
    };
    let mut detail = vec![
        ("device", on.name.clone()),
        ("as", role.word().to_owned()),
        ("endpoint", format!("{} port {}", at.address, at.port)),
        ("identity", identity_words(&at.identity)),
    ];
    if let Some(id) = at.dialogue_id {
        detail.push(("dialogue", dialogue_name(unit, id).await?));
    }
    if let Some(host) = &host {
        detail.push(("jump_host", host.name.clone()));
    }
    unit.record_beside(
        Action::BindingConfirm,
        TargetType::Credential,
        credential,
        &place,
        &detail,
    )
    .await
}

pub(super) fn identity_words(lines: &str) -> String {
    let all = Identity::parse_lines(lines).unwrap_or_default();
    if all.is_empty() {
        "none yet".into()
    } else {
        all.iter()
            .map(Identity::fingerprint)
            .collect::<Vec<_>>()
            .join(", ")
    }
}

/// Makes a credential the password of an account of a device. It takes `steward` on the device, and
/// of a credential that exists, that its password may be seen at this moment.
pub async fn enroll(
    unit: &mut UnitOfWork,
    credential: Uuid,
    login: &str,
    device: Uuid,
    is_new: bool,
) -> AppResult<()> {
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
    unit.demand::<mark::Steward>(reach)?;
    if !is_new {
        pass_reveal(unit, credential, "credential").await?;
    }
    unit.add_detail("device", row.name.clone());
    give(unit, credential, login, &row).await
}

/// Makes a credential the password of an account of a device. The caller has checked that the person
/// may do that.
pub async fn give(
    unit: &mut UnitOfWork,
    credential: Uuid,
    login: &str,
    row: &DeviceRow,
) -> AppResult<()> {
    let (person, now) = (unit.person.id, unit.now);
    check_login(login).map_err(|problem| AppError::field("user_name", problem))?;
    let family = if is_key(unit, credential, row.connector.0).await? {
        Family::Key
    } else {
        row.connector.0.family()
    };
    let account = unit.tx()?.ensure_account(row, family, login, now).await?;
    unit.tx()?
        .enroll(&account, row, credential, person, now)
        .await?;
    record_binding(unit, credential, row, Role::Account).await
}

/// Whether a credential opens accounts of a type of device by a key; a problem when it opens none there.
async fn is_key(
    unit: &mut UnitOfWork,
    credential: Uuid,
    connector: ConnectorKind,
) -> AppResult<bool> {
    let row = unit.tx()?.credential(credential).await?;
    let kind = kind_of(unit.tx()?, &row).await?;
    match kind.field(PASSWORD).map(|field| field.holds) {
        Some(FieldType::Secret) => Ok(false),
        Some(FieldType::SshKey) if !connector.takes_keys() => Err(AppError::field(
            "device",
            format!(
                "a device of this type ({}) has no accounts that are opened by an SSH key",
                connector.label()
            ),
        )),
        Some(FieldType::SshKey) => {
            let versions = unit.tx()?.versions(credential).await?;
            let current = versions
                .iter()
                .find(|row| row.field == PASSWORD && row.state == VersionState::Current);
            if current.is_some_and(|row| row.facts.get("protected").is_some()) {
                return Err(AppError::field(
                    "device",
                    "a key with a passphrase opens no account for the service: take the passphrase off it first, with ssh-keygen -p",
                ));
            }
            Ok(true)
        }
        _ => Err(AppError::field(
            "device",
            format!(
                "a credential of the kind {} opens no account on a device",
                row.kind
            ),
        )),
    }
}

/// Whether a credential is a certificate with its key, on a device whose operator signs in with one.
async fn is_certificate_of_operator(
    unit: &mut UnitOfWork,
    operator: Uuid,
    on: &DeviceRow,
) -> AppResult<bool> {
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let app = unit.app.clone();
    let facts = device_facts(&app, unit.tx()?, on, &settings).await?;
    if !facts.shows_certificate() {
        return Ok(false);
    }
    let row = unit.tx()?.credential(operator).await?;
    let kind = kind_of(unit.tx()?, &row).await?;
    let holds = |name| kind.field(name).map(|field| field.holds);
    Ok(holds(PASSWORD) == Some(FieldType::PrivateKey)
        && holds("certificate") == Some(FieldType::Certificate))
}

/// Demands that a credential may be used for a device: that its password may be seen at this moment,
/// and that its stewards allow it there; a steward of it allows it by naming it.
async fn allow_for_device(
    unit: &mut UnitOfWork,
    on: &DeviceRow,
    credential: Uuid,
) -> AppResult<()> {
    let (person, now) = (unit.person.id, unit.now);
    if unit.tx()?.is_in_operator_scope(credential, on.id).await? {
        return Ok(());
    }
    let reach = unit.tx()?.reach_credential(person, credential, now).await?;
    if reach.level() < Some(Level::Steward) {
        return Err(AppError::forbidden(
            "The stewards of this credential have not allowed its use for this device.",
            "Ask one of them: `jexlin credential operator-scope`.",
        ));
    }
    unit.tx()?
        .add_operator_scope(credential, &ScopeEntry::Device(on.id))
        .await?;
    let place = crate::guards::place_of(unit, credential).await?;
    unit.record_beside(
        Action::CredentialOperatorScope,
        TargetType::Credential,
        credential,
        &place,
        &[("added", on.name.clone())],
    )
    .await
}

/// Makes a credential the operator of a device.
pub(super) async fn make_operator(
    unit: &mut UnitOfWork,
    on: &DeviceRow,
    operator: Uuid,
) -> AppResult<()> {
    let (person, now) = (unit.person.id, unit.now);
    pass_reveal(unit, operator, "operator credential").await?;
    if !is_certificate_of_operator(unit, operator, on).await? {
        is_key(unit, operator, on.connector.0).await?;
    }
    allow_for_device(unit, on, operator).await?;
    unit.tx()?.unbind(on.id, Role::Operator).await?;
    unit.tx()?
        .bind(operator, on, Role::Operator, person, now)
        .await?;
    unit.add_detail("operator", operator.to_string());
    record_binding(unit, operator, on, Role::Operator).await
}

/// Has a device reached through the SSH host that a credential is an account of.
pub(super) async fn reach_through(
    unit: &mut UnitOfWork,
    row: &mut DeviceRow,
    credential: Uuid,
) -> AppResult<()> {
    const FIELD: &str = "jump_account";
    let (person, now) = (unit.person.id, unit.now);
    pass_reveal(unit, credential, "jump account").await?;
    let account = unit.tx()?.account_of(credential).await?;
    let host = match account {
        Some(account) => Some(unit.tx()?.device(account.device_id).await?),
        None => None,
    };
    let Some(host) = host.filter(|host| host.connector.0 == ConnectorKind::Ssh) else {
        return Err(AppError::field(
            FIELD,
            "must be an account of an SSH host that is a device here",
        ));
    };
    if host.id == row.id {
        return Err(AppError::field(
            FIELD,
            "must be an account of another device: none is reached through itself",
        ));
    }
    if host.jump_host_id.is_some() {
        return Err(AppError::field(
            FIELD,
            "must be an account of a host that is reached directly; this one is behind a jump host itself",
        ));
    }
    if unit.tx()?.is_jump_host(row.id).await? {
        return Err(AppError::conflict(
            ErrorCode::InUse,
            "Other devices are reached through this one, so it must be reached directly.",
            "Choose another way for those first.",
        ));
    }
    if host.identity.is_empty() {
        return Err(AppError::conflict(
            ErrorCode::NoIdentity,
            "The identity of the jump host is not confirmed yet.",
            "Confirm it first: `jexlin device identity`.",
        ));
    }
    allow_for_device(unit, row, credential).await?;
    row.jump_host_id = Some(host.id);
    unit.tx()?.unbind(row.id, Role::JumpHost).await?;
    unit.tx()?
        .bind(credential, row, Role::JumpHost, person, now)
        .await?;
    unit.add_detail("jump_host", host.name.clone());
    record_binding(unit, credential, row, Role::JumpHost).await
}
