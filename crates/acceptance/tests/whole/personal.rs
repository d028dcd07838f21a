//! Personal folders: nobody but their owner, and nothing without the passphrase.

use jexlin_acceptance::{Service, Session, cluster};
use serde_json::{Value, json};

const PHRASE: &str = "tide tables by heart";

fn opened(session: &Session<'_>) {
    let _ = session
        .post("/api/v1/personal", &json!({"passphrase": PHRASE}))
        .good();
}

fn things(session: &Session<'_>) -> Vec<Value> {
    session.get("/api/v1/personal/items").good()["items"]
        .as_array()
        .unwrap()
        .clone()
}

#[test]
fn only_the_owner_opens_a_personal_folder_and_the_database_reveals_nothing() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.person("marek", &[]);
    let marek = service.sign_in("marek");
    marek
        .get("/api/v1/personal/items")
        .refused(409, "personal-closed");
    marek
        .post("/api/v1/personal/open", &json!({"passphrase": PHRASE}))
        .refused(409, "no-personal-folder");
    marek
        .post("/api/v1/personal", &json!({"passphrase": "short"}))
        .refused(422, "bad-input");
    opened(&marek);
    let made = marek
        .post(
            "/api/v1/personal/items",
            &json!({"name": "Canteen card", "user_name": "marek", "password": "Winter-tide-41"}),
        )
        .good();
    let thing = format!("/api/v1/personal/items/{}", made["id"].as_str().unwrap());
    // The administrator has one of her own and no way into his.
    opened(&ines);
    assert!(things(&ines).is_empty());
    ines.post(&format!("{thing}/reveal"), &json!({}))
        .refused(404, "unknown");
    ines.delete(&thing, Some(1)).refused(404, "unknown");
    // Another session of his is closed until he opens it; a wrong passphrase does not.
    let again = service.sign_in("marek");
    again
        .get("/api/v1/personal/items")
        .refused(409, "personal-closed");
    again
        .post(
            "/api/v1/personal/open",
            &json!({"passphrase": "tide tables by head"}),
        )
        .refused(403, "not-allowed");
    let _ = again
        .post("/api/v1/personal/open", &json!({"passphrase": PHRASE}))
        .good();
    assert_eq!(
        again
            .post(&format!("{thing}/reveal"), &json!({}))
            .text("value"),
        "Winter-tide-41"
    );
    let _ = again.post("/api/v1/personal/lock", &json!({})).good();
    again
        .get("/api/v1/personal/items")
        .refused(409, "personal-closed");
    let everything = service
        .sql("SELECT string_agg(encode(sealed, 'escape'), ' ') FROM personal_item")
        + &service.sql("SELECT string_agg(detail::text || target_name, ' ') FROM audit_event")
        + &service.log();
    for word in ["Canteen", "Winter-tide", PHRASE] {
        assert!(!everything.contains(word), "{word}");
    }
    assert!(ines.events("personal.reveal").iter().any(|event| event["actor_name"] == "marek of Osmere" && event["target"] == Value::Null));
    assert!(
        ines.get("/api/v1/credentials?find=canteen").good()["items"]
            .as_array()
            .unwrap()
            .is_empty()
    );
}

#[test]
fn guessing_the_passphrase_is_slowed_down() {
    // The clock stands still: no wait ends while the test goes on.
    let service = Service::on(cluster(), &[("JEXLIN_CLOCK_STOPPED", "1")]);
    service.set_up();
    let ines = service.sign_in("ines");
    opened(&ines);
    let wrong = json!({"passphrase": "tide tables by head"});
    let answers: Vec<u16> = (0..12)
        .map(|_| ines.post("/api/v1/personal/open", &wrong).status)
        .collect();
    assert!(
        answers.starts_with(&[403, 403]) && answers.ends_with(&[429, 429]),
        "{answers:?}"
    );
    // Signing in is another door.
    let _ = service.sign_in("ines");
}

#[test]
fn a_restart_locks_a_personal_folder_and_a_new_passphrase_keeps_its_items() {
    let mut service = Service::ready();
    let client = service.client("ines");
    let _ = client.good_with(&["personal", "create", "--passphrase-file", "-"], PHRASE);
    let _ = client.good_with(
        &[
            "personal",
            "add",
            "Canteen card",
            "--user",
            "ines",
            "--password-file",
            "-",
        ],
        "Winter-tide-41",
    );
    let generated = client.good(&["personal", "add", "Locker"]);
    assert!(generated.contains("Locker"), "{generated}");
    std::fs::write(client.folder.join("present"), PHRASE).unwrap();
    std::fs::write(client.folder.join("guess"), "tide tables by head").unwrap();
    assert_eq!(
        client
            .bad(&[
                "personal",
                "passphrase",
                "--passphrase-file",
                "guess",
                "--new-passphrase-file",
                "present"
            ])
            .0,
        4,
        "it takes the present one"
    );
    let _ = client.good_with(
        &[
            "personal",
            "passphrase",
            "--passphrase-file",
            "present",
            "--new-passphrase-file",
            "-",
        ],
        "another long phrase",
    );
    service.kill();
    service.start(&[]);
    service.unlock();
    let client = service.client("ines");
    assert_eq!(client.bad(&["personal", "list"]).0, 6);
    std::fs::write(client.folder.join("old"), PHRASE).unwrap();
    assert_eq!(
        client
            .bad(&["personal", "open", "--passphrase-file", "old"])
            .0,
        4
    );
    let _ = client.good_with(
        &["personal", "open", "--passphrase-file", "-"],
        "another long phrase",
    );
    assert_eq!(
        client.good(&["personal", "reveal", "Canteen card", "--pipe"]),
        "Winter-tide-41"
    );
    let _ = client.good(&["personal", "edit", "Locker", "--name", "Locker 7"]);
    assert_eq!(
        client
            .good(&["personal", "list", "--output", "csv"])
            .lines()
            .count(),
        3
    );
    let _ = client.good(&["personal", "remove", "Locker 7"]);
    assert_eq!(
        client
            .good(&["personal", "list", "--output", "csv"])
            .lines()
            .count(),
        2
    );
}

#[test]
fn moving_in_names_who_loses_access_and_moving_out_works_when_not_allowed() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let folder = ines.folder("Office");
    let id = ines.login(&folder, "Portal", "Winter-tide-41");
    let marek = ines.person("marek", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": marek, "level": "reveal"}),
    );
    let _ = client.good_with(&["personal", "create", "--passphrase-file", "-"], PHRASE);
    let (code, words) = client.bad(&["personal", "move-in", "/Office/Portal"]);
    assert!(code == 6 && words.contains("marek of Osmere"), "{words}");
    let _ = client.good(&[
        "personal",
        "move-in",
        "/Office/Portal",
        "--others-lose-access",
    ]);
    service
        .sign_in("marek")
        .get(&format!("/api/v1/credentials/{id}"))
        .refused(404, "unknown");
    assert_eq!(
        client.good(&["personal", "reveal", "Portal", "--pipe"]),
        "Winter-tide-41"
    );
    let _ = client.good(&["settings", "edit", "personal_folders=false"]);
    assert_eq!(client.bad(&["personal", "add", "Locker"]).0, 4);
    assert_eq!(
        client
            .bad(&["personal", "move-out", "Portal", "/Nowhere"])
            .0,
        5
    );
    let _ = client.good(&["personal", "move-out", "Portal", "/Office"]);
    assert_eq!(client.good(&["personal", "list"]), "");
    assert_eq!(
        client.good(&["reveal", "/Office/Portal", "--pipe"]),
        "Winter-tide-41"
    );
    let moved: Vec<_> = ines
        .events("personal.move-in")
        .iter()
        .map(|event| event["outcome"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(moved, ["done", "refused"]);
}
