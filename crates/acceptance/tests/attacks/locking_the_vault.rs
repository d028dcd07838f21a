//! Somebody who should not be inside any more, while several services have the keys in memory.

use jexlin_acceptance::until;
use serde_json::json;

use super::{login, strict};

#[test]
fn it_closes_at_once_on_all_services_until_the_passphrase_opens_it() {
    let service = strict(&[]);
    let other = service.beside();
    other.unlock();
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Root-1");
    let _ = ines.person("pim", &["people"]);
    let here = service.sign_in("pim");
    here.post("/api/v1/lock", &json!({"reason": "for fun"}))
        .refused(403, "needs-duty");
    ines.post("/api/v1/lock", &json!({"reason": " "}))
        .refused(422, "bad-input");
    let there = other.sign_in("ines");
    assert_eq!(there.reveal(&target).text("value"), "Root-1");
    // While the other service does not even know of it: the database itself lets nothing out.
    service.sql("UPDATE organisation SET locked_at = now() - interval '1 second'");
    let answer = there.reveal(&target);
    assert!(
        answer.status == 503 && !answer.body.to_string().contains("Root-1"),
        "{}",
        answer.body
    );
    until("both have noticed", || {
        [&service, &other]
            .iter()
            .all(|entry| {
                entry
                    .call("GET", "/api/v1/status", None, None, None)
                    .text("state")
                    == "locked"
            })
            .then_some(())
    });
    // Opened with the passphrase alone, on each service for itself.
    service
        .call(
            "POST",
            "/api/v1/unlock",
            None,
            Some(&json!({"passphrase": "not that"})),
            None,
        )
        .refused(403, "not-allowed");
    service.unlock();
    assert_eq!(ines.reveal(&target).text("value"), "Root-1");
    other.unlock();
    assert_eq!(there.reveal(&target).text("value"), "Root-1");
    // By the duty, with a reason in the log.
    assert_eq!(
        there
            .post("/api/v1/lock", &json!({"reason": "a stolen laptop"}))
            .good()["state"],
        "locked"
    );
    assert_eq!(there.reveal(&target).status, 503);
    until("the first has noticed", || {
        (service
            .call("GET", "/api/v1/status", None, None, None)
            .text("state")
            == "locked")
            .then_some(())
    });
    assert_eq!(ines.reveal(&target).status, 503);
    let words = json!({"sign_in_name": "ines", "password": jexlin_acceptance::PASSWORD, "channel": "client"});
    assert_eq!(
        service
            .call("POST", "/api/v1/sign-in", None, Some(&words), None)
            .status,
        503
    );
    service.unlock();
    let closed = ines.events("vault.lock");
    assert!(
        closed.len() == 2
            && closed
                .iter()
                .any(|event| event["detail"]["reason"] == "a stolen laptop"
                    && event["outcome"] == "done"),
        "{closed:?}"
    );
    let opened = ines.events("vault.unlock");
    assert!(
        opened
            .iter()
            .any(|event| event["detail"]["locked_since"].is_string()),
        "{opened:?}"
    );
}
