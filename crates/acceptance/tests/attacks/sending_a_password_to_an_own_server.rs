//! Somebody with `use` on a login behind a gate makes a device at an SSH server of their own, and
//! has a job send the login's password there.

use jexlin_standins::ssh_device::SshDevice;
use serde_json::json;

use super::{account, confirm, device, grant, login, revision, strict};

#[test]
fn a_login_one_may_only_use_is_sent_nowhere_one_chooses() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let (safe, own) = (ines.folder("Safe"), ines.folder("Workshop"));
    let mallory = ines.person("mallory", &[]);
    let target = login(&ines, &safe, "ridge root", "root", "Ridge-root-secret-1");
    let _ = ines.make("/api/v1/gates", &json!({"folder": safe, "needs_reason": true, "approver_people": [ines.get("/api/v1/me").text("id")], "max_minutes": 60, "one_holder": false, "rotate_on_return": false}));
    grant(&ines, "folder", &own, &mallory, "steward");
    grant(&ines, "credential", &target, &mallory, "use");
    let server = SshDevice::start(&[("decoy", "Decoy-1")]).unwrap();
    server.take_any();
    let mallory = service.sign_in("mallory");
    let trap = device(&mallory, &own, "trap", server.port());
    confirm(&mallory, &trap);
    let decoy = account(&mallory, &own, &trap, "decoy", "decoy", "Decoy-1");
    let path = format!("/api/v1/devices/{trap}");
    // As an operator, and as an account: with `use`, with `reveal` behind the gate, with `steward`.
    for level in ["use", "reveal", "edit", "steward"] {
        service.sql(&format!(
            "UPDATE access_grant SET held = {} WHERE credential_id = '{target}'",
            2 + ["use", "reveal", "edit", "steward"]
                .iter()
                .position(|known| *known == level)
                .unwrap()
        ));
        let answer = mallory.patch(
            &path,
            revision(&mallory, &path),
            &json!({"operator": target}),
        );
        assert_eq!(answer.status, 403, "operator with {level}: {}", answer.body);
        let present = ines.get(&format!("/api/v1/credentials/{target}")).good()["revision"]
            .as_i64()
            .unwrap();
        let answer = mallory.patch(
            &format!("/api/v1/credentials/{target}"),
            present,
            &json!({"device": trap}),
        );
        assert_eq!(answer.status, 403, "account with {level}: {}", answer.body);
    }
    mallory
        .post(
            &format!("/api/v1/credentials/{decoy}/rotate"),
            &json!({"method": "operator"}),
        )
        .refused(409, "no-operator");
    // Even a binding that somebody forged into the device row does not count: there is no such row.
    assert_eq!(
        service.sql(&format!(
            "SELECT count(*) FROM binding WHERE credential_id = '{target}'"
        )),
        "0"
    );
    assert!(
        server
            .tried()
            .iter()
            .all(|(_, password)| !password.contains("Ridge-root-secret")),
        "{:?}",
        server.tried()
    );
}

#[test]
fn a_password_one_may_see_goes_to_a_device_only_with_its_event_on_the_credential() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let server = SshDevice::start(&[("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", server.port());
    confirm(&ines, &unit);
    let duty = login(&ines, &folder, "duty", "duty", "Duty-1");
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{duty}"),
            1,
            &json!({"device": unit}),
        )
        .good();
    assert_eq!(super::job(&ines, &duty, "check")["outcome"], "in-sync");
    let bound = ines.events("binding.confirm");
    assert!(
        bound
            .iter()
            .any(|event| event["target"] == json!(duty) && event["detail"]["as"] == "account"),
        "{bound:?}"
    );
    let sent = ines.events("upkeep.sign-in");
    assert!(
        sent.iter().any(|event| event["target"] == json!(duty)),
        "{sent:?}"
    );
}
