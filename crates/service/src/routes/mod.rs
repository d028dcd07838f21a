//! The network interface: one file per part of the product, each route thin.

mod access;
mod access_file;
mod attachments;
mod audit;
mod bin;
mod clients;
mod console;
mod devices;
mod door;
mod exchange;
mod exports;
mod folders;
mod gates;
pub mod imports;
mod keys;
mod kinds;
mod live;
mod marks;
mod overview;
mod pending;
mod people;
mod personal;
mod policies;
mod preview;
mod repair;
mod secrets;
mod upkeep;
mod vault;
mod wishes;

use rocket::http::Status;
use rocket::{Catcher, Request, Route, catchers as make_catchers, get, routes};
use utoipa::OpenApi as _;

use crate::problem::Fault;

pub use door::{open_all, wait_after};
pub use exchange::MOST_BODY;
pub use keys::new_root_key;
pub use personal::OpenFolders;
pub use upkeep::{parse_plan, queued};

/// The document that describes the interface, made from the code.
#[derive(utoipa::OpenApi)]
#[openapi(
    info(
        title = "Jexlin",
        description = "Privileged access: an encrypted vault, upkeep of passwords on devices, gates and an audit log that can be proved. Errors are problem details (RFC 9457); lists have cursor pages; what two people could edit carries a version that goes back as If-Match."
    ),
    paths(
        door::status,
        door::setup,
        door::unlock,
        door::lock_vault,
        keys::keys,
        keys::change_root_key,
        keys::finish_root_key,
        keys::abandon_root_key,
        keys::change_organisation_key,
        door::sign_in,
        door::sign_out,
        door::me,
        door::change_password,
        people::list,
        people::add,
        people::read,
        people::change,
        people::groups,
        people::add_group,
        people::rename_group,
        people::remove_group,
        people::add_member,
        people::remove_member,
        clients::add,
        clients::renew,
        clients::token,
        policies::policies,
        policies::add_policy,
        policies::change_policy,
        policies::make_default,
        policies::remove_policy,
        policies::generate,
        policies::try_policy,
        policies::password_rule,
        policies::set_password_rule,
        policies::remove_password_rule,
        policies::settings,
        policies::change_settings,
        folders::list,
        folders::add,
        folders::read,
        folders::change,
        folders::remove,
        kinds::list,
        kinds::add,
        kinds::change,
        kinds::remove,
        vault::list,
        vault::add,
        vault::read,
        vault::change,
        vault::remove,
        secrets::reveal,
        secrets::code,
        secrets::history,
        secrets::put_back,
        secrets::copy,
        secrets::read_picture,
        attachments::list,
        attachments::add,
        attachments::read,
        attachments::remove,
        marks::mark_favourite,
        marks::unmark_favourite,
        marks::tags,
        marks::searches,
        marks::save_search,
        marks::forget_search,
        marks::uses,
        bin::list,
        bin::put_back,
        bin::purge,
        personal::state,
        personal::create,
        personal::open_folder,
        personal::lock,
        personal::protect,
        personal::list,
        personal::add,
        personal::change,
        personal::remove,
        personal::reveal,
        personal::take_out,
        personal::move_in,
        devices::devices,
        devices::add_device,
        devices::read_device,
        devices::change_device,
        devices::remove_device,
        devices::read_identity,
        devices::confirm_bindings,
        devices::resume,
        devices::read_scope,
        devices::set_scope,
        access::list,
        access::add,
        access::remove,
        access::read,
        access::change,
        access::explain,
        access::reach,
        preview::preview,
        access_file::export,
        access_file::compare,
        access_file::apply,
        repair::list,
        repair::mend,
        repair::hand_over,
        wishes::beyond,
        wishes::list,
        wishes::ask,
        wishes::grant,
        wishes::refuse,
        wishes::withdraw,
        imports::bring_in,
        imports::progress,
        imports::list,
        imports::undo,
        exports::take_out,
        upkeep::plans,
        upkeep::add_plan,
        upkeep::change_plan,
        upkeep::remove_plan,
        upkeep::accounts,
        upkeep::jobs,
        upkeep::job,
        upkeep::cancel,
        upkeep::check,
        upkeep::rotate,
        pending::list,
        pending::confirm,
        pending::refuse,
        pending::withdraw,
        gates::list,
        gates::add,
        gates::change,
        gates::remove,
        gates::requests,
        gates::request,
        gates::ask,
        gates::approve,
        gates::refuse,
        gates::withdraw,
        gates::checkouts,
        gates::take,
        gates::check_in,
        gates::recall,
        audit::list,
        audit::below,
        audit::key,
        audit::proof,
        audit::export,
        overview::overview,
        live::live,
    )
)]
struct Document;

/// The OpenAPI document as text, for the golden file.
#[must_use]
pub fn openapi() -> String {
    Document::openapi().to_pretty_json().unwrap_or_default()
}

#[get("/api/v1/openapi.json")]
fn document() -> (rocket::http::ContentType, String) {
    (rocket::http::ContentType::JSON, openapi())
}

/// All routes.
#[must_use]
pub fn all() -> Vec<Route> {
    let mut all = routes![document];
    for part in [
        door::routes(),
        keys::routes(),
        people::routes(),
        clients::routes(),
        folders::routes(),
        vault::routes(),
        secrets::routes(),
        kinds::routes(),
        attachments::routes(),
        marks::routes(),
        bin::routes(),
        personal::routes(),
        policies::routes(),
        devices::routes(),
        access::routes(),
        preview::routes(),
        access_file::routes(),
        repair::routes(),
        wishes::routes(),
        imports::routes(),
        exports::routes(),
        upkeep::routes(),
        gates::routes(),
        audit::routes(),
        overview::routes(),
        pending::routes(),
        live::routes(),
        console::routes(),
    ] {
        all.extend(part);
    }
    all
}

#[rocket::catch(default)]
fn caught(status: Status, request: &Request<'_>) -> Fault {
    let known = crate::acting::last_fault(request).clone();
    known.unwrap_or_else(|| Fault::of_status(status))
}

/// The kind of a name, for the workers.
///
/// # Errors
/// [`Fault`].
pub async fn kind(tx: &mut jexlin_store::Tx, name: &str) -> crate::problem::Answer<Option<jexlin_core::vault::kinds::Kind>> {
    Ok(kinds::find(tx, name).await?.map(|known| known.kind))
}

/// What answers when no route does.
#[must_use]
pub fn catchers() -> Vec<Catcher> {
    make_catchers![caught]
}
