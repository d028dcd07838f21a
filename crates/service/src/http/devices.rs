//! Devices.

use jexlin_api::{
    BindingsConfirmed, Device, DeviceAccounts, DeviceIdentity, DeviceType, EditDevice, NewDevice,
    OperatorScope, Page,
};
use jexlin_app::commands;
use rocket::{Route, delete, get, patch, post, put, routes};

use super::payload::{Call, IfMatch, Sent, Tagged, encode_page, id, maybe_id, paging};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![
        devices,
        device_types,
        add_device,
        read_device,
        edit_device,
        remove_device,
        accounts,
        read_accounts,
        read_identity,
        confirm_bindings,
        resume,
        read_scope,
        set_scope
    ]
}

/// Lists the devices in folders that the caller may list.
#[utoipa::path(
    operation_id = "devices",
    context_path = "",
    params(("folder" = Option<String>, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Page<Device>)),
)]
#[get("/api/v1/devices?<folder>&<cursor>&<limit>")]
pub async fn devices(
    mut unit: Unit,
    folder: Option<&str>,
    cursor: Option<&str>,
    limit: Option<i64>,
) -> ApiResult<Sent<Page<Device>>> {
    Ok(Sent(encode_page(
        commands::devices::devices(&mut unit, maybe_id(folder)?, paging(cursor, limit)?).await?,
    )))
}

/// Lists the types of devices that this service can reach, with what operators and accounts must be
/// allowed to do there. Not paged: there are few.
#[utoipa::path(
    operation_id = "devices_types",
    context_path = "",
    responses((status = 200, body = Page<DeviceType>)),
)]
#[get("/api/v1/device-types")]
pub async fn device_types(mut unit: Unit) -> ApiResult<Sent<Page<DeviceType>>> {
    Ok(Sent(commands::devices::device_types(&mut unit).await?))
}

/// Adds a device.
#[utoipa::path(
    operation_id = "devices_add",
    context_path = "",
    request_body = NewDevice,
    responses((status = 200, body = Device)),
)]
#[post("/api/v1/devices", data = "<body>")]
pub async fn add_device(body: Call<NewDevice>) -> ApiResult<Tagged<Device>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::devices::add_device(&mut unit, body).await?,
    ))
}

/// Reads a device.
#[utoipa::path(
    operation_id = "devices_read",
    context_path = "",
    responses((status = 200, body = Device)),
)]
#[get("/api/v1/devices/<device>")]
pub async fn read_device(mut unit: Unit, device: &str) -> ApiResult<Tagged<Device>> {
    Ok(Tagged(
        commands::devices::read_device(&mut unit, id(device)?).await?,
    ))
}

/// Edits a device.
#[utoipa::path(
    operation_id = "devices_edit",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    request_body = EditDevice,
    responses((status = 200, body = Device)),
)]
#[patch("/api/v1/devices/<device>", data = "<body>")]
pub async fn edit_device(
    device: &str,
    revision: IfMatch,
    body: Call<EditDevice>,
) -> ApiResult<Tagged<Device>> {
    let Call(mut unit, body) = body;
    Ok(Tagged(
        commands::devices::edit_device(&mut unit, id(device)?, revision.0, body).await?,
    ))
}

/// Removes a device that has no accounts.
#[utoipa::path(
    operation_id = "devices_remove",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200)),
)]
#[delete("/api/v1/devices/<device>")]
pub async fn remove_device(mut unit: Unit, device: &str, revision: IfMatch) -> ApiResult<()> {
    Ok(commands::devices::remove_device(&mut unit, id(device)?, revision.0).await?)
}

/// Reads what is known of the accounts that a device has, for its stewards. Not paged: a device has at
/// most 10,000.
#[utoipa::path(
    operation_id = "devices_accounts",
    context_path = "",
    responses((status = 200, body = DeviceAccounts)),
)]
#[get("/api/v1/devices/<device>/accounts")]
pub async fn accounts(mut unit: Unit, device: &str) -> ApiResult<Sent<DeviceAccounts>> {
    Ok(Sent(
        commands::device_accounts::accounts(&mut unit, id(device)?).await?,
    ))
}

/// Has the operator of a device read which accounts there are. The answer has those that were known
/// before; `state` says when the new ones are there.
#[utoipa::path(
    operation_id = "devices_read_accounts",
    context_path = "",
    responses((status = 200, body = DeviceAccounts)),
)]
#[post("/api/v1/devices/<device>/read-accounts")]
pub async fn read_accounts(mut unit: Unit, device: &str) -> ApiResult<Sent<DeviceAccounts>> {
    Ok(Sent(
        commands::device_accounts::read_accounts(&mut unit, id(device)?).await?,
    ))
}

/// Reads the identity shown at a device's address, without sending anything to it.
#[utoipa::path(
    operation_id = "devices_read_identity",
    context_path = "",
    responses((status = 200, body = Page<DeviceIdentity>)),
)]
#[post("/api/v1/devices/<device>/read-identity")]
pub async fn read_identity(mut unit: Unit, device: &str) -> ApiResult<Sent<Page<DeviceIdentity>>> {
    Ok(Sent(
        commands::devices::read_identity(&mut unit, id(device)?).await?,
    ))
}

/// Confirms the suspended bindings of a device as it is now, for passwords that the caller may
/// reveal.
#[utoipa::path(
    operation_id = "devices_confirm_bindings",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200, body = BindingsConfirmed)),
)]
#[post("/api/v1/devices/<device>/confirm-bindings")]
pub async fn confirm_bindings(
    mut unit: Unit,
    device: &str,
    revision: IfMatch,
) -> ApiResult<Sent<BindingsConfirmed>> {
    Ok(Sent(
        commands::devices::confirm_bindings(&mut unit, id(device)?, revision.0).await?,
    ))
}

/// Lets jobs use the operator of a paused device again.
#[utoipa::path(
    operation_id = "devices_resume",
    context_path = "",
    params(("If-Match" = String, Header, description = "The revision that the change is based on")),
    responses((status = 200, body = Device)),
)]
#[post("/api/v1/devices/<device>/resume")]
pub async fn resume(mut unit: Unit, device: &str, revision: IfMatch) -> ApiResult<Tagged<Device>> {
    Ok(Tagged(
        commands::devices::resume(&mut unit, id(device)?, revision.0).await?,
    ))
}

/// Reads where a credential may be used as an operator, for its stewards.
#[utoipa::path(
    operation_id = "devices_read_scope",
    context_path = "",
    responses((status = 200, body = OperatorScope)),
)]
#[get("/api/v1/credentials/<credential>/operator-scope")]
pub async fn read_scope(mut unit: Unit, credential: &str) -> ApiResult<Sent<OperatorScope>> {
    Ok(Sent(
        commands::operator_scope::read_scope(&mut unit, id(credential)?).await?,
    ))
}

/// Sets where a credential may be used as an operator, replacing what was set before.
#[utoipa::path(
    operation_id = "devices_set_scope",
    context_path = "",
    request_body = OperatorScope,
    responses((status = 200, body = OperatorScope)),
)]
#[put("/api/v1/credentials/<credential>/operator-scope", data = "<body>")]
pub async fn set_scope(
    credential: &str,
    body: Call<OperatorScope>,
) -> ApiResult<Sent<OperatorScope>> {
    let Call(mut unit, body) = body;
    Ok(Sent(
        commands::operator_scope::set_scope(&mut unit, id(credential)?, body).await?,
    ))
}
