//! Servers and directories as devices: from the form to a rotation, and a server that was replaced.

use std::sync::OnceLock;

use jexlin_acceptance::{Service, Session, until};
use jexlin_standins::database_server::DatabaseServer;
use jexlin_standins::directory_server::{DirectoryServer, SUFFIX};
use jexlin_standins::domain_controller::{DOMAIN, DomainController};
use jexlin_standins::mariadb_server::{self, MariadbServer};
use jexlin_standins::redis_server::{OPERATOR_RIGHTS, RedisServer};
use serde_json::{Value, json};

fn server() -> &'static DatabaseServer {
    static SERVER: OnceLock<DatabaseServer> = OnceLock::new();
    SERVER.get_or_init(|| {
        let server = DatabaseServer::temporary().expect("a server");
        let roles = "CREATE ROLE rotator LOGIN CREATEROLE PASSWORD 'Rotator-tide-1';
            CREATE ROLE trends LOGIN PASSWORD 'Trends-tide-1';
            CREATE ROLE reports LOGIN PASSWORD 'Reports-tide-1'";
        server.sql(roles).expect("its roles");
        server
    })
}

/// The last job of a credential, once it has ended.
fn ended(session: &Session, credential: &str) -> Value {
    until("the job to end", || {
        let jobs = session
            .get(&format!("/api/v1/jobs?credential={credential}&limit=1"))
            .good();
        let job = jobs["items"][0].clone();
        ["done", "failed"]
            .contains(&job["state"].as_str()?)
            .then_some(job)
    })
}

#[test]
fn roles_of_a_database_server_are_checked_and_rotated_like_accounts_of_a_host() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.folder("Works");
    let client = service.client("ines");
    let port = server().port().to_string();
    let types = client.good(&["device", "types", "-o", "json"]);
    assert!(
        types.contains("\"postgresql\"") && types.contains("CREATEROLE"),
        "{types}"
    );
    let added = client.good(&[
        "device",
        "add",
        "/Works/historian",
        "--type",
        "postgresql",
        "--address",
        "127.0.0.1",
        "--port",
        &port,
    ]);
    assert!(added.contains("postgresql"), "{added}");
    let identity = client.good(&["device", "identity", "/Works/historian", "-o", "json"]);
    let identity: Value = serde_json::from_str(&identity).unwrap();
    let fingerprint = identity[0]["fingerprint"].as_str().unwrap();
    let _ = client.good(&[
        "device",
        "identity",
        "/Works/historian",
        "--confirm",
        fingerprint,
    ]);
    let kind = "database-account";
    for (name, password) in [
        ("rotator", "Rotator-tide-1"),
        ("trends", "Trends-tide-1"),
        ("reports", "Wrong-tide-1"),
    ] {
        std::fs::write(client.folder.join("pass"), password).unwrap();
        let _ = client.good(&[
            "credential",
            "add",
            &format!("/Works/{name}"),
            "--kind",
            kind,
            "--user",
            name,
            "--device",
            "/Works/historian",
            "--password-file",
            "pass",
        ]);
    }
    let _ = client.good(&[
        "device",
        "edit",
        "/Works/historian",
        "--operator",
        "/Works/rotator",
    ]);
    let id = |name: &str| service.sql(&format!("SELECT id FROM credential WHERE name = '{name}'"));
    // The right one is in sync, the wrong one is not, and the operator puts it right.
    for (name, outcome) in [("trends", "in-sync"), ("reports", "out-of-sync")] {
        let _ = client.run(
            &["upkeep", "check", &format!("/Works/{name}"), "--wait"],
            "",
        );
        assert_eq!(ended(&ines, &id(name))["outcome"], outcome, "{name}");
    }
    for name in ["reports", "trends"] {
        let _ = client.good(&["upkeep", "rotate", &format!("/Works/{name}"), "--wait"]);
        let password = ines.reveal(&id(name)).good()["value"]
            .as_str()
            .unwrap()
            .to_owned();
        assert!(server().opens(name, &password), "{name}");
        assert!(!server().log().unwrap().contains(&password));
    }
    // By itself, without the operator; and the operator last, by itself, too.
    for name in ["trends", "rotator"] {
        let _ = client.good(&[
            "upkeep",
            "rotate",
            &format!("/Works/{name}"),
            "--as-itself",
            "--wait",
        ]);
        let password = ines.reveal(&id(name)).good()["value"]
            .as_str()
            .unwrap()
            .to_owned();
        assert!(server().opens(name, &password), "{name}");
    }
    let events = ines.events("upkeep.rotated");
    assert_eq!(events.len(), 4);
    // Another server in its place gets nothing.
    let other = DatabaseServer::temporary().unwrap();
    other
        .sql("CREATE ROLE trends LOGIN PASSWORD 'Trends-tide-1'")
        .unwrap();
    service.sql(&format!(
        "UPDATE device SET port = {}; UPDATE binding SET port = {}",
        other.port(),
        other.port()
    ));
    let _ = client.run(&["upkeep", "check", "/Works/trends", "--wait"], "");
    let job = ended(&ines, &id("trends"));
    assert_eq!(job["outcome"], "unreachable");
    assert!(
        job["message"]
            .as_str()
            .unwrap()
            .contains("did not prove its identity"),
        "{job}"
    );
}

#[test]
fn accounts_of_a_directory_are_rotated_by_its_operator_and_by_themselves() {
    let directory =
        DirectoryServer::temporary("Rotator-tide-1", &[("duty", "Duty-tide-1")]).unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.folder("Works");
    let client = service.client("ines");
    std::fs::write(client.folder.join("ca.pem"), directory.authority().unwrap()).unwrap();
    let _ = client.good(&[
        "device",
        "add",
        "/Works/directory",
        "--type",
        "ldap",
        "--address",
        "127.0.0.1",
        "--port",
        &directory.port().to_string(),
    ]);
    let _ = client.good(&[
        "device",
        "identity",
        "/Works/directory",
        "--authority",
        "ca.pem",
    ]);
    let duty = format!("uid=duty,ou=people,{SUFFIX}");
    for (name, user, password) in [
        ("rotator", format!("cn=rotator,{SUFFIX}"), "Rotator-tide-1"),
        ("duty", duty.clone(), "Wrong-tide-1"),
    ] {
        std::fs::write(client.folder.join("pass"), password).unwrap();
        let _ = client.good(&[
            "credential",
            "add",
            &format!("/Works/{name}"),
            "--kind",
            "directory-account",
            "--user",
            &user,
            "--device",
            "/Works/directory",
            "--password-file",
            "pass",
        ]);
    }
    let _ = client.good(&[
        "device",
        "edit",
        "/Works/directory",
        "--operator",
        "/Works/rotator",
    ]);
    // Another way of writing the same name is the same account, which has its credential.
    let again = format!("UID=Duty, ou=People, {SUFFIX}");
    let twice = client.run(
        &[
            "credential",
            "add",
            "/Works/twice",
            "--kind",
            "directory-account",
            "--user",
            &again,
            "--device",
            "/Works/directory",
            "--password-file",
            "pass",
        ],
        "",
    );
    assert!(!twice.status.success());
    let id = service.sql("SELECT id FROM credential WHERE name = 'duty'");
    for more in [&["--wait"][..], &["--as-itself", "--wait"]] {
        let _ = client.good(&[&["upkeep", "rotate", "/Works/duty"], more].concat());
        let _ = client.run(&["upkeep", "check", "/Works/duty", "--wait"], "");
        assert_eq!(ended(&ines, &id)["outcome"], "in-sync");
    }
    let password = ines.reveal(&id).good()["value"]
        .as_str()
        .unwrap()
        .to_owned();
    assert!(!directory.log().unwrap().contains(&password));
}

#[test]
fn users_of_a_redis_server_are_rotated_by_its_operator_alone() {
    let rotator = format!("rotator on >Rotator-tide-1 {OPERATOR_RIGHTS}");
    let users = [rotator.as_str(), "alarms on >Alarms-tide-1 ~* +@read"];
    let server = RedisServer::temporary(&users).unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.folder("Works");
    let client = service.client("ines");
    std::fs::write(client.folder.join("ca.pem"), server.authority().unwrap()).unwrap();
    let _ = client.good(&[
        "device",
        "add",
        "/Works/alarm queue",
        "--type",
        "redis",
        "--address",
        "127.0.0.1",
        "--port",
        &server.port().to_string(),
    ]);
    let _ = client.good(&[
        "device",
        "identity",
        "/Works/alarm queue",
        "--authority",
        "ca.pem",
    ]);
    for (name, password) in [("rotator", "Rotator-tide-1"), ("alarms", "Wrong-tide-1")] {
        std::fs::write(client.folder.join("pass"), password).unwrap();
        let _ = client.good(&[
            "credential",
            "add",
            &format!("/Works/{name}"),
            "--kind",
            "database-account",
            "--user",
            name,
            "--device",
            "/Works/alarm queue",
            "--password-file",
            "pass",
        ]);
    }
    // The line that connects is one of this type of device, for whoever may list the device.
    let alarms = format!(
        "/api/v1/credentials/{}",
        service.sql("SELECT id FROM credential WHERE name = 'alarms'")
    );
    let shown = ines.get(&alarms).good();
    assert_eq!(
        shown["connection_line"],
        format!(
            "redis-cli --tls -h 127.0.0.1 -p {} --user alarms --askpass",
            server.port()
        )
    );
    assert_eq!(shown["rotates_itself"], false);
    // Refused before anything is tried, since no such account can.
    let refused = client.run(
        &["upkeep", "rotate", "/Works/alarms", "--as-itself", "--wait"],
        "",
    );
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(
        !refused.status.success() && said.contains("cannot change its own password"),
        "{said}"
    );
    let _ = client.good(&[
        "device",
        "edit",
        "/Works/alarm queue",
        "--operator",
        "/Works/rotator",
    ]);
    let id = |name: &str| service.sql(&format!("SELECT id FROM credential WHERE name = '{name}'"));
    let _ = client.run(&["upkeep", "check", "/Works/alarms", "--wait"], "");
    assert_eq!(ended(&ines, &id("alarms"))["outcome"], "out-of-sync");
    // The operator last, by itself.
    for name in ["alarms", "rotator"] {
        let path = format!("/Works/{name}");
        let _ = client.good(&["upkeep", "rotate", &path, "--wait"]);
        let _ = client.run(&["upkeep", "check", &path, "--wait"], "");
        assert_eq!(ended(&ines, &id(name))["outcome"], "in-sync", "{name}");
        let password = ines.reveal(&id(name)).good()["value"]
            .as_str()
            .unwrap()
            .to_owned();
        assert!(!server.written().unwrap().contains(&password));
    }
    assert_eq!(ines.events("upkeep.rotated").len(), 2);
}

#[test]
fn accounts_of_a_domain_are_rotated_by_its_operator_and_by_themselves() {
    let accounts = [("rotator", "Rotator-tide-1"), ("duty", "Duty-tide-1")];
    let controller = DomainController::temporary(&accounts).unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.folder("Works");
    let client = service.client("ines");
    let authority = controller.authority().unwrap();
    std::fs::write(client.folder.join("ca.pem"), authority).unwrap();
    let _ = client.good(&[
        "device",
        "add",
        "/Works/domain",
        "--type",
        "active-directory",
        "--address",
        controller.address(),
    ]);
    let _ = client.good(&[
        "device",
        "identity",
        "/Works/domain",
        "--authority",
        "ca.pem",
    ]);
    for (name, password) in [("rotator", "Rotator-tide-1"), ("duty", "Wrong-tide-1")] {
        std::fs::write(client.folder.join("pass"), password).unwrap();
        let _ = client.good(&[
            "credential",
            "add",
            &format!("/Works/{name}"),
            "--kind",
            "directory-account",
            "--user",
            &format!("{name}@{DOMAIN}"),
            "--device",
            "/Works/domain",
            "--password-file",
            "pass",
        ]);
    }
    let _ = client.good(&[
        "device",
        "edit",
        "/Works/domain",
        "--operator",
        "/Works/rotator",
    ]);
    let id = service.sql("SELECT id FROM credential WHERE name = 'duty'");
    let _ = client.run(&["upkeep", "check", "/Works/duty", "--wait"], "");
    assert_eq!(ended(&ines, &id)["outcome"], "out-of-sync");
    for more in [&["--wait"][..], &["--as-itself", "--wait"]] {
        let _ = client.good(&[&["upkeep", "rotate", "/Works/duty"], more].concat());
        let _ = client.run(&["upkeep", "check", "/Works/duty", "--wait"], "");
        assert_eq!(ended(&ines, &id)["outcome"], "in-sync");
    }
    let password = ines.reveal(&id).good()["value"]
        .as_str()
        .unwrap()
        .to_owned();
    assert!(!controller.log().unwrap().contains(&password));
    assert_eq!(ines.events("upkeep.rotated").len(), 2);
}

#[test]
fn users_of_a_mariadb_server_are_rotated_by_its_operator_and_by_themselves() {
    let rotator = "CREATE USER rotator IDENTIFIED BY 'Rotator-tide-1'";
    let orders = "CREATE USER orders IDENTIFIED BY 'Orders-tide-1'";
    let users = [&[rotator, orders][..], &mariadb_server::OPERATOR_RIGHTS].concat();
    let server = MariadbServer::temporary(&users).unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.folder("Works");
    let client = service.client("ines");
    std::fs::write(client.folder.join("ca.pem"), server.authority().unwrap()).unwrap();
    let device = "/Works/maintenance";
    let port = server.port().to_string();
    let place = ["--address", "127.0.0.1", "--port", &port];
    let _ = client.good(&[&["device", "add", device, "--type", "mariadb"][..], &place].concat());
    let _ = client.good(&["device", "identity", device, "--authority", "ca.pem"]);
    for (name, password) in [("rotator", "Rotator-tide-1"), ("orders", "Wrong-tide-1")] {
        std::fs::write(client.folder.join("pass"), password).unwrap();
        let path = format!("/Works/{name}");
        let user = format!("{name}@%");
        let account = [
            "--user",
            &user,
            "--device",
            device,
            "--password-file",
            "pass",
        ];
        let add = ["credential", "add", &path, "--kind", "database-account"];
        let _ = client.good(&[&add[..], &account].concat());
    }
    let _ = client.good(&["device", "edit", device, "--operator", "/Works/rotator"]);
    let id = |name: &str| service.sql(&format!("SELECT id FROM credential WHERE name = '{name}'"));
    let _ = client.run(&["upkeep", "check", "/Works/orders", "--wait"], "");
    assert_eq!(ended(&ines, &id("orders"))["outcome"], "out-of-sync");
    // The operator last, by itself.
    for (name, more) in [("orders", ""), ("orders", "--as-itself"), ("rotator", "")] {
        let path = format!("/Works/{name}");
        let rotate = ["upkeep", "rotate", &path, "--wait", more];
        let _ = client.good(&rotate[..if more.is_empty() { 4 } else { 5 }]);
        let revealed = ines.reveal(&id(name)).good();
        let password = revealed["value"].as_str().unwrap();
        assert!(server.opens(name, password), "{name}");
        assert!(!server.log().unwrap().contains(password));
    }
    assert_eq!(ines.events("upkeep.rotated").len(), 3);
}

#[test]
fn a_steward_reads_which_accounts_there_are_and_adds_one_to_the_vault() {
    let server = DatabaseServer::temporary().unwrap();
    server
        .sql(
            "CREATE ROLE rotator LOGIN CREATEROLE PASSWORD 'Rotator-tide-1';
             CREATE ROLE trends LOGIN PASSWORD 'Trends-tide-1';
             CREATE ROLE \"pump\u{1b}log\" LOGIN; CREATE ROLE readers; GRANT readers TO trends",
        )
        .unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let works = ines.folder("Works");
    let client = service.client("ines");
    std::fs::write(client.folder.join("ca.pem"), server.authority().unwrap()).unwrap();
    let device = "/Works/historian";
    let port = server.port().to_string();
    let place = ["--address", "127.0.0.1", "--port", &port];
    let add = ["device", "add", device, "--type", "postgresql"];
    let _ = client.good(&[&add[..], &place].concat());
    let _ = client.good(&["device", "identity", device, "--authority", "ca.pem"]);
    let refused = client.run(&["device", "accounts", device, "--read"], "");
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(said.contains("has no operator"), "{said}");
    std::fs::write(client.folder.join("pass"), "Wrong-tide-1").unwrap();
    let rotator = "/Works/rotator";
    let account = [
        "--user",
        "rotator",
        "--device",
        device,
        "--password-file",
        "pass",
    ];
    let add = ["credential", "add", rotator, "--kind", "database-account"];
    let _ = client.good(&[&add[..], &account].concat());
    let _ = client.good(&["device", "edit", device, "--operator", rotator]);
    // A wrong password of the operator is tried once, and pauses the device.
    let refused = client.run(&["device", "accounts", device, "--read"], "");
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(
        !refused.status.success() && said.contains("operator"),
        "{said}"
    );
    let id = service.sql("SELECT id FROM device");
    let shown = ines.get(&format!("/api/v1/devices/{id}")).good();
    assert!(!shown["paused_at"].is_null(), "{shown}");
    std::fs::write(client.folder.join("pass"), "Rotator-tide-1").unwrap();
    let _ = client.good(&["credential", "edit", rotator, "--password-file", "pass"]);
    let _ = client.good(&["device", "resume", device]);
    let listed = client.good(&["device", "accounts", device, "--read", "-o", "json"]);
    let listed: Value = serde_json::from_str(&listed).unwrap();
    let of = |login: &str| {
        let all = listed.as_array().unwrap();
        all.iter()
            .find(|account| account["login"] == login)
            .cloned()
    };
    let trends = of("trends").unwrap();
    assert_eq!(trends["in_vault"], false);
    assert_eq!(trends["groups"][0], "readers");
    assert_eq!(of("rotator").unwrap()["credential_path"], rotator);
    assert_eq!(of("rotator").unwrap()["privileged"], "may change roles");
    assert!(
        !listed.to_string().contains("pump"),
        "a login with a control character is none"
    );
    let _ = client.good(&["device", "add-accounts", device, "trends"]);
    let credential = service.sql("SELECT id FROM credential WHERE name = 'trends'");
    let revealed = ines.reveal(&credential).good();
    assert!(server.opens("trends", revealed["value"].as_str().unwrap()));
    let missing = client.good(&["device", "accounts", device, "--missing", "-o", "json"]);
    assert!(
        !missing.contains("trends") && missing.contains("readers"),
        "{missing}"
    );
    // Who may only edit there is not told what the device said; the log has who asked and what came.
    let marek = ines.person("marek", &[]);
    let grant = serde_json::json!({"folder": works, "person": marek, "level": "edit"});
    let _ = ines.post("/api/v1/grants", &grant).good();
    let marek = service.sign_in("marek");
    for answer in [
        marek.get(&format!("/api/v1/devices/{id}/accounts")),
        marek.post(
            &format!("/api/v1/devices/{id}/read-accounts"),
            &serde_json::json!({}),
        ),
    ] {
        assert_eq!(answer.status, 403, "{}", answer.body);
    }
    assert_eq!(ines.events("upkeep.listed").len(), 2);
    let signed_in = ines.events("upkeep.sign-in");
    let listing = signed_in
        .iter()
        .filter(|event| event["target_name"] == rotator);
    assert!(listing.count() >= 2, "{signed_in:?}");
}

#[test]
fn a_device_is_moved_to_other_stewards_by_one_who_sees_first_whose_access_changes() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (works, office) = (ines.folder("Works"), ines.folder("Office"));
    let client = service.client("ines");
    let device = "/Works/historian";
    let _ = client.good(&["device", "add", device, "--address", "127.0.0.1"]);
    let id = service.sql("SELECT id FROM device");
    for (name, folder, level) in [("marek", &works, "steward"), ("tomas", &office, "steward")] {
        let person = ines.person(name, &[]);
        let grant = serde_json::json!({"folder": folder, "person": person, "level": level});
        let _ = ines.post("/api/v1/grants", &grant).good();
    }
    // Nobody takes a device to where they may not put anything, or from where they are no steward.
    let there = serde_json::json!({"device": {"id": id, "to": office}});
    let (marek, tomas) = (service.sign_in("marek"), service.sign_in("tomas"));
    assert_eq!(marek.post("/api/v1/preview", &there).status, 404);
    assert_eq!(tomas.post("/api/v1/preview", &there).status, 404);
    let moved = serde_json::json!({"folder": office});
    let address = format!("/api/v1/devices/{id}");
    assert_eq!(marek.patch(&address, 1, &moved).status, 404);
    assert_eq!(tomas.patch(&address, 1, &moved).status, 404);
    let shown = client.good(&["device", "move", device, "/Office", "--preview"]);
    assert!(
        shown.contains("marek of Osmere") && shown.contains("tomas of Osmere"),
        "{shown}"
    );
    assert!(shown.contains("Nothing was changed"), "{shown}");
    assert!(client.good(&["device", "show", device]).contains("/Works"));
    let _ = client.good(&["device", "move", device, "/Office"]);
    assert_eq!(marek.get(&address).status, 404);
    assert_eq!(tomas.get(&address).good()["place"], "/Office");
    let events = ines.events("device.edit");
    let detail = &events[0]["detail"];
    assert_eq!(
        (&detail["from"], &detail["to"]),
        (&"/Works".into(), &"/Office".into())
    );
}

#[test]
fn a_file_brings_in_devices_with_their_accounts_and_says_what_it_cannot() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let works = ines.folder("Works");
    let client = service.client("ines");
    let _ = client.good(&["device", "add", "/Works/gateway", "--address", "192.0.2.8"]);
    let file = "\
title,login,password,folder,device,device type,device address
historian root,root,First-tide-1,Highfield,historian,,192.0.2.7:2222
historian duty,duty,Second-tide-2,Highfield,historian,,
trends,trends,Third-tide-3,Highfield,trends,postgresql,trends.osmere.example
gateway duty,duty,Fourth-tide-4,,gateway,,
no device,,Fifth-tide-5,,,,
";
    std::fs::write(client.folder.join("devices.csv"), file).unwrap();
    let import = [
        "import",
        "file",
        "devices.csv",
        "--into",
        "/Works",
        "--kind",
        "device-admin",
    ];
    let bad = client.run(&import, "");
    let said = format!(
        "{}{}",
        String::from_utf8_lossy(&bad.stdout),
        String::from_utf8_lossy(&bad.stderr)
    );
    // One without a user name is none of a device, and a device admin all the same: it has to have one.
    let file = file.replace("no device,,Fifth-tide-5,,,,\n", "");
    std::fs::write(client.folder.join("devices.csv"), &file).unwrap();
    let done = client.good(&import);
    assert!(
        done.contains("4 added") && done.contains("2 devices added"),
        "{said}{done}"
    );
    let devices = ines.get("/api/v1/devices").good();
    let of = |name: &str| {
        let all = devices["items"].as_array().unwrap();
        all.iter()
            .find(|device| device["name"] == name)
            .cloned()
            .unwrap()
    };
    let historian = of("historian");
    assert_eq!(
        (&historian["port"], &historian["place"]),
        (&2222.into(), &"/Works/Highfield".into())
    );
    assert_eq!(
        (&historian["connector"], &historian["accounts"]),
        (&"ssh".into(), &2.into())
    );
    assert_eq!(
        (&of("trends")["port"], &of("trends")["connector"]),
        (&5432.into(), &"postgresql".into())
    );
    assert_eq!(of("gateway")["accounts"], 1);
    // Each binding is in the log of its credential, and each device in that of the vault.
    assert_eq!(ines.events("binding.confirm").len(), 4);
    assert_eq!(ines.events("device.add").len(), 3);
    // What cannot be is said, by line and column, and nothing of the file is taken.
    let wrong = "\
title,login,password,device,device type,device address
other duty,duty,First-tide-1,gateway,,
other night,night,Second-tide-2,gateway,redis,
other trends,trends,Third-tide-3,somewhere,,
other root,root,Fourth-tide-4,elsewhere,teapot,192.0.2.9
other admin,admin,Fifth-tide-5,elsewhere,,192.0.2.9:many
";
    std::fs::write(client.folder.join("wrong.csv"), wrong).unwrap();
    let import = [
        "import",
        "file",
        "wrong.csv",
        "--into",
        "/Works",
        "--kind",
        "device-admin",
    ];
    let bad = client.run(&import, "");
    let said = format!(
        "{}{}",
        String::from_utf8_lossy(&bad.stdout),
        String::from_utf8_lossy(&bad.stderr)
    );
    for words in [
        "has a credential already",
        "of another type",
        "a new one needs an address",
        "no type of device of this name",
        "no host name or address with a port",
    ] {
        assert!(said.contains(words), "{words}: {said}");
    }
    assert!(!said.contains("-tide-"), "{said}");
    // Who may only edit there brings in credentials, and gives no device an account.
    let marek = ines.person("marek", &[]);
    let grant = serde_json::json!({"folder": works, "person": marek, "level": "edit"});
    let _ = ines.post("/api/v1/grants", &grant).good();
    let marek = service.client("marek");
    let night = "title,login,password,device\nnight,night,First-tide-1,gateway\n";
    std::fs::write(marek.folder.join("night.csv"), night).unwrap();
    let import = [
        "import",
        "file",
        "night.csv",
        "--into",
        "/Works",
        "--kind",
        "device-admin",
    ];
    let bad = marek.run(&import, "");
    let said = String::from_utf8_lossy(&bad.stdout).into_owned();
    assert!(said.contains("only a steward"), "{said}");
    assert_eq!(
        service.sql("SELECT count(*) FROM credential WHERE name = 'night'"),
        "0"
    );
}

#[test]
fn nobody_takes_the_accounts_of_a_device_out_from_under_a_gate_by_moving_the_device() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (works, office) = (ines.folder("Works"), ines.folder("Office"));
    let body = serde_json::json!({"name": "Highfield", "parent": works});
    let highfield = ines.make("/api/v1/folders", &body);
    let body =
        serde_json::json!({"folder": highfield, "name": "historian", "address": "127.0.0.1"});
    let device = ines.make("/api/v1/devices", &body);
    // The credential is somewhere else; the gate above the device counts for it all the same.
    let body = serde_json::json!({"folder": office, "kind": "device-admin", "name": "reports", "fields": {"user_name": "reports"}, "password": "Reports-tide-1", "device": device});
    let reports = ines.make("/api/v1/credentials", &body);
    let _ = ines
        .post(
            "/api/v1/gates",
            &serde_json::json!({"folder": works, "needs_reason": true, "max_minutes": 60}),
        )
        .good();
    assert_ne!(ines.reveal(&reports).status, 200, "gated");
    let marek = ines.person("marek", &[]);
    for (folder, level) in [(&highfield, "steward"), (&office, "reveal")] {
        let grant = serde_json::json!({"folder": folder, "person": marek, "level": level});
        let _ = ines.post("/api/v1/grants", &grant).good();
    }
    let body = serde_json::json!({"name": "desk", "parent": office});
    let desk = ines.make("/api/v1/folders", &body);
    let grant = serde_json::json!({"folder": desk, "person": marek, "level": "edit"});
    let _ = ines.post("/api/v1/grants", &grant).good();
    let marek = service.sign_in("marek");
    let moved = serde_json::json!({"folder": desk});
    let address = format!("/api/v1/devices/{device}");
    let answer = marek.patch(&address, 1, &moved);
    assert_eq!(answer.status, 403, "{}", answer.body);
    assert!(answer.body.to_string().contains("gate"), "{}", answer.body);
    assert_eq!(ines.get(&address).good()["place"], "/Works/Highfield");
    assert_ne!(marek.reveal(&reports).status, 200, "gated still");
    // A steward where the gate is set may remove it, and so may move the device.
    let _ = ines.patch(&address, 1, &moved).good();
    assert_eq!(ines.reveal(&reports).status, 200);
}

/// Each sign-in of the operator counts against its lockout budget until it has succeeded: many at
/// the same moment must not be taken for failures.
#[test]
fn all_roles_of_a_server_are_rotated_at_once_by_one_operator() {
    const COUNT: usize = 24;
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Works");
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "historian", "connector": "postgresql", "address": "127.0.0.1", "port": server().port()}),
    );
    let add = |role: &str, password: &str| {
        ines.make(
            "/api/v1/credentials",
            &json!({"folder": folder, "kind": "database-account", "name": role, "fields": {"user_name": role}, "password": password, "device": device}),
        )
    };
    let operator = add("rotator", "Rotator-tide-1");
    let path = format!("/api/v1/devices/{device}");
    let _ = ines.patch(&path, 1, &json!({"operator": operator})).good();
    let roles: Vec<String> = (0..COUNT)
        .map(|n| {
            let role = format!("many{n}");
            let sql = format!("CREATE ROLE {role} LOGIN PASSWORD 'Many-tide-{n}'");
            server().sql(&sql).expect("a role");
            add(&role, &format!("Many-tide-{n}"))
        })
        .collect();
    let jobs: Vec<String> = roles
        .iter()
        .map(|role| ines.make(&format!("/api/v1/credentials/{role}/rotate"), &json!({})))
        .collect();
    for job in jobs {
        let settled = ines.settled(&job);
        assert_eq!(settled["outcome"], "done", "{settled}");
    }
    assert_eq!(service.sql("SELECT count(*) FROM failed_login"), "0");
}
