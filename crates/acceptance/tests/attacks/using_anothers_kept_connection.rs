//! An editor gives an operator credential of their own the version number of the real one, to
//! rotate accounts over the connection that is kept for the real one.

use jexlin_acceptance::until;
use jexlin_standins::ssh_device::SshDevice;
use serde_json::json;

use super::{account, confirm, device, job, login, make_operator, strict};

#[test]
fn a_wrong_password_gets_no_use_of_a_right_ones_connection() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let root = account(&ines, &folder, &unit, "root", "root", "Root-1");
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    make_operator(&ines, &unit, &root);
    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "done");
    let before = host.password("duty");
    // Another credential for the same user name, with the same version number.
    let forged = login(&ines, &folder, "forged", "root", "not the password");
    make_operator(&ines, &unit, &forged);
    let ended = job(&ines, &duty, "rotate");
    assert_eq!(ended["state"], "failed", "{ended}");
    assert_eq!(
        host.password("duty"),
        before,
        "nothing was changed over the other's connection"
    );
}

#[test]
fn a_kept_connection_ends_when_its_password_is_no_longer_the_current_one() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("root", "Root-1"), ("duty", "Duty-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let root = account(&ines, &folder, &unit, "root", "root", "Root-1");
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    make_operator(&ines, &unit, &root);
    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "done");
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{root}"),
            1,
            &json!({"password": "Root-typed-wrong"}),
        )
        .good();
    let before = host.tried().len();
    let ended = until("a refused operator", || {
        let ended = job(&ines, &duty, "rotate");
        (ended["state"] == "failed").then_some(ended)
    });
    assert!(
        ended["message"].as_str().unwrap().contains("operator"),
        "{ended}"
    );
    assert!(
        host.tried()
            .iter()
            .skip(before)
            .any(|(user, password)| user == "root" && password == "Root-typed-wrong"),
        "it signed in anew"
    );
}
