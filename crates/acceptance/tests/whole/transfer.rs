//! Importing what exists and exporting what one may see, through the real client.

use jexlin_acceptance::{Client, Service};
use serde_json::{Value, json};

fn file(client: &Client, name: &str, text: &str) -> String {
    let path = client.folder.join(name);
    std::fs::write(&path, text).unwrap();
    path.to_str().unwrap().to_owned()
}

const LOGINS: &str = "Title,User,Password,Website,Folder,Labels\nRidge duty,marek,Winter-tide-41,ridge.example,Pumps/North ridge,night\nFranking,,\"=Winter,\"\"42\",,,\n,petra,Winter-tide-43,https://portal.example/in,Pumps,\n";

#[test]
fn a_file_is_previewed_imported_and_the_import_undone() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let _ = ines.folder("Office");
    let path = file(&client, "logins.csv", LOGINS);
    let told = client.good(&["import", "file", &path, "--into", "/Office", "--preview"]);
    assert!(
        told.contains("3 added")
            && told.contains("2 folders added")
            && told.contains("Title → name")
            && told.contains("Nothing was changed"),
        "{told}"
    );
    assert_eq!(client.good(&["credential", "list"]), "");
    // What would not be taken as it stands is listed, and takes a yes.
    let output = client.run(&["import", "file", &path, "--into", "/Office"], "");
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(
        output.status.code() == Some(7)
            && told.contains("`https://` is put before an address without a scheme")
            && told.contains("there is no name")
            && told.contains("not everything would be taken as it stands"),
        "{told}"
    );
    assert_eq!(client.good(&["credential", "list"]), "");
    let told = client.good(&[
        "import",
        "file",
        &path,
        "--into",
        "/Office",
        "--accept-changes",
    ]);
    assert!(
        told.contains("3 added") && told.contains("delete the file") && !told.contains("Winter"),
        "{told}"
    );
    assert_eq!(
        client.good(&["reveal", "/Office/Franking", "--pipe"]),
        "=Winter,\"42"
    );
    assert_eq!(
        client.good(&["reveal", "/Office/Pumps/North ridge/Ridge duty", "--pipe"]),
        "Winter-tide-41"
    );
    let shown = client.good(&["credential", "show", "/Office/Pumps/portal.example"]);
    assert!(
        shown.contains("petra") && shown.contains("https://portal.example/in"),
        "{shown}"
    );
    // Each is in the log with the import that it came by, and in its history.
    let events: Vec<Value> = ines.events("credential.add");
    let import = ines.get("/api/v1/imports").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    assert_eq!(
        events
            .iter()
            .filter(|event| event["detail"]["import"] == *import)
            .count(),
        3
    );
    assert!(
        client
            .good(&["credential", "history", "/Office/Franking"])
            .contains("imported")
    );
    // Again: nothing is there twice.
    let output = client.run(&["import", "file", &path, "--into", "/Office"], "");
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(
        told.contains("There was nothing to do") && told.contains("3 left unchanged"),
        "{told}"
    );
    // A change of what is there, taken back as one.
    let newer = file(
        &client,
        "newer.csv",
        "Title,Password,Notes\nFranking,Winter-tide-52,from the new site\nNew one,Winter-tide-53,\n",
    );
    let told = client.good(&[
        "import", "file", &newer, "--into", "/Office", "--match", "update",
    ]);
    assert!(told.contains("1 added, 1 updated"), "{told}");
    assert_eq!(
        client.good(&["reveal", "/Office/Franking", "--pipe"]),
        "Winter-tide-52"
    );
    let import = ines.get("/api/v1/imports").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let told = client.good(&["import", "undo", &import]);
    assert!(
        told.contains(
            "Moved to the bin: 1 credential, 0 devices and 0 empty folders. Restored: 1."
        ),
        "{told}"
    );
    assert_eq!(
        client.good(&["reveal", "/Office/Franking", "--pipe"]),
        "=Winter,\"42"
    );
    assert_eq!(client.bad(&["reveal", "/Office/New one", "--pipe"]).0, 5);
    assert_eq!(client.bad(&["import", "undo", &import]).0, 6);
    // From the bin it comes back as one, too.
    assert!(
        client
            .good(&["bin", "list"])
            .contains("import of newer.csv")
    );
    let removal = ines.get("/api/v1/bin").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let _ = client.good(&["bin", "restore", &removal]);
    assert_eq!(
        client.good(&["reveal", "/Office/New one", "--pipe"]),
        "Winter-tide-53"
    );
    // The first import, with the folders that it added: one stays, since something else is in it.
    let imports = ines.get("/api/v1/imports").good();
    let first = imports["items"].as_array().unwrap().last().unwrap()["id"].clone();
    let _ = client.good(&["credential", "add", "/Office/Pumps/other"]);
    let told = client.good(&["import", "undo", first.as_str().unwrap()]);
    assert!(
        told.contains("3 credentials, 0 devices and 1 empty folder"),
        "{told}"
    );
    let folders = client.good(&["folder", "list"]);
    assert!(
        folders.contains("Pumps") && !folders.contains("North ridge"),
        "{folders}"
    );
    let removal = ines.get("/api/v1/bin").good()["items"][0]["id"].clone();
    let _ = client.good(&["bin", "restore", removal.as_str().unwrap()]);
    let duty = "/Office/Pumps/North ridge/Ridge duty";
    assert_eq!(client.good(&["reveal", duty, "--pipe"]), "Winter-tide-41");
}

#[test]
fn problems_are_reported_by_row_and_nothing_is_half_imported() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let office = ines.folder("Office");
    let _ = ines.login(&office, "There", "Winter-tide-40");
    let bad = file(
        &client,
        "bad.csv",
        "name,password,url\ngood,Winter-tide-41,\n,,\nbad,Winter-tide-42,javascript://x\ngood,Winter-tide-43,\nempty,,\nthere,Winter-tide-44,\n",
    );
    let (code, _) = client.bad(&["import", "file", &bad, "--into", "/Office"]);
    assert_eq!(code, 7);
    let output = client.run(&["import", "file", &bad, "--into", "/Office"], "");
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(
        ["4 ", "5 ", "6 "].iter().all(|line| told.contains(line))
            && told.contains("already has this name")
            && told.contains("there is no"),
        "{told}"
    );
    assert_eq!(
        ines.get("/api/v1/credentials").good()["items"]
            .as_array()
            .unwrap()
            .len(),
        1
    );
    let rest = client.folder.join("rest.csv");
    let told = client.good(&[
        "import",
        "file",
        &bad,
        "--into",
        "/Office",
        "--only-good",
        rest.to_str().unwrap(),
    ]);
    assert!(
        told.contains("1 added")
            && told.contains("1 left unchanged")
            && told.contains("3 rows not imported"),
        "{told}"
    );
    let rest = std::fs::read_to_string(rest).unwrap();
    assert!(
        rest.lines().count() == 4 && !rest.contains("Winter"),
        "{rest}"
    );
    let told = client.good(&[
        "import",
        "file",
        &bad,
        "--into",
        "/Office",
        "--only-good",
        "--match",
        "duplicate",
    ]);
    assert!(told.contains("3 added"), "{told}");
    assert!(client.good(&["credential", "list"]).contains("good (2)"));
    // Rows that cannot be read spoil no other, and nothing of them is shown.
    let broken = file(
        &client,
        "broken.csv",
        "name,password\nnul\0,Winter-tide-45\nwide,Winter-tide-46,more\nopen,\"Winter-tide-47\nlast,Winter-tide-48\n",
    );
    let told = client.good(&[
        "import",
        "file",
        &broken,
        "--into",
        "/Office",
        "--only-good",
    ]);
    assert!(
        [
            "NUL character",
            "3 cells, but there are 2 columns",
            "never closed",
            "1 added, 3 rows not imported"
        ]
        .iter()
        .all(|words| told.contains(words))
            && !told.contains("Winter"),
        "{told}"
    );
    // Of two columns that look like one field, somebody has to say which it is.
    let twice = file(
        &client,
        "twice.csv",
        "name,password,secret\ntwo,Winter-tide-49,x\n",
    );
    let output = client.run(&["import", "file", &twice, "--into", "/Office"], "");
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(
        output.status.code() == Some(7)
            && told.contains("“password” and “secret” all look like `password`"),
        "{told}"
    );
    let columns = ["--map", "name,password,-"];
    let chosen = ["import", "file", twice.as_str(), "--into", "/Office"];
    let _ = client.good(&[&chosen[..], &columns[..]].concat());
    let doubled = ["--map", "name,password,password"];
    assert_eq!(client.bad(&[&chosen[..], &doubled[..]].concat()).0, 7);
    // A first row that may hold a password is not shown as headings; separator, encoding and the
    // row of the headings can be chosen.
    let headless = file(&client, "headless.csv", "mail,marek,Winter-tide-50\n");
    let told = client.good(&[
        "import",
        "file",
        &headless,
        "--into",
        "/Office",
        "--preview",
        "--only-good",
    ]);
    assert!(
        told.contains("column 3 → left out") && !told.contains("Winter"),
        "{told}"
    );
    let path = client.folder.join("odd.csv");
    std::fs::write(
        &path,
        b"Logins, as of May\nname;password\nM\xFChle;Winter-tide-51\n",
    )
    .unwrap();
    let told = client.good(&[
        "import",
        "file",
        path.to_str().unwrap(),
        "--into",
        "/Office",
        "--encoding",
        "windows-1252",
        "--separator",
        "semicolon",
        "--heading-row",
        "2",
        "--accept-changes",
    ]);
    assert!(
        told.contains("csv, windows-1252, separator semicolon, headings in line 2"),
        "{told}"
    );
    assert_eq!(
        client.good(&["reveal", "/Office/Mühle", "--pipe"]),
        "Winter-tide-51"
    );
    // Files that are none.
    for (name, text, why) in [
        ("wide.csv", "a,".repeat(5000).as_str(), "columns"),
        (
            "locked.csv",
            "age-encryption.org/v1\n",
            "encrypted with age",
        ),
        ("none.xlsx", "PK\u{3}\u{4}", "not a readable spreadsheet"),
        ("none.json", "{\"version\": {\"major\": 1}}", "accounts"),
    ] {
        let path = file(&client, name, text);
        let (code, words) = client.bad(&["import", "file", &path, "--into", "/Office"]);
        assert!(code == 7 && words.contains(why), "{name}: {words}");
    }
    let path = file(&client, "one.csv", "name,password\nx,Winter-tide-41\n");
    assert_eq!(
        client
            .bad(&[
                "import", "file", &path, "--into", "/Office", "--kind", "spoon"
            ])
            .0,
        7
    );
    assert_eq!(
        client
            .bad(&[
                "import", "file", &path, "--into", "/Office", "--map", "name"
            ])
            .0,
        7
    );
    assert_eq!(
        client
            .bad(&[
                "import", "file", &path, "--into", "/Office", "--match", "perhaps"
            ])
            .0,
        2
    );
    // Whoever may not change the folder brings nothing in.
    let pim = ines.person("pim", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": pim, "level": "reveal"}),
    );
    assert_eq!(
        service
            .client("pim")
            .bad(&["import", "file", &path, "--into", "/Office"])
            .0,
        4
    );
}

/// Has whatever inserts the nth row of a table stop there, before the row or at the commit.
fn stop_at(service: &Service, table: &str, row: usize, at_commit: bool) {
    let when = if at_commit {
        "CREATE CONSTRAINT TRIGGER stops AFTER"
    } else {
        "CREATE TRIGGER stops BEFORE"
    };
    let deferred = if at_commit {
        "DEFERRABLE INITIALLY DEFERRED"
    } else {
        ""
    };
    let _ = service.sql(&format!(
        "CREATE SEQUENCE IF NOT EXISTS stop_row; SELECT setval('stop_row', 1, false);
         CREATE OR REPLACE FUNCTION stop() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
         BEGIN
             IF nextval('stop_row') = {row} THEN PERFORM pg_sleep(3600); END IF;
             RETURN NEW;
         END $$;
         {when} INSERT ON {table} {deferred} FOR EACH ROW EXECUTE FUNCTION stop()"
    ));
}

#[test]
fn an_import_that_is_interrupted_at_any_row_leaves_nothing() {
    let mut service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let _ = ines.folder("Office");
    let mut text = String::from("name,user_name,password,folder\n");
    for n in 0..2500 {
        text += &format!("login {n},user {n},Winter-tide-{n},shelf {}\n", n % 40);
    }
    let path = file(&client, "many.csv", &text);
    let spots = [
        ("folder", 7, false),
        ("credential", 1, false),
        ("credential", 1000, false),
        ("credential", 1001, false),
        ("secret_version", 1700, false),
        ("assessment", 2500, false),
        ("audit_event", 1, false),
        ("audit_event", 2500, false),
        ("import", 1, false),
        ("import_row", 2499, false),
        // The event of the import itself, and the moment of the commit.
        ("audit_event", 2501, false),
        ("import", 1, true),
    ];
    for (number, (table, row, at_commit)) in spots.into_iter().enumerate() {
        let client = service.client("ines");
        stop_at(&service, table, row, at_commit);
        let mut importing = client.command(&jexlin_acceptance::program("jexlin"));
        let quiet = importing
            .args(["import", "file", &path, "--into", "/Office"])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null());
        let mut importing = quiet.spawn().unwrap();
        let stopped = "SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'PgSleep' AND datname = current_database()";
        jexlin_acceptance::until("the row where it stops", || {
            (service.sql(stopped).trim() == "1").then_some(())
        });
        // The service is killed, or loses the database.
        let killed = number % 2 == 0;
        if killed {
            service.kill();
        }
        let _ = service.sql("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE wait_event = 'PgSleep' AND datname = current_database()");
        assert!(!importing.wait().unwrap().success(), "{table} {row}");
        let _ = service.sql(&format!("DROP TRIGGER stops ON {table}"));
        if killed {
            service.start(&[]);
            service.unlock();
        }
        let left = "SELECT concat_ws(' ', (SELECT count(*) FROM credential), (SELECT count(*) FROM folder), (SELECT count(*) FROM import),
            (SELECT count(*) FROM import_row), (SELECT count(*) FROM audit_event WHERE action IN ('credential.add', 'import.run') AND outcome = 'done'))";
        assert_eq!(service.sql(left).trim(), "0 1 0 0 0", "{table} {row}");
    }
    let told = service
        .client("ines")
        .good(&["import", "file", &path, "--into", "/Office"]);
    assert!(
        told.contains("2500 added") && told.contains("40 folders added"),
        "{told}"
    );
    assert_eq!(
        service
            .sql("SELECT count(*) FROM audit_event WHERE action = 'credential.add'")
            .trim(),
        "2500"
    );
}

#[test]
fn credentials_of_several_kinds_are_exported_and_imported_unchanged() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let _ = ines.folder("Office");
    let path = file(
        &client,
        "mixed.csv",
        "name,kind,user,password,product,tags\nFranking,,marek,Winter-tide-41,,night\nPlans,Licence,,ABC-DEF-1,Drawing board,\nDepot radio,shared-key,,Winter-tide-42,,\nSpoon,spoon,,Winter-tide-43,,\n",
    );
    let told = client.run(
        &["import", "file", &path, "--into", "/Office", "--preview"],
        "",
    );
    let told = String::from_utf8_lossy(&told.stdout).into_owned();
    assert!(
        told.contains("kind → kind")
            && told.contains("\n5  ")
            && told.contains("there is no kind of this name"),
        "{told}"
    );
    let rest = client.folder.join("rest.csv");
    let _ = client.good(&[
        "import",
        "file",
        &path,
        "--into",
        "/Office",
        "--only-good",
        rest.to_str().unwrap(),
    ]);
    assert_eq!(
        std::fs::read_to_string(rest).unwrap(),
        "line,column,problem\n5,kind,there is no kind of this name\n"
    );
    let _ = client.good(&[
        "credential",
        "add",
        "/Office/weir key",
        "--kind",
        "ssh-key",
        "--user",
        "pump",
    ]);
    let key = client.good(&["reveal", "/Office/weir key", "--pipe"]);
    for format in ["exchange", "csv"] {
        let out = format!("all.{format}");
        let _ = client.good(&[
            "export",
            &out,
            "--as",
            format,
            "--plain",
            "--reason",
            "moving to the new site",
            "--folder",
            "/Office",
        ]);
        let text = std::fs::read_to_string(client.folder.join(&out)).unwrap();
        // A program that knows the format and not us finds a key as keys are written there.
        assert!(
            format == "csv" || (text.contains("\"ssh-key\"") && !text.contains("OPENSSH")),
            "{text}"
        );
        let _ = ines.folder(format);
        let told = client.good(&["import", "file", &out, "--into", &format!("/{format}")]);
        assert!(told.contains("4 added"), "{told}");
        let place = |name: &str| format!("/{format}/Office/{name}");
        for (name, kind) in [
            ("Franking", "login"),
            ("Plans", "licence"),
            ("Depot radio", "shared-key"),
            ("weir key", "ssh-key"),
        ] {
            assert!(
                client
                    .good(&["credential", "show", &place(name)])
                    .contains(kind),
                "{name}"
            );
        }
        assert!(
            client
                .good(&["credential", "show", &place("Plans")])
                .contains("Drawing board")
        );
        assert_eq!(
            client.good(&["reveal", &place("Depot radio"), "--pipe"]),
            "Winter-tide-42"
        );
        assert_eq!(
            client.good(&["reveal", &place("weir key"), "--pipe"]).len(),
            key.len()
        );
    }
    // Where the organisation has switched them off, nothing of a built-in kind comes in either.
    let _ = client.good(&[
        "kind",
        "add",
        "valve-code",
        "--label",
        "Valve code",
        "--field",
        "password=secret",
    ]);
    let _ = client.good(&["settings", "edit", "only_own_kinds=true"]);
    assert_eq!(
        client
            .bad(&["import", "file", &path, "--into", "/Office"])
            .0,
        7
    );
}

#[test]
fn an_export_is_encrypted_and_opens_with_its_key_only() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let (office, pumps) = (ines.folder("Office"), ines.folder("Pumping"));
    let _ = ines.login(&office, "Franking", "Winter-tide-41");
    let gated = ines.login(&pumps, "Ridge", "Winter-tide-42");
    let _ = ines.make(
        "/api/v1/gates",
        &json!({"credential": gated, "needs_reason": true, "max_minutes": 60}),
    );
    let pim = ines.person("pim", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": pim, "level": "reveal"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumps, "person": pim, "level": "use"}),
    );
    std::fs::write(client.folder.join("pass"), "tide tables by heart").unwrap();
    let out = client.folder.join("all.age");
    let told = client.good(&[
        "export",
        out.to_str().unwrap(),
        "--passphrase-file",
        client.folder.join("pass").to_str().unwrap(),
    ]);
    assert!(
        told.contains(": 1.") && told.contains("Left out, behind a gate: 1."),
        "{told}"
    );
    let sealed = std::fs::read(&out).unwrap();
    assert!(
        sealed.starts_with(b"age-encryption.org/v1")
            && !String::from_utf8_lossy(&sealed).contains("Winter")
    );
    // Each credential that goes out is in the log, and what does not is not.
    assert_eq!(ines.events("credential.export").len(), 1);
    // Whoever may only use takes nothing out of there.
    let theirs = service.client("pim");
    std::fs::write(theirs.folder.join("pass"), "tide tables by heart").unwrap();
    assert_eq!(
        theirs
            .bad(&[
                "export",
                "mine.age",
                "--folder",
                "/Pumping",
                "--passphrase-file",
                "pass"
            ])
            .0,
        6
    );
    assert_eq!(
        theirs
            .bad(&["export", "mine.age", "--recipient", "age1nobody"])
            .0,
        7
    );
    // Not encrypted: a duty, a reason, a fresh sign-in.
    let (code, words) = theirs.bad(&["export", "mine.json", "--plain", "--reason", "moving"]);
    assert!(code == 4 && words.contains("export"), "{words}");
    assert_eq!(client.bad(&["export", "all.json", "--plain"]).0, 7);
    let _ = client.good(&[
        "export",
        "all.csv",
        "--as",
        "csv",
        "--plain",
        "--reason",
        "moving to the new site",
    ]);
    let plain = std::fs::read_to_string(client.folder.join("all.csv")).unwrap();
    assert!(
        plain.contains("Franking")
            && plain.contains("Winter-tide-41")
            && !plain.contains("Winter-tide-42"),
        "{plain}"
    );
    assert!(
        ines.events("export.run")
            .iter()
            .any(|event| event["detail"]["reason"] == "moving to the new site")
    );
    let _ = service.sql("UPDATE session SET created_at = created_at - interval '10 minutes'");
    let (code, words) = client.bad(&["export", "all.json", "--plain", "--reason", "moving"]);
    assert!(code == 4 && words.contains("sign-in"), "{words}");
    // And in again, somewhere else.
    let _ = ines.folder("Archive");
    let _ = client.good(&["import", "file", "all.csv", "--into", "/Archive"]);
    assert_eq!(
        client.good(&["reveal", "/Archive/Office/Franking", "--pipe"]),
        "Winter-tide-41"
    );
    let _ = client.good(&["settings", "edit", "exports=false"]);
    assert_eq!(
        client
            .bad(&["export", "all.age", "--passphrase-file", "pass", "--force"])
            .0,
        4
    );
}

#[test]
fn undoing_an_import_affects_only_what_the_caller_is_a_steward_of_now() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (office, vault) = (ines.folder("Office"), ines.folder("Vault"));
    let pim = ines.person("pim", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": pim, "level": "steward"}),
    );
    let theirs = service.client("pim");
    let path = file(
        &theirs,
        "five.csv",
        "name,password,folder\na,Winter-tide-41,Open\nb,Winter-tide-42,Open\nc,Winter-tide-43,Shut\nd,Winter-tide-44,Gone\n",
    );
    let _ = theirs.good(&["import", "file", &path, "--into", "/Office"]);
    // Something else comes into one of the folders.
    let open = ines.get("/api/v1/folders?find=Open").good();
    let open = open["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["name"] == "Open");
    let _ = ines.login(
        open.unwrap()["id"].as_str().unwrap(),
        "other",
        "Winter-tide-45",
    );
    // One is moved away by itself, one folder is moved, one is closed: none is in reach any more.
    let place = |path: &str| {
        let folders = ines.get("/api/v1/folders").good();
        let name = path.rsplit('/').next().unwrap().to_owned();
        let found = folders["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|item| item["name"] == *name)
            .unwrap()
            .clone();
        (
            found["id"].as_str().unwrap().to_owned(),
            found["revision"].as_i64().unwrap(),
        )
    };
    let all = ines.get("/api/v1/credentials").good();
    let a = all["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["name"] == "a")
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let revision = ines.get(&format!("/api/v1/credentials/{a}")).good()["revision"]
        .as_i64()
        .unwrap();
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{a}"),
            revision,
            &json!({"folder": vault}),
        )
        .good();
    let (gone, revision) = place("/Office/Gone");
    let _ = ines
        .patch(
            &format!("/api/v1/folders/{gone}"),
            revision,
            &json!({"parent": vault}),
        )
        .good();
    let (shut, revision) = place("/Office/Shut");
    let ines_id = ines.get("/api/v1/people").good()["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["sign_in_name"] == "ines")
        .unwrap()["id"]
        .clone();
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": shut, "person": ines_id, "level": "steward"}),
    );
    let _ = ines
        .patch(
            &format!("/api/v1/folders/{shut}"),
            revision,
            &json!({"closed": true}),
        )
        .good();
    let import = ines.get("/api/v1/imports").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let told = theirs.good(&["import", "undo", &import]);
    assert!(
        told.contains(
            "Moved to the bin: 1 credential, 0 devices and 0 empty folders. Restored: 0. Left unchanged: 3"
        ),
        "{told}"
    );
    for (path, value) in [
        ("/Vault/a", "Winter-tide-41"),
        ("/Office/Shut/c", "Winter-tide-43"),
        ("/Vault/Gone/d", "Winter-tide-44"),
    ] {
        assert_eq!(
            service.client("ines").good(&["reveal", path, "--pipe"]),
            value,
            "{path}"
        );
    }
    // What is in the bin comes back only for a steward of where it lay, and that is closed now.
    let (open, revision) = place("/Office/Open");
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": open, "person": ines_id, "level": "steward"}),
    );
    let _ = ines
        .patch(
            &format!("/api/v1/folders/{open}"),
            revision,
            &json!({"closed": true}),
        )
        .good();
    assert!(!theirs.good(&["bin", "list"]).contains("five.csv"));
    let removal = ines.get("/api/v1/bin").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    assert_eq!(theirs.bad(&["bin", "restore", &removal]).0, 5);
    let _ = service.client("ines").good(&["bin", "restore", &removal]);
    assert_eq!(
        service
            .client("ines")
            .good(&["reveal", "/Office/Open/b", "--pipe"]),
        "Winter-tide-42"
    );
}

#[test]
fn devices_that_an_import_added_go_with_it_unless_they_are_used_since() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let works = ines.folder("Works");
    let client = service.client("ines");
    let text = "Title,User,Password,Device,Device type,Device address\nHistorian duty,duty,Winter-tide-61,historian,ssh,192.0.2.7\nGateway duty,duty,Winter-tide-62,gateway,ssh,192.0.2.8:2222\n";
    let path = file(&client, "devices.csv", text);
    let told = client.good(&["import", "file", &path, "--into", "/Works"]);
    assert!(told.contains("2 added"), "{told}");
    let on = service.sql("SELECT id FROM device WHERE name = 'gateway'");
    // Another account has been added to one of the devices.
    let _ = ines.make(
        "/api/v1/credentials",
        &json!({"folder": works, "kind": "device-admin", "name": "night", "fields": {"user_name": "night"}, "password": "Winter-tide-63", "device": on}),
    );
    let import = ines.get("/api/v1/imports").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let told = client.good(&["import", "undo", &import]);
    assert!(
        told.contains("Moved to the bin: 2 credentials, 1 device and 0 empty folders."),
        "{told}"
    );
    let left = || {
        service
            .sql("SELECT string_agg(name, ' ' ORDER BY name) FROM device WHERE removed_at IS NULL")
    };
    assert_eq!(left(), "gateway");
    // Restoring the import restores the device.
    let removal = ines.get("/api/v1/bin").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let _ = ines
        .post(&format!("/api/v1/bin/{removal}/restore"), &json!({}))
        .good();
    assert_eq!(left(), "gateway historian");
}
