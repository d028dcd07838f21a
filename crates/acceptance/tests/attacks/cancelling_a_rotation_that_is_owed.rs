//! Whoever gives a password back keeps it by cancelling the rotation that its gate asks for: with
//! another job in the queue, by taking the device off, by a host that is off at the time.

use jexlin_acceptance::{Session, until};
use jexlin_standins::ssh_device::{Behaviour, SshDevice};
use serde_json::{Value, json};

use super::{account, confirm, device, make_operator, strict};

fn gated(ines: &Session<'_>) -> (SshDevice, String, String) {
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let unit = device(ines, &folder, "unit", host.port());
    confirm(ines, &unit);
    let root = account(ines, &folder, &unit, "root", "root", "Root-1");
    let duty = account(ines, &folder, &unit, "duty", "duty", "Duty-1");
    make_operator(ines, &unit, &root);
    let gate = json!({"credential": duty, "needs_reason": false, "max_minutes": 60, "one_holder": true, "rotate_on_return": true});
    let _ = ines.make("/api/v1/gates", &gate);
    (host, unit, duty)
}

fn upkeep(ines: &Session<'_>, credential: &str) -> Value {
    ines.get(&format!("/api/v1/credentials/{credential}"))
        .good()["upkeep"]
        .clone()
}

#[test]
fn neither_a_check_in_the_queue_nor_taking_the_device_off_cancels_it() {
    let service = strict(&super::QUICK);
    let ines = service.sign_in("ines");
    let (host, _, duty) = gated(&ines);
    let held = ines.make(
        "/api/v1/checkouts",
        &json!({"credential": duty, "reason": "a look", "minutes": 10}),
    );
    assert_eq!(ines.reveal(&duty).text("value"), "Duty-1");
    // A check stands in the queue, not to be run for an hour.
    let check = ines.make(&format!("/api/v1/credentials/{duty}/check"), &json!({}));
    let _ = ines.settled(&check);
    service.sql(&format!("UPDATE job SET state = 'queued', not_before = now() + interval '1 hour' WHERE id = '{check}'"));
    let revision = ines.get(&format!("/api/v1/credentials/{duty}")).good()["revision"]
        .as_i64()
        .unwrap();
    ines.patch(
        &format!("/api/v1/credentials/{duty}"),
        revision,
        &json!({"no_device": true}),
    )
    .refused(409, "job-under-way");
    let _ = ines
        .post(&format!("/api/v1/checkouts/{held}/check-in"), &json!({}))
        .good();
    assert!(
        upkeep(&ines, &duty)["rotation_owed_at"].is_string(),
        "it is owed and said so"
    );
    service.sql(&format!(
        "UPDATE job SET state = 'failed' WHERE id = '{check}'"
    ));
    let revision = ines.get(&format!("/api/v1/credentials/{duty}")).good()["revision"]
        .as_i64()
        .unwrap();
    let off = ines.patch(
        &format!("/api/v1/credentials/{duty}"),
        revision,
        &json!({"no_device": true}),
    );
    assert_eq!(off.status, 409, "{}", off.body);
    until("a rotation", || {
        upkeep(&ines, &duty)["rotation_owed_at"]
            .is_null()
            .then_some(())
    });
    assert_ne!(host.password("duty"), "Duty-1");
}

#[test]
fn a_device_that_refuses_it_owes_it_until_a_rotation_is_done() {
    let service = strict(&super::QUICK);
    let ines = service.sign_in("ines");
    let (host, _, duty) = gated(&ines);
    host.behave(Behaviour::Refuses);
    let held = ines.make(
        "/api/v1/checkouts",
        &json!({"credential": duty, "reason": "a look", "minutes": 10}),
    );
    let revision = ines.get(&format!("/api/v1/credentials/{duty}")).good()["revision"]
        .as_i64()
        .unwrap();
    ines.patch(
        &format!("/api/v1/credentials/{duty}"),
        revision,
        &json!({"no_device": true}),
    )
    .refused(409, "rotation-owed");
    let _ = ines
        .post(&format!("/api/v1/checkouts/{held}/check-in"), &json!({}))
        .good();
    until("a refused rotation", || {
        (upkeep(&ines, &duty)["rotation_outcome"] == "refused").then_some(())
    });
    assert!(
        upkeep(&ines, &duty)["rotation_owed_at"].is_string(),
        "still owed"
    );
    ines.delete(&format!("/api/v1/credentials/{duty}"), Some(revision))
        .refused(409, "rotation-owed");
    host.behave(Behaviour::Obeys);
    service.sql("DELETE FROM failed_login; UPDATE account SET owed_next_at = now() WHERE rotation_owed_at IS NOT NULL");
    until("a rotation that is done", || {
        upkeep(&ines, &duty)["rotation_owed_at"]
            .is_null()
            .then_some(())
    });
    assert_ne!(host.password("duty"), "Duty-1");
}
