//! The console in headless Chromium: the whole job once, and accessibility by axe in both themes.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing, reason = "what cannot be set up ends the test")]

use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::{Client, ClientBuilder, Locator};
use jexlin_acceptance::{PASSWORD, Service};
use serde_json::{Value, json};

struct Driver(Child, u16);

impl Driver {
    fn start() -> Self {
        let port = jexlin_standins::free_port().unwrap();
        let child = Command::new("chromedriver").arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("chromedriver");
        jexlin_standins::wait_for_port("127.0.0.1", port).unwrap();
        Self(child, port)
    }

    async fn browser(&self, more: &[&str]) -> Client {
        let folder = std::env::temp_dir().join(format!("jexlin-browser-{}-{}", std::process::id(), jexlin_standins::free_port().unwrap()));
        let mut arguments: Vec<String> = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,800",
        ]
        .map(str::to_owned)
        .into();
        arguments.push(format!("--user-data-dir={}", folder.display()));
        arguments.extend(more.iter().map(|argument| (*argument).to_owned()));
        let mut wanted = serde_json::Map::new();
        wanted.insert("goog:chromeOptions".into(), json!({"args": arguments, "binary": "/usr/bin/chromium"}));
        wanted.insert("goog:loggingPrefs".into(), json!({"browser": "ALL"}));
        ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(wanted)
            .connect(&format!("http://127.0.0.1:{}", self.1))
            .await
            .expect("a browser")
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A browser with somebody signed in.
struct Page(Client);

impl Page {
    async fn find(&self, xpath: &str) -> fantoccini::elements::Element {
        self.0.wait().at_most(Duration::from_secs(20)).for_element(Locator::XPath(xpath)).await.unwrap_or_else(|error| panic!("{xpath}: {error}"))
    }

    async fn press(&self, text: &str) {
        let xpath = format!("//button[contains(normalize-space(.), \"{text}\") and not(@disabled)] | //a[contains(normalize-space(.), \"{text}\")]");
        self.find(&xpath).await.click().await.unwrap_or_else(|error| panic!("{text}: {error}"));
    }

    async fn fill(&self, label: &str, text: &str) {
        let field = self.find(&format!("//label[starts-with(normalize-space(.), \"{label}\")]/following-sibling::input")).await;
        field.send_keys(text).await.unwrap();
    }

    async fn sees(&self, text: &str) {
        self.find(&format!("//*[contains(normalize-space(.), \"{text}\")]")).await;
    }

    async fn sign_in(&self, service: &Service, name: &str) {
        self.0.goto(&service.url).await.unwrap();
        self.fill("Sign-in name", name).await;
        self.fill("Password", PASSWORD).await;
        self.press("Sign in").await;
        self.sees(&format!("Today, {name}")).await;
    }

    /// Nothing that axe can find against WCAG 2.2 AA.
    async fn accessible(&self, what: &str) {
        let axe = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js")).unwrap();
        self.0.execute(&format!("{axe}; window.axe = axe;"), vec![]).await.unwrap();
        let run = "const done = arguments[arguments.length - 1]; axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html + ' ' + n.failureSummary).join(' | '))))";
        let found = self.0.execute_async(run, vec![]).await.unwrap();
        assert_eq!(found, Value::Array(vec![]), "{what}");
    }
}

fn world() -> (Service, String) {
    let service = Service::ready();
    let credential = {
        let ines = service.sign_in("ines");
        let folder = ines.folder("Pumping");
        let credential = ines.login(&folder, "Ridge pump", "Winter-tide-O01l");
        let (marek, tomas) = (ines.person("marek", &[]), ines.person("tomas", &[]));
        for person in [&marek, &tomas] {
            let _ = ines.make("/api/v1/grants", &json!({"folder": folder, "person": person, "level": "reveal"}));
        }
        let _ =
            ines.make("/api/v1/gates", &json!({"folder": folder, "needs_reason": true, "approver_people": [tomas], "longest_minutes": 60, "one_holder": true}));
        credential
    };
    (service, credential)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_is_made_approved_revealed_and_given_back_in_two_browsers() {
    let (service, credential) = world();
    let driver = Driver::start();
    let marek = Page(driver.browser(&[]).await);
    marek.sign_in(&service, "marek").await;
    marek.0.goto(&format!("{}/vault/-/{credential}", service.url)).await.unwrap();
    marek.sees("A gate stands here").await;
    marek.fill("Reason", "pump 3 has stopped").await;
    marek.press("Ask for it").await;
    marek.sees("waiting your request").await;
    let tomas = Page(driver.browser(&[]).await);
    tomas.sign_in(&service, "tomas").await;
    tomas.sees("pump 3 has stopped").await;
    tomas.fill("Comment to marek", "Call me when it runs.").await;
    tomas.press("Approve").await;
    // No button is pressed on marek's side: the page changes by itself.
    marek.sees("Call me when it runs.").await;
    marek.press("Check out").await;
    marek.sees("You hold it").await;
    marek.press("Reveal").await;
    let shown = marek.find("//*[@data-secret='shown']").await.text().await.unwrap();
    assert_eq!(shown.replace('\n', ""), "Winter-tide-O01l");
    marek.press("Spell it").await;
    marek.sees("capital O, zero, one, small L").await;
    marek.press("Hide").await;
    assert!(!marek.0.source().await.unwrap().contains("Winter-tide"), "hidden is gone from the page");
    marek.press("Check in").await;
    marek.find("//button[contains(., 'Ask for it')]").await;
    marek.press("Sign out").await;
    marek.sees("Sign in to Osmere Water").await;
    for page in [marek, tomas] {
        page.0.close().await.unwrap();
    }
    let outcomes: Vec<_> = service.sign_in("ines").events("credential.reveal").iter().map(|event| event["outcome"].as_str().unwrap().to_owned()).collect();
    assert_eq!(outcomes, ["done"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_administrator_adds_and_shares_and_every_page_is_accessible_in_both_themes() {
    let (service, credential) = world();
    let driver = Driver::start();
    for more in [&[][..], &["--force-dark-mode"][..]] {
        let ines = Page(driver.browser(more).await);
        ines.0.goto(&service.url).await.unwrap();
        ines.sees("Sign in to Osmere Water").await;
        ines.accessible("the door").await;
        ines.fill("Sign-in name", "ines").await;
        ines.fill("Password", PASSWORD).await;
        ines.press("Sign in").await;
        ines.sees("Today, Ines Calder").await;
        for (path, shows) in [
            ("/", "You hold"),
            ("/vault", "Ridge pump"),
            (&format!("/vault/-/{credential}"), "A gate stands here"),
            ("/requests", "Your checkouts"),
            ("/upkeep", "Plans"),
            ("/people", "Groups"),
            ("/passwords", "Standard"),
            ("/audit", "Prove it"),
        ] {
            ines.0.goto(&format!("{}{path}", service.url)).await.unwrap();
            ines.sees(shows).await;
            ines.accessible(&format!("{path} {more:?}")).await;
        }
        ines.0.close().await.unwrap();
    }
    let ines = Page(driver.browser(&[]).await);
    ines.0.goto(&service.url).await.unwrap();
    ines.fill("Sign-in name", "ines").await;
    ines.fill("Password", PASSWORD).await;
    ines.press("Sign in").await;
    ines.press("Vault").await;
    ines.press("Pumping").await;
    ines.press("Add a credential").await;
    ines.fill("Name", "Sluice").await;
    ines.fill("URL", "javascript:alert(1)").await;
    ines.press("Add the credential").await;
    ines.sees("a URL begins with").await;
    let kept = ines.find("//label[starts-with(normalize-space(.), 'Name')]/following-sibling::input").await.prop("value").await.unwrap();
    assert_eq!(kept.as_deref(), Some("Sluice"), "what was typed stays");
    ines.0.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_steward_recalls_changes_a_device_and_makes_a_policy_in_the_console() {
    let (service, credential) = world();
    let ines = service.sign_in("ines");
    let folder = ines.get(&format!("/api/v1/credentials/{credential}")).text("folder");
    let device = ines.make("/api/v1/devices", &json!({"folder": folder, "name": "telemetry", "address": "127.0.0.9"}));
    let request = service.sign_in("marek").make("/api/v1/requests", &json!({"credential": credential, "reason": "pump 3 has stopped", "minutes": 30}));
    let _ = service.sign_in("tomas").post(&format!("/api/v1/requests/{request}/approve"), &json!({"comment": ""})).good();
    let held = service.sign_in("marek").make("/api/v1/checkouts", &json!({"request": request}));
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.0.goto(&service.url).await.unwrap();
    page.fill("Sign-in name", "ines").await;
    page.fill("Password", PASSWORD).await;
    page.press("Sign in").await;
    page.sees("Today, Ines Calder").await;
    page.0.goto(&format!("{}/vault/-/{credential}", service.url)).await.unwrap();
    page.sees("holds it").await;
    page.press("Recall").await;
    page.0.accept_alert().await.unwrap();
    page.find("//button[contains(., 'Ask for it')]").await;
    let row = service.sign_in("marek").get("/api/v1/checkouts").good()["items"][0].clone();
    assert_eq!((&row["id"], &row["ended_how"]), (&json!(held), &json!("recalled")));
    page.0.goto(&format!("{}/upkeep", service.url)).await.unwrap();
    page.press("Change telemetry").await;
    let address = page.find("//label[starts-with(normalize-space(.), 'Address')]/following-sibling::input").await;
    address.clear().await.unwrap();
    address.send_keys("127.0.0.10").await.unwrap();
    page.press("Save").await;
    page.sees("127.0.0.10:22").await;
    assert_eq!(ines.get(&format!("/api/v1/devices/{device}")).text("address"), "127.0.0.10");
    page.0.goto(&format!("{}/passwords", service.url)).await.unwrap();
    page.press("Generate").await;
    assert_eq!(page.find("//output").await.text().await.unwrap().chars().count(), 20);
    page.press("Add a policy").await;
    page.fill("Name", "Telemetry units").await;
    page.press("Add the policy").await;
    page.sees("Telemetry units").await;
    page.0.close().await.unwrap();
    assert_eq!(ines.events("policy.add").len(), 1);
}
