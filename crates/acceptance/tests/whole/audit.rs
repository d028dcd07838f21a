//! The audit log proved by the client alone, and every way of tampering named; and a database that
//! goes away, comes back, or is full.

use std::path::Path;

use jexlin_acceptance::{Client, Service, until};
use jexlin_standins::cluster::{Care, Cluster};
use serde_json::json;

const TABLES: [&str; 3] = ["audit_event", "audit_leaf", "audit_checkpoint"];

fn tamper(service: &Service, sql: &str) {
    let off: String = TABLES
        .map(|table| format!("ALTER TABLE {table} DISABLE TRIGGER USER;"))
        .concat();
    let on: String = TABLES
        .map(|table| format!("ALTER TABLE {table} ENABLE TRIGGER USER;"))
        .concat();
    service.sql(&format!("BEGIN; {off} {sql}; {on} COMMIT"));
}

/// A service with a sealed log of a few dozen events, and its auditor's client with the key.
fn world() -> (Service, Client) {
    let service = Service::ready();
    {
        let ines = service.sign_in("ines");
        let credential = ines.login(&ines.folder("Office"), "Portal", "Winter-tide-41");
        for _ in 0..20 {
            let _ = ines.reveal(&credential).good();
        }
        let _ = ines.person("olena", &["audit"]);
    }
    let olena = service.client("olena");
    std::fs::write(olena.folder.join("key"), olena.good(&["audit", "key"])).unwrap();
    sealed(&service);
    (service, olena)
}

fn sealed(service: &Service) {
    until("a sealed log", || {
        (service
            .sql("SELECT (SELECT count(*) FROM audit_event) = (SELECT count(*) FROM audit_leaf)")
            == "t")
            .then_some(())
    });
}

fn verify(olena: &Client) -> Result<String, String> {
    let _ = olena.good(&["audit", "export", "log.jsonl", "--force"]);
    let output = olena.run(&["audit", "verify", "log.jsonl", "--key-file", "key"], "");
    if output.status.success() {
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    } else {
        Err(String::from_utf8_lossy(&output.stderr).into_owned())
    }
}

#[test]
fn an_honest_log_verifies_offline_and_one_changed_byte_does_not() {
    let (mut service, olena) = world();
    assert!(verify(&olena).unwrap().contains("The log is complete"));
    // It continues what was exported before, and not another log.
    let _ = olena.good(&["audit", "export", "earlier.jsonl"]);
    let _ = service.sign_in("ines");
    sealed(&service);
    assert!(verify(&olena).unwrap().contains("The log is complete"));
    let since = [
        "audit",
        "verify",
        "log.jsonl",
        "--key-file",
        "key",
        "--since",
    ];
    let _ = olena.good(&[&since[..], &["earlier.jsonl"]].concat());
    let (code, words) = olena.bad(&[
        "audit",
        "verify",
        "earlier.jsonl",
        "--key-file",
        "key",
        "--since",
        "log.jsonl",
    ]);
    assert!(code == 9 && words.contains("cut off at its end"), "{words}");
    // With the service gone, the export and the key are enough.
    service.kill();
    let output = olena.run(&["audit", "verify", "log.jsonl", "--key-file", "key"], "");
    assert!(output.status.success());
    let path = olena.folder.join("log.jsonl");
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(
        &path,
        text.replacen("credential.reveal", "credential.edit", 1),
    )
    .unwrap();
    let (code, words) = olena.bad(&["audit", "verify", "log.jsonl", "--key-file", "key"]);
    assert_eq!(code, 9);
    assert!(words.contains("was changed"), "{words}");
}

#[test]
fn an_event_changed_in_the_database_is_named() {
    let (service, olena) = world();
    tamper(
        &service,
        "UPDATE audit_event SET actor_name = 'Somebody else' WHERE id = (SELECT event_id FROM audit_leaf WHERE leaf = 7)",
    );
    let words = verify(&olena).unwrap_err();
    assert!(
        words.contains("event 7 was changed") && words.contains("Somebody else"),
        "{words}"
    );
}

#[test]
fn an_event_removed_from_the_database_is_named_with_or_without_its_leaf() {
    let (service, olena) = world();
    tamper(
        &service,
        "DELETE FROM audit_event WHERE id = (SELECT event_id FROM audit_leaf WHERE leaf = 9)",
    );
    assert!(verify(&olena).unwrap_err().contains("event 9 was removed"));
    tamper(&service, "DELETE FROM audit_leaf WHERE leaf = 9");
    assert!(verify(&olena).unwrap_err().contains("event 9 was removed"));
}

#[test]
fn an_event_added_to_the_database_is_named() {
    let (service, olena) = world();
    let columns = "(id, organisation, at, action, actor_name, target_type, target_name, origin, outcome, detail, mac)";
    tamper(
        &service,
        &format!(
            "INSERT INTO audit_event {columns} SELECT gen_random_uuid(), id, now(), 'credential.reveal', 'Forger', '', '', '', 'done', '{{}}', '\\x00' FROM organisation"
        ),
    );
    let words = verify(&olena).unwrap_err();
    assert!(
        words.contains("was added") && words.contains("Forger"),
        "{words}"
    );
    until("a word in the service's log", || {
        service.log().contains("past the service").then_some(())
    });
}

#[test]
fn an_event_moved_in_the_database_is_named() {
    let (service, olena) = world();
    tamper(
        &service,
        "ALTER TABLE audit_leaf DROP CONSTRAINT audit_leaf_event_id_key;
         UPDATE audit_leaf l SET event_id = o.event_id FROM audit_leaf o WHERE (l.leaf = 5 AND o.leaf = 11) OR (l.leaf = 11 AND o.leaf = 5)",
    );
    let words = verify(&olena).unwrap_err();
    assert!(words.contains("events 5 and 11 were swapped"), "{words}");
}

#[test]
fn a_rewritten_leaf_and_a_truncated_log_are_found() {
    let (service, olena) = world();
    tamper(
        &service,
        "UPDATE audit_leaf SET hash = decode(repeat('ab', 32), 'hex') WHERE leaf = 7",
    );
    assert!(verify(&olena).unwrap_err().contains("event 7"));
    let (service, olena) = world();
    // There must be something behind the twelfth leaf to cut off.
    until("the log sealed", || {
        (service.sql("SELECT count(*) > 13 FROM audit_leaf").trim() == "t").then_some(())
    });
    tamper(
        &service,
        "DELETE FROM audit_event e USING audit_leaf l WHERE l.event_id = e.id AND l.leaf > 12; DELETE FROM audit_leaf WHERE leaf > 12; UPDATE audit_frontier SET size = 99",
    );
    let words = verify(&olena).unwrap_err();
    assert!(
        words.contains("cut off") || words.contains("removed"),
        "{words}"
    );
}

#[test]
fn only_the_duty_audit_reads_the_log_and_reading_is_recorded() {
    let (service, olena) = world();
    let ines = service.sign_in("ines");
    let _ = ines.person("marek", &[]);
    let marek = service.sign_in("marek");
    marek.get("/api/v1/audit").refused(403, "needs-duty");
    marek.get("/api/v1/audit/export").refused(403, "needs-duty");
    let listed = olena.good(&[
        "--output",
        "csv",
        "audit",
        "list",
        "--action",
        "credential.reveal",
        "--limit",
        "5",
    ]);
    assert_eq!(listed.lines().count(), 6);
    assert_eq!(
        olena.bad(&["reveal", "/Office/Portal", "--pipe"]).0,
        5,
        "the duty gives no look at a secret"
    );
    assert!(
        !ines.events("audit.read").is_empty()
            && ines
                .events("audit.read")
                .iter()
                .any(|event| event["outcome"] == "refused")
    );
    // The refused reveal is the newest, and has a proof once it is sealed.
    sealed(&service);
    let event = &ines.events("credential.reveal")[0]["id"];
    let proof = ines
        .get(&format!("/api/v1/audit/{}/proof", event.as_str().unwrap()))
        .good();
    assert!(
        proof["path"]
            .as_array()
            .is_some_and(|path| !path.is_empty())
    );
}

#[test]
fn a_database_that_goes_away_and_returns_loses_nothing() {
    let mut cluster = Cluster::temporary(Care::Fast).unwrap();
    let service = Service::on(&cluster, &[]);
    service.set_up();
    let ines = service.sign_in("ines");
    let credential = ines.login(&ines.folder("Office"), "Portal", "Winter-tide-41");
    cluster.stop(true).unwrap();
    ines.reveal(&credential).refused(503, "database-away");
    assert_eq!(
        service.call("GET", "/health/live", None, None, None).status,
        200
    );
    assert_eq!(
        service
            .call("GET", "/api/v1/status", None, None, None)
            .text("state"),
        "no-database"
    );
    cluster.start_again(Care::Fast).unwrap();
    until("the records again", || {
        (ines.reveal(&credential).text("value") == "Winter-tide-41").then_some(())
    });
}

#[test]
fn a_full_disk_of_the_database_is_reported_and_loses_nothing() {
    if !jexlin_standins::is_root() {
        eprintln!("left out: a disk of its own takes root");
        return;
    }
    let disk = std::env::temp_dir().join(format!("jexlin-disk-{}", std::process::id()));
    std::fs::create_dir_all(&disk).unwrap();
    let mounted = std::process::Command::new("mount")
        .args(["-t", "tmpfs", "-o", "size=160m,mode=755", "tmpfs"])
        .arg(&disk)
        .status()
        .unwrap();
    assert!(mounted.success());
    let unmount = Unmount(disk.clone());
    let cluster = Cluster::start(
        &disk.join("pg"),
        jexlin_standins::free_port().unwrap(),
        Care::Fast,
    )
    .unwrap();
    let service = Service::on(&cluster, &[]);
    service.set_up();
    let ines = service.sign_in("ines");
    let credential = ines.login(&ines.folder("Office"), "Portal", "Winter-tide-41");
    fill(&disk);
    let mut told = false;
    for n in 0..4000 {
        let answer = ines.post("/api/v1/folders", &json!({"name": format!("folder {n}")}));
        if answer.status >= 400 {
            answer.refused(503, "database-away");
            told = true;
            break;
        }
    }
    assert!(told, "the disk was never full");
    std::fs::remove_file(disk.join("ballast")).unwrap();
    until("room again", || {
        (ines.reveal(&credential).text("value") == "Winter-tide-41").then_some(())
    });
    drop(ines);
    drop(service);
    drop(cluster);
    drop(unmount);
}

struct Unmount(std::path::PathBuf);
impl Drop for Unmount {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount")
            .args(["-l"])
            .arg(&self.0)
            .status();
        let _ = std::fs::remove_dir(&self.0);
    }
}

/// Fills the disk but for a few pages.
fn fill(disk: &Path) {
    use std::io::Write as _;
    let mut file = std::fs::File::create(disk.join("ballast")).unwrap();
    while file.write_all(&[0; 16_384]).is_ok() {}
}
