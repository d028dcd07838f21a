//! Devices.

use jexlin_api::{ChangeDevice, Device, NewDevice, Page};
use jexlin_core::access::mark;
use jexlin_store::DeviceRow;
use rocket::{Route, delete, get, patch, post, routes};
use uuid::Uuid;

use super::bin::removal;
use super::exchange::{Body, IfMatch, Sent, Versioned, id, maybe_id, page, paging};
use super::folders::allow_folder;
use super::people::named;
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![devices, add_device, read_device, change_device, remove_device]
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
    let path = format!("{}/{}", acting.tx()?.path_of(row.folder_id).await?, row.name);
    let removal = removal(&acting, "device", target, path, row.folder_id, 0);
    acting.tx()?.add_removal(&removal).await?;
    acting.tx()?.change_device(&row).await?;
    acting.tx()?.device_removed_by(target, removal.id).await?;
    acting.done().await?;
    Ok(())
}
