//! Access issues, stewardship that is transferred, what is shared.

use jexlin_acceptance::Service;
use serde_json::json;

use crate::people_and_files::{id_of, state};

#[test]
fn access_issues_are_fixed_without_access_to_credentials() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let (office, pumping) = (ines.folder("Office"), ines.folder("Pumping"));
    let (pim, marek) = (
        ines.person("pim", &["access", "folders"]),
        ines.person("marek", &["folders"]),
    );
    let theirs = service.client("pim");
    let told = theirs.good(&["access-issue", "list"]);
    assert!(told.is_empty(), "{told}");
    assert_eq!(service.client("marek").bad(&["access-issue", "list"]).0, 4);
    // A folder whose steward left, one below it that is closed, grants that end or add nothing.
    let session = service.sign_in("marek");
    let lone = session.folder("Archive");
    let _ = session.login(&lone, "Old portal", "Winter-tide-41");
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": marek, "level": "use"}),
    );
    let group = ines.make("/api/v1/groups", &json!({"name": "Crew"}));
    let _ = ines
        .put(&format!("/api/v1/groups/{group}/members/{pim}"))
        .good();
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumping, "group": group, "level": "reveal"}),
    );
    let inner = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumping, "name": "Inner"}),
    );
    let spare = ines.make(
        "/api/v1/grants",
        &json!({"folder": inner, "person": pim, "level": "use"}),
    );
    let more = ines.make(
        "/api/v1/grants",
        &json!({"folder": inner, "person": pim, "level": "edit", "only_kind": "login"}),
    );
    let _ = ines.make("/api/v1/grants", &json!({"folder": office, "person": pim, "level": "use", "ends_at": "2099-01-01T00:00:00Z"}));
    let _ = service.sql(
        "UPDATE access_grant SET ends_at = now() - interval '1 day' WHERE ends_at IS NOT NULL",
    );
    state(&ines, "marek", "left");
    let told = theirs.good(&["access-issue", "list", "--wide"]);
    for (what, place) in [
        ("no-steward", "/Archive"),
        ("left", "/Office"),
        ("expired", "/Office"),
        ("redundant", "/Pumping/Inner"),
    ] {
        assert!(
            told.lines()
                .any(|line| line.contains(what) && line.contains(place)),
            "{what} {place}: {told}"
        );
    }
    assert!(
        told.contains(&spare) && !told.contains(&more) && !told.contains("Old portal"),
        "{told}"
    );
    // Only access issues can be taken away, and nobody gives themselves anything.
    let (code, words) = theirs.bad(&["access-issue", "remove", &more]);
    assert!(
        code == 6 && words.contains("not an access issue"),
        "{words}"
    );
    let (code, words) = theirs.bad(&["access-issue", "appoint", "--person", "pim", "/Archive"]);
    assert!(
        code == 4 && words.contains("cannot make yourself a steward"),
        "{words}"
    );
    assert_eq!(
        theirs
            .bad(&["access-issue", "appoint", "--group", "Crew", "/Archive"])
            .0,
        4
    );
    assert_eq!(
        theirs
            .bad(&["access-issue", "appoint", "--person", "marek", "--all"])
            .0,
        7
    );
    let told = theirs.good(&[
        "access-issue",
        "remove",
        "--all",
        "left",
        "--all",
        "expired",
        "--all",
        "redundant",
    ]);
    assert!(told.contains("4 grants are removed"), "{told}");
    let told = theirs.good(&["access-issue", "appoint", "--person", "ines", "--all"]);
    assert!(told.contains("1 folder has a steward"), "{told}");
    assert_eq!(theirs.good(&["access-issue", "list"]), "");
    assert_eq!(
        client.good(&["reveal", "/Archive/Old portal", "--pipe"]),
        "Winter-tide-41"
    );
    assert_eq!(
        theirs.bad(&["reveal", "/Archive/Old portal", "--pipe"]).0,
        5
    );
    let events = ines.events("grant.remove");
    assert!(
        events
            .iter()
            .filter(|event| event["detail"]["by"] == "access-issue")
            .count()
            == 4,
        "{events:?}"
    );
}

#[test]
fn stewardship_is_transferred() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let (office, pumping) = (ines.folder("Office"), ines.folder("Pumping"));
    let secret = ines.login(&office, "Franking", "Winter-tide-41");
    let (pim, marek) = (ines.person("pim", &[]), ines.person("marek", &["access"]));
    for folder in [&office, &pumping] {
        let _ = ines.make(
            "/api/v1/grants",
            &json!({"folder": folder, "person": pim, "level": "steward"}),
        );
    }
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": marek, "level": "use", "note": "before"}),
    );
    // Looked at first: exactly who gains and loses what.
    let told = client.good(&[
        "transfer-stewardship",
        "pim",
        "marek",
        "--below",
        "/Office",
        "--preview",
    ]);
    assert!(
        told.contains("1 person gets more access, 1 person gets less access")
            || told.contains("1 person gets more access"),
        "{told}"
    );
    assert_eq!(
        client
            .good(&["explain", "pim", "/Office/Franking"])
            .lines()
            .next()
            .unwrap(),
        "pim of Osmere holds `steward` by a grant on /Office."
    );
    let theirs = service.client("pim");
    let told = theirs.good(&["transfer-stewardship", "pim", "marek", "--below", "/Office"]);
    assert!(
        told.contains("/Office") && !told.contains("/Pumping"),
        "{told}"
    );
    assert!(
        client
            .good(&["explain", "marek", "/Office/Franking"])
            .contains("holds `steward`")
    );
    assert!(
        client
            .good(&["explain", "pim", "/Office/Franking"])
            .contains("has no access")
    );
    // The duty gives over to others, never to oneself; without it, only what is one's own or below
    // one.
    let duty = service.client("marek");
    let (code, words) = duty.bad(&["transfer-stewardship", "pim", "marek"]);
    assert!(
        code == 4 && words.contains("cannot transfer stewardship to yourself"),
        "{words}"
    );
    assert_eq!(theirs.bad(&["transfer-stewardship", "marek", "pim"]).0, 6);
    assert_eq!(duty.bad(&["transfer-stewardship", "pim", "pim"]).0, 7);
    let _ = duty.good(&["transfer-stewardship", "pim", "ines", "--keep"]);
    assert!(ines.reveal(&secret).status == 200);
    let events = ines.events("access.transfer-stewardship");
    assert!(
        events
            .iter()
            .any(|event| event["detail"]["to"] == "marek of Osmere" && event["outcome"] == "done"),
        "{events:?}"
    );
    state(&ines, "pim", "suspended");
    assert_eq!(duty.bad(&["transfer-stewardship", "ines", "pim"]).0, 7);
}

#[test]
fn lists_say_what_is_shared_and_a_steward_sees_what_happened_below() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let (office, pumping) = (ines.folder("Office"), ines.folder("Pumping"));
    let inner = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumping, "name": "Inner"}),
    );
    let (alone, shared) = (
        ines.login(&office, "alone", "Winter-tide-41"),
        ines.login(&office, "shared", "Winter-tide-42"),
    );
    let below = ines.login(&inner, "below", "Winter-tide-43");
    let pim = ines.person("pim", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"credential": shared, "person": pim, "level": "use"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumping, "person": pim, "level": "steward"}),
    );
    let marks = |list: &str, id: &str| {
        let all = ines.get(list).good();
        let item = all["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|item| item["id"] == *id)
            .unwrap()
            .clone();
        (
            item["own_grants"].as_bool().unwrap(),
            item["shared"].as_bool().unwrap(),
        )
    };
    for (id, expected) in [
        (&alone, (false, false)),
        (&shared, (true, true)),
        (&below, (false, true)),
    ] {
        assert_eq!(marks("/api/v1/credentials", id), expected, "{id}");
    }
    for (id, expected) in [
        (&office, (true, false)),
        (&pumping, (true, true)),
        (&inner, (false, true)),
    ] {
        assert_eq!(marks("/api/v1/folders", id), expected, "{id}");
        let entry = ines.get(&format!("/api/v1/folders/{id}")).good();
        assert_eq!(
            (
                entry["own_grants"].as_bool().unwrap(),
                entry["shared"].as_bool().unwrap()
            ),
            expected,
            "{id}"
        );
    }
    // A closed folder keeps what is above out.
    let revision = ines.get(&format!("/api/v1/folders/{inner}")).good()["revision"]
        .as_i64()
        .unwrap();
    let me = id_of(&ines, "/api/v1/people", "sign_in_name", "ines");
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": inner, "person": me, "level": "steward"}),
    );
    let theirs = service.client("pim");
    assert!(
        theirs
            .good(&["folder", "history", "/Pumping"])
            .contains("/Pumping/Inner/below")
    );
    let _ = ines
        .patch(
            &format!("/api/v1/folders/{inner}"),
            revision,
            &json!({"closed": true}),
        )
        .good();
    assert_eq!(marks("/api/v1/folders", &inner), (true, false));
    assert_eq!(marks("/api/v1/credentials", &below), (false, false));
    // The delegated owner sees their own history, and nothing outside or behind what is closed.
    let told = theirs.good(&["folder", "history", "/Pumping"]);
    assert!(
        told.contains("folder.add") && !told.contains("/Inner/below") && !told.contains("/Office"),
        "{told}"
    );
    assert_eq!(theirs.bad(&["folder", "history", "/Office"]).0, 5);
    assert!(
        client
            .good(&["folder", "history", "/Pumping"])
            .contains("/Inner/below")
    );
}
