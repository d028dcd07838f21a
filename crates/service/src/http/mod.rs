//! The network interface: one file per part of the product, each route thin.

mod access_file;
mod access_issues;
mod access_requests;
mod attachments;
mod audit;
mod auth;
mod checkouts;
mod clients;
mod console;
mod credentials;
mod devices;
mod dialogues;
mod events;
mod exports;
mod favourites;
mod folders;
mod gates;
mod grants;
mod groups;
mod imports;
mod keys;
mod kinds;
mod lookup;
mod overview;
mod payload;
mod pending_acts;
mod people;
mod personal;
mod policies;
mod preview;
mod removal;
mod requests;
mod saved_searches;
mod secrets;
mod sessions;
mod settings;
mod setup;
mod status;
mod tables;
mod tags;
mod upkeep;
mod vault_lock;

use rocket::http::Status;
use rocket::{Catcher, Request, Route, catchers as make_catchers, get, routes};
use utoipa::OpenApi as _;
use utoipa::openapi::security::{ApiKey, ApiKeyValue, Http, HttpAuthScheme, SecurityScheme};
use utoipa::openapi::{Content, Ref, RefOr, ResponseBuilder, Schema, SecurityRequirement};

use crate::guards::COOKIE;

use crate::error::ApiError;

pub use payload::MOST_BODY;

/// The document that describes the interface, made from the code.
#[derive(utoipa::OpenApi)]
#[openapi(
    modifiers(&Everywhere),
    components(schemas(jexlin_api::Problem, jexlin_api::ErrorCode, jexlin_api::ImportOptions, jexlin_core::vault::CredentialView, jexlin_core::vault::CredentialSort)),
    info(
        title = "Jexlin",
        description = "Privileged access: an encrypted vault, upkeep of passwords on devices, gates and an audit log that can be verified. Errors are problem details (RFC 9457); lists have cursor pages; what two people could edit carries a revision that is sent back as If-Match."
    ),
    paths(
        status::status,
        setup::setup,
        vault_lock::unlock,
        vault_lock::lock_vault,
        keys::keys,
        keys::change_root_key,
        keys::finish_root_key,
        keys::abandon_root_key,
        keys::change_root_passphrase,
        keys::change_organisation_key,
        auth::sign_in,
        auth::sign_out,
        auth::me,
        auth::change_password,
        sessions::list,
        sessions::end,
        sessions::end_all,
        people::list,
        people::add,
        people::read,
        people::edit,
        people::grants,
        people::seen,
        groups::groups,
        groups::add_group,
        groups::rename_group,
        groups::remove_group,
        groups::add_member,
        groups::remove_member,
        clients::add,
        clients::renew,
        clients::token,
        policies::policies,
        policies::add_policy,
        policies::edit_policy,
        policies::make_default,
        policies::remove_policy,
        policies::generate,
        policies::try_policy,
        policies::password_rule,
        policies::set_password_rule,
        policies::remove_password_rule,
        settings::settings,
        settings::edit_settings,
        folders::list,
        folders::add,
        folders::read,
        folders::edit,
        folders::remove,
        kinds::list,
        kinds::add,
        kinds::edit,
        kinds::remove,
        credentials::list,
        credentials::table,
        credentials::add,
        credentials::read,
        credentials::edit,
        credentials::remove,
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
        tables::accounts,
        tables::checkouts,
        tables::devices,
        tables::jobs,
        tables::people,
        tables::requests,
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
        personal::edit,
        personal::remove,
        personal::reveal,
        personal::move_out,
        personal::move_in,
        devices::devices,
        devices::device_types,
        devices::add_device,
        devices::read_device,
        devices::edit_device,
        devices::remove_device,
        devices::accounts,
        devices::read_accounts,
        devices::read_identity,
        devices::confirm_bindings,
        devices::resume,
        devices::read_scope,
        devices::set_scope,
        grants::list,
        grants::add,
        grants::remove,
        grants::read,
        grants::edit,
        grants::explain,
        grants::reach,
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
        upkeep::plan_times,
        upkeep::edit_plan,
        upkeep::remove_plan,
        upkeep::accounts,
        dialogues::add,
        dialogues::inspect,
        dialogues::list,
        dialogues::read,
        dialogues::rehearse,
        upkeep::transcript,
        upkeep::jobs,
        upkeep::job,
        upkeep::cancel,
        upkeep::check,
        upkeep::rehearse,
        upkeep::rotate,
        upkeep::add_jobs,
        pending_acts::list,
        pending_acts::confirm,
        pending_acts::refuse,
        pending_acts::withdraw,
        gates::list,
        gates::add,
        gates::edit,
        gates::remove,
        requests::list,
        requests::read,
        requests::ask,
        requests::approve,
        requests::refuse,
        requests::withdraw,
        checkouts::list,
        checkouts::take,
        checkouts::check_in,
        checkouts::recall,
        audit::list,
        audit::below,
        audit::key,
        audit::proof,
        audit::export,
        lookup::lookup,
        overview::overview,
        events::stream,
    )
)]
struct Document;

/// What all operations have in common: who may call them, and how they fail.
struct Everywhere;

/// Operations that take no session.
const OPEN: [&str; 5] = [
    "status",
    "setup",
    "setup_unlock",
    "auth_sign_in",
    "clients_token",
];

impl utoipa::Modify for Everywhere {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let mut bearer = Http::new(HttpAuthScheme::Bearer);
        bearer.description = Some("The token of a session: of a person or of a client.".into());
        let cookie = ApiKeyValue::with_description(
            COOKIE,
            "The session of the console; with it, a request that changes something carries the header Jexlin-Console.",
        );
        let parts = document.components.get_or_insert_default();
        parts.add_security_scheme("bearer", SecurityScheme::Http(bearer));
        parts.add_security_scheme("cookie", SecurityScheme::ApiKey(ApiKey::Cookie(cookie)));
        for (name, example) in jexlin_api::examples() {
            if let Some(RefOr::T(Schema::Object(schema))) = parts.schemas.get_mut(&name) {
                schema.examples.push(example);
            }
        }
        let session = ["bearer", "cookie"].map(|name| SecurityRequirement::new(name, [""; 0]));
        let problem = ResponseBuilder::new()
            .description("What failed, as problem details (RFC 9457)")
            .content(
                "application/problem+json",
                Content::new(Some(Ref::from_schema_name("Problem"))),
            )
            .build();
        for item in document.paths.paths.values_mut() {
            let operations = [
                &mut item.get,
                &mut item.put,
                &mut item.post,
                &mut item.delete,
                &mut item.patch,
            ];
            for operation in operations.into_iter().flatten() {
                let open = operation
                    .operation_id
                    .as_deref()
                    .is_some_and(|id| OPEN.contains(&id));
                operation.security = Some(if open { vec![] } else { session.to_vec() });
                operation
                    .responses
                    .responses
                    .insert("default".into(), problem.clone().into());
            }
        }
    }
}

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
        lookup::routes(),
        sessions::routes(),
        setup::routes(),
        vault_lock::routes(),
        status::routes(),
        keys::routes(),
        people::routes(),
        groups::routes(),
        clients::routes(),
        folders::routes(),
        credentials::routes(),
        secrets::routes(),
        kinds::routes(),
        attachments::routes(),
        favourites::routes(),
        tables::routes(),
        tags::routes(),
        saved_searches::routes(),
        removal::routes(),
        personal::routes(),
        policies::routes(),
        settings::routes(),
        devices::routes(),
        dialogues::routes(),
        grants::routes(),
        preview::routes(),
        access_file::routes(),
        access_issues::routes(),
        access_requests::routes(),
        imports::routes(),
        exports::routes(),
        upkeep::routes(),
        gates::routes(),
        requests::routes(),
        checkouts::routes(),
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
    known.map_or(ApiError::Http(status), ApiError::App)
}

/// What answers when no route does.
#[must_use]
pub fn catchers() -> Vec<Catcher> {
    make_catchers![caught]
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The document is complete.
    #[test]
    fn every_route_is_in_the_document() {
        let document: serde_json::Value = serde_json::from_str(&openapi()).unwrap();
        let routes = all();
        let interface = routes
            .iter()
            .filter(|route| route.uri.path().starts_with("/api/v1/"));
        let mut missing: Vec<String> = interface
            .filter(|route| {
                let path = route.uri.path().replace('<', "{").replace('>', "}");
                let method = route.method.as_str().to_lowercase();
                document["paths"][path][method].is_null()
            })
            .map(|route| format!("{} {}", route.method, route.uri.path()))
            .collect();
        missing.sort();
        assert_eq!(
            missing,
            ["GET /api/v1/openapi.json"],
            "but the document itself"
        );
    }
}
