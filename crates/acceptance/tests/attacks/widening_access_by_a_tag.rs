//! An editor gives a credential a tag for which a grant was given, so that somebody else reaches
//! it.

use serde_json::json;

use super::{grant, login, revision, strict};

#[test]
fn a_tag_that_a_grant_is_limited_to_needs_a_steward_everywhere() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Root-1");
    let (marek, pim) = (ines.person("marek", &[]), ines.person("pim", &[]));
    grant(&ines, "folder", &safe, &marek, "edit");
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": safe, "person": pim, "level": "reveal", "only_tag": "contractor"}),
    );
    let marek = service.sign_in("marek");
    let path = format!("/api/v1/credentials/{target}");
    marek
        .patch(
            &path,
            revision(&ines, &path),
            &json!({"tags": ["contractor"]}),
        )
        .refused(403, "not-allowed");
    // By an import that changes what is there.
    let bring = |token: &str, preview: bool| {
        let file = "name,user name,password,tags\nroot,root,Root-2,contractor\n";
        let options = json!({"id": uuid::Uuid::new_v4(), "name": "x.csv", "folder": safe, "kind": "device-admin", "key": "name", "matching": "update", "only_good": false, "preview": preview});
        let encoded: String = options
            .to_string()
            .bytes()
            .map(|byte| format!("%{byte:02X}"))
            .collect();
        service
            .raw(
                "POST",
                &format!("/api/v1/imports?options={encoded}"),
                Some(token),
                Some(file.into()),
                None,
            )
            .unwrap()
            .body
    };
    for preview in [true, false] {
        let report = bring(&marek.token, preview);
        assert!(
            report["updated"] == 0 && report["done"] == false,
            "{report}"
        );
        assert!(
            report["problems"][0]["problem"]
                .as_str()
                .is_some_and(|problem| problem.contains("contractor")),
            "{report}"
        );
        assert!(report["access"].is_null(), "{report}");
    }
    // A steward is shown first whose access it changes, and nothing is kept of the look.
    let report = bring(&ines.token, true);
    assert_eq!(
        (
            report["updated"].as_i64(),
            report["access"]["gaining"].as_i64()
        ),
        (Some(1), Some(1)),
        "{report}"
    );
    assert_eq!(
        report["access"]["shifts"][0]["person"],
        pim.as_str(),
        "{report}"
    );
    assert_eq!(
        service.sql(&format!(
            "SELECT tags FROM credential WHERE id = '{target}'"
        )),
        "{}"
    );
    service.sign_in("pim").get(&path).refused(404, "unknown");
    // Other tags are the editor's, and this one the steward's.
    let _ = marek
        .patch(&path, revision(&ines, &path), &json!({"tags": ["pumps"]}))
        .good();
    let _ = ines
        .patch(
            &path,
            revision(&ines, &path),
            &json!({"tags": ["pumps", "contractor"]}),
        )
        .good();
    assert_eq!(service.sign_in("pim").get(&path).status, 200);
}

#[test]
fn whose_access_a_tag_changes_is_shown_to_stewards_before() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let (first, second) = (
        login(&ines, &safe, "root", "root", "Root-1"),
        login(&ines, &safe, "duty", "duty", "Duty-1"),
    );
    let (marek, pim) = (ines.person("marek", &[]), ines.person("pim", &[]));
    grant(&ines, "folder", &safe, &marek, "edit");
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": safe, "person": pim, "level": "reveal", "only_tag": "contractor"}),
    );
    let both = json!({"tags": {"ids": [first, second], "add": ["Contractor"]}});
    let seen = ines.post("/api/v1/preview", &both).good();
    assert_eq!(
        (seen["gaining"].as_i64(), seen["losing"].as_i64()),
        (Some(1), Some(0)),
        "{seen}"
    );
    let shift = &seen["shifts"][0];
    assert!(
        shift["name"] == "pim" || shift["person"] == pim.as_str(),
        "{seen}"
    );
    assert!(
        shift["before"].is_null() && shift["after"] == "reveal" && shift["credentials"] == 2,
        "{seen}"
    );
    service
        .sign_in("marek")
        .post("/api/v1/preview", &both)
        .refused(403, "not-allowed");
    service
        .sign_in("pim")
        .post("/api/v1/preview", &both)
        .refused(404, "unknown");
    // Nothing was kept; and what is made is what was shown.
    assert_eq!(
        service.sql("SELECT count(*) FROM credential WHERE tags <> '{}'"),
        "0"
    );
    let path = format!("/api/v1/credentials/{first}");
    let _ = ines
        .patch(
            &path,
            revision(&ines, &path),
            &json!({"tags": ["contractor"]}),
        )
        .good();
    assert_eq!(service.sign_in("pim").get(&path).status, 200);
    let less = ines
        .post(
            "/api/v1/preview",
            &json!({"tags": {"ids": [first], "remove": ["contractor"]}}),
        )
        .good();
    assert_eq!(
        (less["gaining"].as_i64(), less["losing"].as_i64()),
        (Some(0), Some(1)),
        "{less}"
    );
    let other = ines
        .post(
            "/api/v1/preview",
            &json!({"tags": {"ids": [first], "add": ["pumps"]}}),
        )
        .good();
    assert_eq!(other["shifts"], json!([]), "{other}");
    // The client shows the same.
    let said = service.client("ines").good(&[
        "credential",
        "tag",
        "/Safe/duty",
        "--add",
        "contractor",
        "--preview",
    ]);
    assert!(said.contains("1 person gets more access"), "{said}");
}
