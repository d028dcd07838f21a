//! Folders, credentials, reveals, grants, through the network interface and the client.

use jexlin_acceptance::Service;
use serde_json::{Value, json};

fn items(value: &Value) -> &Vec<Value> {
    value["items"].as_array().unwrap()
}

#[test]
fn an_engineer_reveals_what_is_shared_after_the_event_is_recorded() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let pumping = ines.folder("Pumping");
    let credential = ines.login(&pumping, "Ridge pump", "Winter-tide-41");
    let marek = ines.person("marek", &[]);
    let session = service.sign_in("marek");
    session.reveal(&credential).refused(404, "unknown");
    let group = ines.make("/api/v1/groups", &json!({"name": "Duty engineers"}));
    let _ = ines
        .put(&format!("/api/v1/groups/{group}/members/{marek}"))
        .good();
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumping, "group": group, "level": "use"}),
    );
    session.reveal(&credential).refused(403, "not-allowed");
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"credential": credential, "person": marek, "level": "reveal"}),
    );
    assert_eq!(session.reveal(&credential).text("value"), "Winter-tide-41");
    let events = ines.events("credential.reveal");
    let outcomes: Vec<_> = events
        .iter()
        .map(|event| {
            (
                event["actor_name"].as_str().unwrap(),
                event["outcome"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(
        outcomes,
        [
            ("marek of Osmere", "done"),
            ("marek of Osmere", "refused"),
            ("marek of Osmere", "refused")
        ]
    );
    assert!(
        events
            .iter()
            .all(|event| event["target_name"] == "/Pumping/Ridge pump"),
        "the log names what was refused, though the answer did not"
    );
}

#[test]
fn no_plaintext_leaves_when_its_event_cannot_be_written() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let credential = ines.login(&ines.folder("Office"), "Portal", "Winter-tide-41");
    service.sql("CREATE FUNCTION broken() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'No space left on device'; END $$; CREATE TRIGGER broken BEFORE INSERT ON audit_event FOR EACH ROW EXECUTE FUNCTION broken()");
    let answer = ines.reveal(&credential);
    answer.refused(503, "database-away");
    assert!(!answer.body.to_string().contains("Winter"));
    let folder = ines.post("/api/v1/folders", &json!({"name": "Never"}));
    folder.refused(503, "database-away");
    service.sql("DROP TRIGGER broken ON audit_event");
    assert_eq!(
        service.sql("SELECT count(*) FROM folder WHERE name = 'Never'"),
        "0",
        "an action without its event did not happen"
    );
    assert_eq!(ines.reveal(&credential).text("value"), "Winter-tide-41");
}

#[test]
fn a_ciphertext_moved_to_another_row_field_or_version_is_refused() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let office = ines.folder("Office");
    let entry = ines.login(&office, "One", "Winter-tide-41");
    let two = ines.login(&office, "Two", "Summer-tide-42");
    service.sql("ALTER TABLE secret_version DISABLE TRIGGER secret_version_kept");
    service.sql(&format!("UPDATE secret_version SET sealed = (SELECT sealed FROM secret_version WHERE credential_id = '{entry}') WHERE credential_id = '{two}'"));
    ines.reveal(&two).refused(500, "internal");
    service.sql(&format!(
        "SET session_replication_role = replica; UPDATE credential SET data_key = (SELECT data_key FROM credential WHERE id = '{entry}') WHERE id = '{two}'"
    ));
    ines.reveal(&two).refused(500, "internal");
    service.sql(&format!(
        "UPDATE secret_version SET number = 7 WHERE credential_id = '{entry}'"
    ));
    ines.reveal(&entry).refused(500, "internal");
    service.sql(&format!(
        "UPDATE secret_version SET number = 1, field = 'note' WHERE credential_id = '{entry}'"
    ));
    ines.post(
        &format!("/api/v1/credentials/{entry}/reveal"),
        &json!({"field": "note"}),
    )
    .refused(500, "internal");
    service.sql(&format!(
        "UPDATE secret_version SET field = 'password' WHERE credential_id = '{entry}'"
    ));
    assert_eq!(ines.reveal(&entry).text("value"), "Winter-tide-41");
    assert!(!service.log().contains("tide"));
}

#[test]
fn nothing_secret_is_in_the_database_the_log_or_a_list() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let credential = ines.login(&ines.folder("Office"), "Portal", "Winter-tide-41");
    let _ = ines.reveal(&credential).good();
    let tables = service.sql("SELECT string_agg(relname, ' ') FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace");
    for table in tables.split(' ') {
        assert_eq!(
            service.sql(&format!(
                "SELECT count(*) FROM {table} t WHERE t::text LIKE '%Winter-tide%'"
            )),
            "0",
            "{table}"
        );
    }
    for path in [
        "/api/v1/credentials",
        "/api/v1/audit",
        &format!("/api/v1/credentials/{credential}"),
        &format!("/api/v1/credentials/{credential}/history"),
    ] {
        assert!(
            !ines.get(path).good().to_string().contains("Winter-tide"),
            "{path}"
        );
    }
    assert!(!service.log().contains("Winter-tide"));
}

#[test]
fn two_people_who_edit_one_credential_lose_nothing() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let credential = ines.login(&ines.folder("Office"), "Portal", "First-value-1");
    let path = format!("/api/v1/credentials/{credential}");
    let _ = ines
        .patch(
            &path,
            1,
            &json!({"fields": {"url": "https://one.example/"}}),
        )
        .good();
    ines.patch(
        &path,
        1,
        &json!({"fields": {"url": "https://two.example/"}, "password": "Lost-value-9"}),
    )
    .refused(412, "changed-meanwhile");
    assert_eq!(
        ines.get(&path).good()["fields"]["url"],
        "https://one.example/"
    );
    assert_eq!(ines.reveal(&credential).text("value"), "First-value-1");
    let missing = service.call(
        "PATCH",
        &path,
        Some(&ines.token),
        Some(&json!({"name": "x"})),
        None,
    );
    missing.refused(428, "needs-if-match");
}

#[test]
fn two_moves_at_once_do_not_make_a_ring() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (entry, two) = (ines.folder("One"), ines.folder("Two"));
    std::thread::scope(|scope| {
        for (which, under) in [(&entry, &two), (&two, &entry)] {
            let ines = &ines;
            scope.spawn(move || {
                ines.patch(
                    &format!("/api/v1/folders/{which}"),
                    1,
                    &json!({"parent": under}),
                )
            });
        }
    });
    let folders = ines.get("/api/v1/folders").good();
    assert_eq!(items(&folders).len(), 2);
    assert_eq!(
        items(&folders)
            .iter()
            .filter(|folder| folder["parent"].is_null())
            .count(),
        1
    );
}

#[test]
fn explain_names_the_grants() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let credential = ines.login(&folder, "Ridge", "Winter-tide-41");
    let marek = ines.person("marek", &[]);
    let inner = ines.make("/api/v1/groups", &json!({"name": "Duty engineers"}));
    let outer = ines.make("/api/v1/groups", &json!({"name": "Operations"}));
    let _ = ines
        .put(&format!("/api/v1/groups/{inner}/members/{marek}"))
        .good();
    let _ = ines
        .put(&format!("/api/v1/groups/{outer}/members/{inner}"))
        .good();
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "group": outer, "level": "reveal"}),
    );
    let explained = ines
        .get(&format!(
            "/api/v1/explain?person={marek}&credential={credential}"
        ))
        .good();
    assert_eq!(
        explained["sentence"],
        "marek of Osmere holds `reveal` by a grant on /Pumping through Duty engineers, in Operations."
    );
    let client = service.client("ines");
    assert!(
        client
            .good(&["explain", "marek", "/Pumping/Ridge"])
            .contains("through Duty engineers, in Operations")
    );
}

#[test]
fn the_client_does_everything_with_clear_messages_and_exit_codes() {
    let service = Service::ready();
    let client = service.client("ines");
    assert_eq!(client.session_mode(), 0o600);
    let _ = client.good(&["folder", "add", "/Office"]);
    client.good_with(
        &[
            "credential",
            "add",
            "/Office/Portal",
            "--user",
            "office@osmere.example",
            "--url",
            "https://orders.example/",
            "--password-file",
            "-",
        ],
        "Winter-tide-41\n",
    );
    assert_eq!(
        client.good(&["reveal", "/Office/Portal", "--pipe"]),
        "Winter-tide-41"
    );
    let listed = client.good(&["credential", "list", "/Office"]);
    assert!(
        listed.contains("Portal")
            && listed.contains("office@osmere.example")
            && !listed.contains("Winter"),
        "{listed}"
    );
    let csv = client.good(&["--output", "csv", "find", "orders"]);
    assert_eq!(
        csv.lines().next(),
        Some("name,folder,user,device,check,gate,level,own grants,shared,tags,findings")
    );
    let json: Value =
        serde_json::from_str(&client.good(&["-o", "json", "credential", "show", "/Office/Portal"]))
            .unwrap();
    assert_eq!(json["level"], "steward");
    let (code, words) = client.bad(&["reveal", "/Office/Nothing", "--pipe"]);
    assert_eq!((code, words.lines().count()), (5, 2), "{words}");
    let (code, _) = client.bad(&[
        "credential",
        "edit",
        "/Office/Portal",
        "--name",
        "Portal two",
        "--if-revision",
        "9",
    ]);
    assert_eq!(code, 6);
    let (code, words) = client.bad(&[
        "credential",
        "edit",
        "/Office/Portal",
        "--url",
        "javascript:alert(1)",
    ]);
    assert_eq!(code, 7, "{words}");
    let (code, _) = client.bad(&["--service", "http://127.0.0.1:9", "me"]);
    assert_eq!(code, 8);
    let _ = client.good(&["sign-out"]);
    assert_eq!(client.bad(&["me"]).0, 3);
    assert!(client.good(&["completions", "bash"]).contains("jexlin"));
    assert!(client.good(&["generate", "--help"]).contains("policy"));
}

#[test]
fn lists_come_in_pages_and_a_foreign_cursor_is_refused() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Office");
    for n in 0..7 {
        let _ = ines.login(&folder, &format!("Portal {n}"), "Winter-tide-41");
    }
    let mut seen = vec![];
    let mut cursor = String::new();
    loop {
        let page = ines
            .get(&format!("/api/v1/credentials?limit=3&cursor={cursor}"))
            .good();
        seen.extend(
            items(&page)
                .iter()
                .map(|item| item["name"].as_str().unwrap().to_owned()),
        );
        match page["next"].as_str() {
            Some(next) => cursor = next.to_owned(),
            None => break,
        }
    }
    assert_eq!(
        seen,
        (0..7).map(|n| format!("Portal {n}")).collect::<Vec<_>>()
    );
    ines.get("/api/v1/credentials?cursor=nonsense")
        .refused(400, "malformed");
}

#[test]
fn bad_input_gets_a_clear_answer_and_changes_nothing() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Office");
    for name in [
        String::new(),
        " ".into(),
        "x".repeat(10_000),
        "bell\u{7}".into(),
        "a/b".into(),
        "..".into(),
        "gpj\u{202e}exe".into(),
    ] {
        ines.post("/api/v1/folders", &json!({"name": name}))
            .refused(422, "bad-input");
        ines.post(
            "/api/v1/credentials",
            &json!({"folder": folder, "kind": "login", "name": name, "password": "x"}),
        )
        .refused(422, "bad-input");
    }
    let raw = |bytes: &[u8]| {
        service
            .raw(
                "POST",
                "/api/v1/folders",
                Some(&ines.token),
                Some(bytes.to_vec()),
                None,
            )
            .unwrap()
    };
    raw(b"{\"name\": \"\xff\xfe\"}").refused(400, "malformed");
    raw(b"{\"name\": ").refused(400, "malformed");
    raw(b"{\"name\": \"nul\\u0000\"}").refused(422, "bad-input");
    let large = raw(&vec![b' '; 9_000_000]);
    large.refused(400, "malformed");
    assert!(
        large.text("detail").contains("longer than"),
        "the sender of a large body hears why: {}",
        large.body
    );
    ines.post(
        "/api/v1/credentials",
        &json!({"folder": folder, "kind": "no-such-kind", "name": "x"}),
    )
    .refused(422, "bad-input");
    ines.post(
        "/api/v1/credentials",
        &json!({"folder": "not-an-id", "kind": "login", "name": "x"}),
    )
    .refused(400, "malformed");
    let long = "p".repeat(70_000);
    ines.post(
        "/api/v1/credentials",
        &json!({"folder": folder, "kind": "login", "name": "x", "password": long}),
    )
    .refused(422, "bad-input");
    let (code, _) = (ines.get("/api/v1/nowhere").code(), ());
    assert_eq!(code, "no-such-address");
    assert_eq!(service.sql("SELECT count(*) FROM folder"), "1");
    assert_eq!(service.sql("SELECT count(*) FROM credential"), "0");
}

#[test]
fn the_interface_is_the_one_that_was_agreed() {
    let golden = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden/openapi.json");
    let made = std::process::Command::new(jexlin_acceptance::program("jexlind"))
        .arg("openapi")
        .output()
        .unwrap()
        .stdout;
    if std::env::var_os("JEXLIN_WRITE_GOLDEN").is_some() {
        std::fs::create_dir_all(golden.parent().unwrap()).unwrap();
        std::fs::write(&golden, &made).unwrap();
    }
    let agreed = std::fs::read(&golden).unwrap();
    assert!(
        agreed == made,
        "the OpenAPI document has changed; if it was meant to, run with JEXLIN_WRITE_GOLDEN=1"
    );
}
