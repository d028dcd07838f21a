//! The root key or the organisation's key changes, and the service is killed at any moment of it.
//! Nothing is lost, the change goes on, and afterwards the former key opens nothing.

use std::fs;
use std::io::{BufRead as _, BufReader, Write as _};
use std::path::Path;
use std::process::{Child, Command, Stdio};

use jexlin_acceptance::{PASSPHRASE, Service, Session, until};
use serde_json::{Value, json};

use super::{login, strict};

const NEXT: &str = "eleven sluices and a lock";

fn change(of: &Session<'_>, passphrase: &str) -> jexlin_acceptance::Answer {
    of.post(
        "/api/v1/keys/root",
        &json!({"passphrase": passphrase, "new_passphrase": NEXT, "reason": "somebody left"}),
    )
}

fn finish(of: &Session<'_>) -> jexlin_acceptance::Answer {
    of.post("/api/v1/keys/root/finish", &json!({}))
}

fn unlock(service: &Service, passphrase: &str) -> jexlin_acceptance::Answer {
    service.call(
        "POST",
        "/api/v1/unlock",
        None,
        Some(&json!({"passphrase": passphrase})),
        None,
    )
}

/// Kills the service and starts it again: locked, as after a loss of power.
fn killed(service: &mut Service) {
    service.kill();
    service.start(&[]);
}

fn copy(from: &Service, to: &Service, name: &str) {
    fs::copy(from.folder.join(name), to.folder.join(name)).unwrap();
}

fn next_file(folder: &Path) -> bool {
    folder.join("root-key.next.json").exists()
}

/// A transaction that holds a credential's row until it is killed.
struct Holder(Child);

impl Holder {
    fn of(service: &Service, credential: &str) -> Self {
        let organisation = service.sql("SELECT id FROM organisation");
        let mut psql = Command::new("psql");
        psql.args(["-qAt", "-d", &service.database.owner])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped());
        let mut child = psql.spawn().unwrap();
        let hold = format!(
            "SET jexlin.organisation = '{organisation}'; BEGIN; SELECT 'held' FROM credential WHERE id = '{credential}' FOR UPDATE;\n"
        );
        child
            .stdin
            .as_mut()
            .unwrap()
            .write_all(hold.as_bytes())
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.as_mut().unwrap())
            .read_line(&mut line)
            .unwrap();
        assert_eq!(line.trim(), "held");
        Self(child)
    }
}

impl Drop for Holder {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// What the service's own role is told when it tries this.
fn refused_by_the_database(service: &Service, sql: &str) -> String {
    let organisation = service.sql("SELECT id FROM organisation");
    let whole = format!("SET jexlin.organisation = '{organisation}'; {sql}");
    let output = Command::new("psql")
        .args(["-qAt", "-d", &service.database.service, "-c", &whole])
        .output()
        .unwrap();
    assert!(!output.status.success(), "{sql}");
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn the_root_key_changes_in_steps_that_each_leave_a_vault_that_opens() {
    let mut service = strict(&[]);
    let target = login(
        &service.sign_in("ines"),
        &service.sign_in("ines").folder("Safe"),
        "root",
        "root",
        "Root-1",
    );
    let opens = |service: &Service, what: &str| {
        let ines = service.sign_in("ines");
        assert_eq!(ines.reveal(&target).text("value"), "Root-1", "{what}");
    };
    let _ = service.sign_in("ines").person(
        "pim",
        &["people", "folders", "access", "policy", "audit", "export"],
    );
    change(&service.sign_in("pim"), PASSPHRASE).refused(403, "needs-duty");
    service
        .sign_in("pim")
        .get("/api/v1/keys")
        .refused(403, "needs-duty");
    change(&service.sign_in("ines"), "not the passphrase").refused(403, "not-allowed");
    finish(&service.sign_in("ines")).refused(409, "no-root-key-change");
    assert!(!next_file(&service.folder));

    // Killed when the file is written and the database does not know of it: both files are
    // harmless.
    let other = service.beside();
    let stale = other.folder.join("root-key.json");
    let prepared = change(&service.sign_in("ines"), PASSPHRASE).good();
    let (first, second) = (
        prepared["root_key"].as_str().unwrap().to_owned(),
        prepared["next_root_key"].as_str().unwrap().to_owned(),
    );
    assert_ne!(first, second);
    service.sql("UPDATE organisation SET next_wrapped_key = NULL, next_root_key = NULL");
    killed(&mut service);
    unlock(&service, NEXT).refused(409, "other-root-key");
    assert_eq!(
        service
            .call("GET", "/api/v1/status", None, None, None)
            .text("state"),
        "locked"
    );
    let _ = unlock(&service, PASSPHRASE).good();
    opens(&service, "the file alone");

    // Prepared: either passphrase opens the vault after a kill.
    let second = change(&service.sign_in("ines"), PASSPHRASE).good()["next_root_key"]
        .as_str()
        .unwrap()
        .to_owned();
    for passphrase in [PASSPHRASE, NEXT] {
        killed(&mut service);
        let _ = unlock(&service, passphrase).good();
        opens(&service, passphrase);
    }

    // Not finished while a service that runs has not the next root key, or has it only until it is
    // killed.
    let answer = finish(&service.sign_in("ines"));
    assert!(
        answer.status == 409 && answer.code() == "root-key-missing",
        "{}",
        answer.body
    );
    copy(&service, &other, "root-key.next.json");
    let _ = unlock(&other, NEXT).good();
    until("both have it", || {
        let view = service.sign_in("ines").get("/api/v1/keys").good();
        let services = view["services"].as_array().unwrap();
        services
            .iter()
            .filter(|entry| entry["ready"] == true)
            .count()
            .ge(&2)
            .then_some(())
    });
    // Services that were killed in this test are heard of for a minute.
    service.sql("DELETE FROM service_seen WHERE seen_at < (SELECT max(seen_at) FROM service_seen) - interval '15 seconds' OR NOT root_keys @> ARRAY(SELECT next_root_key FROM organisation)");
    let done = finish(&service.sign_in("ines")).good();
    assert_eq!(
        (done["root_key"].as_str(), &done["next_root_key"]),
        (Some(second.as_str()), &Value::Null)
    );
    opens(&service, "finished");
    opens(&other, "finished beside it");
    until("both files have taken their place", || {
        (!next_file(&service.folder) && !next_file(&other.folder)).then_some(())
    });
    assert!(fs::read_to_string(&stale).unwrap().contains(&second));
    assert!(
        fs::read_to_string(service.folder.join("root-key.previous.json"))
            .unwrap()
            .contains(&first)
    );

    // Killed after the database has changed and before the file took its place.
    fs::rename(
        service.folder.join("root-key.json"),
        service.folder.join("root-key.next.json"),
    )
    .unwrap();
    fs::rename(
        service.folder.join("root-key.previous.json"),
        service.folder.join("root-key.json"),
    )
    .unwrap();
    killed(&mut service);
    until("the file has taken its place", || {
        (!next_file(&service.folder)).then_some(())
    });
    unlock(&service, PASSPHRASE).refused(403, "not-allowed");
    let _ = unlock(&service, NEXT).good();
    opens(&service, "killed before the file took its place");

    // The former root key opens nothing, even restored.
    let ines = service.sign_in("ines");
    let events = ines.events("root-key");
    assert!(
        events
            .iter()
            .any(|event| event["action"] == "root-key.finish"
                && event["detail"]["root_key"] == second.as_str()),
        "{events:?}"
    );
    assert!(
        events
            .iter()
            .any(|event| event["action"] == "root-key.change" && event["outcome"] == "refused"),
        "{events:?}"
    );
    service.kill();
    fs::copy(
        service.folder.join("root-key.previous.json"),
        service.folder.join("root-key.json"),
    )
    .unwrap();
    service.start(&[]);
    unlock(&service, PASSPHRASE).refused(409, "other-root-key");
    assert_eq!(
        service
            .call("GET", "/api/v1/status", None, None, None)
            .text("state"),
        "locked"
    );
}

#[test]
fn an_abandoned_root_key_opens_nothing() {
    let mut service = strict(&[]);
    let ines = service.sign_in("ines");
    let target = login(&ines, &ines.folder("Safe"), "root", "root", "Root-1");
    let _ = change(&ines, PASSPHRASE).good();
    let kept = fs::read_to_string(service.folder.join("root-key.next.json")).unwrap();
    let view = ines.post("/api/v1/keys/root/abandon", &json!({})).good();
    assert!(view["next_root_key"].is_null() && !next_file(&service.folder));
    fs::write(service.folder.join("root-key.next.json"), kept).unwrap();
    killed(&mut service);
    unlock(&service, NEXT).refused(409, "other-root-key");
    let _ = unlock(&service, PASSPHRASE).good();
    assert_eq!(
        service.sign_in("ines").reveal(&target).text("value"),
        "Root-1"
    );
    // A change begun anew takes the place of the file.
    let _ = change(&service.sign_in("ines"), PASSPHRASE).good();
    let _ = finish_alone(&service);
    assert_eq!(
        service.sign_in("ines").reveal(&target).text("value"),
        "Root-1"
    );
}

/// Finishes where no other service runs; those that were killed are heard of for a minute.
fn finish_alone(service: &Service) -> Value {
    service.sql("DELETE FROM service_seen");
    finish(&service.sign_in("ines")).good()
}

#[test]
fn the_organisation_key_changes_while_two_services_work_and_one_is_killed() {
    let mut service = strict(&[]);
    let other = service.beside();
    let (ines, there) = (service.sign_in("ines"), other.sign_in("ines"));
    let safe = ines.folder("Safe");
    let held = login(&ines, &safe, "held", "root", "Root-1");
    let targets: Vec<String> = (0..120)
        .map(|n| {
            login(
                &ines,
                &safe,
                &format!("unit {n}"),
                "root",
                &format!("Unit-{n}"),
            )
        })
        .collect();
    let _ = login(&ines, &safe, "twin", "root", "Unit-7");
    ines.post("/api/v1/keys/organisation", &json!({"reason": ""}))
        .refused(422, "bad-input");

    // One row is held by another transaction, so that the change cannot come to its end.
    let holder = Holder::of(&service, &held);
    let view = ines
        .post(
            "/api/v1/keys/organisation",
            &json!({"reason": "yearly change"}),
        )
        .good();
    assert_eq!(view["organisation_key"], 2);
    ines.post("/api/v1/keys/organisation", &json!({"reason": "again"}))
        .refused(409, "organisation-key-changing");
    // The other service, which may not know of it yet, tells to try again or works; nothing gets
    // lost.
    until("it works on the other service", || {
        let answer = there.reveal(&targets[3]);
        assert!(
            answer.status == 200 || answer.code() == "keys-changed",
            "{}",
            answer.body
        );
        (answer.status == 200).then_some(())
    });
    let added = login(&there, &safe, "added meanwhile", "root", "Added-1");
    until("all but one have moved", || {
        (service.sql("SELECT count(*) FROM credential WHERE key_number = 1") == "1").then_some(())
    });
    assert_eq!(
        service.sql("SELECT former_key IS NOT NULL FROM organisation"),
        "t"
    );
    // The database itself keeps the former key while something is under it.
    assert!(
        refused_by_the_database(&service, "UPDATE organisation SET former_key = NULL")
            .contains("still under the former")
    );
    assert!(
        refused_by_the_database(&service, "UPDATE organisation SET wrapped_key = 'x'")
            .contains("never overwritten")
    );
    assert!(
        refused_by_the_database(
            &service,
            "UPDATE credential SET data_key = 'x', key_number = 3"
        )
        .contains("never overwritten")
    );
    service.kill();
    drop(other);
    drop(holder);
    service.start(&[]);
    service.unlock();
    until("the former key is gone", || {
        (service.sql("SELECT former_key IS NULL FROM organisation") == "t").then_some(())
    });
    let ines = service.sign_in("ines");
    for (n, target) in targets.iter().enumerate().step_by(13) {
        assert_eq!(ines.reveal(target).text("value"), format!("Unit-{n}"));
    }
    assert_eq!(ines.reveal(&held).text("value"), "Root-1");
    assert_eq!(ines.reveal(&added).text("value"), "Added-1");
    // Reuse is still found, within what was there before and with what comes.
    let again = login(&ines, &safe, "again", "root", "Unit-7");
    for entry in [&targets[7], &again] {
        until("reuse is found", || {
            let seen = ines.get(&format!("/api/v1/credentials/{entry}")).good();
            seen["findings"]
                .as_array()
                .is_some_and(|all| all.iter().any(|finding| finding["name"] == "reused"))
                .then_some(())
        });
    }
    // Every event has its place, whichever key authenticated it, and the log verifies.
    until("all events have their place", || {
        (service.sql("SELECT count(*) FROM audit_event e WHERE NOT EXISTS (SELECT FROM audit_leaf l WHERE l.event_id = e.id)") == "0").then_some(())
    });
    assert_eq!(
        ines.events("organisation-key.change").len(),
        2,
        "done once, refused once"
    );
    assert_eq!(ines.events("organisation-key.moved").len(), 1);
    assert_eq!(service.sql("SELECT min(key_number) FROM credential"), "2");
}
