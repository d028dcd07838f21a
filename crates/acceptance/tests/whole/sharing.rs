//! Sharing: previews before changes, grants for a part of a folder, with or without former values.

use jexlin_acceptance::Service;
use jexlin_acceptance::browser::{Driver, Page};
use serde_json::json;

#[test]
fn a_preview_says_who_gains_and_loses_what_and_changes_nothing() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let pumps = ines.folder("Pumping");
    let ridge = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumps, "name": "North ridge"}),
    );
    for n in 0..3 {
        let _ = ines.login(&pumps, &format!("pump {n}"), "Winter-tide-41");
    }
    let duty = ines.login(&ridge, "duty", "Winter-tide-42");
    let _ = ines.make(
        "/api/v1/gates",
        &json!({"credential": duty, "needs_reason": true, "max_minutes": 60}),
    );
    let (marek, petra) = (ines.person("marek", &[]), ines.person("petra", &[]));
    let _ = client.good(&["group", "add", "Duty engineers"]);
    let _ = client.good(&["group", "add-member", "Duty engineers", "--person", "marek"]);
    // Petra holds a little of it already.
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": ridge, "person": petra, "level": "list"}),
    );
    let _ = client.good(&["group", "add-member", "Duty engineers", "--person", "petra"]);
    let give = [
        "grant",
        "add",
        "use",
        "--folder",
        "/Pumping",
        "--group",
        "Duty engineers",
    ];
    let told = client.good(&[&give[..], &["--preview"]].concat());
    assert!(
        told.contains("2 people get more access, nobody gets less.")
            && told.contains("Nothing was changed."),
        "{told}"
    );
    let shown = ines
        .post(
            "/api/v1/preview",
            &json!({"grant": {"folder": pumps, "group": group(&ines), "level": "use"}}),
        )
        .good();
    let of = |person: &str| -> Vec<_> {
        let shifts = shown["shifts"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|shift| shift["person"] == *person);
        shifts
            .map(|shift| {
                (
                    shift["before"].clone(),
                    shift["after"].clone(),
                    shift["credentials"].clone(),
                    shift["gated"].clone(),
                )
            })
            .collect()
    };
    assert_eq!(
        of(&marek),
        [(json!(null), json!("use"), json!(4), json!(1))]
    );
    assert_eq!(
        of(&petra),
        [
            (json!(null), json!("use"), json!(3), json!(0)),
            (json!("list"), json!("use"), json!(1), json!(1))
        ]
    );
    assert_eq!(service.client("marek").good(&["credential", "list"]), "");
    assert_eq!(
        ines.events("grant.add")
            .iter()
            .filter(|event| event["outcome"] == "done")
            .count(),
        1,
        "only what was given is in the log"
    );
    let _ = client.good(&give);
    // Leaving, moving and closing likewise.
    let told = client.good(&[
        "group",
        "remove-member",
        "Duty engineers",
        "--person",
        "marek",
        "--preview",
    ]);
    assert!(told.contains("1 person gets less access"), "{told}");
    assert_eq!(
        client
            .bad(&["folder", "close", "/Pumping/North ridge", "--preview"])
            .0,
        6,
        "it would shut its own steward out"
    );
    let _ = client.good(&[
        "grant",
        "add",
        "steward",
        "--folder",
        "/Pumping/North ridge",
        "--person",
        "ines",
    ]);
    let told = client
        .good(&["folder", "close", "/Pumping/North ridge", "--preview"])
        .to_lowercase();
    assert!(
        told.contains("2 people get less access")
            && told.contains("marek")
            && told.contains("petra"),
        "{told}"
    );
    let _ = ines.folder("Archive");
    let told = client.good(&[
        "credential",
        "move",
        "/Pumping/pump 0",
        "/Archive",
        "--preview",
    ]);
    assert!(told.contains("2 people get less access"), "{told}");
    let told = client.good(&[
        "folder",
        "move",
        "/Pumping/North ridge",
        "/Archive",
        "--preview",
    ]);
    assert!(
        told.contains("2 people get less access")
            && client
                .good(&["folder", "list"])
                .contains("/Pumping/North ridge"),
        "{told}"
    );
    // A preview takes what the change takes.
    let marek = service.client("marek");
    assert_eq!(
        marek
            .bad(&[
                "grant",
                "add",
                "use",
                "--folder",
                "/Pumping",
                "--person",
                "petra",
                "--preview"
            ])
            .0,
        4
    );
    ines.post("/api/v1/preview", &json!({}))
        .refused(400, "malformed");
}

fn group(ines: &jexlin_acceptance::Session<'_>) -> String {
    ines.get("/api/v1/groups").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned()
}

#[test]
fn a_grant_for_a_kind_or_a_tag_shows_only_that_and_the_folders_to_it() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let pumps = ines.folder("Pumping");
    let _ = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumps, "name": "Depot"}),
    );
    let ridge = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumps, "name": "North ridge"}),
    );
    let night = ines.login(&ridge, "Night duty", "Winter-tide-41");
    let _ = ines.login(&ridge, "Other", "Winter-tide-42");
    let _ = client.good(&[
        "credential",
        "tag",
        "/Pumping/North ridge/Night duty",
        "--add",
        "night",
    ]);
    let pim = ines.person("pim", &[]);
    assert_eq!(
        client
            .bad(&[
                "grant",
                "add",
                "reveal",
                "--folder",
                "/Pumping",
                "--person",
                "pim",
                "--only-kind",
                "spoon"
            ])
            .0,
        7
    );
    assert_eq!(
        client
            .bad(&[
                "grant",
                "add",
                "reveal",
                "--credential",
                "/Pumping/North ridge/Other",
                "--person",
                "pim",
                "--only-tag",
                "night"
            ])
            .0,
        7
    );
    let _ = client.good(&[
        "grant",
        "add",
        "reveal",
        "--folder",
        "/Pumping",
        "--person",
        "pim",
        "--only-tag",
        "Night",
        "--without-history",
    ]);
    let (theirs, session) = (service.client("pim"), service.sign_in("pim"));
    let listed = theirs.good(&["credential", "list"]);
    assert!(
        listed.contains("Night duty") && !listed.contains("Other"),
        "{listed}"
    );
    let folders = theirs.good(&["folder", "list"]);
    assert!(
        folders.contains("/Pumping/North ridge") && !folders.contains("Depot"),
        "{folders}"
    );
    assert_eq!(session.reveal(&night).text("value"), "Winter-tide-41");
    // A new value, and the former one is not theirs to see; whoever has it all sees it.
    let revision = ines.get(&format!("/api/v1/credentials/{night}")).good()["revision"]
        .as_i64()
        .unwrap();
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{night}"),
            revision,
            &json!({"password": "Winter-tide-43"}),
        )
        .good();
    assert_eq!(session.reveal(&night).text("value"), "Winter-tide-43");
    session
        .post(
            &format!("/api/v1/credentials/{night}/reveal"),
            &json!({"version": 1}),
        )
        .refused(403, "not-allowed");
    session
        .get(&format!("/api/v1/credentials/{night}/history"))
        .refused(403, "not-allowed");
    assert_eq!(
        ines.post(
            &format!("/api/v1/credentials/{night}/reveal"),
            &json!({"version": 1})
        )
        .text("value"),
        "Winter-tide-41"
    );
    // Without the tag it is gone for them, and explain says why.
    let _ = client.good(&[
        "credential",
        "tag",
        "/Pumping/North ridge/Night duty",
        "--remove",
        "night",
    ]);
    session
        .get(&format!("/api/v1/credentials/{night}"))
        .refused(404, "unknown");
    let why = client.good(&["explain", "pim", "/Pumping/North ridge/Night duty"]);
    assert!(why.contains("limited to another kind or tag"), "{why}");
    let _ = pim;
}

#[test]
fn an_edited_grant_keeps_what_was_not_given() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let pumps = ines.folder("Pumping");
    let _ = ines.login(&pumps, "Ridge", "Winter-tide-41");
    let pim = ines.person("pim", &[]);
    let grant = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumps, "person": pim, "level": "reveal", "note": "storm season"}),
    );
    let told = client.good(&["grant", "edit", &grant, "--level", "use", "--preview"]);
    assert!(
        told.contains("1 person gets less access")
            && told.contains("reveal")
            && told.contains("Nothing was changed"),
        "{told}"
    );
    assert!(
        client
            .good(&["explain", "pim", "/Pumping"])
            .contains("holds `reveal`")
    );
    let told = client.good(&[
        "grant",
        "edit",
        &grant,
        "--level",
        "use",
        "--until",
        "2099-12-24T06:00:00Z",
        "--history",
        "no",
    ]);
    assert!(
        told.contains("use") && told.contains("2099") && told.contains("storm season"),
        "{told}"
    );
    assert!(
        client
            .good(&["explain", "pim", "/Pumping/Ridge"])
            .contains("holds `use`")
    );
    let events = ines.events("grant.edit");
    assert_eq!(
        (
            events.len(),
            events[0]["detail"]["level"].as_str(),
            events[0]["detail"]["history"].as_str()
        ),
        (1, Some("reveal → use"), Some("no"))
    );
    let _ = client.good(&["grant", "edit", &grant, "--no-expiry"]);
    assert!(ines.get(&format!("/api/v1/grants/{grant}")).good()["ends_at"].is_null());
    // Somebody has changed it meanwhile; an end that is past; no level; not a steward; not there.
    let path = format!("/api/v1/grants/{grant}");
    ines.patch(&path, 1, &json!({"level": "edit"}))
        .refused(412, "changed-meanwhile");
    assert_eq!(
        client
            .bad(&["grant", "edit", &grant, "--until", "2020-01-01T00:00:00Z"])
            .0,
        7
    );
    assert_eq!(
        client
            .bad(&["grant", "edit", &grant, "--level", "everything"])
            .0,
        2
    );
    let theirs = service.client("pim");
    assert_eq!(
        theirs
            .bad(&["grant", "edit", &grant, "--level", "steward"])
            .0,
        4
    );
    assert_eq!(
        client
            .bad(&[
                "grant",
                "edit",
                "018f0000-0000-7000-8000-000000000001",
                "--level",
                "use"
            ])
            .0,
        5
    );
    // The last steward stays one, and does not end.
    let own = ines.get(&format!("/api/v1/grants?folder={pumps}")).good()["items"]
        .as_array()
        .unwrap()
        .clone();
    let own = own.iter().find(|item| item["level"] == "steward").unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    for terms in [
        &["--level", "edit"][..],
        &["--until", "2099-01-01T00:00:00Z"],
    ] {
        let (code, words) = client.bad(&[&["grant", "edit", own.as_str()], terms].concat());
        assert!(code == 6 && words.contains("last steward"), "{words}");
    }
    // Nothing more for somebody who is suspended; less is possible.
    let revision = ines.get(&format!("/api/v1/people/{pim}")).good()["revision"]
        .as_i64()
        .unwrap();
    let _ = ines
        .patch(
            &format!("/api/v1/people/{pim}"),
            revision,
            &json!({"state": "suspended"}),
        )
        .good();
    assert_eq!(
        client
            .bad(&["grant", "edit", &grant, "--level", "reveal"])
            .0,
        7
    );
    let _ = client.good(&["grant", "edit", &grant, "--level", "list"]);
    assert!(
        ines.events("grant.edit")
            .iter()
            .any(|event| event["outcome"] == "refused")
    );
}

#[test]
fn who_has_access_is_listed_for_stewards_and_auditors_only() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let pumps = ines.folder("Pumping");
    let ridge = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumps, "name": "North ridge"}),
    );
    let duty = ines.login(&ridge, "duty", "Winter-tide-41");
    let (marek, pim) = (ines.person("marek", &[]), ines.person("pim", &[]));
    let _ = ines.person("olena", &["audit"]);
    let engineers = ines.make("/api/v1/groups", &json!({"name": "Duty engineers"}));
    let _ = ines
        .put(&format!("/api/v1/groups/{engineers}/members/{marek}"))
        .good();
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumps, "group": engineers, "level": "reveal"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"credential": duty, "person": pim, "level": "use"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumps, "person": pim, "level": "list", "only_kind": "login"}),
    );
    let told = client.good(&["access", "who", "/Pumping/North ridge/duty", "-o", "csv"]);
    let lines: Vec<&str> = told.lines().skip(1).collect();
    assert_eq!(lines.len(), 3, "{told}");
    assert!(
        lines[0].starts_with("steward,Ines")
            && lines[1].starts_with("reveal,marek")
            && lines[1].contains("/Pumping,Duty engineers"),
        "{told}"
    );
    assert!(
        lines[2].starts_with("use,pim")
            && lines[2].contains("the credential itself")
            && lines[2].ends_with(",1"),
        "{told}"
    );
    // What is narrowed reaches no folder.
    let told = client.good(&["access", "who", "/Pumping"]);
    assert!(told.contains("marek") && !told.contains("pim"), "{told}");
    assert!(
        client
            .good(&["explain", "pim", "/Pumping"])
            .contains("has no access")
    );
    // Page by page it is the same.
    let (mut names, mut cursor) = (vec![], String::new());
    loop {
        let page = ines
            .get(&format!(
                "/api/v1/reach?credential={duty}&limit=1&cursor={cursor}"
            ))
            .good();
        names.push(page["items"][0]["name"].as_str().unwrap().to_owned());
        let Some(next) = page["next"].as_str() else {
            break;
        };
        next.clone_into(&mut cursor);
    }
    assert_eq!(names.len(), 3, "{names:?}");
    let olena = service.sign_in("olena");
    assert_eq!(
        olena.get(&format!("/api/v1/reach?folder={ridge}")).good()["items"]
            .as_array()
            .unwrap()
            .len(),
        2
    );
    let marek_there = service.sign_in("marek");
    marek_there
        .get(&format!("/api/v1/reach?credential={duty}"))
        .refused(403, "not-allowed");
    let _ = marek_there
        .get(&format!("/api/v1/explain?person={marek}&folder={ridge}"))
        .good();
    marek_there
        .get(&format!("/api/v1/explain?person={pim}&folder={ridge}"))
        .refused(403, "not-allowed");
    assert_eq!(
        service
            .client("marek")
            .bad(&["access", "who", "/Nowhere/at all"])
            .0,
        5
    );
    let asked = ines.events("access.who");
    assert!(
        asked
            .iter()
            .any(|event| event["target_name"] == "/Pumping/North ridge/duty")
            && asked.iter().any(|event| event["outcome"] == "refused")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_the_preview_before_it_grants() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let pumps = ines.folder("Pumping");
    let _ = ines.login(&pumps, "Ridge", "Winter-tide-41");
    let _ = ines.person("marek", &[]);
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&service, "ines").await;
    page.0
        .goto(&format!("{}/vault/{pumps}", service.url))
        .await
        .unwrap();
    page.press("Grant access").await;
    page.click(
        "//*[@role='dialog']//option[normalize-space(.)='Marek Holm' or contains(., 'marek') or contains(., 'Marek')]",
    ).await;
    page.press("Grant …").await;
    page.sees("1 person gets more access, nobody gets less.")
        .await;
    page.accessible("the preview of a grant").await;
    page.click("//*[@role='alertdialog']//button[normalize-space(.)='Grant']")
        .await;
    page.find("//button[starts-with(@aria-label, 'Remove list from')]")
        .await;
    assert_eq!(ines.events("grant.add").len(), 1);
    // Other terms, seen first; then everybody who has access.
    page.click("//button[starts-with(@aria-label, 'Edit list to')]")
        .await;
    page.click("//form[.//button[normalize-space(.)='Edit …']]//option[@value='reveal']")
        .await;
    page.press("Edit …").await;
    page.sees("1 person gets more access, nobody gets less.")
        .await;
    page.click("//*[@role='alertdialog']//button[normalize-space(.)='Apply']")
        .await;
    page.find("//button[starts-with(@aria-label, 'Edit reveal to')]")
        .await;
    assert_eq!(ines.events("grant.edit").len(), 1);
    page.find("//div[@aria-label='Who has access']//tr[contains(., 'marek')]/td[normalize-space(.)='reveal']").await;
    page.sees("holds steward by a grant on /Pumping.").await;
    page.accessible("who reaches a folder, and why").await;
    page.0.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_imported_and_the_import_undone_in_the_console() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.folder("Office");
    let file = service.client("ines").folder.join("logins.csv");
    std::fs::write(
        &file,
        "Title,Login,Password\nFranking,petra,Winter-tide-41\nPortal,,\n",
    )
    .unwrap();
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&service, "ines").await;
    page.press("Import and export").await;
    page.sees("Nothing has been imported").await;
    page.find("//input[@type='file']")
        .await
        .send_keys(file.to_str().unwrap())
        .await
        .unwrap();
    page.sees("there is no").await;
    page.accessible("a file that was looked at").await;
    page.find("//div[@aria-label='Rows that cannot be imported']//tr[contains(., '3') and contains(., 'Password')]")
        .await;
    page.find("//button[normalize-space(.)='Save the list as a file']")
        .await;
    page.click("//label[contains(., 'Import the valid rows')]//input")
        .await;
    page.press("Import 1").await;
    page.sees("1 added").await;
    page.sees("Now delete the file").await;
    page.click("//button[@aria-label='Undo import logins.csv']")
        .await;
    page.confirm("Undo import").await;
    page.sees("Moved to the bin: 1").await;
    assert_eq!(ines.get("/api/v1/credentials").good()["items"], json!([]));
    page.0.close().await.unwrap();
}

#[test]
fn what_a_person_has_access_to_is_listed_with_the_way_to_it() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (pumps, office) = (ines.folder("Pumping"), ines.folder("Office"));
    let portal = ines.login(&office, "Portal", "Winter-tide-41");
    let (marek, pim) = (ines.person("marek", &[]), ines.person("pim", &[]));
    let _ = ines.person("olena", &["audit"]);
    let group = |name: &str| ines.make("/api/v1/groups", &json!({"name": name}));
    let (duty, all) = (group("Duty engineers"), group("Operations"));
    for (group, member) in [(&duty, &marek), (&all, &duty)] {
        let _ = ines
            .put(&format!("/api/v1/groups/{group}/members/{member}"))
            .good();
    }
    for body in [
        json!({"folder": pumps, "group": all, "level": "reveal"}),
        json!({"credential": portal, "person": marek, "level": "use"}),
        json!({"folder": office, "person": pim, "level": "edit"}),
    ] {
        let _ = ines.make("/api/v1/grants", &body);
    }
    let of = |who: &str, person: &str| {
        service
            .sign_in(who)
            .get(&format!("/api/v1/people/{person}/grants"))
    };
    let ways = |who: &str| -> Vec<(String, String, String)> {
        let answer = of(who, &marek).good();
        let items = answer["items"].as_array().unwrap();
        let text = |row: &serde_json::Value, name: &str| row[name].as_str().unwrap().to_owned();
        items
            .iter()
            .map(|row| {
                (
                    text(row, "place"),
                    text(row, "level"),
                    text(row, "subject_name"),
                )
            })
            .collect()
    };
    let wanted = [
        ("/Office/Portal", "use", "marek of Osmere"),
        ("/Pumping", "reveal", "Operations"),
    ];
    for who in ["ines", "olena", "marek"] {
        let ways = ways(who);
        let ways: Vec<(&str, &str, &str)> = ways
            .iter()
            .map(|(place, level, by)| (place.as_str(), level.as_str(), by.as_str()))
            .collect();
        assert_eq!(ways, wanted, "{who}");
    }
    // Nobody else, and page after page.
    of("pim", &marek).refused(403, "needs-duty");
    let first = service
        .sign_in("olena")
        .get(&format!("/api/v1/people/{marek}/grants?limit=1"))
        .good();
    let next = first["next"].as_str().unwrap();
    let second = service
        .sign_in("olena")
        .get(&format!(
            "/api/v1/people/{marek}/grants?limit=1&cursor={next}"
        ))
        .good();
    assert_eq!(second["items"][0]["place"], "/Pumping");
    assert_eq!(second["next"], json!(null));
    // A grant that has expired gives no access, and each look is in the log.
    service.sql("UPDATE access_grant SET ends_at = now() - interval '1 hour' WHERE credential_id IS NOT NULL");
    assert_eq!(ways("olena").len(), 1);
    let looks = ines.events("access.who");
    assert!(
        looks
            .iter()
            .any(|event| event["target_name"] == "marek" && event["outcome"] == "done")
    );
    assert!(looks.iter().any(|event| event["outcome"] == "refused"));
}

#[test]
fn what_somebody_has_seen_is_told_to_whoever_may_know_and_until_it_is_changed() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (pumps, office) = (ines.folder("Pumping"), ines.folder("Office"));
    let portal = ines.login(&office, "Portal", "Winter-tide-41");
    let duty = ines.login(&pumps, "duty", "Spring-tide-42");
    let (marek, pim) = (ines.person("marek", &[]), ines.person("pim", &[]));
    let _ = ines.person("olena", &["audit"]);
    for body in [
        json!({"folder": pumps, "person": marek, "level": "reveal"}),
        json!({"folder": office, "person": marek, "level": "reveal"}),
        json!({"folder": pumps, "person": pim, "level": "steward"}),
    ] {
        let _ = ines.make("/api/v1/grants", &body);
    }
    let his = service.sign_in("marek");
    for credential in [&portal, &duty, &duty] {
        let _ = his.reveal(credential).good();
    }
    let address = format!("/api/v1/people/{marek}/seen");
    let seen = |who: &str| -> Vec<(String, i64, bool)> {
        let answer = service.sign_in(who).get(&address).good();
        let items = answer["items"].as_array().unwrap();
        items
            .iter()
            .map(|item| {
                (
                    item["path"].as_str().unwrap().to_owned(),
                    item["times"].as_i64().unwrap(),
                    item["changed_since"].as_bool().unwrap(),
                )
            })
            .collect()
    };
    let both = [
        ("/Pumping/duty".to_owned(), 2, false),
        ("/Office/Portal".to_owned(), 1, false),
    ];
    for who in ["ines", "olena", "marek"] {
        assert_eq!(seen(who), both, "{who}");
    }
    // A steward of one folder learns of that folder; whoever may only reveal there, of nothing.
    assert_eq!(seen("pim"), both[..1]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": pim, "level": "edit"}),
    );
    assert_eq!(seen("pim"), both[..1]);
    assert_eq!(
        service
            .sign_in("marek")
            .get(&format!("/api/v1/people/{pim}/seen"))
            .good()["items"],
        json!([])
    );
    // A new password is not what he saw; what is in the bin is nobody's to rotate.
    let row = ines.get(&format!("/api/v1/credentials/{duty}")).good();
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{duty}"),
            row["revision"].as_i64().unwrap(),
            &json!({"password": "Autumn-tide-43"}),
        )
        .good();
    assert_eq!(
        seen("olena"),
        [("/Pumping/duty".to_owned(), 2, true), both[1].clone()]
    );
    let client = service.client("olena");
    let words = client.good(&["people", "seen", "marek", "--unchanged"]);
    assert!(
        words.contains("/Office/Portal") && !words.contains("/Pumping/duty"),
        "{words}"
    );
    let looks = ines.events("person.seen");
    assert!(looks.iter().any(|event| event["target_name"] == "marek"));
}
