//! What people with little access, strangers and hostile devices try. One file an attack; each is
//! performed from outside, as its attacker would. `docs/security.md` names them.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod acting_alone_where_two_are_needed;
mod cancelling_a_rotation_that_is_owed;
mod changing_what_is_said_with_a_password;
mod cross_site_sign_in;
mod drowning_the_sign_in;
mod every_place_where_a_secret_is_opened;
mod files_that_kill_their_reader;
mod forging_lines_with_foreign_text;
mod going_round_a_gate;
mod guessing_a_value_by_its_findings;
mod guessing_past_the_lockout_budget;
mod hanging_devices_and_stale_leases;
mod holding_a_request_back;
mod jobs_that_cannot_be_carried_out;
mod keeping_everybody_waiting;
mod keeping_what_a_session_had;
mod killing_a_change_of_keys;
mod late_and_lying_devices;
mod locking_the_vault;
mod looking_behind_the_tables;
mod probing_the_services_own_network;
mod purging_the_account_of_a_removed_device;
mod sending_a_password_to_an_own_server;
mod swapping_the_host_behind_an_address;
mod two_credentials_for_one_account;
mod using_an_account_of_a_jump_host;
mod using_an_operator_without_its_stewards;
mod using_anothers_kept_connection;
mod widening_access_by_a_tag;

use jexlin_acceptance::{Service, Session};
use serde_json::{Value, json};

/// Short waits for devices, so that a device that says nothing is soon given up.
const QUICK: [(&str, &str); 2] = [
    ("JEXLIN_CONNECT_SECONDS", "3"),
    ("JEXLIN_CHANGE_SECONDS", "2"),
];

/// A service on which devices must prove an identity that somebody has confirmed.
fn strict(extra: &[(&str, &str)]) -> Service {
    let service = Service::on(jexlin_acceptance::cluster(), extra);
    service.set_up();
    service.settings(&json!({"connect_to": ["127.0.0.0/8"]}));
    service
}

/// A device on this machine.
fn device(of: &Session<'_>, folder: &str, name: &str, port: u16) -> String {
    of.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": name, "address": "127.0.0.1", "port": port}),
    )
}

/// Reads and confirms the identity that answers.
fn confirm(of: &Session<'_>, device: &str) {
    let path = format!("/api/v1/devices/{device}");
    let shown = of.post(&format!("{path}/read-identity"), &json!({})).good();
    let _ = of
        .patch(
            &path,
            revision(of, &path),
            &json!({"identity": [shown["items"][0]["line"]]}),
        )
        .good();
}

fn revision(of: &Session<'_>, path: &str) -> i64 {
    of.get(path).good()["revision"].as_i64().unwrap()
}

/// A login that is the password of an account.
fn account(
    of: &Session<'_>,
    folder: &str,
    device: &str,
    name: &str,
    user: &str,
    password: &str,
) -> String {
    of.make(
        "/api/v1/credentials",
        &json!({"folder": folder, "kind": "device-admin", "name": name, "fields": {"user_name": user}, "password": password, "device": device}),
    )
}

/// A login that is on no device.
fn login(of: &Session<'_>, folder: &str, name: &str, user: &str, password: &str) -> String {
    of.make("/api/v1/credentials", &json!({"folder": folder, "kind": "device-admin", "name": name, "fields": {"user_name": user}, "password": password}))
}

fn make_operator(of: &Session<'_>, device: &str, credential: &str) {
    let path = format!("/api/v1/devices/{device}");
    let _ = of
        .patch(&path, revision(of, &path), &json!({"operator": credential}))
        .good();
}

fn grant(of: &Session<'_>, target: &str, id: &str, person: &str, level: &str) {
    let _ = of.make(
        "/api/v1/grants",
        &json!({target: id, "person": person, "level": level}),
    );
}

fn job(of: &Session<'_>, credential: &str, task: &str) -> Value {
    let job = of.make(
        &format!("/api/v1/credentials/{credential}/{task}"),
        &json!({}),
    );
    of.settled(&job)
}

/// Has a rotation that is in doubt tried again until it is done.
fn rotate_until_done(service: &Service, of: &Session<'_>, credential: &str) {
    let waiting = of
        .get(&format!("/api/v1/jobs?credential={credential}&limit=1"))
        .good();
    let id = match waiting["items"][0]["state"].as_str() {
        Some("queued" | "running") => waiting["items"][0]["id"].as_str().unwrap().to_owned(),
        _ => of.make(
            &format!("/api/v1/credentials/{credential}/rotate"),
            &json!({}),
        ),
    };
    jexlin_acceptance::until("a rotation that is done", || {
        let job = of.get(&format!("/api/v1/jobs/{id}")).good();
        if job["state"] == "queued" {
            service.sql("DELETE FROM failed_login");
            // It may have begun meanwhile.
            let _ = of.post(
                &format!("/api/v1/credentials/{credential}/rotate"),
                &json!({}),
            );
        }
        (job["state"] == "done").then_some(())
    });
}
