//! The network interface: one file per part of the product, each route thin.

mod access;
mod audit;
mod console;
mod door;
mod exchange;
mod folders;
mod gates;
mod live;
mod overview;
mod people;
mod upkeep;
mod vault;

use rocket::http::Status;
use rocket::{Catcher, Request, Route, catchers as make_catchers, get, routes};
use utoipa::OpenApi as _;

use crate::problem::Fault;

pub use exchange::MOST_BODY;
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
        people::policies,
        people::add_policy,
        people::change_policy,
        people::generate,
        folders::list,
        folders::add,
        folders::read,
        folders::change,
        folders::remove,
        vault::kinds,
        vault::list,
        vault::add,
        vault::read,
        vault::change,
        vault::remove,
        vault::reveal,
        vault::code,
        vault::history,
        vault::devices,
        vault::add_device,
        vault::read_device,
        vault::change_device,
        vault::remove_device,
        access::list,
        access::add,
        access::remove,
        access::explain,
        upkeep::plans,
        upkeep::add_plan,
        upkeep::change_plan,
        upkeep::remove_plan,
        upkeep::accounts,
        upkeep::jobs,
        upkeep::job,
        upkeep::check,
        upkeep::rotate,
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
        people::routes(),
        folders::routes(),
        vault::routes(),
        access::routes(),
        upkeep::routes(),
        gates::routes(),
        audit::routes(),
        overview::routes(),
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

/// What answers when no route does.
#[must_use]
pub fn catchers() -> Vec<Catcher> {
    make_catchers![caught]
}
