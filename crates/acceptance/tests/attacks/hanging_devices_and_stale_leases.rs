//! Rotations at silent hosts keep another's rotation waiting until its lease is over, so that two
//! workers run it and one discards the password that the device takes.

use std::time::Instant;

use jexlin_acceptance::until;
use jexlin_standins::misbehaving_device::{self, Manner};
use jexlin_standins::ssh_device::{Behaviour, SshDevice};
use serde_json::json;

use super::{account, confirm, device, job, login, make_operator, strict};

#[test]
fn silent_hosts_keep_nobody_elses_rotation_waiting() {
    let service = strict(&[("JEXLIN_RUNNERS", "12")]);
    let ines = service.sign_in("ines");
    let (folder, odd) = (ines.folder("Pumping"), ines.folder("Odd"));
    service.settings(&json!({"connect_to": ["127.0.0.0/8"], "trust_first_contact": true}));
    let root = login(&ines, &odd, "odd root", "root", "Root-1");
    let mut silent = vec![];
    for n in 0..7 {
        let unit = device(
            &ines,
            &odd,
            &format!("silent {n}"),
            misbehaving_device::device(Manner::Hangs).unwrap(),
        );
        make_operator(&ines, &unit, &root);
        silent.push(account(
            &ines,
            &odd,
            &unit,
            &format!("silent {n}"),
            &format!("user{n}"),
            "Silent-1",
        ));
    }
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let operator = account(&ines, &folder, &unit, "root", "root", "Root-1");
    make_operator(&ines, &unit, &operator);
    for credential in &silent {
        let _ = ines
            .post(
                &format!("/api/v1/credentials/{credential}/rotate"),
                &json!({}),
            )
            .good();
    }
    let tomas = ines.person("tomas", &[]);
    super::grant(&ines, "folder", &folder, &tomas, "edit");
    let tomas = service.sign_in("tomas");
    let begin = Instant::now();
    let ended = job(&tomas, &duty, "rotate");
    assert_eq!(ended["outcome"], "done", "{ended}");
    let still = service.sql("SELECT count(*) FROM job WHERE state IN ('queued', 'running')");
    assert!(
        still.parse::<i64>().unwrap() >= 1,
        "the silent hosts are still waited for after {:?}",
        begin.elapsed()
    );
    assert_eq!(host.password("duty"), ines.reveal(&duty).text("value"));
}

#[test]
fn a_worker_whose_lease_was_taken_over_sends_and_writes_nothing() {
    let mut service = strict(&[]);
    service.kill();
    // Its only worker is the one that is held: it does not take its own job over.
    service.start(&[("JEXLIN_HOLD_AT", "before-apply"), ("JEXLIN_RUNNERS", "1")]);
    service.unlock();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let root = account(&ines, &folder, &unit, "root", "root", "Root-1");
    make_operator(&ines, &unit, &root);
    let rotation = ines.make(&format!("/api/v1/credentials/{duty}/rotate"), &json!({}));
    let held = service.folder.join("held");
    until("a worker that is held before it sends", || {
        held.exists().then_some(())
    });
    // A second service takes the job over and ends it.
    let beside = service.beside_with(&[("JEXLIN_HOLD_AT", "")]);
    service
        .sql("UPDATE job SET leased_until = now() - interval '1 second' WHERE state = 'running'");
    let ended = ines.settled(&rotation);
    assert_eq!(ended["outcome"], "done", "{ended}");
    let (sent, password) = (host.sent().len(), host.password("duty"));
    // The first one is let go: its lease is over.
    std::fs::remove_file(&held).unwrap();
    std::fs::write(service.folder.join("go"), "").unwrap();
    until("the first worker's end", || {
        service
            .log()
            .contains("another worker has the job")
            .then_some(())
    });
    assert_eq!(
        (host.sent().len(), host.password("duty")),
        (sent, password.clone())
    );
    assert_eq!(ines.reveal(&duty).text("value"), password);
    drop(beside);
}

#[test]
fn a_device_that_answers_late_loses_no_password() {
    let service = strict(&super::QUICK);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let root = account(&ines, &folder, &unit, "root", "root", "Root-1");
    make_operator(&ines, &unit, &root);
    host.behave(Behaviour::AppliesLate);
    let ended = job(&ines, &duty, "rotate");
    assert_eq!(ended["outcome"], "in-doubt", "{ended}");
    assert!(host.apply_late() >= 1);
    super::rotate_until_done(&service, &ines, &duty);
    assert_eq!(host.password("duty"), ines.reveal(&duty).text("value"));
}
