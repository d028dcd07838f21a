//! The root password of one host is used to change accounts of another, by somebody whom its
//! stewards never asked.

use jexlin_standins::ssh_device::SshDevice;
use serde_json::json;

use super::{account, confirm, device, grant, job, login, revision, strict};

#[test]
fn an_operator_is_used_only_where_its_stewards_say_and_each_use_is_in_its_log() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let (keys, works) = (ines.folder("Keys"), ines.folder("Works"));
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let root = login(&ines, &keys, "root", "root", "Root-1");
    let marek = ines.person("marek", &[]);
    grant(&ines, "folder", &works, &marek, "steward");
    grant(&ines, "credential", &root, &marek, "reveal");
    let marek = service.sign_in("marek");
    let unit = device(&marek, &works, "unit", host.port());
    confirm(&marek, &unit);
    let path = format!("/api/v1/devices/{unit}");
    // He may even see it; where it is used is not his to say.
    marek
        .patch(&path, revision(&marek, &path), &json!({"operator": root}))
        .refused(403, "not-allowed");
    marek
        .call(
            "PUT",
            &format!("/api/v1/credentials/{root}/operator-scope"),
            Some(&json!({"devices": [unit], "folders": []})),
            None,
        )
        .refused(403, "not-allowed");
    let _ = ines
        .call(
            "PUT",
            &format!("/api/v1/credentials/{root}/operator-scope"),
            Some(&json!({"devices": [], "folders": [works]})),
            None,
        )
        .good();
    let _ = marek
        .patch(&path, revision(&marek, &path), &json!({"operator": root}))
        .good();
    let duty = account(&marek, &works, &unit, "duty", "duty", "Duty-1");
    assert_eq!(job(&marek, &duty, "rotate")["outcome"], "done");
    let used = ines.events("upkeep.sign-in");
    let as_operator: Vec<_> = used
        .iter()
        .filter(|event| event["target"] == json!(root))
        .collect();
    assert_eq!(as_operator.len(), 1, "{used:?}");
    let detail = &as_operator[0]["detail"];
    assert_eq!(
        (&detail["as"], &detail["account"], &detail["device"]),
        (&json!("operator"), &json!("duty"), &json!("unit"))
    );
    assert!(
        detail["asked_by"].as_str().unwrap().contains("marek"),
        "{detail}"
    );
    // What the stewards take back does not count any more.
    let _ = ines
        .call(
            "PUT",
            &format!("/api/v1/credentials/{root}/operator-scope"),
            Some(&json!({"devices": [], "folders": []})),
            None,
        )
        .good();
    let ended = job(&marek, &duty, "rotate");
    assert!(
        ended["message"].as_str().unwrap().contains("do not allow"),
        "{ended}"
    );
}
