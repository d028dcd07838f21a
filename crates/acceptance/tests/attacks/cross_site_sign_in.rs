//! Another site signs its visitor in to the console as the attacker, so that what they keep goes
//! there; identifiers of what one may not know of are told from those that do not exist.

use jexlin_acceptance::PASSWORD;
use serde_json::json;

use super::{device, login, strict};

#[test]
fn a_sign_in_to_the_console_comes_from_the_console() {
    let service = strict(&[]);
    let body = json!({"sign_in_name": "ines", "password": PASSWORD, "channel": "console"});
    let answer = service.call("POST", "/api/v1/sign-in", None, Some(&body), None);
    answer.refused(403, "not-allowed");
    assert!(
        answer.headers.iter().all(|(name, _)| name != "set-cookie"),
        "{:?}",
        answer.headers
    );
}

#[test]
fn what_one_may_not_know_of_answers_as_if_it_did_not_exist() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Root-1");
    let unit = device(&ines, &safe, "unit", 22);
    let gate =
        ines.make("/api/v1/gates", &json!({"folder": safe, "needs_reason": true, "max_minutes": 30, "one_holder": false, "rotate_on_return": false}));
    let checkout = ines.make(
        "/api/v1/checkouts",
        &json!({"credential": target, "reason": "x", "minutes": 5}),
    );
    let _ = ines.person("pim", &[]);
    let pim = service.sign_in("pim");
    let nothing = "01a22250-0000-7000-8000-00000000abcd";
    let bodies = json!({"name": "x"});
    for (method, path, revision) in [
        ("GET", "/api/v1/credentials/ID", None),
        ("PATCH", "/api/v1/credentials/ID", Some(1)),
        ("DELETE", "/api/v1/credentials/ID", Some(1)),
        ("GET", "/api/v1/devices/ID", None),
        ("PATCH", "/api/v1/devices/ID", Some(1)),
        ("DELETE", "/api/v1/devices/ID", Some(1)),
        ("POST", "/api/v1/devices/ID/read-identity", None),
        ("DELETE", "/api/v1/gates/ID", Some(1)),
        ("POST", "/api/v1/checkouts/ID/recall", None),
        ("POST", "/api/v1/checkouts/ID/check-in", None),
        ("GET", "/api/v1/folders/ID", None),
    ] {
        let present = match path {
            path if path.contains("devices") => &unit,
            path if path.contains("gates") => &gate,
            path if path.contains("checkouts") => &checkout,
            path if path.contains("folders") => &safe,
            _ => &target,
        };
        let answers = [present.as_str(), nothing].map(|id| {
            let body = (method == "PATCH" || method == "POST").then_some(&bodies);
            let answer = pim.call(method, &path.replace("ID", id), body, revision);
            (
                answer.status,
                answer.code(),
                answer.text("detail"),
                answer.text("advice"),
            )
        });
        assert_eq!(answers[0], answers[1], "{method} {path}");
        assert_eq!(answers[0].0, 404, "{method} {path}");
    }
}
