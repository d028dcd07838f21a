//! A device is pointed at another host, or another host answers at its address, so that passwords
//! go there.

use jexlin_standins::ssh_device::SshDevice;
use serde_json::json;

use super::{account, confirm, device, grant, job, revision, strict};

#[test]
fn no_password_goes_to_a_device_whose_identity_nobody_confirmed() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let checked = job(&ines, &duty, "check");
    assert_eq!(checked["outcome"], "unreachable");
    assert!(
        checked["message"]
            .as_str()
            .unwrap()
            .contains("is not confirmed yet"),
        "{checked}"
    );
    assert!(host.tried().is_empty());
    // Reading who answers sends nothing either.
    let _ = ines
        .post(&format!("/api/v1/devices/{unit}/read-identity"), &json!({}))
        .good();
    assert!(host.tried().is_empty());
    // An organisation may choose otherwise.
    service.settings(&json!({"connect_to": ["127.0.0.0/8"], "trust_first_contact": true}));
    assert_eq!(job(&ines, &duty, "check")["outcome"], "in-sync");
    assert_eq!(ines.events("device.trust-first-contact").len(), 1);
}

#[test]
fn a_new_address_port_or_identity_suspends_every_binding_until_those_who_see_the_passwords_confirm()
{
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let (host, trap) = (
        SshDevice::start(&[("duty", "Duty-1"), ("root", "Root-1")]).unwrap(),
        SshDevice::start(&[]).unwrap(),
    );
    trap.take_any();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let root = account(&ines, &folder, &unit, "root", "root", "Root-1");
    super::make_operator(&ines, &unit, &root);
    // A steward of the folder who cannot see the gated passwords.
    let petra = ines.person("petra", &[]);
    grant(&ines, "folder", &folder, &petra, "steward");
    let me = ines.get("/api/v1/me").text("id");
    let _ = ines.make(
        "/api/v1/gates",
        &json!({"folder": folder, "needs_reason": true, "approver_people": [me], "max_minutes": 60, "one_holder": false, "rotate_on_return": false}),
    );
    let petra = service.sign_in("petra");
    let path = format!("/api/v1/devices/{unit}");
    let _ = petra
        .patch(
            &path,
            revision(&petra, &path),
            &json!({"port": trap.port()}),
        )
        .good();
    confirm(&petra, &unit);
    let left = petra
        .call(
            "POST",
            &format!("{path}/confirm-bindings"),
            None,
            Some(revision(&petra, &path)),
        )
        .good();
    assert_eq!(
        (&left["confirmed"], &left["left"]),
        (&json!(0), &json!(3)),
        "{left}"
    );
    for task in ["check", "rotate"] {
        let ended = job(&petra, &duty, task);
        assert_eq!(ended["outcome"], "unreachable", "{ended}");
        assert!(
            ended["message"].as_str().unwrap().contains("must confirm"),
            "{ended}"
        );
    }
    assert!(trap.tried().is_empty(), "{:?}", trap.tried());
    let shown = petra.get(&path).good();
    assert!(
        shown["bindings"]
            .as_array()
            .unwrap()
            .iter()
            .all(|binding| binding["suspended"] != ""),
        "{shown}"
    );
    assert!(
        petra.get("/api/v1/overview").good()["devices"]
            .as_array()
            .unwrap()
            .iter()
            .any(|device| device["id"] == json!(unit))
    );
    // Somebody who passes the gates confirms all of them in one act, each with its event.
    service.sql("DELETE FROM gate_approver; DELETE FROM gate");
    let all = ines
        .call(
            "POST",
            &format!("{path}/confirm-bindings"),
            None,
            Some(revision(&ines, &path)),
        )
        .good();
    assert_eq!(
        (&all["confirmed"], &all["left"]),
        (&json!(3), &json!(0)),
        "{all}"
    );
    assert_eq!(ines.events("binding.confirm").len(), 6);
}

#[test]
fn another_host_at_the_same_address_gets_nothing() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let trap = SshDevice::start(&[]).unwrap();
    trap.take_any();
    let unit = device(&ines, &folder, "unit", trap.port());
    let path = format!("/api/v1/devices/{unit}");
    let line = "ridge.osmere.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
    let _ = ines
        .patch(&path, revision(&ines, &path), &json!({"identity": [line]}))
        .good();
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let checked = job(&ines, &duty, "check");
    assert!(
        checked["message"]
            .as_str()
            .unwrap()
            .contains("did not prove its identity"),
        "{checked}"
    );
    assert!(trap.tried().is_empty());
}
