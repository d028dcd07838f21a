//! A job that the service itself fails at is tried for ever, blocks its account and its device, or
//! keeps others waiting.

use jexlin_acceptance::until;
use jexlin_standins::ssh_device::SshDevice;
use serde_json::json;

use super::{account, confirm, device, job, revision, strict};

#[test]
fn it_ends_as_failed_with_a_reason_and_keeps_nobody_waiting() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("duty", "Duty-1"), ("night", "Night-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let broken = account(&ines, &folder, &unit, "broken", "duty", "Duty-1");
    let good = account(&ines, &folder, &unit, "good", "night", "Night-1");
    // A value that does not open: the service's own failure, whatever the device does.
    service.sql(&format!("ALTER TABLE secret_version DISABLE TRIGGER ALL; UPDATE secret_version SET sealed = '\\x00' WHERE credential_id = '{broken}'; ALTER TABLE secret_version ENABLE TRIGGER ALL"));
    let rotation = ines.make(&format!("/api/v1/credentials/{broken}/check"), &json!({}));
    assert_eq!(
        job(&ines, &good, "check")["outcome"],
        "in-sync",
        "another account's job is not kept waiting"
    );
    let ended = until("an end", || {
        service.sql(
            "UPDATE job SET not_before = now() WHERE state = 'queued'; DELETE FROM failed_login",
        );
        let job = ines.get(&format!("/api/v1/jobs/{rotation}")).good();
        (job["state"] == "failed").then_some(job)
    });
    assert!(
        ended["message"]
            .as_str()
            .unwrap()
            .contains("the service could not carry this out"),
        "{ended}"
    );
    assert!(ended["attempts"].as_i64().unwrap() <= 7, "{ended}");
}

#[test]
fn a_job_that_waits_can_be_cancelled_and_does_not_keep_its_device() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let check = ines.make(&format!("/api/v1/credentials/{duty}/check"), &json!({}));
    let _ = ines.settled(&check);
    service.sql(&format!("UPDATE job SET state = 'queued', not_before = now() + interval '1 hour' WHERE id = '{check}'"));
    let marek = ines.person("marek", &[]);
    super::grant(&ines, "folder", &folder, &marek, "use");
    service
        .sign_in("marek")
        .post(&format!("/api/v1/jobs/{check}/cancel"), &json!({}))
        .refused(403, "not-allowed");
    let client = service.client("ines");
    assert!(
        client
            .good(&["upkeep", "cancel", &check])
            .contains("cancelled")
    );
    ines.post(&format!("/api/v1/jobs/{check}/cancel"), &json!({}))
        .refused(409, "job-running");
    let outcomes: Vec<_> = ines
        .events("upkeep.cancel")
        .iter()
        .map(|event| event["outcome"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(outcomes, ["refused", "done", "refused"]);
    service.sql(&format!("UPDATE job SET state = 'queued', not_before = now() + interval '1 hour' WHERE id = '{check}'"));
    // A rotation that is asked for takes the waiting check's place, and is what is recorded and
    // run.
    let asked = ines
        .post(
            &format!("/api/v1/credentials/{duty}/rotate"),
            &json!({"method": "self"}),
        )
        .good();
    assert_eq!(asked["task"], "rotation");
    let settled = ines.settled(asked["id"].as_str().unwrap());
    if settled["state"] == "queued" {
        let _ = ines
            .post(
                &format!("/api/v1/jobs/{}/cancel", asked["id"].as_str().unwrap()),
                &json!({}),
            )
            .good();
    }
    let present = revision(&ines, &format!("/api/v1/credentials/{duty}"));
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{duty}"),
            present,
            &json!({"no_device": true}),
        )
        .good();
    let path = format!("/api/v1/devices/{unit}");
    assert_eq!(ines.delete(&path, Some(revision(&ines, &path))).status, 200);
}
