//! Access as a whole: as code, in order, in other hands, and what an organisation lets people do.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

use jexlin_acceptance::browser::{Driver, Page};
use jexlin_acceptance::{Client, Service, Session};
use serde_json::{Value, json};

fn id_of(session: &Session<'_>, list: &str, field: &str, name: &str) -> String {
    let all = session.get(list).good();
    all["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|it| it[field] == *name)
        .unwrap_or_else(|| panic!("{name} in {all}"))["id"]
        .as_str()
        .unwrap()
        .to_owned()
}

fn state(session: &Session<'_>, name: &str, state: &str) {
    let people = session.get("/api/v1/people").good();
    let it = people["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|it| it["sign_in_name"] == *name)
        .unwrap()
        .clone();
    let _ = session
        .patch(
            &format!("/api/v1/people/{}", it["id"].as_str().unwrap()),
            it["version"].as_i64().unwrap(),
            &json!({"state": state}),
        )
        .good();
}

/// The file as it is, changed by `edit`, under a name.
fn edited(client: &Client, name: &str, edit: impl Fn(String) -> String) -> String {
    let text = client.good(&["access", "export", "-"]);
    let path = client.folder.join(name);
    std::fs::write(&path, edit(text)).unwrap();
    path.to_str().unwrap().to_owned()
}

#[test]
fn access_is_written_compared_and_made_so_as_one() {
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
    let _ = ines.make("/api/v1/gates", &json!({"folder": ridge, "needs_reason": true, "longest_minutes": 60, "approver_groups": [leads]}));

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
            .contains("It is so already")
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
        told.contains("person pim joins")
            && told.contains("group Leads has `use`, gets `reveal`")
            && told.contains("person pim loses `list`"),
        "{told}"
    );
    assert!(
        told.contains("2 people gain something") && told.contains("Nothing was changed"),
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
        ("group.join", 3),
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
            .contains("It is so already")
    );
    let again = client.good(&["access", "export", "-"]);
    let path = edited(&client, "again.toml", |text| text);
    assert_eq!(std::fs::read_to_string(path).unwrap(), again);
}

#[test]
fn a_file_with_a_slip_in_it_changes_nothing_and_says_where() {
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
        "`owner` is no level",
    );
    bad(
        "nobody.toml",
        "person pim",
        "person ghost",
        "there is nobody with the sign-in name",
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
        "has ended before it begins",
    );
    bad(
        "gone.toml",
        &office,
        "00000000-0000-0000-0000-000000000000",
        "the folder of this identifier is gone",
    );
    // Renamed meanwhile: the file is refused, not a second folder made.
    let old = edited(&client, "old.toml", |text| {
        text.replace("level = \"steward\" },", "level = \"edit\" },")
    });
    let _ = client.good(&["folder", "rename", "/Pumping", "Pumps"]);
    let (code, words) = client.bad(&["access", "apply", &old]);
    assert!(
        code == 7 && words.contains("this folder is /Pumps now"),
        "{words}"
    );
    let _ = client.good(&["folder", "rename", "/Pumps", "Pumping"]);
    // Closing it would shut its own steward out, and the last steward stays.
    let _ = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumping, "name": "Inner"}),
    );
    let shut = edited(&client, "shut.toml", |text| {
        let at = text.find("[folder.\"/Pumping/Inner\"]").unwrap();
        let (head, rest) = text.split_at(at);
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
        let at = text.find("[folder.\"/Pumping\"]").unwrap();
        let (head, rest) = text.split_at(at);
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
fn of_two_files_made_so_at_once_the_second_sees_the_first() {
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
    let (one, two) = (give("pim"), give("marek"));
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
    let _ = client.good(&["access", "apply", &one]);
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
        let all: Vec<_> = [&one, &two, &one, &two]
            .into_iter()
            .map(|path| {
                scope.spawn(|| {
                    client
                        .run(&["access", "apply", path, "--yes"], "")
                        .status
                        .success()
                })
            })
            .collect();
        all.into_iter().all(|it| it.join().unwrap())
    });
    assert!(both);
    // Each file is whole: one of the two has its way, never half of each.
    let grants = client.good(&["grant", "list", "--folder", "/Office"]);
    assert!(
        grants.contains("pim of Osmere") != grants.contains("marek of Osmere"),
        "{grants}"
    );
}

#[test]
fn access_issues_are_fixed_without_a_look_inside() {
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
    let told = theirs.good(&["access-issue", "list"]);
    for (what, place) in [
        ("no-steward", "/Archive"),
        ("left", "/Office"),
        ("ended", "/Office"),
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
    assert!(code == 6 && words.contains("no access issue"), "{words}");
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
        "ended",
        "--all",
        "redundant",
    ]);
    assert!(told.contains("4 grants are taken away"), "{told}");
    let told = theirs.good(&["access-issue", "appoint", "--person", "ines", "--all"]);
    assert!(told.contains("1 folders have a steward again"), "{told}");
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
fn what_somebody_is_a_steward_of_changes_hands() {
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
        told.contains("1 person gains something, 1 person loses something")
            || told.contains("1 person gains something"),
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
            .contains("holds nothing here")
    );
    // The duty gives over to others, never to oneself; without it, only what is one's own or below one.
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
        let it = all["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|it| it["id"] == *id)
            .unwrap()
            .clone();
        (
            it["own_grants"].as_bool().unwrap(),
            it["shared"].as_bool().unwrap(),
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
        let one = ines.get(&format!("/api/v1/folders/{id}")).good();
        assert_eq!(
            (
                one["own_grants"].as_bool().unwrap(),
                one["shared"].as_bool().unwrap()
            ),
            expected,
            "{id}"
        );
    }
    // A closed folder keeps what is above out.
    let version = ines.get(&format!("/api/v1/folders/{inner}")).good()["version"]
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
            version,
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

#[test]
fn what_the_organisation_lets_people_do_is_switched() {
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
        code == 4 && words.contains("does not let stewards grant"),
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
fn the_names_of_what_one_cannot_open_are_seen_and_asked_for_where_the_organisation_says_so() {
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

#[tokio::test(flavor = "multi_thread")]
async fn access_is_put_in_order_handed_over_and_made_so_by_a_file_in_the_console() {
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
        .find(|it| it["subject"] == *me)
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
    page.press("Choose all grants of no use").await;
    page.press("Remove 1 grant …").await;
    page.press("Remove them").await;
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
    page.sees("person marek has `steward`, gets `use`").await;
    page.sees("1 person loses something").await;
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
    page.find("//select[@name='to']/option[contains(., 'marek')]")
        .await
        .click()
        .await
        .unwrap();
    page.press("Transfer stewardship …").await;
    page.sees("1 person gains something, 1 person loses something")
        .await;
    page.find("//button[normalize-space()='Transfer stewardship']")
        .await
        .click()
        .await
        .unwrap();
    page.sees("Stewardship transferred: /Office").await;
    assert!(
        service
            .client("marek")
            .good(&["explain", "marek", "/Office/Franking"])
            .contains("holds `steward`")
    );
    page.0.close().await.unwrap();
}
