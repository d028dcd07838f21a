//! Devices.

use jexlin_api::{
    BindingsConfirmed, Device, DeviceBinding, DeviceFamily, DeviceIdentity, DeviceJumpHost,
    DeviceType, EditDevice, ErrorCode, NewDevice, Page,
};
use jexlin_core::access::{Level, mark};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::names::check_note;
use jexlin_core::upkeep::identity::Identity;
use jexlin_core::upkeep::{ConnectorKind, Endpoint, Role, Suspended};
use jexlin_core::vault::RemovedType;
use jexlin_core::words::Word as _;
use jexlin_store::{DeviceRow, FamilyRow};
use uuid::Uuid;

use super::bindings::{
    dialogue_name, identity_words, make_operator, pass_reveal, reach_through, record_binding,
};
use super::device_accounts::lists_accounts;
use super::gates::may_leave;
use super::names::named;
use super::removal::removal;
use crate::error::{AppError, AppResult};
use crate::guards::{allow_folder, device_for_stewards};
use crate::jump_hosts;
use crate::operators::device_facts;
use crate::paging::{Paged, Paging, Versioned};
use crate::unit_of_work::UnitOfWork;

/// The longest label of a platform, in characters.
const LONGEST_PLATFORM: usize = 100;

fn show_identity(identity: &Identity) -> DeviceIdentity {
    DeviceIdentity {
        kind: identity.kind(),
        fingerprint: identity.fingerprint(),
        line: identity.to_line(),
    }
}

fn show_family(row: FamilyRow) -> DeviceFamily {
    DeviceFamily {
        id: row.id,
        name: row.name,
        connector: row.connector,
        accounts: row.accounts,
    }
}

/// The main device of a new account family: it is in the same folder, and itself no family of another.
async fn main_of(unit: &mut UnitOfWork, folder: Uuid, wanted: Uuid) -> AppResult<DeviceRow> {
    let row = unit.tx()?.device(wanted).await;
    let row = row
        .ok()
        .filter(|row| row.folder_id == folder)
        .ok_or_else(|| AppError::field("family_of", "must be a device in the same folder"))?;
    if row.family_of.is_some() {
        return Err(AppError::field(
            "family_of",
            "must be a main device; this one is an account family of another",
        ));
    }
    Ok(row)
}

/// A device as the interface shows it.
pub async fn show_device(unit: &mut UnitOfWork, row: DeviceRow) -> AppResult<Device> {
    let (person, now) = (unit.person.id, unit.now);
    let place = unit.tx()?.path_of(row.folder_id).await?;
    let reach = unit.tx()?.reach_folder(person, row.folder_id, now).await?;
    let accounts = unit.tx()?.accounts_on(row.id).await?;
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let app = unit.app.clone();
    let facts = device_facts(&app, unit.tx()?, &row, &settings).await?;
    let dialogue_name = match row.dialogue_id {
        Some(id) => dialogue_name(unit, id).await?,
        None => String::new(),
    };
    let (mut operator, mut jump_account, mut bindings) = (None, None, vec![]);
    for view in unit.tx()?.bindings_on(row.id).await? {
        let stored = view.binding.stored();
        match stored.role {
            Role::Operator => operator = Some(stored.credential),
            Role::JumpHost => jump_account = Some(stored.credential),
            Role::Account => {}
        }
        let approach = unit.tx()?.approach(person, stored.credential, now).await?;
        let known = approach.reach.level().is_some();
        bindings.push(DeviceBinding {
            credential: stored.credential,
            credential_path: if known { approach.path } else { String::new() },
            role: stored.role,
            login: if known { view.login } else { String::new() },
            confirmed_at: view.confirmed_at,
            suspended: stored
                .check(&facts)
                .err()
                .map(|why| why.to_string())
                .unwrap_or_default(),
        });
    }
    let identity = Identity::parse_lines(&row.identity).map_err(AppError::internal)?;
    let families = unit.tx()?.families_beside(&row).await?;
    let jump_host = show_jump_host(unit, &row, jump_account).await?;
    Ok(Device {
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place,
        level: reach.level(),
        connector: row.connector.0,
        platform: row.platform,
        description: row.description,
        address: row.address,
        port: u16::try_from(row.port).unwrap_or(0),
        identity: identity.iter().map(show_identity).collect(),
        dialogue: row.dialogue_id,
        dialogue_name,
        bindings,
        operator,
        jump_host,
        lists_accounts: lists_accounts(&facts),
        accounts,
        family_of: row.family_of,
        families: families.into_iter().map(show_family).collect(),
        paused_at: row.paused_at,
        paused_why: row.paused_why,
        revision: row.revision,
    })
}

/// The devices in folders that the asker may know of.
pub async fn devices(
    unit: &mut UnitOfWork,
    folder: Option<Uuid>,
    paging: Paging<(String, Uuid)>,
) -> AppResult<Paged<Device, (String, Uuid)>> {
    let (person, now) = (unit.person.id, unit.now);
    let rows = unit
        .tx()?
        .devices(person, now, folder, paging.after, paging.limit + 1)
        .await?;
    let limit = usize::try_from(paging.limit).unwrap_or(1);
    let mut shown = vec![];
    for row in rows.iter().take(limit) {
        shown.push(show_device(unit, row.clone()).await?);
    }
    unit.commit().await?;
    let next = Paged::of(rows, paging.limit, |row| (row.name.clone(), row.id), |_| ()).next;
    Ok(Paged { items: shown, next })
}

/// A host name or an address as it is kept.
pub fn check_address(address: &str) -> AppResult<String> {
    let text = address.trim();
    let good = !text.is_empty()
        && text.len() <= 253
        && text
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':' | '_'));
    if good {
        Ok(text.to_owned())
    } else {
        Err(AppError::field(
            "address",
            "must be a host name or an IP address",
        ))
    }
}

/// A label of a platform as it is kept; empty for none.
fn check_platform(text: &str) -> AppResult<String> {
    let text = text.trim();
    if text.chars().count() > LONGEST_PLATFORM || text.contains(['\n', '\t']) {
        return Err(AppError::field(
            "platform",
            format!("must be one line of at most {LONGEST_PLATFORM} characters"),
        ));
    }
    check_note(text).map_err(|problem| AppError::field("platform", problem))?;
    Ok(text.to_owned())
}

fn check_description(text: &str) -> AppResult<String> {
    check_note(text).map_err(|problem| AppError::field("description", problem))?;
    Ok(text.trim().to_owned())
}

/// The jump host of a device as far as the person may know it.
async fn show_jump_host(
    unit: &mut UnitOfWork,
    row: &DeviceRow,
    credential: Option<Uuid>,
) -> AppResult<Option<DeviceJumpHost>> {
    let Some(host) = unit.tx()?.jump_host(row).await? else {
        return Ok(None);
    };
    let (person, now) = (unit.person.id, unit.now);
    let reach = unit.tx()?.reach_folder(person, host.folder_id, now).await?;
    let known = reach.level().is_some();
    let path = if known {
        format!(
            "{}/{}",
            unit.tx()?.path_of(host.folder_id).await?,
            host.name
        )
    } else {
        String::new()
    };
    Ok(Some(DeviceJumpHost {
        device: known.then_some(host.id),
        path,
        account: credential,
    }))
}

fn read_identity_lines(lines: &[String], connector: ConnectorKind) -> AppResult<String> {
    if lines.len() > 16 {
        return Err(AppError::field(
            "identity",
            "a device has at most 16 identities",
        ));
    }
    let all = lines
        .iter()
        .map(|line| Identity::parse(line))
        .collect::<Result<Vec<_>, _>>()
        .map_err(|problem| AppError::field("identity", problem))?;
    let unproven = all.contains(&Identity::Unproven);
    if unproven && connector.proves_identity() {
        return Err(AppError::field(
            "identity",
            format!(
                "a device of this type ({}) proves its identity",
                connector.label()
            ),
        ));
    }
    if !connector.proves_identity() && (all.len() > 1 || !unproven && !all.is_empty()) {
        return Err(AppError::field(
            "identity",
            format!(
                "a device of this type ({}) proves no identity; accept that with `unproven`",
                connector.label()
            ),
        ));
    }
    Ok(Identity::to_lines(&all))
}

/// The types of devices that this service can reach.
pub async fn device_types(unit: &mut UnitOfWork) -> AppResult<Page<DeviceType>> {
    let items = unit
        .app
        .connectors
        .iter()
        .map(|connector| {
            let (kind, can) = (connector.kind(), connector.capabilities());
            DeviceType {
                connector: kind,
                label: kind.label().into(),
                port: kind.usual_port(),
                account_kind: kind.usual_kind().into(),
                needed_rights: connector.needed_rights().into(),
                changes_as_operator: can.changes_as_operator,
                changes_as_itself: can.changes_as_itself,
                instructions: kind.instructions(),
            }
        })
        .collect();
    unit.commit().await?;
    Ok(Page { items, next: None })
}

/// The version of a dialogue that a device gets, and its digest. A type that needs one may get it
/// later: until then nothing is sent.
async fn dialogue_of(
    unit: &mut UnitOfWork,
    connector: ConnectorKind,
    wanted: Option<Uuid>,
) -> AppResult<(Option<Uuid>, String)> {
    let Some(wanted) = wanted else {
        return Ok((None, String::new()));
    };
    let Some(kind) = connector.instructions() else {
        return Err(AppError::field(
            "dialogue",
            format!("a device of the type {connector} has none"),
        ));
    };
    let row = unit
        .tx()?
        .dialogue(wanted)
        .await
        .map_err(|_| AppError::unknown("dialogue"))?;
    let read = unit.app.dialogues.get(row.id, || row.text.clone())?;
    if read.kind() != kind {
        return Err(AppError::field(
            "dialogue",
            format!("a device of the type {connector} takes a {kind}"),
        ));
    }
    unit.add_detail("dialogue", format!("{} {}", row.name, row.number));
    Ok((Some(row.id), row.digest))
}

/// Adds a device.
pub async fn add_device(unit: &mut UnitOfWork, body: NewDevice) -> AppResult<Versioned<Device>> {
    unit.begin_audit(Action::DeviceAdd, TargetType::Device, None, &body.name);
    let held = allow_folder::<mark::Edit>(unit, body.folder).await?.held();
    let set = body.operator.is_some()
        || body.jump_account.is_some()
        || !body.identity.is_empty()
        || body.dialogue.is_some();
    if set && held < Level::Steward {
        return Err(AppError::forbidden(
            "Only a steward of its folder may set the identity, the dialogue, the operator and the jump host of a device.",
            "Ask a steward, or add the device without them.",
        ));
    }
    let connector = body.connector.unwrap_or(ConnectorKind::Ssh);
    let (dialogue_id, dialogue_digest) = dialogue_of(unit, connector, body.dialogue).await?;
    let main = match body.family_of {
        Some(wanted) => Some(main_of(unit, body.folder, wanted).await?),
        None => None,
    };
    let mut row = DeviceRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        folder_id: body.folder,
        name: named("name", &body.name)?,
        connector: connector.into(),
        address: check_address(&body.address)?,
        port: i32::from(port_of(
            body.port.unwrap_or_else(|| connector.usual_port()),
        )?),
        identity: read_identity_lines(&body.identity, connector)?,
        created_at: unit.now,
        removed_at: None,
        revision: 1,
        paused_at: None,
        paused_why: String::new(),
        dialogue_id,
        dialogue_digest,
        platform: check_platform(&body.platform)?,
        description: check_description(&body.description)?,
        family_of: main.as_ref().map(|main| main.id),
        import_id: None,
        jump_host_id: None,
    };
    unit.tx()?.add_device(&row).await?;
    if let Some(main) = main {
        unit.add_detail("family_of", main.name);
    }
    unit.set_target(row.id, &row.name);
    unit.add_detail("address", format!("{} port {}", row.address, row.port));
    unit.add_detail("type", connector.word());
    unit.add_detail("identity", identity_words(&row.identity));
    if let Some(account) = body.jump_account {
        reach_through(unit, &mut row, account).await?;
        unit.tx()?.edit_device(&row).await?;
        row.revision += 1;
    }
    if let Some(operator) = body.operator {
        make_operator(unit, &row, operator).await?;
    }
    let shown = show_device(unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// One device.
pub async fn read_device(unit: &mut UnitOfWork, device: Uuid) -> AppResult<Versioned<Device>> {
    let row = unit
        .tx()?
        .device(device)
        .await
        .map_err(|_| AppError::unknown("device"))?;
    allow_folder::<mark::List>(unit, row.folder_id)
        .await
        .map_err(|_| AppError::unknown("device"))?;
    let shown = show_device(unit, row).await?;
    unit.commit().await?;
    Ok(Versioned(shown.revision, shown))
}

/// A port that something can listen on.
fn port_of(port: u16) -> AppResult<u16> {
    if port == 0 {
        return Err(AppError::field("port", "must be between 1 and 65535"));
    }
    Ok(port)
}

/// Puts a device into another folder, whose stewards it has then: it takes what moving a credential
/// takes, `steward` here and `edit` there.
pub async fn move_device(unit: &mut UnitOfWork, row: &mut DeviceRow, to: Uuid) -> AppResult<()> {
    let (person, now) = (unit.person.id, unit.now);
    if row.family_of.is_some() {
        return Err(AppError::field(
            "folder",
            "an account family moves with its main device: move that one",
        ));
    }
    let reach = unit.tx()?.reach_folder(person, to, now).await?;
    if reach.level().is_none() {
        return Err(AppError::unknown("folder"));
    }
    unit.demand::<mark::Edit>(reach)?;
    unit.tx()?.place_families(row.id, to).await?;
    let from = unit.tx()?.path_of(row.folder_id).await?;
    row.folder_id = to;
    let there = unit.tx()?.path_of(to).await?;
    unit.add_detail("from", from);
    unit.add_detail("to", there);
    Ok(())
}

/// The gates of the accounts of a device, before it is moved: none where it leaves no gate behind.
async fn gates_before(
    unit: &mut UnitOfWork,
    row: &DeviceRow,
    to: Uuid,
) -> AppResult<Vec<(Uuid, Vec<Uuid>)>> {
    let here = unit.tx()?.gate_ids_on_folder(row.folder_id).await?;
    let there = unit.tx()?.gate_ids_on_folder(to).await?;
    let mut before = vec![];
    if here.iter().any(|gate| !there.contains(gate)) {
        // The other account families move with it.
        let others = unit.tx()?.families_beside(row).await?;
        for device in others.iter().map(|other| other.id).chain([row.id]) {
            for credential in unit.tx()?.all_credentials_on(device).await? {
                before.push((credential, unit.tx()?.gate_ids_of(credential).await?));
            }
        }
    }
    Ok(before)
}

/// Changes a device.
pub async fn edit_device(
    unit: &mut UnitOfWork,
    device: Uuid,
    revision: i32,
    body: EditDevice,
) -> AppResult<Versioned<Device>> {
    let target = device;
    unit.begin_audit(Action::DeviceEdit, TargetType::Device, Some(target), "");
    let mut row = device_for_stewards(unit, target).await?;
    if let Some(name) = &body.name {
        row.name = named("name", name)?;
        unit.add_detail("name", row.name.clone());
    }
    if let Some(platform) = &body.platform {
        row.platform = check_platform(platform)?;
        unit.add_detail("platform", row.platform.clone());
    }
    if let Some(description) = &body.description {
        row.description = check_description(description)?;
        unit.add_detail("description", "changed");
    }
    let mut gates = vec![];
    if let Some(folder) = body.folder.filter(|folder| *folder != row.folder_id) {
        gates = gates_before(unit, &row, folder).await?;
        move_device(unit, &mut row, folder).await?;
    }
    if let Some(address) = &body.address {
        row.address = check_address(address)?;
        unit.add_detail("address", row.address.clone());
    }
    if let Some(port) = body.port {
        row.port = i32::from(port_of(port)?);
        unit.add_detail("port", row.port.to_string());
    }
    if let Some(lines) = &body.identity {
        row.identity = read_identity_lines(lines, row.connector.0)?;
        unit.add_detail("identity", identity_words(&row.identity));
    }
    if body.dialogue.is_some() {
        (row.dialogue_id, row.dialogue_digest) =
            dialogue_of(unit, row.connector.0, body.dialogue).await?;
    }
    if body.no_jump_host {
        unit.tx()?.unbind(target, Role::JumpHost).await?;
        row.jump_host_id = None;
        unit.add_detail("jump_host", "none");
    }
    if let Some(account) = body.jump_account {
        reach_through(unit, &mut row, account).await?;
    }
    if body.no_operator {
        unit.tx()?.unbind(target, Role::Operator).await?;
        unit.add_detail("operator", "none");
    }
    if let Some(operator) = body.operator {
        // Another operator may be one that the device takes.
        (row.paused_at, row.paused_why) = (None, String::new());
        make_operator(unit, &row, operator).await?;
    }
    row.revision = revision;
    unit.tx()?.edit_device(&row).await?;
    // The gates above a device count for its accounts, wherever their credentials are.
    for (credential, before) in gates {
        let after = unit.tx()?.gate_ids_of(credential).await?;
        may_leave(unit, &before, &after).await?;
    }
    row.revision += 1;
    let shown = show_device(unit, row).await?;
    unit.commit_audited().await?;
    Ok(Versioned(shown.revision, shown))
}

/// Removes a device that has no accounts any more.
pub async fn remove_device(unit: &mut UnitOfWork, device: Uuid, revision: i32) -> AppResult<()> {
    let target = device;
    unit.begin_audit(Action::DeviceRemove, TargetType::Device, Some(target), "");
    let mut row = device_for_stewards(unit, target).await?;
    if unit.tx()?.accounts_on(target).await? > 0 {
        return Err(AppError::conflict(
            ErrorCode::HasAccounts,
            "Credentials are accounts of this device.",
            "Remove them from the device, or to the bin, first.",
        ));
    }
    if unit.tx()?.is_jump_host(target).await? {
        return Err(AppError::conflict(
            ErrorCode::InUse,
            "Other devices are reached through this one.",
            "Choose another way for those first.",
        ));
    }
    if row.family_of.is_none() && !unit.tx()?.families_beside(&row).await?.is_empty() {
        return Err(AppError::conflict(
            ErrorCode::HasAccounts,
            "This device has other account families.",
            "Remove them first.",
        ));
    }
    let now = unit.now;
    unit.tx()?
        .cancel_jobs_on(target, now, "the device was removed")
        .await?;
    row.removed_at = Some(now);
    row.revision = revision;
    let path = format!("{}/{}", unit.tx()?.path_of(row.folder_id).await?, row.name);
    let removal = removal(unit, RemovedType::Device, target, path, row.folder_id, 0);
    unit.tx()?.add_removal(&removal).await?;
    unit.tx()?.edit_device(&row).await?;
    unit.tx()?.device_removed_by(target, removal.id).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Reads who answers at a device's address, without sending anything to it. Behind a jump host this
/// signs in there first, which is an event of that credential.
pub async fn read_identity(unit: &mut UnitOfWork, device: Uuid) -> AppResult<Page<DeviceIdentity>> {
    let target = device;
    unit.begin_audit(
        Action::DeviceReadIdentity,
        TargetType::Device,
        Some(target),
        "",
    );
    let row = device_for_stewards(unit, target).await?;
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let app = unit.app.clone();
    let facts = device_facts(&app, unit.tx()?, &row, &settings).await?;
    let unreachable = |why: String| {
        AppError::conflict(
            ErrorCode::Unreachable,
            format!("The device shows no identity: {why}."),
            "Check its address and port, or enter its identity by hand.",
        )
    };
    let waiting = jump_hosts::prepare(unit.tx()?, &row, &facts)
        .await?
        .map_err(unreachable)?;
    if let Some(waiting) = &waiting {
        let place = crate::guards::place_of(unit, waiting.credential).await?;
        let detail = [
            ("step", "reading the identity of a device".to_owned()),
            ("as", Role::JumpHost.word().to_owned()),
            ("for", row.name.clone()),
        ];
        unit.record_beside(
            Action::UpkeepSignIn,
            TargetType::Credential,
            waiting.credential,
            &place,
            &detail,
        )
        .await?;
    }
    let (_, receipt) = unit.commit_audited().await?;
    let organisation = unit.organisation();
    let open = match waiting {
        Some(waiting) => {
            let keys = app.keyring.keys(&app.store, organisation).await?;
            let tried = jump_hosts::sign_in(&app, organisation, &keys, waiting, &receipt).await?;
            Some(tried.map_err(unreachable)?)
        }
        None => None,
    };
    let endpoint = Endpoint::to_look_at(organisation, &facts).through(open.as_ref());
    let connector = unit.app.connector(row.connector.0)?;
    let shown = connector.identify(&endpoint).await.map_err(unreachable)?;
    let mut items = vec![];
    for presented in shown {
        items.push(show_identity(&Identity::HostKey(presented.key)));
        if let Some(authority) = presented.authority {
            items.push(show_identity(&Identity::HostAuthority(authority)));
        }
    }
    if !row.connector.0.proves_identity() {
        items.push(show_identity(&Identity::Unproven));
    }
    items.dedup_by(|a, b| a.line == b.line);
    Ok(Page { items, next: None })
}

/// Confirms the suspended bindings of a device as it is now: those whose password the asker may
/// see.
pub async fn confirm_bindings(
    unit: &mut UnitOfWork,
    device: Uuid,
    revision: i32,
) -> AppResult<BindingsConfirmed> {
    let target = device;
    unit.begin_audit(
        Action::DeviceConfirmBindings,
        TargetType::Device,
        Some(target),
        "",
    );
    let row = device_for_stewards(unit, target).await?;
    if row.revision != revision {
        return Err(AppError::stale());
    }
    let (person, now) = (unit.person.id, unit.now);
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let app = unit.app.clone();
    let facts = device_facts(&app, unit.tx()?, &row, &settings).await?;
    if row.identity.is_empty() && !settings.trust_first_contact {
        return Err(AppError::conflict(
            ErrorCode::NoIdentity,
            "The device's identity is not confirmed yet.",
            "Confirm it first: `jexlin device identity`.",
        ));
    }
    let (mut confirmed, mut left) = (0, 0);
    for view in unit.tx()?.bindings_on(target).await? {
        let stored = view.binding.stored().clone();
        if !matches!(
            stored.check(&facts),
            Err(Suspended::Changed | Suspended::NoIdentity)
        ) {
            continue;
        }
        if pass_reveal(unit, stored.credential, "credential")
            .await
            .is_err()
        {
            left += 1;
            continue;
        }
        unit.tx()?
            .bind(stored.credential, &row, stored.role, person, now)
            .await?;
        record_binding(unit, stored.credential, &row, stored.role).await?;
        confirmed += 1;
    }
    unit.add_detail("confirmed", confirmed.to_string());
    unit.add_detail("left", left.to_string());
    let shown = show_device(unit, row).await?;
    unit.commit_audited().await?;
    Ok(BindingsConfirmed {
        confirmed,
        left,
        device: shown,
    })
}

/// Lets jobs use the operator of a paused device again.
pub async fn resume(
    unit: &mut UnitOfWork,
    device: Uuid,
    revision: i32,
) -> AppResult<Versioned<Device>> {
    let target = device;
    unit.begin_audit(Action::DeviceResume, TargetType::Device, Some(target), "");
    let mut row = device_for_stewards(unit, target).await?;
    (row.paused_at, row.paused_why, row.revision) = (None, String::new(), revision);
    unit.tx()?.edit_device(&row).await?;
    row.revision += 1;
    let shown = show_device(unit, row).await?;
    unit.commit_audited().await?;
    unit.app.wake.notify_one();
    Ok(Versioned(shown.revision, shown))
}
