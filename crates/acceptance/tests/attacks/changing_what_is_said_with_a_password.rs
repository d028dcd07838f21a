//! A dialogue says what is typed with a password: whoever may write one, or choose one for a device,
//! wants to have the password typed where they can read it.

use jexlin_acceptance::Session;
use jexlin_standins::command_line::{CommandLine, KEEPER, Model};
use serde_json::{Value, json};

use super::{grant, job, revision, strict};

const DIALOGUE: &str = include_str!("../../../../demo/dialogues/ridge-switch.toml");

/// The same, but the new password becomes part of a command that the switch shows to everybody.
fn telling() -> String {
    DIALOGUE
        .replace(
            "say = \"user {account} password\"",
            "say = \"banner {operator_password}\"\nshown_because = \"it is pretty\"",
        )
        .replace(
            "title = \"Ridge switches\"",
            "title = \"Ridge switches, faster\"",
        )
}

fn add(session: &Session<'_>, text: &str) -> String {
    session
        .post(
            "/api/v1/dialogues",
            &json!({"name": "ridge-switch", "text": text}),
        )
        .good()["id"]
        .as_str()
        .unwrap()
        .to_owned()
}

fn confirmed(ines: &Session<'_>, device: &str) {
    let path = format!("/api/v1/devices/{device}");
    let shown = ines
        .post(&format!("{path}/read-identity"), &json!({}))
        .good();
    let line = shown["items"][0]["line"].clone();
    let _ = ines
        .patch(&path, revision(ines, &path), &json!({"identity": [line]}))
        .good();
    let _ = ines
        .call(
            "POST",
            &format!("{path}/confirm-bindings"),
            None,
            Some(revision(ines, &path)),
        )
        .good();
}

#[test]
fn neither_its_author_nor_the_devices_steward_decides_alone() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let switch = CommandLine::temporary(
        Model::Switch,
        &[(KEEPER, "Keeper-2019-a"), ("duty", "Duty-2019-a")],
    )
    .unwrap();
    let (works, vault) = (ines.folder("Works"), ines.folder("Operators"));
    let good = add(&ines, DIALOGUE);
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": works, "name": "switch", "connector": "command-line", "dialogue": good, "address": "127.0.0.1", "port": switch.port()}),
    );
    let account = |folder: &str, user: &str, password: &str| {
        ines.make(
            "/api/v1/credentials",
            &json!({"folder": folder, "kind": "device-admin", "name": user, "fields": {"user_name": user}, "password": password, "device": device}),
        )
    };
    let keeper = account(&vault, KEEPER, "Keeper-2019-a");
    let duty = account(&works, "duty", "Duty-2019-a");
    super::make_operator(&ines, &device, &keeper);
    confirmed(&ines, &device);
    assert_eq!(job(&ines, &duty, "check")["outcome"], "in-sync");

    // The author of dialogues adds one: no device talks by it.
    let _ = ines.person("olga", &["policy"]);
    let bad = add(&service.sign_in("olga"), &telling());
    let told = |what: &str| switch.told().iter().filter(|told| *told == what).count();
    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "done");
    let path = format!("/api/v1/devices/{device}");
    let olga = service.sign_in("olga");
    olga.get(&path).refused(404, "unknown");

    // An editor of the folder chooses none.
    let eva = ines.person("eva", &[]);
    grant(&ines, "folder", &works, &eva, "edit");
    let eva = service.sign_in("eva");
    eva.patch(&path, revision(&eva, &path), &json!({"dialogue": bad}))
        .refused(403, "not-allowed");
    eva.post(
        "/api/v1/devices",
        &json!({"folder": works, "name": "other", "connector": "command-line", "dialogue": bad, "address": "127.0.0.1"}),
    )
    .refused(403, "not-allowed");

    // A steward of the device's folder, who cannot see the operator's password, does, and confirms
    // what they can: the operator stays suspended, and nothing is sent with it.
    let petra = ines.person("petra", &[]);
    grant(&ines, "folder", &works, &petra, "steward");
    let petra = service.sign_in("petra");
    let _ = petra
        .patch(&path, revision(&petra, &path), &json!({"dialogue": bad}))
        .good();
    let done = petra
        .call(
            "POST",
            &format!("{path}/confirm-bindings"),
            None,
            Some(revision(&petra, &path)),
        )
        .good();
    assert_eq!(done["left"], 2, "its own account, and the operator: {done}");
    let before = told("Keeper-2019-a");
    let stopped = job(&petra, &duty, "rotate");
    assert_eq!(stopped["outcome"], "unreachable", "{stopped}");
    assert_eq!(
        told("Keeper-2019-a"),
        before,
        "the operator's password stays"
    );
    let operator = |shown: &Value| {
        let all = shown["bindings"].as_array().unwrap().clone();
        all.into_iter()
            .find(|binding| binding["role"] == "operator")
            .unwrap()
    };
    let shown = operator(&ines.get(&path).good());
    assert!(
        shown["suspended"]
            .as_str()
            .unwrap()
            .contains("dialogue has changed"),
        "{shown}"
    );
    // Back to the one that was confirmed, everything counts again.
    let _ = petra
        .patch(&path, revision(&petra, &path), &json!({"dialogue": good}))
        .good();
    assert_eq!(operator(&ines.get(&path).good())["suspended"], "");
}

#[test]
fn a_version_that_devices_use_cannot_be_changed_behind_them() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let id = add(&ines, DIALOGUE);
    let before = ines.get(&format!("/api/v1/dialogues/{id}")).text("text");
    for (method, path) in [
        ("PUT", format!("/api/v1/dialogues/{id}")),
        ("PATCH", format!("/api/v1/dialogues/{id}")),
        ("DELETE", format!("/api/v1/dialogues/{id}")),
    ] {
        let answer = ines.call(method, &path, Some(&json!({"text": telling()})), Some(1));
        assert!(
            matches!(answer.status, 404 | 405),
            "{method}: {}",
            answer.status
        );
    }
    let _ = add(&ines, &telling());
    assert_eq!(
        ines.get(&format!("/api/v1/dialogues/{id}")).text("text"),
        before
    );
    // Nor by the service's own role in the database.
    for sql in [
        "SET ROLE jexlin_service; UPDATE dialogue SET text = ''",
        "SET ROLE jexlin_service; DELETE FROM dialogue",
    ] {
        let refused = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| service.sql(sql)));
        assert!(refused.is_err(), "{sql}");
    }
}
