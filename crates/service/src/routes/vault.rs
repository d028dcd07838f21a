//! Credentials, reveals, history, devices.

use std::collections::BTreeMap;

use jexlin_api::{
    ChangeCredential, ChangeDevice, Credential, CredentialItem, Device, Kind, KindField, NewCredential, NewDevice, OneTimeCode, Page, Reveal, Revealed,
    SecretText, Version,
};
use jexlin_core::access::{Allowed, AtLeast, Level, mark};
use jexlin_core::gate::{self, Passed};
use jexlin_core::names::LONGEST_FIELD;
use jexlin_core::secret::Secret;
use jexlin_core::vault::kinds::{self as core_kinds, PASSWORD};
use jexlin_core::vault::one_time::{ONE_TIME_SEED, code_for};
use jexlin_core::vault::{Place, Sealed, WrappedKey, open};
use jexlin_store::{CredentialChange, CredentialListing, CredentialRow, DeviceRow, ListQuery};
use rocket::{Route, delete, get, patch, post, routes};
use uuid::Uuid;

use super::exchange::{Body, IfMatch, Sent, Versioned, id, maybe_id, page, paging};
use super::folders::allow_folder;
use super::people::named;
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![kinds, list, add, read, change, remove, reveal, code, history, devices, add_device, read_device, change_device, remove_device]
}

/// Demands a level on a credential, and notes its name for the record.
pub async fn allow_credential<L: AtLeast>(acting: &mut Acting, credential: Uuid) -> Answer<Allowed<L>> {
    let (person, now) = (acting.person.id, acting.now);
    let approach = acting.tx()?.approach(person, credential, now).await?;
    if approach.reach.level.is_some() {
        acting.naming(credential, &approach.path);
    }
    approach.reach.allow::<L>().map_err(|denied| if approach.reach.level.is_none() { Fault::unknown("credential") } else { denied.into() })
}

/// The kinds of credentials.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Kind>)))]
#[get("/api/v1/kinds")]
pub async fn kinds(mut acting: Acting) -> Answer<Sent<Page<Kind>>> {
    acting.seen().await?;
    let field = |field: &core_kinds::Field| KindField {
        name: field.name.into(),
        label: field.label.into(),
        holds: field.holds.word().into(),
        required: field.required,
    };
    let kind = |kind: core_kinds::Kind| Kind {
        name: kind.name.into(),
        label: kind.label.into(),
        generates: kind.generates,
        fields: kind.fields.iter().map(field).collect(),
    };
    Ok(Sent(Page { items: core_kinds::BUILT_IN.into_iter().map(kind).collect(), next: None }))
}

fn show_item(row: CredentialListing) -> CredentialItem {
    CredentialItem {
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place: row.place,
        kind: row.kind,
        user_name: row.fields.get("user_name").and_then(serde_json::Value::as_str).unwrap_or_default().to_owned(),
        device: row.device_name,
        device_id: row.device_id,
        check: row.check_outcome,
        gated: row.gated,
        level: Level::from_number(row.held).unwrap_or(Level::List),
    }
}

/// The credentials that the asker may know of: all, those of a folder, or those that hold a text.
#[utoipa::path(context_path = "", params(("folder" = Option<String>, Query), ("find" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<CredentialItem>)))]
#[get("/api/v1/credentials?<folder>&<find>&<cursor>&<limit>")]
pub async fn list(
    mut acting: Acting,
    folder: Option<&str>,
    find: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> Answer<Sent<Page<CredentialItem>>> {
    let paging = paging::<(String, Uuid)>(cursor, limit)?;
    let find = find.map(str::trim).filter(|text| !text.is_empty()).map(|text| text.chars().take(100).collect());
    let query = ListQuery { folder: maybe_id(folder)?, find, after: paging.after, most: paging.most + 1 };
    let (person, now) = (acting.person.id, acting.now);
    let rows = acting.tx()?.list_credentials(person, now, &query).await?;
    acting.seen().await?;
    Ok(Sent(page(rows, paging.most, |row| (row.name.clone(), row.id), show_item)))
}

fn fields_of(row: &CredentialRow) -> BTreeMap<String, String> {
    serde_json::from_value(row.fields.clone()).unwrap_or_default()
}

async fn show(acting: &mut Acting, row: CredentialRow, level: Level) -> Answer<Credential> {
    let tx = acting.tx()?;
    let place = tx.path_of(row.folder_id).await?;
    let mut secret_fields: Vec<String> =
        tx.versions(row.id).await?.into_iter().filter(|version| version.state == "current").map(|version| version.field).collect();
    secret_fields.dedup();
    let device_name = match row.device_id {
        Some(device) => Some(tx.device(device).await?.name),
        None => None,
    };
    let state = if row.device_id.is_some() { tx.upkeep_state(row.id).await? } else { None };
    let upkeep = state.map(|state| super::upkeep::show_state(state, &place, &row.name, device_name.as_deref()));
    let gate = match tx.gate_of(row.id).await? {
        Some(gate) => Some(super::gates::show_gate(acting, gate.id).await?),
        None => None,
    };
    Ok(Credential {
        fields: fields_of(&row),
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place,
        kind: row.kind,
        secret_fields,
        device: row.device_id,
        device_name,
        level,
        gate,
        upkeep,
        created_at: row.created_at,
        changed_at: row.changed_at,
        version: row.version,
    })
}

/// Reads the secrets that somebody gave, by the kind; each problem is named by its field.
fn read_secrets(kind: &core_kinds::Kind, password: Option<&SecretText>, others: &BTreeMap<String, SecretText>) -> Answer<Vec<(String, Secret)>> {
    let given = password.map(|value| (PASSWORD.to_owned(), value)).into_iter().chain(others.iter().map(|(name, value)| (name.clone(), value)));
    let (mut read, mut problems) = (vec![], BTreeMap::new());
    for (name, value) in given {
        match kind.read_secret(&name, value.expose_secret()) {
            Ok(secret) => read.push((name, secret)),
            Err(problem) => {
                problems.insert(name, problem);
            }
        }
    }
    if problems.is_empty() { Ok(read) } else { Err(Fault::fields(problems)) }
}

/// Makes a password by the default policy.
async fn generated(acting: &mut Acting) -> Answer<Secret> {
    let row = acting.tx()?.policy(None).await?;
    let policy: jexlin_core::policy::PasswordPolicy = serde_json::from_value(row.rules).map_err(|error| Fault::internal(error.to_string()))?;
    policy.generate(&mut acting.app.rng()?).map_err(|problem| Fault::field("policy", problem.to_string()))
}

/// Whether accounts may be put on a device: its stewards and editors decide.
async fn check_device(acting: &mut Acting, device: Uuid) -> Answer<()> {
    let row = acting.tx()?.device(device).await.map_err(|_| Fault::unknown("device"))?;
    allow_folder::<mark::Edit>(acting, row.folder_id).await?;
    Ok(())
}

/// Adds a credential.
#[utoipa::path(context_path = "", request_body = NewCredential, responses((status = 200, body = Credential)))]
#[post("/api/v1/credentials", data = "<body>")]
pub async fn add(mut acting: Acting, body: Body<NewCredential>) -> Answer<Versioned<Credential>> {
    let Body(body) = body;
    acting.intends("credential.add", "credential", None, &body.name);
    let kind = core_kinds::Kind::find(&body.kind).ok_or_else(|| Fault::field("kind", "there is no such kind; see `jexlin kinds`"))?;
    kind.check_plain(&body.fields).map_err(Fault::fields)?;
    let level = allow_folder::<mark::Edit>(&mut acting, body.folder).await?.held();
    if let Some(device) = body.device {
        check_device(&mut acting, device).await?;
    }
    let mut secrets: Vec<(String, Secret, &str)> =
        read_secrets(&kind, body.password.as_ref(), &body.secrets)?.into_iter().map(|(name, value)| (name, value, "typed")).collect();
    if !secrets.iter().any(|(name, ..)| name == PASSWORD) {
        if !kind.generates {
            let label = kind.field(PASSWORD).map_or("secret", |field| field.label).to_lowercase();
            return Err(Fault::field(PASSWORD, format!("a {} needs its {label}; none can be generated", kind.label.to_lowercase())));
        }
        secrets.push((PASSWORD.to_owned(), generated(&mut acting).await?, "generated"));
    }
    let (organisation, now, by) = (acting.organisation(), acting.now, acting.person.id);
    let credential = Uuid::now_v7();
    let mut rng = acting.app.rng()?;
    let (data_key, wrapped) = acting.keys.key.generate_data_key(&mut rng, organisation, credential)?;
    let row = CredentialRow {
        id: credential,
        organisation,
        folder_id: body.folder,
        kind: body.kind,
        name: named("name", &body.name)?,
        fields: serde_json::to_value(&body.fields).map_err(|error| Fault::internal(error.to_string()))?,
        device_id: body.device,
        data_key: wrapped.0,
        created_at: now,
        created_by: Some(by),
        changed_at: now,
        changed_by: Some(by),
        removed_at: None,
        version: 1,
    };
    let tx = acting.tx()?;
    tx.add_credential(&row).await?;
    for (field, value, how) in &secrets {
        let sealed = data_key.seal(&mut rng, &Place { organisation, credential, field, version: 1 }, value)?;
        tx.add_version(credential, field, 1, "current", &sealed.0, now, Some(by), how).await?;
    }
    let shown = show(&mut acting, row, level).await?;
    acting.naming(credential, &format!("{}/{}", shown.place, shown.name));
    for (field, _, how) in &secrets {
        acting.noting(field, *how);
    }
    acting.done().await?;
    Ok(Versioned(1, shown))
}

/// One credential, without its secrets.
#[utoipa::path(context_path = "", responses((status = 200, body = Credential)))]
#[get("/api/v1/credentials/<credential>")]
pub async fn read(mut acting: Acting, credential: &str) -> Answer<Versioned<Credential>> {
    let target = id(credential)?;
    let level = allow_credential::<mark::List>(&mut acting, target).await?.held();
    let row = acting.tx()?.credential(target).await?;
    let shown = show(&mut acting, row, level).await?;
    acting.seen().await?;
    Ok(Versioned(shown.version, shown))
}

/// Changes a credential: name, place, fields, device, or the password in the vault.
#[utoipa::path(context_path = "", request_body = ChangeCredential, responses((status = 200, body = Credential)))]
#[patch("/api/v1/credentials/<credential>", data = "<body>")]
pub async fn change(mut acting: Acting, credential: &str, version: IfMatch, body: Body<ChangeCredential>) -> Answer<Versioned<Credential>> {
    let Body(body) = body;
    let target = id(credential)?;
    acting.intends("credential.change", "credential", Some(target), "");
    let allowed = allow_credential::<mark::Edit>(&mut acting, target).await?;
    let mut row = acting.tx()?.credential_locked(target).await?;
    if row.version != version.0 {
        return Err(Fault::stale());
    }
    if let Some(name) = &body.name {
        row.name = named("name", name)?;
        acting.noting("name", row.name.clone());
    }
    if let Some(folder) = body.folder.filter(|folder| *folder != row.folder_id) {
        // Moving changes who reaches it: it takes a steward here and an editor there.
        allow_credential::<mark::Steward>(&mut acting, target).await?;
        allow_folder::<mark::Edit>(&mut acting, folder).await?;
        row.folder_id = folder;
        let to = acting.tx()?.path_of(folder).await?;
        acting.noting("moved_to", to);
    }
    let mut fields = fields_of(&row);
    for (name, value) in &body.fields {
        if value.is_empty() {
            fields.remove(name);
        } else {
            fields.insert(name.clone(), value.clone());
        }
        acting.noting(&format!("field {}", name.chars().take(40).collect::<String>()), "changed");
    }
    let kind = core_kinds::Kind::find(&row.kind).ok_or_else(|| Fault::internal("a credential of no kind"))?;
    kind.check_plain(&fields).map_err(Fault::fields)?;
    row.fields = serde_json::to_value(&fields).map_err(|error| Fault::internal(error.to_string()))?;
    if let Some(device) = body.device {
        check_device(&mut acting, device).await?;
        row.device_id = Some(device);
        acting.noting("device", device.to_string());
    } else if body.no_device {
        row.device_id = None;
        acting.noting("device", "none");
    }
    let (now, by) = (acting.now, acting.person.id);
    let mut secrets: Vec<(String, Secret, &str)> =
        read_secrets(&kind, body.password.as_ref(), &body.secrets)?.into_iter().map(|(name, value)| (name, value, "typed")).collect();
    if body.generate && body.password.is_none() {
        if !kind.generates {
            return Err(Fault::field("generate", format!("the secret of a {} comes from somebody else; none can be generated", kind.label.to_lowercase())));
        }
        secrets.push((PASSWORD.to_owned(), generated(&mut acting).await?, "generated"));
    }
    for (field, value, how) in &secrets {
        if field == PASSWORD && acting.tx()?.has_candidate(target).await? {
            return Err(Fault::conflict(
                "job-under-way",
                "A rotation of this password is under way or in doubt.",
                "Wait until it has ended; setting a password now could lose the one the device has.",
            ));
        }
        let number = acting.tx()?.next_number(target, field).await?;
        let place = Place { organisation: row.organisation, credential: target, field, version: number };
        let data_key = acting.keys.key.unwrap_data_key(row.organisation, target, &WrappedKey(row.data_key.clone()))?;
        let sealed = data_key.seal(&mut acting.app.rng()?, &place, value)?;
        acting.tx()?.add_version(target, field, number, "current", &sealed.0, now, Some(by), how).await?;
        acting.noting(field, *how);
    }
    let change = CredentialChange {
        id: target,
        version: version.0,
        name: &row.name,
        folder_id: row.folder_id,
        fields: &row.fields,
        device_id: row.device_id,
        now,
        by: Some(by),
    };
    acting.tx()?.change_credential(&change).await?;
    row.version += 1;
    row.changed_at = now;
    let shown = show(&mut acting, row, allowed.held()).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes a credential. Its versions stay in the records.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/credentials/<credential>")]
pub async fn remove(mut acting: Acting, credential: &str, version: IfMatch) -> Answer<()> {
    let target = id(credential)?;
    acting.intends("credential.remove", "credential", Some(target), "");
    allow_credential::<mark::Steward>(&mut acting, target).await?;
    let now = acting.now;
    acting.tx()?.remove_credential(target, version.0, now).await?;
    acting.done().await?;
    Ok(())
}

/// Shows a secret, once its audit event is durable.
#[utoipa::path(context_path = "", request_body = Reveal, responses((status = 200, body = Revealed)))]
#[post("/api/v1/credentials/<credential>/reveal", data = "<body>")]
pub async fn reveal(mut acting: Acting, credential: &str, body: Body<Reveal>) -> Answer<Sent<Revealed>> {
    let target = id(credential)?;
    let field = body.0.field.unwrap_or_else(|| PASSWORD.to_owned());
    acting.intends("credential.reveal", "credential", Some(target), "");
    if field.len() > LONGEST_FIELD {
        return Err(Fault::field("field", "there is no such field"));
    }
    let (person, now) = (acting.person.id, acting.now);
    let (approach, withheld) = acting.tx()?.approach_secret(person, target, now, &field, body.0.version).await?;
    if approach.reach.level.is_none() {
        return Err(Fault::unknown("credential"));
    }
    acting.naming(target, &approach.path);
    acting.noting("field", field.clone());
    let allowed = approach.reach.allow::<mark::Reveal>()?;
    let passed = through(&mut acting, &allowed, approach.gate).await?;
    let withheld = withheld.ok_or_else(|| Fault::unknown("field or version"))?;
    if let Some(number) = body.0.version {
        acting.noting("version", number.to_string());
    }
    if let Some(checkout) = passed.checkout() {
        acting.noting("checkout", checkout.to_string());
    }
    let (event, receipt) = acting.done().await?;
    // From here on the event is durable.
    let sealed = withheld.after(&receipt)?;
    let place = Place { organisation: acting.organisation(), credential: target, field: &field, version: sealed.number };
    let plain = open(&passed, &acting.keys.key, &WrappedKey(sealed.data_key), &place, &Sealed(sealed.sealed))?;
    let text = plain.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?;
    Ok(Sent(Revealed { version: sealed.number, value: SecretText::new(text.to_owned()), event, field }))
}

/// The way through the gate, if one stands there.
async fn through<L: AtLeast>(acting: &mut Acting, allowed: &Allowed<L>, gate: Option<Uuid>) -> Answer<Passed<L>> {
    let (person, target, now) = (allowed.subject(), allowed.target(), acting.now);
    let (stands, held) = match gate {
        None => (None, None),
        Some(gate) => {
            let gate = acting.tx()?.gate(gate).await?.to_core();
            let open = acting.tx()?.open_checkouts(target).await?;
            (Some(gate), open.iter().find(|row| row.person_id == person && row.ends_at > now).map(jexlin_store::CheckoutRow::to_core))
        }
    };
    gate::pass(allowed, stands.as_ref(), held.as_ref(), now).map_err(|stopped| Fault::gate(&stopped))
}

/// The current one-time code, for everybody who may use the credential. The seed itself takes a
/// reveal.
#[utoipa::path(context_path = "", responses((status = 200, body = OneTimeCode)))]
#[post("/api/v1/credentials/<credential>/code")]
pub async fn code(mut acting: Acting, credential: &str) -> Answer<Sent<OneTimeCode>> {
    let target = id(credential)?;
    acting.intends("credential.code", "credential", Some(target), "");
    let (person, now) = (acting.person.id, acting.now);
    let (approach, withheld) = acting.tx()?.approach_secret(person, target, now, ONE_TIME_SEED, None).await?;
    if approach.reach.level.is_none() {
        return Err(Fault::unknown("credential"));
    }
    acting.naming(target, &approach.path);
    let allowed = approach.reach.allow::<mark::Use>()?;
    let passed = through(&mut acting, &allowed, approach.gate).await?;
    let withheld = withheld.ok_or_else(|| Fault::unknown("seed of one-time codes"))?;
    if let Some(checkout) = passed.checkout() {
        acting.noting("checkout", checkout.to_string());
    }
    let (event, receipt) = acting.done().await?;
    let sealed = withheld.after(&receipt)?;
    let place = Place { organisation: acting.organisation(), credential: target, field: ONE_TIME_SEED, version: sealed.number };
    let seconds = u64::try_from(acting.app.clock.now().timestamp()).unwrap_or(0);
    let code = code_for(&passed, &acting.keys.key, &WrappedKey(sealed.data_key), &place, &Sealed(sealed.sealed), seconds)?;
    let digits = code.digits.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?;
    Ok(Sent(OneTimeCode { digits: SecretText::new(digits.to_owned()), left: code.left, period: code.period, event }))
}

/// The versions of a credential's secrets, without their values.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Version>)))]
#[get("/api/v1/credentials/<credential>/history")]
pub async fn history(mut acting: Acting, credential: &str) -> Answer<Sent<Page<Version>>> {
    let target = id(credential)?;
    acting.intends("credential.history", "credential", Some(target), "");
    allow_credential::<mark::Reveal>(&mut acting, target).await?;
    let names = super::people::names(&mut acting).await?;
    let rows = acting.tx()?.versions(target).await?;
    acting.done().await?;
    let show = |row: jexlin_store::VersionRow| Version {
        field: row.field,
        number: row.number,
        state: row.state,
        made_at: row.made_at,
        made_by: row.made_by.and_then(|id| names.get(&id).cloned()),
        made_how: row.made_how,
    };
    Ok(Sent(Page { items: rows.into_iter().map(show).collect(), next: None }))
}

async fn show_device(acting: &mut Acting, row: DeviceRow) -> Answer<Device> {
    let place = acting.tx()?.path_of(row.folder_id).await?;
    let accounts = acting.tx()?.accounts_on(row.id).await?;
    Ok(Device {
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place,
        connector: row.connector,
        address: row.address,
        port: u16::try_from(row.port).unwrap_or(0),
        host_key: row.host_key,
        operator: row.operator_id,
        accounts,
        version: row.version,
    })
}

/// The devices in folders that the asker may know of.
#[utoipa::path(context_path = "", params(("folder" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Device>)))]
#[get("/api/v1/devices?<folder>&<cursor>&<limit>")]
pub async fn devices(mut acting: Acting, folder: Option<&str>, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<Device>>> {
    let paging = paging::<(String, Uuid)>(cursor, limit)?;
    let (person, now) = (acting.person.id, acting.now);
    let folder = maybe_id(folder)?;
    let rows = acting.tx()?.devices(person, now, folder, paging.after, paging.most + 1).await?;
    let most = usize::try_from(paging.most).unwrap_or(1);
    let mut shown = vec![];
    for row in rows.iter().take(most) {
        shown.push(show_device(&mut acting, row.clone()).await?);
    }
    acting.seen().await?;
    let next = page(rows, paging.most, |row| (row.name.clone(), row.id), |_| ()).next;
    Ok(Sent(Page { items: shown, next }))
}

fn check_address(address: &str) -> Answer<String> {
    let text = address.trim();
    let good = !text.is_empty() && text.len() <= 253 && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':' | '_'));
    if good { Ok(text.to_owned()) } else { Err(Fault::field("address", "it is a host name or an IP address")) }
}

/// Whoever names an operator lets the device's jobs sign in with it: that takes `use` on it.
async fn check_operator(acting: &mut Acting, operator: Uuid) -> Answer<()> {
    let (person, now) = (acting.person.id, acting.now);
    let reach = acting.tx()?.reach_credential(person, operator, now).await?;
    reach.allow::<mark::Use>().map(|_| ()).map_err(|denied| if reach.level.is_none() { Fault::unknown("operator credential") } else { denied.into() })
}

/// Adds a device.
#[utoipa::path(context_path = "", request_body = NewDevice, responses((status = 200, body = Device)))]
#[post("/api/v1/devices", data = "<body>")]
pub async fn add_device(mut acting: Acting, body: Body<NewDevice>) -> Answer<Versioned<Device>> {
    let Body(body) = body;
    acting.intends("device.add", "device", None, &body.name);
    allow_folder::<mark::Edit>(&mut acting, body.folder).await?;
    if let Some(operator) = body.operator {
        check_operator(&mut acting, operator).await?;
    }
    let row = DeviceRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        folder_id: body.folder,
        name: named("name", &body.name)?,
        connector: "ssh".into(),
        address: check_address(&body.address)?,
        port: i32::from(body.port.unwrap_or(22)).max(1),
        host_key: None,
        operator_id: body.operator,
        created_at: acting.now,
        removed_at: None,
        version: 1,
    };
    acting.tx()?.add_device(&row).await?;
    acting.naming(row.id, &row.name);
    acting.noting("address", format!("{} port {}", row.address, row.port));
    let shown = show_device(&mut acting, row).await?;
    acting.done().await?;
    Ok(Versioned(1, shown))
}

/// One device.
#[utoipa::path(context_path = "", responses((status = 200, body = Device)))]
#[get("/api/v1/devices/<device>")]
pub async fn read_device(mut acting: Acting, device: &str) -> Answer<Versioned<Device>> {
    let row = acting.tx()?.device(id(device)?).await.map_err(|_| Fault::unknown("device"))?;
    allow_folder::<mark::List>(&mut acting, row.folder_id).await.map_err(|_| Fault::unknown("device"))?;
    let shown = show_device(&mut acting, row).await?;
    acting.seen().await?;
    Ok(Versioned(shown.version, shown))
}

/// Changes a device.
#[utoipa::path(context_path = "", request_body = ChangeDevice, responses((status = 200, body = Device)))]
#[patch("/api/v1/devices/<device>", data = "<body>")]
pub async fn change_device(mut acting: Acting, device: &str, version: IfMatch, body: Body<ChangeDevice>) -> Answer<Versioned<Device>> {
    let Body(body) = body;
    let target = id(device)?;
    acting.intends("device.change", "device", Some(target), "");
    let mut row = acting.tx()?.device(target).await.map_err(|_| Fault::unknown("device"))?;
    allow_folder::<mark::Steward>(&mut acting, row.folder_id).await?;
    acting.naming(target, &row.name);
    if let Some(name) = &body.name {
        row.name = named("name", name)?;
        acting.noting("name", row.name.clone());
    }
    if let Some(address) = &body.address {
        row.address = check_address(address)?;
        acting.noting("address", row.address.clone());
    }
    if let Some(port) = body.port {
        row.port = i32::from(port).max(1);
        acting.noting("port", row.port.to_string());
    }
    if let Some(operator) = body.operator {
        check_operator(&mut acting, operator).await?;
        row.operator_id = Some(operator);
        acting.noting("operator", operator.to_string());
    }
    if body.accept_new_key || body.address.is_some() || body.port.is_some() {
        row.host_key = None;
        acting.noting("host_key", "forgotten; the next contact pins anew");
    }
    row.version = version.0;
    acting.tx()?.change_device(&row).await?;
    row.version += 1;
    let shown = show_device(&mut acting, row).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Removes a device that has no accounts any more.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/devices/<device>")]
pub async fn remove_device(mut acting: Acting, device: &str, version: IfMatch) -> Answer<()> {
    let target = id(device)?;
    acting.intends("device.remove", "device", Some(target), "");
    let mut row = acting.tx()?.device(target).await.map_err(|_| Fault::unknown("device"))?;
    allow_folder::<mark::Steward>(&mut acting, row.folder_id).await?;
    acting.naming(target, &row.name);
    if acting.tx()?.accounts_on(target).await? > 0 {
        return Err(Fault::conflict("has-accounts", "Credentials are accounts of this device.", "Take them off the device or remove them first."));
    }
    row.removed_at = Some(acting.now);
    row.version = version.0;
    acting.tx()?.change_device(&row).await?;
    acting.done().await?;
    Ok(())
}
