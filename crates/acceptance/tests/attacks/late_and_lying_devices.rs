//! A device applies a change after its time limit, says that it changed what it did not, or accepts
//! the former password as well; the vault loses nothing.

use jexlin_acceptance::{Service, Session};
use jexlin_standins::ssh_device::{Behaviour, SshDevice};
use serde_json::json;

use super::{QUICK, account, confirm, device, job, make_operator, rotate_until_done, strict};

fn host_with_duty(ines: &Session<'_>) -> (SshDevice, String) {
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let unit = device(ines, &folder, "unit", host.port());
    confirm(ines, &unit);
    let root = account(ines, &folder, &unit, "root", "root", "Root-1");
    let duty = account(ines, &folder, &unit, "duty", "duty", "Duty-1");
    make_operator(ines, &unit, &root);
    (host, duty)
}

fn forgive(service: &Service) {
    service.sql("DELETE FROM failed_login");
}

/// The change of a rotation that was in doubt is applied only after a later rotation was done.
#[test]
fn a_change_that_is_applied_after_a_later_rotation_is_found_by_a_check() {
    let service = strict(&QUICK);
    let ines = service.sign_in("ines");
    let (host, duty) = host_with_duty(&ines);
    host.behave(Behaviour::AppliesLate);
    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "in-doubt");
    let late = host.sent().last().unwrap().1.clone();
    // TryResult again, the device takes the same password at once; then a further rotation.
    host.behave(Behaviour::Obeys);
    rotate_until_done(&service, &ines, &duty);
    assert_eq!(
        host.password("duty"),
        late,
        "the same password was applied again"
    );
    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "done");
    assert_ne!(host.password("duty"), late);
    // Now the first command ends.
    assert_eq!(host.apply_late(), 1);
    assert_eq!(host.password("duty"), late);
    forgive(&service);
    let checked = job(&ines, &duty, "check");
    assert_eq!(checked["outcome"], "in-sync", "{checked}");
    assert_eq!(ines.reveal(&duty).text("value"), late);
    assert!(ines.events("upkeep.checked")[0]["detail"]["adopted_version"].is_string());
}

#[test]
fn a_device_that_says_done_and_keeps_the_old_password_costs_neither() {
    let service = strict(&QUICK);
    let ines = service.sign_in("ines");
    let (host, duty) = host_with_duty(&ines);
    host.behave(Behaviour::Lies);
    let ended = job(&ines, &duty, "rotate");
    assert_eq!(ended["outcome"], "in-doubt", "{ended}");
    assert_eq!(ines.reveal(&duty).text("value"), "Duty-1");
    assert_eq!(service.sql(&format!("SELECT count(*) FROM secret_version WHERE credential_id = '{duty}' AND state = 'candidate'")), "1");
    host.behave(Behaviour::Obeys);
    rotate_until_done(&service, &ines, &duty);
    assert_eq!(ines.reveal(&duty).text("value"), host.password("duty"));
}

#[test]
fn a_device_that_accepts_both_for_a_while_ends_with_the_new_one() {
    let service = strict(&QUICK);
    let ines = service.sign_in("ines");
    let (host, duty) = host_with_duty(&ines);
    host.behave(Behaviour::AcceptsBoth);
    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "done");
    assert_eq!(ines.reveal(&duty).text("value"), host.password("duty"));
    assert_ne!(host.password("duty"), "Duty-1");
}

#[test]
fn a_refusal_in_words_discards_and_says_why() {
    let service = strict(&QUICK);
    let ines = service.sign_in("ines");
    let (host, duty) = host_with_duty(&ines);
    host.behave(Behaviour::Refuses);
    let ended = job(&ines, &duty, "rotate");
    assert_eq!(
        (&ended["outcome"], &ended["state"]),
        (&json!("refused"), &json!("failed")),
        "{ended}"
    );
    assert!(
        ended["message"].as_str().unwrap().contains("too short"),
        "{ended}"
    );
    assert_eq!(host.password("duty"), ines.reveal(&duty).text("value"));
}
