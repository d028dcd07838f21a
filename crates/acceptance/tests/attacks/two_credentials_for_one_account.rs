//! A second credential is put on the account of the first, to race its rotations or to guess its
//! password without bound.

use jexlin_standins::ssh_device::SshDevice;
use serde_json::json;

use super::{account, confirm, device, grant, job, login, strict};

#[test]
fn an_account_has_one_password_whoever_names_it() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("duty", "Duty-1"), ("Duty", "Other-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let first = account(&ines, &folder, &unit, "first", "duty", "Duty-1");
    let second = json!({"folder": folder, "kind": "device-admin", "name": "second", "fields": {"user_name": "duty"}, "password": "Guess-1", "device": unit});
    ines.post("/api/v1/credentials", &second)
        .refused(409, "account-taken");
    let second = login(&ines, &folder, "second", "duty", "Guess-1");
    ines.patch(
        &format!("/api/v1/credentials/{second}"),
        1,
        &json!({"device": unit}),
    )
    .refused(409, "account-taken");
    // A POSIX host tells large letters from small ones: another account.
    let _ = account(&ines, &folder, &unit, "third", "Duty", "Other-1");
    // Renaming what is in the vault does not make it another account's password.
    ines.patch(
        &format!("/api/v1/credentials/{first}"),
        1,
        &json!({"fields": {"user_name": "root"}}),
    )
    .refused(409, "is-account");
    assert_eq!(job(&ines, &first, "check")["outcome"], "in-sync");
    assert_eq!(
        service.sql("SELECT count(*) FROM account WHERE login = 'duty'"),
        "1"
    );
}

#[test]
fn an_editor_of_a_folder_does_not_enroll_accounts_on_its_devices() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let host = SshDevice::start(&[("root", "Root-1")]).unwrap();
    let unit = device(&ines, &folder, "unit", host.port());
    confirm(&ines, &unit);
    let marek = ines.person("marek", &[]);
    grant(&ines, "folder", &folder, &marek, "edit");
    let marek = service.sign_in("marek");
    let body = json!({"folder": folder, "kind": "device-admin", "name": "mine", "fields": {"user_name": "root"}, "password": "Guess-1", "device": unit});
    marek
        .post("/api/v1/credentials", &body)
        .refused(403, "not-allowed");
    let own = login(&marek, &folder, "mine", "root", "Guess-1");
    marek
        .patch(
            &format!("/api/v1/credentials/{own}"),
            1,
            &json!({"device": unit}),
        )
        .refused(403, "not-allowed");
    assert!(host.tried().is_empty());
}
