//! What is done when something is lost, as `docs/operations.md` tells it: a backup restored on an
//! empty machine, a passphrase that was seen, an administrator without a password.

use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use jexlin_acceptance::{Client, PASSPHRASE, PASSWORD, Service, program};
use jexlin_standins::cluster::{Care, Cluster, Database};
use serde_json::json;

/// Runs a command of the runbook, which must succeed.
fn step(program: impl AsRef<Path>, arguments: &[&str], environment: &[(&str, &str)]) -> String {
    let output = Command::new(program.as_ref())
        .args(arguments)
        .envs(environment.iter().copied())
        .output()
        .unwrap();
    let said = [output.stdout, output.stderr].concat();
    let said = String::from_utf8_lossy(&said).into_owned();
    assert!(output.status.success(), "{arguments:?}: {said}");
    said
}

fn reveal(client: &Client, path: &str) -> String {
    client.good(&["reveal", "--pipe", path])
}

#[test]
fn a_backup_is_restored_on_an_empty_machine() {
    let service = Service::ready();
    let ines = service.client("ines");
    let _ = ines.good(&["folder", "add", "/Pumping"]);
    let _ = ines.good(&["credential", "add", "/Pumping/duty", "--user", "duty"]);
    let file = ines.folder.join("drawing.txt");
    fs::write(&file, "the valve is behind the second door").unwrap();
    let _ = ines.good(&[
        "credential",
        "attach",
        "/Pumping/duty",
        file.to_str().unwrap(),
    ]);
    let password = reveal(&ines, "/Pumping/duty");
    let key = ines.good(&["audit", "key"]);
    fs::write(ines.folder.join("log.key"), format!("{key}\n")).unwrap();
    let _ = ines.good(&["audit", "export", "before.jsonl"]);
    // The backup: the database, and apart from it the root key file.
    let backup = ines.folder.join("jexlin.dump");
    let backup = backup.to_str().unwrap();
    step(
        "pg_dump",
        &["-Fc", "-f", backup, &service.database.superuser],
        &[],
    );
    let held = fs::read(backup).unwrap();
    assert!(
        !held
            .windows(password.len())
            .any(|part| part == password.as_bytes()),
        "a backup holds no plaintext"
    );
    // What comes after it is lost with the machine.
    let _ = ines.good(&["credential", "edit", "/Pumping/duty", "--generate"]);

    // The empty machine.
    let cluster = Cluster::temporary(Care::Fast).unwrap();
    let addresses = ines.folder.join("addresses");
    let administrator = cluster.administrator("postgres");
    let environment = [("JEXLIN_ADMIN_DATABASE", administrator.as_str())];
    step(
        program("jexlind"),
        &["setup-database", addresses.to_str().unwrap()],
        &environment,
    );
    let there = cluster.administrator("jexlin");
    step(
        "pg_restore",
        &[
            "--clean",
            "--if-exists",
            "--exit-on-error",
            "-d",
            &there,
            backup,
        ],
        &[],
    );
    let addresses = fs::read_to_string(&addresses).unwrap();
    let address = |name: &str| {
        let line = addresses.lines().find_map(|line| line.strip_prefix(name));
        line.unwrap().trim_start_matches('=').to_owned()
    };
    let owner = address("JEXLIN_OWNER_DATABASE");
    step(
        program("jexlind"),
        &["migrate"],
        &[("JEXLIN_OWNER_DATABASE", owner.as_str())],
    );
    let database = Database {
        superuser: there.clone(),
        owner,
        service: address("JEXLIN_DATABASE"),
        name: "jexlin".into(),
    };
    let restored = Service::on_existing(database, &service.folder.join("root-key.json"));
    restored.unlock();
    let again = restored.client("ines");
    assert_eq!(reveal(&again, "/Pumping/duty"), password);
    assert_eq!(
        again.good(&[
            "credential",
            "download",
            "/Pumping/duty",
            "drawing.txt",
            "--to",
            "-"
        ]),
        "the valve is behind the second door"
    );
    // The log goes on where the backup ends, and the earlier export proves it.
    for file in ["before.jsonl", "log.key"] {
        fs::copy(ines.folder.join(file), again.folder.join(file)).unwrap();
    }
    let _ = again.good(&["audit", "export", "after.jsonl"]);
    let said = again.good(&[
        "audit",
        "verify",
        "after.jsonl",
        "--key-file",
        "log.key",
        "--since",
        "before.jsonl",
    ]);
    assert!(said.contains("continues"), "{said}");
    // The service of the restored database still cannot go round what the database forbids.
    let refused = Command::new("psql")
        .args([
            "-qAt",
            "-d",
            &restored.database.service,
            "-c",
            "DELETE FROM audit_event",
        ])
        .output()
        .unwrap();
    assert!(!refused.status.success());
    drop(restored);
}

#[test]
fn the_passphrase_of_the_root_key_changes_alone() {
    const NEW: &str = "seven gauges and a float";
    let mut service = Service::ready();
    let ines = service.client("ines");
    let _ = ines.good(&["folder", "add", "/Pumping"]);
    let _ = ines.good(&["credential", "add", "/Pumping/duty"]);
    let password = reveal(&ines, "/Pumping/duty");
    let file = service.folder.join("root-key.json");
    let before = fs::read_to_string(&file).unwrap();
    for (name, text) in [
        ("old", PASSPHRASE),
        ("wrong", "twelve pumps and no weir"),
        ("new", NEW),
        ("short", "float"),
    ] {
        fs::write(ines.folder.join(name), text).unwrap();
    }
    let change = |present: &str, new: &str, reason: &str| {
        ines.run(
            &[
                "keys",
                "passphrase",
                "--reason",
                reason,
                "--passphrase-file",
                present,
                "--new-passphrase-file",
                new,
            ],
            "",
        )
    };
    for (present, new, reason) in [
        ("wrong", "new", "seen"),
        ("old", "short", "seen"),
        ("old", "new", ""),
    ] {
        assert!(!change(present, new, reason).status.success());
        assert_eq!(fs::read_to_string(&file).unwrap(), before);
    }
    // What cannot be recorded is not done: no file that opens with the new passphrase is left.
    service.sql("REVOKE INSERT ON audit_event FROM jexlin_service");
    assert!(!change("old", "new", "nobody knows").status.success());
    assert_eq!(fs::read_to_string(&file).unwrap(), before);
    assert!(!file.with_extension("new").exists());
    service.sql("GRANT INSERT ON audit_event TO jexlin_service");
    assert!(change("old", "new", "somebody watched").status.success());
    let after = fs::read_to_string(&file).unwrap();
    let name = |text: &str| serde_json::from_str::<serde_json::Value>(text).unwrap()["key"].clone();
    assert_eq!(name(&before), name(&after), "the root key stays");
    assert_ne!(before, after);
    assert_eq!(service.sql("SELECT count(*) FROM audit_event WHERE action = 'root-key.passphrase' AND outcome = 'done'"), "1");
    service.kill();
    service.start(&[]);
    let unlock = |passphrase: &str| {
        service.call(
            "POST",
            "/api/v1/unlock",
            None,
            Some(&json!({"passphrase": passphrase})),
            None,
        )
    };
    unlock(PASSPHRASE).refused(403, "not-allowed");
    let _ = unlock(NEW).good();
    let ines = service.client("ines");
    assert_eq!(reveal(&ines, "/Pumping/duty"), password);
    // Whoever has not the duty cannot even try a passphrase.
    let ines = service.sign_in("ines");
    let _ = ines.person("marek", &[]);
    let marek = service.sign_in("marek");
    marek
        .post(
            "/api/v1/keys/root/passphrase",
            &json!({"passphrase": NEW, "new_passphrase": PASSPHRASE, "reason": "mine"}),
        )
        .refused(403, "needs-duty");
}

#[test]
fn the_only_administrator_who_lost_the_password_gets_another() {
    let service = Service::ready();
    let ines = service.client("ines");
    let _ = ines.good(&["people", "add", "marek", "--display-name", "Marek Tull"]);
    let reset = |arguments: &[&str], passphrase: &str| -> Output {
        let mut child = Command::new(program("jexlind"))
            .arg("reset-password")
            .args(arguments)
            .env("JEXLIN_DATABASE", &service.database.service)
            .env("JEXLIN_FOLDER", &service.folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let _ = writeln!(child.stdin.take().unwrap(), "{passphrase}");
        child.wait_with_output().unwrap()
    };
    for (arguments, passphrase, why) in [
        (
            &["ines"][..],
            "twelve pumps and no weir",
            "does not open the root key",
        ),
        (&["nobody"], PASSPHRASE, "person"),
        (&["marek"], PASSPHRASE, "invited"),
        (&["ines", "Elsewhere"], PASSPHRASE, ""),
        (&[], PASSPHRASE, "name the person"),
    ] {
        let output = reset(arguments, passphrase);
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(
            !output.status.success() && said.contains(why),
            "{arguments:?}: {said}"
        );
        assert!(output.stdout.is_empty());
    }
    let _ = service.sign_in("ines");
    // Somebody has tried so many that the name has to wait; whoever has the new one need not.
    for _ in 0..6 {
        let body =
            json!({"sign_in_name": "ines", "password": "a guess of many", "channel": "client"});
        let _ = service.call("POST", "/api/v1/sign-in", None, Some(&body), None);
    }
    let output = reset(&["INES"], PASSPHRASE);
    let said = String::from_utf8(output.stdout).unwrap();
    assert!(
        output.status.success() && said.contains("Ines Calder"),
        "{said} {}",
        String::from_utf8_lossy(&output.stderr)
    );
    let password = said.lines().last().unwrap().to_owned();
    // The former password and every session have ended; duties are as they were.
    assert_eq!(ines.bad(&["me"]).0, 3);
    let sign_in = |password: &str| {
        let body = json!({"sign_in_name": "ines", "password": password, "channel": "client"});
        service.call("POST", "/api/v1/sign-in", None, Some(&body), None)
    };
    sign_in(PASSWORD).refused(401, "sign-in-refused");
    let answer = sign_in(&password).good();
    assert_eq!(answer["me"]["duties"].as_array().map(Vec::len), Some(7));
    let event = service.sql("SELECT target_name || '|' || origin || '|' || outcome FROM audit_event WHERE action = 'person.recover'");
    assert_eq!(event, "ines|the machine of the service|done");
}
