//! A device is put into the bin, its account after it; time purges the password, and the device is
//! taken out again.

use serde_json::json;

use super::{account, device, revision, strict};

#[test]
fn the_bin_keeps_the_password_as_long_as_the_device_can_come_back() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let (folder, devices) = (ines.folder("Pumping"), ines.folder("Devices"));
    let unit = device(&ines, &devices, "unit", 22);
    let duty = account(&ines, &folder, &unit, "duty", "duty", "Duty-1");
    let _ = ines.delete(
        &format!("/api/v1/credentials/{duty}"),
        Some(revision(&ines, &format!("/api/v1/credentials/{duty}"))),
    );
    let path = format!("/api/v1/devices/{unit}");
    assert_eq!(ines.delete(&path, Some(revision(&ines, &path))).status, 200);
    service.sql("UPDATE removal SET removed_at = now() - interval '400 days'");
    // What nothing keeps is purged; by then the account would have been, too.
    let other = ines.login(&folder, "other", "Other-1");
    let _ = ines.delete(&format!("/api/v1/credentials/{other}"), Some(1));
    service.sql(&format!(
        "UPDATE removal SET removed_at = now() - interval '400 days' WHERE target = '{other}'"
    ));
    jexlin_acceptance::until("a purge", || {
        (service.sql(&format!(
            "SELECT purged_at IS NOT NULL FROM credential WHERE id = '{other}'"
        )) == "t")
            .then_some(())
    });
    assert_eq!(
        service.sql(&format!(
            "SELECT purged_at IS NULL FROM credential WHERE id = '{duty}'"
        )),
        "t"
    );
    for target in [&unit, &duty] {
        let removal = service.sql(&format!("SELECT id FROM removal WHERE target = '{target}'"));
        let _ = ines
            .post(&format!("/api/v1/bin/{removal}/restore"), &json!({}))
            .good();
    }
    assert_eq!(ines.reveal(&duty).text("value"), "Duty-1");
}
