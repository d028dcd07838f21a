//! What an organisation lets people do: share, export, see names and ask for access.

use jexlin_acceptance::Service;
use serde_json::json;

use crate::people_and_files::{edited, id_of};

#[test]
fn settings_allow_and_forbid_what_people_may_do() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let office = ines.folder("Office");
    let (pim, marek) = (ines.person("pim", &[]), ines.person("marek", &[]));
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": pim, "level": "steward"}),
    );
    let theirs = service.client("pim");
    assert_eq!(theirs.bad(&["folder", "add", "/Mine"]).0, 4);
    let _ = client.good(&["settings", "edit", "adds_at_top=true"]);
    let _ = theirs.good(&["folder", "add", "/Mine"]);
    let _ = theirs.good(&[
        "grant", "add", "use", "--folder", "/Office", "--person", "marek",
    ]);
    let _ = client.good(&["settings", "edit", "shares=false", "adds_at_top=false"]);
    assert_eq!(theirs.bad(&["folder", "add", "/Mine too"]).0, 4);
    let (code, words) = theirs.bad(&[
        "grant", "add", "reveal", "--folder", "/Mine", "--person", "marek",
    ]);
    assert!(
        code == 4 && words.contains("granting needs the duty"),
        "{words}"
    );
    let grown = edited(&theirs, "more.toml", |text| {
        text.replace("level = \"use\"", "level = \"reveal\"")
    });
    assert_eq!(theirs.bad(&["access", "apply", &grown]).0, 4);
    // Taking away goes on; with the duty, granting does, too.
    let grant = id_of(
        &ines,
        &format!("/api/v1/grants?folder={office}"),
        "subject",
        &marek,
    );
    let _ = theirs.good(&["grant", "remove", &grant]);
    let _ = client.good(&[
        "grant", "add", "use", "--folder", "/Office", "--person", "marek",
    ]);
}

#[test]
fn names_of_credentials_without_access_are_found_and_requested_if_allowed() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let office = ines.folder("Office");
    let staff = ines.make(
        "/api/v1/folders",
        &json!({"parent": office, "name": "Staff", "closed": true}),
    );
    let inner = ines.make(
        "/api/v1/folders",
        &json!({"parent": staff, "name": "Inner"}),
    );
    let portal = ines.login(&office, "Bank portal", "Winter-tide-41");
    let hidden = ines.login(&inner, "Payroll portal", "Winter-tide-42");
    let mine = ines.login(&office, "Parcel portal", "Winter-tide-43");
    let pim = ines.person("pim", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"credential": mine, "person": pim, "level": "use"}),
    );
    let theirs = service.client("pim");
    // Off, nothing is told: not even whether there is such a thing.
    assert_eq!(theirs.bad(&["access-request", "find", "portal"]).0, 4);
    let session = service.sign_in("pim");
    session
        .post(
            "/api/v1/access-requests",
            &json!({"credential": portal, "level": "use", "reason": "x"}),
        )
        .refused(403, "not-allowed");
    let _ = client.good(&["settings", "edit", "discoverable_names=true"]);
    let told = theirs.good(&["access-request", "find", "portal"]);
    assert!(
        told.contains("Bank portal") && !told.contains("Payroll") && !told.contains("Parcel"),
        "{told}"
    );
    assert_eq!(theirs.bad(&["access-request", "find", "p"]).0, 7);
    assert_eq!(
        theirs
            .good(&["credential", "list"])
            .lines()
            .filter(|line| line.contains("Bank"))
            .count(),
        0
    );
    session
        .post(
            "/api/v1/access-requests",
            &json!({"credential": hidden, "level": "use", "reason": "x"}),
        )
        .refused(404, "unknown");
    session
        .post(
            "/api/v1/access-requests",
            &json!({"credential": mine, "level": "use", "reason": "x"}),
        )
        .refused(409, "within-reach");
    session
        .post(
            "/api/v1/access-requests",
            &json!({"credential": portal, "level": "steward", "reason": "x"}),
        )
        .refused(422, "bad-input");
    session
        .post(
            "/api/v1/access-requests",
            &json!({"credential": portal, "level": "use", "reason": " "}),
        )
        .refused(422, "bad-input");
    let told = theirs.good(&[
        "access-request",
        "ask",
        "/Office/Bank portal",
        "--level",
        "reveal",
        "--reason",
        "paying the chlorine",
    ]);
    assert!(told.contains("waiting"), "{told}");
    assert_eq!(
        theirs
            .bad(&[
                "access-request",
                "ask",
                "/Office/Bank portal",
                "--reason",
                "again"
            ])
            .0,
        6
    );
    // A steward settles it, and nobody their own.
    let access_request = ines.get("/api/v1/access-requests").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    assert_eq!(
        theirs.bad(&["access-request", "grant", &access_request]).0,
        4
    );
    assert_eq!(
        client
            .bad(&["access-request", "withdraw", &access_request])
            .0,
        4
    );
    let told = client.good(&[
        "access-request",
        "grant",
        &access_request,
        "--comment",
        "until spring",
    ]);
    assert!(told.contains("granted"), "{told}");
    assert_eq!(
        theirs.good(&["reveal", "/Office/Bank portal", "--pipe"]),
        "Winter-tide-41"
    );
    assert_eq!(
        client.bad(&["access-request", "refuse", &access_request]).0,
        6
    );
    for action in ["access-request.ask", "access-request.grant", "grant.add"] {
        assert!(
            ines.events(action)
                .iter()
                .any(|event| event["target_name"] == "/Office/Bank portal"
                    && event["outcome"] == "done"),
            "{action}"
        );
    }
    let stranger = ines.person("gil", &[]);
    let gil = service.client("gil");
    assert_eq!(gil.good(&["access-request", "list"]), "");
    assert_eq!(
        gil.bad(&["access-request", "withdraw", &access_request]).0,
        5
    );
    let _ = gil.good(&[
        "access-request",
        "ask",
        "/Office/Parcel portal",
        "--reason",
        "a parcel",
    ]);
    let access_request = ines.get("/api/v1/access-requests").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let _ = gil.good(&["access-request", "withdraw", &access_request]);
    assert_eq!(
        client.bad(&["access-request", "grant", &access_request]).0,
        6
    );
    let _ = stranger;
}
