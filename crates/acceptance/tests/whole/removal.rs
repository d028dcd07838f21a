//! The bin and the history: what was removed or overwritten comes back.

use jexlin_acceptance::{Service, Session, until};
use serde_json::{Value, json};

fn items(session: &Session<'_>, path: &str) -> Vec<Value> {
    session.get(path).good()["items"]
        .as_array()
        .unwrap()
        .clone()
}

fn text(value: &Value, field: &str) -> String {
    value[field].as_str().unwrap_or_default().to_owned()
}

#[test]
fn a_folder_is_removed_and_restored_with_its_contents() {
    let service = Service::ready();
    let client = service.client("ines");
    let ines = service.sign_in("ines");
    for path in ["/Pumping", "/Pumping/North ridge", "/Archive"] {
        let _ = client.good(&["folder", "add", path]);
    }
    let _ = client.good(&[
        "device",
        "add",
        "/Pumping/North ridge/telemetry",
        "--address",
        "127.0.0.9",
    ]);
    let _ = client.good(&[
        "credential",
        "add",
        "/Pumping/North ridge/duty",
        "--kind",
        "device-admin",
        "--user",
        "duty",
        "--device",
        "/Pumping/North ridge/telemetry",
    ]);
    let (code, words) = client.bad(&["folder", "remove", "/Pumping"]);
    assert!(code == 6 && words.contains("--with-contents"), "{words}");
    // A device elsewhere is changed with something in it: the folder stays whole.
    let _ = client.good(&[
        "device",
        "add",
        "/Archive/spare",
        "--address",
        "127.0.0.10",
        "--operator",
        "/Pumping/North ridge/duty",
    ]);
    let (code, words) = client.bad(&["folder", "remove", "/Pumping", "--with-contents"]);
    assert!(code == 6 && words.contains("operator"), "{words}");
    assert!(client.good(&["credential", "list"]).contains("duty"));
    let _ = client.good(&["device", "remove", "/Archive/spare"]);
    let said = client.good(&["folder", "remove", "/Pumping", "--with-contents"]);
    assert!(said.contains("jexlin bin restore \"/Pumping\""), "{said}");
    assert_eq!(
        client
            .good(&["folder", "list", "--output", "csv"])
            .lines()
            .count(),
        2,
        "the archive alone is left"
    );
    let row = items(&ines, "/api/v1/bin")
        .into_iter()
        .find(|row| row["target_type"] == "folder")
        .unwrap();
    assert_eq!(
        (text(&row, "path"), row["credentials"].as_i64()),
        ("/Pumping".into(), Some(1))
    );
    let _ = client.good(&["bin", "restore", "/Pumping"]);
    assert!(
        client
            .good(&["credential", "show", "/Pumping/North ridge/duty"])
            .contains("telemetry")
    );
    assert_eq!(
        client
            .good(&["folder", "list", "--output", "csv"])
            .lines()
            .count(),
        4
    );
}

#[test]
fn purged_values_are_gone_and_nothing_under_way_can_be_purged() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let folder = ines.folder("Office");
    let id = ines.login(&folder, "Portal", "Winter-tide-41");
    let gate = json!({"credential": id, "needs_reason": true, "approver_people": [], "approver_groups": [], "max_minutes": 60, "one_holder": true, "rotate_on_return": false});
    let _ = ines.make("/api/v1/gates", &gate);
    let held = ines.make(
        "/api/v1/checkouts",
        &json!({"credential": id, "reason": "ordering chlorine", "minutes": 5}),
    );
    ines.delete(&format!("/api/v1/credentials/{id}"), Some(1))
        .refused(409, "held");
    let _ = ines
        .post(&format!("/api/v1/checkouts/{held}/check-in"), &json!({}))
        .good();
    let removal = ines
        .delete(&format!("/api/v1/credentials/{id}"), Some(1))
        .good()
        .as_str()
        .unwrap()
        .to_owned();
    // A checkout that appears in the meantime, as by another service, keeps the database from
    // purging.
    service.sql(&format!(
        "UPDATE checkout SET ended_at = NULL, ended_how = NULL WHERE credential_id = '{id}'"
    ));
    ines.delete(&format!("/api/v1/bin/{removal}"), None)
        .refused(409, "held");
    service.sql(&format!(
        "UPDATE checkout SET ended_at = now(), ended_how = 'check-in' WHERE credential_id = '{id}'"
    ));
    let asked = client.run_and_be_asked(&["bin", "purge", "/Office/Portal"], "");
    let words = String::from_utf8_lossy(&asked.stderr);
    assert!(words.contains("permanently"), "{words}");
    assert_eq!(asked.status.code(), Some(2));
    let _ = client.good(&["bin", "purge", "/Office/Portal"]);
    assert_eq!(
        service
            .sql(&format!(
                "SELECT count(*) FROM secret_version WHERE credential_id = '{id}'"
            ))
            .trim(),
        "0"
    );
    assert_eq!(
        service
            .sql(&format!(
                "SELECT length(data_key) FROM credential WHERE id = '{id}'"
            ))
            .trim(),
        "0"
    );
    ines.post(&format!("/api/v1/bin/{removal}/restore"), &json!({}))
        .refused(404, "unknown");
    assert_eq!(
        ines.events("bin.purge")
            .iter()
            .filter(|event| event["outcome"] == "done")
            .count(),
        1
    );
    // No other way deletes a version, not even for the owner of the tables.
    let other = ines.login(&folder, "Feed", "Winter-tide-43");
    let refused = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        service.sql(&format!(
            "DELETE FROM secret_version WHERE credential_id = '{other}'"
        ))
    }));
    assert!(refused.is_err());
}

#[test]
fn the_bin_is_purged_after_its_retention_except_accounts_on_devices() {
    let mut service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let plain = ines.login(&folder, "Portal", "Winter-tide-41");
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "telemetry", "address": "127.0.0.9"}),
    );
    let account =
        ines.make("/api/v1/credentials", &json!({"folder": folder, "kind": "device-admin", "name": "duty", "fields": {"user_name": "duty"}, "device": device}));
    for id in [&plain, &account] {
        let _ = ines
            .delete(&format!("/api/v1/credentials/{id}"), Some(1))
            .good();
    }
    let versions = |service: &Service, id: &str| {
        service
            .sql(&format!(
                "SELECT count(*) FROM secret_version WHERE credential_id = '{id}'"
            ))
            .trim()
            .to_owned()
    };
    assert_eq!(versions(&service, &plain), "1");
    service.kill();
    let shift = service.folder.join("shift");
    std::fs::write(&shift, (31 * 24 * 3600).to_string()).unwrap();
    service.start(&[("JEXLIN_CLOCK_SHIFT", shift.to_str().unwrap())]);
    service.unlock();
    until("the purge", || {
        (versions(&service, &plain) == "0").then_some(())
    });
    assert_eq!(
        versions(&service, &account),
        "1",
        "the device could still have this password"
    );
    let ines = service.sign_in("ines");
    let event = until("its event", || ines.events("bin.purge").into_iter().next());
    assert_eq!(
        (text(&event, "target_name"), text(&event, "actor_name")),
        ("/Pumping/Portal".into(), String::new())
    );
    let left = items(&ines, "/api/v1/bin");
    assert_eq!(left.len(), 1);
    // By hand, a steward may.
    let _ = ines
        .delete(&format!("/api/v1/bin/{}", text(&left[0], "id")), None)
        .good();
    assert_eq!(versions(&service, &account), "0");
}

#[test]
fn a_former_value_is_restored_with_its_reason_and_without_being_shown() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let folder = ines.folder("Office");
    let id = ines.login(&folder, "Portal", "Winter-tide-41");
    let path = format!("/api/v1/credentials/{id}");
    let _ = ines
        .patch(
            &path,
            1,
            &json!({"password": "Winter-tide-42", "reason": "the portal asked for it"}),
        )
        .good();
    let compared = client.good(&[
        "credential",
        "compare",
        "/Office/Portal",
        "1",
        "2",
        "--pipe",
    ]);
    assert_eq!(
        compared.lines().map(str::trim_end).collect::<Vec<_>>(),
        [
            "1  Winter-tide-41",
            "2  Winter-tide-42",
            "                ^"
        ]
    );
    // An editor need not see anything to put it back; a mere reader may not.
    let (marek, pim) = (ines.person("marek", &[]), ines.person("pim", &[]));
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": marek, "level": "edit"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": pim, "level": "reveal"}),
    );
    let back = format!("{path}/restore");
    service
        .sign_in("pim")
        .post(&back, &json!({"version": 1}))
        .refused(403, "not-allowed");
    let other = service.sign_in("marek");
    for (version, status, code) in [(2, 422, "bad-input"), (7, 404, "unknown")] {
        other
            .post(&back, &json!({"version": version}))
            .refused(status, code);
    }
    let _ = other
        .post(
            &back,
            &json!({"version": 1, "reason": "the portal never took it"}),
        )
        .good();
    assert_eq!(ines.reveal(&id).text("value"), "Winter-tide-41");
    let history = items(&ines, &format!("{path}/history"));
    let rows: Vec<_> = history
        .iter()
        .map(|row| {
            (
                row["number"].as_i64().unwrap(),
                text(row, "state"),
                text(row, "made_how"),
                text(row, "made_by"),
                text(row, "reason"),
            )
        })
        .collect();
    assert_eq!(
        rows[0],
        (
            3,
            "current".into(),
            "restored".into(),
            "marek of Osmere".into(),
            "the portal never took it".into()
        )
    );
    assert_eq!(
        rows[1],
        (
            2,
            "previous".into(),
            "typed".into(),
            "Ines Calder".into(),
            "the portal asked for it".into()
        )
    );
    let event = &ines.events("credential.restore")[0];
    assert_eq!(
        (text(event, "outcome"), text(&event["detail"], "reason")),
        ("done".into(), "the portal never took it".into())
    );
    // What the rules say of it is found out all the same.
    until("its assessment", || {
        (service
            .sql(&format!(
                "SELECT number, stale FROM assessment WHERE credential_id = '{id}'"
            ))
            .trim()
            == "3|f")
            .then_some(())
    });
}
