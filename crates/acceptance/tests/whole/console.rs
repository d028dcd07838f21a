//! The console in headless Chromium: the whole job once, and accessibility by axe in both themes.

use jexlin_acceptance::browser::{Driver, Page};
use jexlin_acceptance::{PASSWORD, Service, Session};
use serde_json::json;

fn world() -> (Service, String) {
    let service = Service::ready();
    let credential = {
        let ines = service.sign_in("ines");
        let folder = ines.folder("Pumping");
        let credential = ines.login(&folder, "Ridge pump", "Winter-tide-O01l");
        let (marek, tomas) = (ines.person("marek", &[]), ines.person("tomas", &[]));
        for person in [&marek, &tomas] {
            let _ = ines.make(
                "/api/v1/grants",
                &json!({"folder": folder, "person": person, "level": "reveal"}),
            );
        }
        let _ =
            ines.make("/api/v1/gates", &json!({"folder": folder, "needs_reason": true, "approver_people": [tomas], "max_minutes": 60, "one_holder": true}));
        credential
    };
    (service, credential)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_is_made_approved_used_and_checked_in_in_two_browsers() {
    let (service, credential) = world();
    let driver = Driver::start();
    let marek = Page(driver.browser(&[]).await);
    marek.sign_in(&service, "marek").await;
    marek
        .0
        .goto(&format!("{}/vault/-/{credential}", service.url))
        .await
        .unwrap();
    marek.sees("This credential has a gate").await;
    marek.fill("Reason", "pump 3 has stopped").await;
    marek.press("Request checkout").await;
    marek.sees("waiting your request").await;
    let tomas = Page(driver.browser(&[]).await);
    tomas.sign_in(&service, "tomas").await;
    tomas.sees("pump 3 has stopped").await;
    tomas
        .fill("Comment to marek", "Call me when it runs.")
        .await;
    tomas.press("Approve").await;
    // No button is pressed on marek's side: the page changes by itself.
    marek.sees("Call me when it runs.").await;
    marek.press("Check out").await;
    marek.sees("Checked out to you;").await;
    marek.press("Reveal").await;
    let shown = marek
        .find("//*[@data-secret='shown']")
        .await
        .text()
        .await
        .unwrap();
    assert_eq!(shown.replace('\n', ""), "Winter-tide-O01l");
    marek.press("Spell it").await;
    marek.sees("capital O, zero, one, small L").await;
    marek.press("Hide").await;
    assert!(
        !marek.0.source().await.unwrap().contains("Winter-tide"),
        "hidden is gone from the page"
    );
    marek.press("Check in").await;
    marek
        .find("//button[contains(., 'Request checkout')]")
        .await;
    marek.choose("marek", "Sign out").await;
    marek.sees("Sign in to Jexlin").await;
    for page in [marek, tomas] {
        page.0.close().await.unwrap();
    }
    let outcomes: Vec<_> = service
        .sign_in("ines")
        .events("credential.reveal")
        .iter()
        .map(|event| event["outcome"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(outcomes, ["done"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_administrator_adds_and_shares_and_every_page_is_accessible_in_both_themes() {
    let (service, credential) = world();
    let driver = Driver::start();
    for more in [&[][..], &["--force-dark-mode"][..]] {
        let ines = Page(driver.browser(more).await);
        ines.0.goto(&service.url).await.unwrap();
        ines.sees("Sign in to Jexlin").await;
        ines.accessible("the door").await;
        ines.fill("Sign-in name", "ines").await;
        ines.fill("Password", PASSWORD).await;
        ines.press("Sign in").await;
        ines.sees("Waiting for you").await;
        for (path, shows) in [
            ("/", "You hold"),
            ("/vault", "Ridge pump"),
            (
                &format!("/vault/-/{credential}"),
                "This credential has a gate",
            ),
            ("/credentials", "Ridge pump"),
            ("/requests", "No requests here"),
            ("/checkouts", "You have not checked anything out"),
            ("/devices", "There are no devices yet"),
            ("/accounts", "No credential is an account"),
            ("/jobs", "No job has run yet"),
            ("/plans", "There is no plan yet"),
            ("/dialogues", "There are none yet"),
            ("/dialogues/new", "Nothing is wrong with it."),
            ("/findings", "There are no weak"),
            ("/people", "Ines Calder"),
            ("/people?tab=groups", "There are no groups yet"),
            ("/policies", "Standard"),
            ("/access", "Access issues"),
            ("/import-export", "Nothing has been imported"),
            ("/profile", "Your sessions"),
            ("/audit", "Verify the log"),
            ("/bin", "The bin is empty"),
            ("/personal", "cannot be recovered by anybody"),
            ("/settings", "Kinds of credentials"),
        ] {
            ines.0
                .goto(&format!("{}{path}", service.url))
                .await
                .unwrap();
            ines.sees(shows).await;
            ines.accessible(&format!("{path} {more:?}")).await;
        }
        ines.0.close().await.unwrap();
    }
    let ines = Page(driver.browser(&[]).await);
    ines.sign_in(&service, "ines").await;
    ines.press("Vault").await;
    ines.press("Pumping").await;
    ines.press("Add a credential").await;
    ines.fill("Name", "Sluice").await;
    ines.fill("URLs", "javascript:alert(1)").await;
    ines.press("Add the credential").await;
    ines.sees("is a script or a document").await;
    let kept =
        ines.find("//label[starts-with(normalize-space(.), 'Name')]/following-sibling::*[self::input or self::textarea]").await.prop("value").await.unwrap();
    assert_eq!(kept.as_deref(), Some("Sluice"), "what was typed stays");
    ines.0.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_steward_recalls_changes_a_device_and_makes_a_policy_in_the_console() {
    let (service, credential) = world();
    let ines = service.sign_in("ines");
    let folder = ines
        .get(&format!("/api/v1/credentials/{credential}"))
        .text("folder");
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "telemetry", "address": "127.0.0.9"}),
    );
    let request = service.sign_in("marek").make(
        "/api/v1/requests",
        &json!({"credential": credential, "reason": "pump 3 has stopped", "minutes": 30}),
    );
    let _ = service
        .sign_in("tomas")
        .post(
            &format!("/api/v1/requests/{request}/approve"),
            &json!({"comment": ""}),
        )
        .good();
    let held = service
        .sign_in("marek")
        .make("/api/v1/checkouts", &json!({"request": request}));
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&service, "ines").await;
    page.0
        .goto(&format!("{}/vault/-/{credential}", service.url))
        .await
        .unwrap();
    page.sees("holds it").await;
    page.press("Recall").await;
    page.confirm("Recall").await;
    page.find("//button[contains(., 'Request checkout')]").await;
    let row = service.sign_in("marek").get("/api/v1/checkouts").good()["items"][0].clone();
    assert_eq!(
        (&row["id"], &row["ended_how"]),
        (&json!(held), &json!("recalled"))
    );
    page.0
        .goto(&format!("{}/devices", service.url))
        .await
        .unwrap();
    page.press("telemetry").await;
    page.press("Edit telemetry").await;
    let address = page.find("//label[starts-with(normalize-space(.), 'Address')]/following-sibling::*[self::input or self::textarea]").await;
    address.clear().await.unwrap();
    address.send_keys("127.0.0.10").await.unwrap();
    page.press("Save").await;
    page.sees("127.0.0.10:22").await;
    assert_eq!(
        ines.get(&format!("/api/v1/devices/{device}"))
            .text("address"),
        "127.0.0.10"
    );
    add_a_device_where_its_folder_is_typed(&page, &service, &ines, &folder).await;
    page.0
        .goto(&format!("{}/policies", service.url))
        .await
        .unwrap();
    page.press("Generate").await;
    assert_eq!(
        page.find("//output")
            .await
            .text()
            .await
            .unwrap()
            .chars()
            .count(),
        20
    );
    page.press("Add a policy").await;
    page.fill("Name", "Telemetry units").await;
    page.press("Add policy").await;
    page.sees("Telemetry units").await;
    page.0.close().await.unwrap();
    assert_eq!(ines.events("policy.add").len(), 1);
}

/// From the page of all devices, where no folder is open.
async fn add_a_device_where_its_folder_is_typed(
    page: &Page,
    service: &Service,
    ines: &Session<'_>,
    folder: &str,
) {
    let path = ines.get(&format!("/api/v1/folders/{folder}")).text("path");
    page.0
        .goto(&format!("{}/devices", service.url))
        .await
        .unwrap();
    page.press("Add a device").await;
    page.fill("Name", "inlet").await;
    page.fill("Address", "127.0.0.11").await;
    page.fill("Folder", &format!("{path} and more")).await;
    page.press("Add the device").await;
    page.sees("Choose one of the folders.").await;
    page.find("//input[@name='folder path']")
        .await
        .clear()
        .await
        .unwrap();
    page.fill("Folder", &path).await;
    page.press("Add the device").await;
    page.find("//h1[normalize-space(.)='inlet']").await;
    let added = service.sql("SELECT folder_id FROM device WHERE name = 'inlet'");
    assert_eq!(added, folder);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engineers_day_in_the_vault() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let office = ines.folder("Office");
    let _ = ines.folder("Archive");
    let weak = ines.login(&office, "Franking", "summer2019");
    let portal = ines.login(&office, "Ordering portal", "Winter-tide-41");
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&service, "ines").await;
    // Short form: a name and an address are enough.
    page.0
        .goto(&format!("{}/vault/{office}", service.url))
        .await
        .unwrap();
    page.press("Add a credential").await;
    page.fill("Name", "Rainfall").await;
    page.fill("URLs", "https://rainfall.example/").await;
    page.press("Add the credential").await;
    page.press("Rainfall").await;
    page.sees("https://rainfall.example/").await;
    page.accessible("a credential").await;
    // What is wrong, and what to do.
    page.0
        .goto(&format!("{}/vault/{office}/{weak}", service.url))
        .await
        .unwrap();
    page.sees("Generate a new one").await;
    page.click("//button[@aria-label='Add to favourites']")
        .await;
    page.find("//button[@aria-label='Remove from favourites']")
        .await;
    page.press("Edit").await;
    page.click("//input[@name='generate']").await;
    page.fill("Reason", "it could be guessed").await;
    page.press("Save").await;
    page.press("History").await;
    page.sees("it could be guessed").await;
    assert_eq!(
        ines.get(&format!("/api/v1/credentials/{weak}")).good()["findings"],
        json!([])
    );
    page.press("Restore").await;
    page.sees("becomes the current value").await;
    page.accessible("the question before putting back").await;
    page.press("Restore value").await;
    page.sees("restored").await;
    assert_eq!(ines.reveal(&weak).text("value"), "summer2019");
    // One key each: the letter shows it.
    page.0
        .goto(&format!("{}/vault/{office}/{portal}", service.url))
        .await
        .unwrap();
    page.find("//button[@data-key='r']").await;
    page.find("//body").await.send_keys("r").await.unwrap();
    let shown = page
        .find("//*[@data-secret='shown']")
        .await
        .text()
        .await
        .unwrap();
    assert_eq!(shown.replace('\n', ""), "Winter-tide-41");
    // Many at a time, cut and pasted into another folder, after a look at whose access changes.
    for name in ["Franking", "Ordering portal"] {
        page.click(&format!("//input[@aria-label='Select {name}']"))
            .await;
    }
    page.sees("2 selected").await;
    page.accessible("a selection").await;
    page.press("Cut").await;
    page.find("//nav[@aria-label='Folders']//a[normalize-space(.)='Archive']")
        .await
        .send_keys("\u{e009}v")
        .await
        .unwrap();
    page.sees("Move 2 credentials into /Archive?").await;
    page.sees("No access changes").await;
    page.click("//*[@role='alertdialog']//button[contains(., 'Move')]")
        .await;
    page.sees("are now in /Archive").await;
    // By the mouse as well.
    page.drag(
        "//li//a[contains(., 'Rainfall')]",
        "//nav[@aria-label='Folders']//a[normalize-space(.)='Archive']",
    )
    .await;
    page.sees("into /Archive?").await;
    page.click("//*[@role='alertdialog']//button[contains(., 'Move')]")
        .await;
    page.sees("Rainfall is now in /Archive").await;
    // Removed, and back by one press.
    page.0
        .goto(&format!("{}/vault/-/{portal}", service.url))
        .await
        .unwrap();
    page.choose("More actions", "Remove").await;
    page.confirm("Remove").await;
    page.sees("is in the bin").await;
    page.click("//div[@role='status']//button[contains(., 'Undo')]")
        .await;
    page.sees("Undone").await;
    assert_eq!(
        ines.get(&format!("/api/v1/credentials/{portal}"))
            .text("place"),
        "/Archive"
    );
    let _ = ines
        .delete(
            &format!("/api/v1/credentials/{portal}"),
            Some(
                ines.get(&format!("/api/v1/credentials/{portal}")).good()["revision"]
                    .as_i64()
                    .unwrap(),
            ),
        )
        .good();
    page.0.goto(&format!("{}/bin", service.url)).await.unwrap();
    page.sees("/Archive/Ordering portal").await;
    page.accessible("the bin").await;
    page.press("Restore").await;
    page.sees("The bin is empty").await;
    page.0.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn kinds_settings_policies_and_ones_own_folder_in_the_console() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let works = ines.folder("Works");
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&service, "ines").await;
    page.0
        .goto(&format!("{}/settings", service.url))
        .await
        .unwrap();
    page.press("Kinds of credentials").await;
    page.press("Add a kind").await;
    page.fill("Label", "Valve code").await;
    page.fill("Name in the interface", "valve-code").await;
    page.press("Add field").await;
    page.fill("Label of field 2", "Valve").await;
    page.accessible("the form of a kind").await;
    page.press("Add kind").await;
    page.sees("Retire Valve code").await;
    page.press("General").await;
    let days = page
        .find("//label[starts-with(normalize-space(.), 'Bin retention')]/following-sibling::input")
        .await;
    days.clear().await.unwrap();
    days.send_keys("60").await.unwrap();
    page.press("Save the settings").await;
    jexlin_acceptance::until("the settings", || {
        (ines.get("/api/v1/settings").good()["settings"]["bin_days"] == 60).then_some(())
    });
    page.press("Keys").await;
    page.press("Replace the root key").await;
    page.fill("Current passphrase", jexlin_acceptance::PASSPHRASE)
        .await;
    page.fill("New passphrase", "eleven sluices and a lock")
        .await;
    page.fill("Reason", "somebody left").await;
    page.press("Prepare the change").await;
    page.sees("Until you finish, both root keys open the vault")
        .await;
    page.accessible("a change of the root key").await;
    assert!(ines.get("/api/v1/keys").good()["next_root_key"].is_string());
    page.press("Abandon").await;
    page.confirm("Abandon").await;
    page.sees("Replace the root key").await;
    assert!(ines.get("/api/v1/keys").good()["next_root_key"].is_null());
    page.0
        .goto(&format!("{}/policies", service.url))
        .await
        .unwrap();
    page.press("Edit Standard").await;
    page.press("Try").await;
    page.sees("bits of entropy each").await;
    page.accessible("the form of a policy").await;
    page.0
        .goto(&format!("{}/vault/{works}", service.url))
        .await
        .unwrap();
    page.press("Password policy").await;
    page.click("//input[@name='policy']").await;
    page.press("Set the policy").await;
    jexlin_acceptance::until("the rule", || {
        ines.get(&format!("/api/v1/folders/{works}/password-rule"))
            .good()["mode"]
            .is_string()
            .then_some(())
    });
    page.0
        .goto(&format!("{}/personal", service.url))
        .await
        .unwrap();
    page.fill("Passphrase", "tide tables by heart").await;
    page.fill("Repeat the password", "tide tables by head")
        .await;
    page.press("Create personal folder").await;
    page.sees("The two entries differ").await;
    page.find("//input[@name='again']")
        .await
        .clear()
        .await
        .unwrap();
    page.fill("Repeat the password", "tide tables by heart")
        .await;
    page.press("Create personal folder").await;
    page.press("Add to personal folder").await;
    page.fill("Name", "Canteen card").await;
    page.fill("Password", "Soup-on-Tuesdays").await;
    page.press("Add item").await;
    page.press("Reveal Canteen card").await;
    let shown = page
        .find("//*[@data-secret='shown']")
        .await
        .text()
        .await
        .unwrap();
    assert_eq!(shown.replace('\n', ""), "Soup-on-Tuesdays");
    page.accessible("one's own folder").await;
    page.press("Lock").await;
    page.sees("Open it").await;
    assert!(!page.0.source().await.unwrap().contains("Canteen"));
    page.0.close().await.unwrap();
}
