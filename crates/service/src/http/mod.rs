//! The network interface: one file per part of the product, each route thin.

mod access;
mod access_file;
mod access_issues;
mod access_requests;
mod attachments;
mod audit;
mod auth;
mod clients;
mod console;
mod devices;
mod events;
mod exports;
mod favourites;
mod folders;
mod gate_place;
mod gates;
mod imports;
mod keys;
mod kinds;
mod names;
mod overview;
mod payload;
mod pending_acts;
mod people;
mod personal;
mod policies;
mod preview;
mod removal;
mod saved_searches;
mod second_person;
mod secrets;
mod setup;
mod status;
mod tags;
mod upkeep;
mod vault;

use rocket::http::Status;
use rocket::{Catcher, Request, Route, catchers as make_catchers, get, routes};
use utoipa::OpenApi as _;

use crate::error::ApiError;

pub use keys::new_root_key;
pub use payload::MOST_BODY;
pub use setup::open_all;

/// The document that describes the interface, made from the code.
#[derive(utoipa::OpenApi)]
#[openapi(
    info(
        title = "Jexlin",
        description = "Privileged access: an encrypted vault, upkeep of passwords on devices, gates and an audit log that can be proved. Errors are problem details (RFC 9457); lists have cursor pages; what two people could edit carries a version that goes back as If-Match."
    ),
    paths(
        status::status,
        setup::setup,
        setup::unlock,
        setup::lock_vault,
        keys::keys,
        keys::change_root_key,
        keys::finish_root_key,
        keys::abandon_root_key,
        keys::change_organisation_key,
        auth::sign_in,
        auth::sign_out,
        auth::me,
        auth::change_password,
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
        secrets::restore,
        secrets::copy,
        secrets::read_picture,
        attachments::list,
        attachments::add,
        attachments::read,
        attachments::remove,
        favourites::mark_favourite,
        favourites::unmark_favourite,
        tags::tags,
        saved_searches::searches,
        saved_searches::save_search,
        saved_searches::remove_search,
        favourites::uses,
        removal::list,
        removal::restore,
        removal::purge,
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
        personal::move_out,
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
        access_issues::list,
        access_issues::fix,
        access_issues::transfer_stewardship,
        access_requests::discoverable,
        access_requests::list,
        access_requests::ask,
        access_requests::grant,
        access_requests::refuse,
        access_requests::withdraw,
        imports::import_file,
        imports::progress,
        imports::list,
        imports::undo,
        exports::export,
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
        pending_acts::list,
        pending_acts::confirm,
        pending_acts::refuse,
        pending_acts::withdraw,
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
        events::live,
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
        auth::routes(),
        setup::routes(),
        status::routes(),
        keys::routes(),
        people::routes(),
        clients::routes(),
        folders::routes(),
        vault::routes(),
        secrets::routes(),
        kinds::routes(),
        attachments::routes(),
        favourites::routes(),
        tags::routes(),
        saved_searches::routes(),
        removal::routes(),
        personal::routes(),
        policies::routes(),
        devices::routes(),
        access::routes(),
        preview::routes(),
        access_file::routes(),
        access_issues::routes(),
        access_requests::routes(),
        imports::routes(),
        exports::routes(),
        upkeep::routes(),
        gates::routes(),
        audit::routes(),
        overview::routes(),
        pending_acts::routes(),
        events::routes(),
        console::routes(),
    ] {
        all.extend(part);
    }
    all
}

#[rocket::catch(default)]
fn caught(status: Status, request: &Request<'_>) -> ApiError {
    let known = crate::error::last_error(request).clone();
    known.unwrap_or_else(|| ApiError::of_status(status))
}

/// What answers when no route does.
#[must_use]
pub fn catchers() -> Vec<Catcher> {
    make_catchers![caught]
}
