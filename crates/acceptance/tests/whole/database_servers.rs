//! Servers and directories as devices: from the form to a rotation, and a server that was replaced.

use std::sync::OnceLock;

use jexlin_acceptance::{Service, Session, until};
use jexlin_standins::database_server::DatabaseServer;
use jexlin_standins::directory_server::{DirectoryServer, SUFFIX};
use jexlin_standins::domain_controller::{DOMAIN, DomainController};
use jexlin_standins::redis_server::{OPERATOR_RIGHTS, RedisServer};
use serde_json::Value;

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
