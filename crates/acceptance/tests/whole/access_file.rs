//! Access as one file: written, compared, applied.

use jexlin_acceptance::Service;
use jexlin_acceptance::browser::{Driver, Page};
use serde_json::{Value, json};

use crate::people_and_files::{edited, id_of, state};

#[test]
fn access_is_exported_compared_and_applied_as_one_file() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let (office, pumping) = (ines.folder("Office"), ines.folder("Pumping"));
    let ridge = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumping, "name": "North ridge"}),
    );
    let duty = ines.login(&ridge, "duty", "Winter-tide-41");
    let _ = ines.login(&office, "Franking", "Winter-tide-42");
    let (pim, marek) = (ines.person("pim", &[]), ines.person("marek", &[]));
    let leads = ines.make("/api/v1/groups", &json!({"name": "Leads"}));
    let _ = ines
        .put(&format!("/api/v1/groups/{leads}/members/{marek}"))
        .good();
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumping, "group": leads, "level": "use", "note": "by rota"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"credential": duty, "person": pim, "level": "list"}),
    );
    let _ = ines.make("/api/v1/gates", &json!({"folder": ridge, "needs_reason": true, "max_minutes": 60, "approver_groups": [leads]}));

    // What is written compares as the same, and is the same when it is written again.
    let path = edited(&client, "access.toml", |text| text);
    let text = std::fs::read_to_string(&path).unwrap();
    for part in [
        "[group.\"Leads\"]",
        "members = [\"person marek\"]",
        "[folder.\"/Pumping/North ridge\"]",
        "note = \"by rota\"",
        "[credential.\"/Pumping/North ridge/duty\"]",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    assert!(
        !text.contains("Franking") && !text.contains("Winter"),
        "{text}"
    );
    assert!(
        client
            .good(&["access", "compare", &path])
            .contains("There is nothing to change")
    );
    assert!(
        client
            .good(&["access", "apply", &path])
            .contains("already as the file says")
    );
    assert!(ines.events("access.apply").is_empty());

    // Many changes at once: compared with who gains and loses, then made in one transaction.
    let wanted = edited(&client, "wanted.toml", |text| {
        text.replace(
            "members = [\"person marek\"]",
            "members = [\"person marek\", \"person pim\"]",
        )
        .replace(
            "to = \"group Leads\", level = \"use\", note = \"by rota\"",
            "to = \"group Leads\", level = \"reveal\", note = \"by rota\"",
        )
        .replace("  { to = \"person pim\", level = \"list\" },\n", "")
        .replace("minutes = 60", "minutes = 30")
            + "\n[folder.\"/Archive\"]\ngrants = [{ to = \"person ines\", level = \"steward\" }]\n\n[folder.\"/Archive/2026\"]\ngrants = []\n\n[group.\"Clerks\"]\nmembers = [\"group Leads\"]\n"
    });
    let told = client.good(&["access", "compare", &wanted]);
    assert!(
        told.contains("add person pim")
            && told.contains("group Leads has `use`, gets `reveal`")
            && told.contains("person pim loses `list`"),
        "{told}"
    );
    assert!(
        told.contains("3 people get more access") && told.contains("Nothing was changed"),
        "{told}"
    );
    assert!(
        client
            .good(&["access", "compare", &path])
            .contains("There is nothing to change")
    );
    assert!(
        client
            .good(&["access", "apply", &wanted])
            .contains("9 changes are made")
    );
    let folders = client.good(&["folder", "list"]);
    assert!(folders.contains("/Archive/2026"), "{folders}");
    assert!(
        client
            .good(&["explain", "pim", "/Pumping/North ridge/duty"])
            .contains("holds `reveal`")
    );
    assert!(client.good(&["gate", "list"]).contains("30"));
    // Each change is in the log beside the act as a whole.
    for (action, times) in [
        ("grant.edit", 1),
        ("grant.remove", 1),
        ("group.add-member", 3),
        ("folder.add", 5),
        ("gate.edit", 1),
        ("access.apply", 1),
    ] {
        assert_eq!(ines.events(action).len(), times, "{action}");
    }
    // Twice changes nothing.
    assert!(
        client
            .good(&["access", "apply", &wanted])
            .contains("already as the file says")
    );
    let again = client.good(&["access", "export", "-"]);
    let path = edited(&client, "again.toml", |text| text);
    assert_eq!(std::fs::read_to_string(path).unwrap(), again);
}

#[test]
fn a_file_with_an_error_changes_nothing_and_names_the_line() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let (office, pumping) = (ines.folder("Office"), ines.folder("Pumping"));
    let _ = ines.login(&office, "Franking", "Winter-tide-42");
    let (pim, marek) = (ines.person("pim", &[]), ines.person("marek", &[]));
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": pim, "level": "steward"}),
    );
    state(&ines, "marek", "suspended");
    let before = client.good(&["access", "export", "-"]);
    let bad = |name: &str, from: &str, to: &str, says: &str| {
        let path = edited(&client, name, |text| {
            assert!(text.contains(from), "{from} in {text}");
            text.replacen(from, to, 1)
        });
        for verb in ["compare", "apply"] {
            let (code, words) = client.bad(&["access", verb, &path]);
            assert!(
                (code == 7 || code == 6) && words.contains(says),
                "{name} {verb}: {code} {words}"
            );
        }
        let after = client.good(&["access", "export", "-"]);
        assert_eq!(after, before, "{name}");
    };
    bad("typing.toml", "grants = [", "grnats = [", "grnats");
    bad("toml.toml", "grants = [", "grants = ", "line");
    bad(
        "level.toml",
        "level = \"steward\"",
        "level = \"owner\"",
        "`owner` is not a level",
    );
    bad(
        "nobody.toml",
        "person pim",
        "person ghost",
        "no person has the sign-in name",
    );
    bad(
        "asleep.toml",
        "person pim",
        "person marek",
        "marek is suspended",
    );
    bad(
        "past.toml",
        "person pim\", level = \"steward\"",
        "person pim\", level = \"use\", until = 2020-01-01T00:00:00Z",
        "would already have expired",
    );
    bad(
        "gone.toml",
        &office,
        "00000000-0000-0000-0000-000000000000",
        "the folder with this identifier is gone",
    );
    // Renamed meanwhile: the file is refused, not a second folder made.
    let old = edited(&client, "old.toml", |text| {
        text.replace("level = \"steward\" },", "level = \"edit\" },")
    });
    let _ = client.good(&["folder", "edit", "/Pumping", "--name", "Pumps"]);
    let (code, words) = client.bad(&["access", "apply", &old]);
    assert!(
        code == 7 && words.contains("this folder is now /Pumps"),
        "{words}"
    );
    let _ = client.good(&["folder", "edit", "/Pumps", "--name", "Pumping"]);
    // Closing it would shut its own steward out, and the last steward stays.
    let _ = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumping, "name": "Inner"}),
    );
    let shut = edited(&client, "shut.toml", |text| {
        let index = text.find("[folder.\"/Pumping/Inner\"]").unwrap();
        let (head, rest) = text.split_at(index);
        head.to_owned()
            + &rest.replacen(
                "grants = []",
                "closed = true\ngrants = [{ to = \"person pim\", level = \"steward\" }]",
                1,
            )
    });
    let (code, words) = client.bad(&["access", "apply", &shut]);
    assert!(
        code == 6 && words.contains("no longer be a steward of /Pumping/Inner"),
        "{code} {words}"
    );
    let none = edited(&client, "none.toml", |text| {
        let index = text.find("[folder.\"/Pumping\"]").unwrap();
        let (head, rest) = text.split_at(index);
        head.to_owned() + &rest.replacen("level = \"steward\"", "level = \"edit\"", 1)
    });
    let (code, words) = client.bad(&["access", "apply", &none]);
    assert!(
        code == 6 && words.contains("/Pumping would have no steward"),
        "{code} {words}"
    );
    // Whoever is no steward of a place cannot say anything of it; groups take their duty.
    let theirs = service.client("pim");
    let mine = theirs.good(&["access", "export", "-"]);
    assert!(
        mine.contains("/Office") && !mine.contains("/Pumping") && !mine.contains("[group"),
        "{mine}"
    );
    let whole = client.folder.join("old.toml");
    std::fs::copy(&whole, theirs.folder.join("whole.toml")).unwrap();
    let (code, words) = theirs.bad(&["access", "apply", "whole.toml"]);
    assert!(
        code == 7 && words.contains("this folder is gone"),
        "{words}"
    );
    std::fs::write(
        theirs.folder.join("group.toml"),
        "format = 1\n[group.\"New\"]\nmembers = []\n",
    )
    .unwrap();
    assert!(
        theirs
            .bad(&["access", "apply", "group.toml"])
            .1
            .contains("duty `people`")
    );
    let _ = marek;
}

#[test]
fn of_two_files_applied_at_once_the_second_sees_the_first() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let _ = ines.folder("Office");
    let _ = (ines.person("pim", &[]), ines.person("marek", &[]));
    let give = |name: &str| {
        edited(&client, &format!("{name}.toml"), |text| {
            text.replace(
                "grants = [\n",
                &format!("grants = [\n  {{ to = \"person {name}\", level = \"use\" }},\n"),
            )
        })
    };
    let (entry, two) = (give("pim"), give("marek"));
    // Both were compared with the same state: the second to be made so is refused.
    let compared: Value = {
        let answer = service
            .raw(
                "POST",
                "/api/v1/access/compare",
                Some(&ines.token),
                Some(std::fs::read(&two).unwrap()),
                None,
            )
            .unwrap();
        answer.good()
    };
    let expect = compared["state"].as_str().unwrap();
    let _ = client.good(&["access", "apply", &entry]);
    let stale = service
        .raw(
            "POST",
            &format!("/api/v1/access/apply?expect={expect}"),
            Some(&ines.token),
            Some(std::fs::read(&two).unwrap()),
            None,
        )
        .unwrap();
    stale.refused(412, "changed-meanwhile");
    let both = std::thread::scope(|scope| {
        let all: Vec<_> = [&entry, &two, &entry, &two]
            .into_iter()
            .map(|path| scope.spawn(|| client.run(&["access", "apply", path], "").status.success()))
            .collect();
        all.into_iter().all(|item| item.join().unwrap())
    });
    assert!(both);
    // Each file is whole: one of the two has its way, never half of each.
    let grants = client.good(&["grant", "list", "--folder", "/Office"]);
    assert!(
        grants.contains("pim of Osmere") != grants.contains("marek of Osmere"),
        "{grants}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn issues_are_fixed_stewardship_is_transferred_and_a_file_is_applied_in_the_console() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let (office, archive) = (ines.folder("Office"), ines.folder("Archive"));
    let _ = ines.login(&office, "Franking", "Winter-tide-41");
    let (pim, marek) = (ines.person("pim", &[]), ines.person("marek", &[]));
    let me = id_of(&ines, "/api/v1/people", "sign_in_name", "ines");
    for (folder, person, level) in [
        (&office, &pim, "use"),
        (&office, &marek, "steward"),
        (&archive, &marek, "steward"),
    ] {
        let _ = ines.make(
            "/api/v1/grants",
            &json!({"folder": folder, "person": person, "level": level}),
        );
    }
    let mine = ines.get(&format!("/api/v1/grants?folder={archive}")).good();
    let grant = mine["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["subject"] == *me)
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let _ = client.good(&["grant", "remove", &grant]);
    state(&ines, "pim", "left");
    state(&ines, "marek", "suspended");

    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&service, "ines").await;
    page.press("Access").await;
    page.sees("has no steward who can sign in").await;
    page.sees("grantee has left").await;
    page.accessible("access issues").await;
    page.press("Select unused grants").await;
    page.press("Remove 1 grant …").await;
    page.press("Remove grants").await;
    page.sees("Removed: 1 grant.").await;

    // A file is compared before it is made so.
    let file = edited(&client, "access.toml", |text| {
        text.replace(
            "to = \"person marek\", level = \"steward\"",
            "to = \"person marek\", level = \"use\"",
        )
    });
    page.find("//input[@name='access-file']")
        .await
        .send_keys(&file)
        .await
        .unwrap();
    page.sees("marek is suspended").await;
    state(&ines, "marek", "active");
    let file = edited(&client, "again.toml", |text| {
        text.replace(
            "to = \"person marek\", level = \"steward\"",
            "to = \"person marek\", level = \"use\"",
        )
    });
    page.find("//input[@name='access-file']")
        .await
        .send_keys(&file)
        .await
        .unwrap();
    page.sees("person marek has steward, gets use").await;
    page.sees("1 person gets less access").await;
    page.accessible("an access file that was compared").await;
    page.press("Apply 1 change").await;
    page.sees("1 change is made").await;
    assert!(
        client
            .good(&["explain", "marek", "/Office/Franking"])
            .contains("holds `use`")
    );
    // Handing over asks with the preview.
    page.0.refresh().await.unwrap();
    page.click("//select[@name='to']/option[contains(., 'marek')]")
        .await;
    page.press("Transfer stewardship …").await;
    page.sees("1 person gets more access, 1 person gets less access")
        .await;
    page.click("//button[normalize-space()='Transfer stewardship']")
        .await;
    page.sees("Stewardship transferred: /Office").await;
    assert!(
        service
            .client("marek")
            .good(&["explain", "marek", "/Office/Franking"])
            .contains("holds `steward`")
    );
    page.0.close().await.unwrap();
}
