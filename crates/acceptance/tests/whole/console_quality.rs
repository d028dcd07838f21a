//! What holds for every page of the console: the browser has nothing to complain about, everything
//! that opens over a page is accessible, nothing is cut off on a narrow screen, and the tasks of every
//! day take as few steps as they should.

use fantoccini::actions::{InputSource as _, KeyAction, KeyActions};
use fantoccini::elements::Element;
use jexlin_acceptance::Service;
use jexlin_acceptance::browser::{Driver, Page};
use serde_json::json;

/// A folder with a gate and a login, an engineer who may see it, and a shift lead who approves.
struct World {
    service: Service,
    folder: String,
    login: String,
    gated: String,
}

fn world() -> World {
    let service = Service::ready();
    let (folder, login, gated) = {
        let ines = service.sign_in("ines");
        let folder = ines.folder("Pumping");
        let office = ines.folder("Office");
        let gated = ines.login(&folder, "Ridge pump", "Winter-tide-O01l");
        let login = ines.login(&office, "Ordering portal", "Summer-tide-41");
        let (marek, tomas) = (ines.person("marek", &[]), ines.person("tomas", &[]));
        for (folder, person) in [(&folder, &marek), (&folder, &tomas), (&office, &marek)] {
            let _ = ines.make(
                "/api/v1/grants",
                &json!({"folder": folder, "person": person, "level": "reveal"}),
            );
        }
        let _ = ines.make("/api/v1/groups", &json!({"name": "Duty engineers"}));
        let _ = ines.make("/api/v1/gates", &json!({"folder": folder, "needs_reason": true, "approver_people": [tomas], "max_minutes": 60}));
        (office, login, gated)
    };
    World {
        service,
        folder,
        login,
        gated,
    }
}

const PAGES: [&str; 20] = [
    "/",
    "/vault",
    "/credentials",
    "/requests",
    "/checkouts",
    "/devices",
    "/accounts",
    "/jobs",
    "/plans",
    "/dialogues",
    "/dialogues/new",
    "/findings",
    "/audit",
    "/people",
    "/access",
    "/policies",
    "/import-export",
    "/settings",
    "/profile",
    "/bin",
];

async fn settled(page: &Page) {
    page.find("//main//h1").await;
    // Nothing is on its way any more: what the page shows has stayed the same for a while.
    let look = "return document.querySelectorAll('[aria-label=Loading]').length > 0 ? -1 : document.querySelector('main').innerHTML.length";
    let (mut before, mut same) = (json!(-1), 0);
    for _ in 0..200 {
        let now = page.0.execute(look, vec![]).await.unwrap();
        same = if now == before && now != json!(-1) {
            same + 1
        } else {
            0
        };
        if same > 5 {
            return;
        }
        before = now;
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_browser_has_nothing_to_complain_about() {
    let world = world();
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&world.service, "ines").await;
    let credential = format!("/vault/-/{}", world.login);
    for path in PAGES.iter().copied().chain([credential.as_str()]) {
        page.0
            .goto(&format!("{}{path}", world.service.url))
            .await
            .unwrap();
        settled(&page).await;
        assert_eq!(
            driver.complaints(&page.0).await,
            Vec::<String>::new(),
            "{path}"
        );
    }
    // What opens over a page: looked at by axe, and closed by Escape.
    for (path, opener) in [
        (credential.as_str(), "//button[normalize-space(.)='Edit']"),
        (credential.as_str(), "//button[@aria-label='More actions']"),
        (credential.as_str(), "//button[@aria-label='Filter']"),
        ("/credentials", "//button[@aria-label='Filter by Kind']"),
        ("/people", "//button[contains(., 'Add a person')]"),
        ("/people", "//button[@aria-label='Filter by State']"),
        ("/people", "//button[@aria-label='Choose columns']"),
        ("/policies", "//button[contains(., 'Add a policy')]"),
        (
            "/settings?tab=kinds-of-credentials",
            "//button[contains(., 'Add a kind')]",
        ),
        ("/audit", "//button[contains(., 'Verify the log')]"),
        (
            "/",
            "//button[@aria-haspopup='menu' and contains(., 'Ines Calder')]",
        ),
        ("/", "//button[@aria-label='Help']"),
        ("/", "//header//button[contains(., 'Search credentials')]"),
    ] {
        page.0
            .goto(&format!("{}{path}", world.service.url))
            .await
            .unwrap();
        settled(&page).await;
        page.click(opener).await;
        page.find("//*[@role='dialog' or @role='menu']").await;
        page.accessible(opener).await;
        page.find("//body")
            .await
            .send_keys("\u{e00c}")
            .await
            .unwrap();
        closed(&page, opener).await;
        assert_eq!(
            driver.complaints(&page.0).await,
            Vec::<String>::new(),
            "{opener}"
        );
    }
    page.0.close().await.unwrap();
}

/// Waits until nothing is open over the page.
async fn closed(page: &Page, what: &str) {
    for _ in 0..100 {
        let open = "return document.querySelectorAll('[role=dialog], [role=menu]').length";
        if page.0.execute(open, vec![]).await.unwrap() == json!(0) {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("Escape does not close {what}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_cut_off_at_320_pixels() {
    let world = world();
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    driver.set_width(&page.0, 320).await;
    page.sign_in(&world.service, "ines").await;
    let credential = format!("/vault/-/{}", world.login);
    for path in PAGES.iter().copied().chain([credential.as_str()]) {
        page.0
            .goto(&format!("{}{path}", world.service.url))
            .await
            .unwrap();
        settled(&page).await;
        let width = page
            .0
            .execute("return document.scrollingElement.scrollWidth", vec![])
            .await
            .unwrap();
        assert_eq!(width, json!(320), "{path}");
        // The page scrolls inside of its frame alone, not the frame as well.
        let below = page
            .0
            .execute(
                "const d = document.scrollingElement; return d.scrollHeight - d.clientHeight",
                vec![],
            )
            .await
            .unwrap();
        assert_eq!(below, json!(0), "{path}");
        let inner = page
            .0
            .execute(
                "const m = document.querySelector('main'); return m.scrollWidth - m.clientWidth",
                vec![],
            )
            .await
            .unwrap();
        assert!(
            inner.as_f64().unwrap() <= 1.0,
            "{path}: {inner} pixels are cut off"
        );
    }
    page.0.close().await.unwrap();
}

/// How somebody works.
#[derive(Clone, Copy, PartialEq)]
enum By {
    /// With what is quickest, which is counted.
    Both,
    /// Without a mouse: Tab, arrows, Enter and Space.
    Keys,
}

/// Somebody who counts what they press.
struct Hand<'a> {
    page: &'a Page,
    by: By,
    steps: usize,
}

impl Hand<'_> {
    async fn key(&mut self, keys: &str) {
        self.steps += 1;
        let focused: Element = self.page.0.active_element().await.unwrap();
        focused.send_keys(keys).await.unwrap();
    }

    /// A name or a reason: what is typed is no step, for it cannot be shorter.
    async fn types(&mut self, text: &str) {
        let focused: Element = self.page.0.active_element().await.unwrap();
        focused.send_keys(text).await.unwrap();
    }

    /// Goes to something by a part of its name, from wherever one is: two keys.
    async fn searches(&mut self, typed: &str, wanted: &str) {
        self.key("\u{e009}k").await;
        self.page.find("//*[@role='dialog']//input").await;
        self.types(typed).await;
        let option = format!("//*[@role='option' and contains(., '{wanted}')]");
        self.page.find(&option).await;
        self.key(ENTER).await;
    }

    async fn click(&mut self, xpath: &str) {
        self.steps += 1;
        let element = self.page.find(xpath).await;
        if self.by == By::Both {
            element.click().await.unwrap();
            return;
        }
        let tag = element.tag_name().await.unwrap();
        let role = element.attr("role").await.unwrap().unwrap_or_default();
        if role == "tab" {
            self.reach("//*[@role='tab' and @aria-selected='true']")
                .await;
            self.move_on(xpath, RIGHT).await;
            self.key(ENTER).await;
        } else if tag == "option" {
            let text = element.text().await.unwrap();
            self.reach(&format!("{xpath}/ancestor::select")).await;
            self.types(&text).await;
        } else if tag == "label" {
            let id = element.attr("for").await.unwrap();
            let field = match id {
                Some(id) => format!("//*[@id='{id}']"),
                None => format!("{xpath}//input"),
            };
            self.reach(&field).await;
            let checks = self.page.find(&field).await.attr("type").await.unwrap();
            if checks.as_deref() == Some("checkbox") {
                self.key(" ").await;
            }
        } else {
            self.reach(xpath).await;
            if tag == "button" || tag == "a" {
                self.key(ENTER).await;
            }
        }
    }

    /// Opens a menu and chooses in it.
    async fn choose(&mut self, menu: &str, action: &str) {
        if self.by == By::Both {
            self.steps += 2;
            self.page.choose(menu, action).await;
            return;
        }
        self.click(&format!("//button[@aria-label='{menu}']")).await;
        let item = format!("//*[@role='menuitem' and normalize-space(.)='{action}']");
        self.page.find(&item).await;
        self.move_on(&item, DOWN).await;
        self.key(ENTER).await;
    }

    /// Whether something has the focus.
    async fn is_at(&self, xpath: &str) -> bool {
        let at = "const found = document.evaluate(arguments[0], document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue; return found === document.activeElement";
        self.page.0.execute(at, vec![json!(xpath)]).await.unwrap() == json!(true)
    }

    /// Presses a key until something has the focus.
    async fn move_on(&self, xpath: &str, key: char) {
        for _ in 0..300 {
            if self.is_at(xpath).await {
                return;
            }
            let press = KeyActions::new("keyboard".into())
                .then(KeyAction::Down { value: key })
                .then(KeyAction::Up { value: key });
            self.page.0.perform_actions(press).await.unwrap();
        }
        panic!("the keyboard does not reach {xpath}");
    }

    /// Goes to something with Tab.
    async fn reach(&self, xpath: &str) {
        self.page.find(xpath).await;
        self.move_on(xpath, TAB).await;
    }

    /// So many steps are enough; somebody who has no mouse takes more.
    fn took(&self, most: usize) {
        assert!(self.by == By::Keys || self.steps <= most, "{}", self.steps);
    }
}

const ENTER: &str = "\u{e007}";
const TAB: char = '\u{e004}';
const RIGHT: char = '\u{e014}';
const DOWN: char = '\u{e015}';

#[tokio::test(flavor = "multi_thread")]
async fn the_tasks_of_every_day_take_few_steps() {
    tasks_of_every_day(By::Both).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tasks_of_every_day_can_be_done_without_a_mouse() {
    tasks_of_every_day(By::Keys).await;
}

async fn tasks_of_every_day(by: By) {
    let world = world();
    let driver = Driver::start();
    let marek = Page(driver.browser(&[]).await);
    marek.sign_in(&world.service, "marek").await;
    // Reveal a known credential from anywhere: three keys and its name.
    let mut hand = Hand {
        page: &marek,
        by,
        steps: 0,
    };
    hand.searches("ordering", "Ordering portal").await;
    marek.find("//button[@data-key='r']").await;
    hand.key("r").await;
    marek.find("//*[@data-secret='shown']").await;
    hand.took(3);
    // Ask at a gate, from anywhere: four.
    let mut hand = Hand {
        page: &marek,
        by,
        steps: 0,
    };
    hand.searches("ridge", "Ridge pump").await;
    hand.click("//label[normalize-space(.)='Reason']").await;
    hand.types("pump 3 stopped").await;
    hand.key(ENTER).await;
    marek.sees("your request").await;
    hand.took(4);
    marek.0.close().await.unwrap();
    // Approve on a phone: two taps.
    let tomas = Page(driver.browser(&[]).await);
    driver.set_width(&tomas.0, 390).await;
    tomas.sign_in(&world.service, "tomas").await;
    let mut hand = Hand {
        page: &tomas,
        by,
        steps: 0,
    };
    hand.click("//button[contains(., 'Approve')]").await;
    jexlin_acceptance::until("the approval", || {
        (world.service.sql("SELECT state FROM request") == "approved").then_some(())
    });
    hand.took(2);
    tomas.0.close().await.unwrap();
    let ines = Page(driver.browser(&[]).await);
    ines.sign_in(&world.service, "ines").await;
    // Who can see a credential and why: two.
    ines.0
        .goto(&format!("{}/vault/-/{}", world.service.url, world.gated))
        .await
        .unwrap();
    let mut hand = Hand {
        page: &ines,
        by,
        steps: 0,
    };
    hand.click("//*[@role='tab' and contains(., 'Access')]")
        .await;
    ines.find(
        "//div[@aria-label='Who has access']//tr[contains(., 'marek') and contains(., '/Pumping')]",
    )
    .await;
    hand.took(2);
    // Give a group `reveal` on a folder until Friday: six.
    ines.0
        .goto(&format!("{}/vault/{}", world.service.url, world.folder))
        .await
        .unwrap();
    let mut hand = Hand {
        page: &ines,
        by,
        steps: 0,
    };
    hand.click("//button[normalize-space(.)='Grant access']")
        .await;
    hand.click("//*[@role='dialog']//option[contains(., 'Duty engineers')]")
        .await;
    hand.click("//*[@role='dialog']//option[@value='reveal']")
        .await;
    hand.click("//*[@role='dialog']//input[@name='ends_at']")
        .await;
    hand.types("12312030\u{e004}0600PM").await;
    hand.click("//button[normalize-space(.)='Grant …']").await;
    hand.click("//*[@role='alertdialog']//button[normalize-space(.)='Grant']")
        .await;
    ines.find("//button[starts-with(@aria-label, 'Remove reveal from Duty engineers')]")
        .await;
    hand.took(6);
    assert_eq!(
        world
            .service
            .sql("SELECT count(*) FROM access_grant WHERE ends_at IS NOT NULL"),
        "1"
    );
    // Import a file: four.
    let file = world.service.folder.join("logins.csv");
    std::fs::write(
        &file,
        "name,user_name,password\nTide table,reader,Tide-and-time-41\n",
    )
    .unwrap();
    let mut hand = Hand {
        page: &ines,
        by,
        steps: 0,
    };
    hand.click("//nav[@aria-label='Pages']//a[contains(., 'Import and export')]")
        .await;
    hand.steps += 1;
    ines.find("//input[@type='file']")
        .await
        .send_keys(file.to_str().unwrap())
        .await
        .unwrap();
    hand.click("//button[contains(., 'Import 1')]").await;
    ines.sees("1 added").await;
    hand.took(4);
    ines.0.close().await.unwrap();
}

#[test]
fn the_consoles_files_come_compressed_to_those_who_take_them_so() {
    let service = Service::bare();
    let get = |path: &str, takes: &str| {
        ureq::get(format!("{}{path}", service.url))
            .header("Accept-Encoding", takes)
            .call()
            .unwrap()
    };
    let page = get("/", "identity").body_mut().read_to_string().unwrap();
    let begin = page.find("/assets/index-").unwrap();
    let script = &page[begin..begin + page[begin..].find('"').unwrap()];
    let header = |answer: &ureq::http::Response<ureq::Body>, name: &str| {
        let value = answer.headers().get(name);
        value.map(|value| value.to_str().unwrap().to_owned())
    };
    let (plain, small) = (get(script, "identity"), get(script, "gzip, deflate, br"));
    assert_eq!(header(&plain, "content-encoding"), None);
    assert_eq!(header(&small, "content-encoding").as_deref(), Some("br"));
    let size = |answer: &ureq::http::Response<ureq::Body>| -> u64 {
        header(answer, "content-length").unwrap().parse().unwrap()
    };
    assert!(
        size(&small) * 3 < size(&plain),
        "{} of {}",
        size(&small),
        size(&plain)
    );
    for answer in [&plain, &small] {
        assert_eq!(header(answer, "vary").as_deref(), Some("Accept-Encoding"));
        assert!(
            header(answer, "content-type")
                .unwrap()
                .contains("javascript")
        );
        assert!(
            header(answer, "cache-control")
                .unwrap()
                .contains("immutable")
        );
    }
    // Nothing outside of the console's folder, and no folder as a file.
    for path in [
        "/assets/none.js",
        "/../Cargo.toml",
        "/assets/..%2f..%2f..%2fCargo.toml",
    ] {
        let answer = ureq::get(format!("{}{path}", service.url)).call();
        assert!(answer.is_err(), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tasks_of_an_administrator_take_few_steps() {
    tasks_of_an_administrator(By::Both).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tasks_of_an_administrator_can_be_done_without_a_mouse() {
    tasks_of_an_administrator(By::Keys).await;
}

async fn tasks_of_an_administrator(by: By) {
    let world = world();
    let service = &world.service;
    // Marek has seen two passwords; one of them is on a device that does not answer.
    let (marek, folder) = {
        let ines = service.sign_in("ines");
        let marek = service.sql("SELECT id FROM person WHERE sign_in_name = 'marek'");
        (marek, ines.folder("Works"))
    };
    let driver = Driver::start();
    let ines = Page(driver.browser(&[]).await);
    ines.sign_in(service, "ines").await;
    // Add a device with its operator and three accounts: one form.
    ines.0
        .goto(&format!("{}/vault/{folder}", service.url))
        .await
        .unwrap();
    let mut hand = Hand {
        page: &ines,
        by,
        steps: 0,
    };
    hand.choose("Add something else", "Add a device").await;
    ines.find("//*[@role='dialog']//input[@name='name']").await;
    let add = "//*[@role='dialog']//button[normalize-space(.)='Account']";
    for _ in 0..3 {
        hand.click(add).await;
    }
    for (name, typed) in [
        ("name", "Filter hall"),
        ("address", "127.0.0.1"),
        ("user 1", "root"),
        ("password 1", "Winter-tide-51"),
        ("user 2", "duty"),
        ("user 3", "historian"),
    ] {
        hand.click(&format!("//*[@role='dialog']//input[@name='{name}']"))
            .await;
        hand.types(typed).await;
    }
    // A port that nothing listens on.
    hand.click("//*[@role='dialog']//input[@name='port']").await;
    hand.types("\u{e009}a\u{e000}1").await;
    hand.click("(//*[@role='dialog']//label[starts-with(normalize-space(.), 'Operator')])[1]")
        .await;
    hand.click("//*[@role='dialog']//button[@type='submit']")
        .await;
    ines.find("//h1[normalize-space(.)='Filter hall']").await;
    assert_eq!(
        service.sql("SELECT count(*) FROM credential c JOIN device d ON d.id = c.device_id WHERE d.name = 'Filter hall'"),
        "3"
    );
    assert_eq!(
        service.sql("SELECT c.name FROM binding b JOIN credential c ON c.id = b.credential_id WHERE b.role = 'operator'"),
        "root"
    );
    let duty = {
        let api = service.sign_in("ines");
        let device = service.sql("SELECT id FROM device");
        let revision = service.sql("SELECT revision FROM device").parse().unwrap();
        let identity = json!({"identity": [format!("SHA256:{}", "A".repeat(43))]});
        let path = format!("/api/v1/devices/{device}");
        let row = api.patch(&path, revision, &identity).good();
        let _ = service
            .call(
                "POST",
                &format!("{path}/confirm-bindings"),
                Some(&api.token),
                Some(&json!({})),
                row["revision"].as_i64(),
            )
            .good();
        let duty = service.sql("SELECT id FROM credential WHERE name = 'duty'");
        let _ = api.make(
            "/api/v1/grants",
            &json!({"folder": folder, "person": marek, "level": "reveal"}),
        );
        let his = service.sign_in("marek");
        let _ = his.reveal(&duty).good();
        let _ = his.reveal(&world.login).good();
        duty
    };
    // Rotate everything that somebody has seen: four, from the list of people.
    ines.0
        .goto(&format!("{}/people", service.url))
        .await
        .unwrap();
    let mut hand = Hand {
        page: &ines,
        by,
        steps: 0,
    };
    hand.click("//tr//a[contains(., 'marek')]").await;
    hand.click("//*[@role='tab' and contains(., 'Has seen')]")
        .await;
    ines.sees("2 passwords are still what marek of Osmere saw")
        .await;
    hand.click("//button[normalize-space(.)='Rotate it']").await;
    hand.click("//*[@role='alertdialog']//button[starts-with(normalize-space(.), 'Rotate')]")
        .await;
    ines.sees("1 rotation queued").await;
    hand.took(4);
    // See why it failed, and try again: three.
    jexlin_acceptance::until("the rotation to fail", || {
        (service.sql(&format!(
            "SELECT count(*) FROM job WHERE credential_id = '{duty}' AND state = 'failed'"
        )) == "1")
            .then_some(())
    });
    let mut hand = Hand {
        page: &ines,
        by,
        steps: 0,
    };
    hand.click("//nav[@aria-label='Pages']//a[starts-with(normalize-space(.), 'Jobs')]")
        .await;
    ines.find("//tr[contains(., '/Works/duty') and contains(., 'onnection refused')]")
        .await;
    hand.click(
        "//tr[contains(., '/Works/duty')]//button[starts-with(normalize-space(.), 'Try again')]",
    )
    .await;
    jexlin_acceptance::until("a second rotation", || {
        (service.sql(&format!(
            "SELECT count(*) FROM job WHERE credential_id = '{duty}'"
        )) == "2")
            .then_some(())
    });
    hand.took(3);
    // Suspend a leaver, and see what they held: four, from the list of people.
    ines.0
        .goto(&format!("{}/people", service.url))
        .await
        .unwrap();
    let mut hand = Hand {
        page: &ines,
        by,
        steps: 0,
    };
    hand.click("//tr//a[contains(., 'marek')]").await;
    hand.click("//button[normalize-space(.)='Suspend']").await;
    hand.click("//*[@role='alertdialog']//button[normalize-space(.)='Suspend']")
        .await;
    hand.click("//*[@role='tab' and contains(., 'Can access')]")
        .await;
    ines.find("//div[@aria-label='Grants']//tr[contains(., '/Pumping')]")
        .await;
    hand.took(4);
    assert_eq!(
        service.sql("SELECT state FROM person WHERE sign_in_name = 'marek'"),
        "suspended"
    );
    ines.0.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_typed_is_not_lost_without_a_question_and_is_checked_while_it_is_typed() {
    let world = world();
    let driver = Driver::start();
    let ines = Page(driver.browser(&[]).await);
    ines.sign_in(&world.service, "ines").await;
    ines.0
        .goto(&format!("{}/vault/{}", world.service.url, world.folder))
        .await
        .unwrap();
    ines.choose("Add something else", "Add a folder here").await;
    // Nothing typed: it closes at once.
    ines.find("//*[@role='dialog']//input[@name='name']").await;
    ines.click("//*[@role='dialog']//button[@aria-label='Close']")
        .await;
    closed(&ines, "the form").await;
    ines.choose("Add something else", "Add a folder here").await;
    let name = ines.find("//*[@role='dialog']//input[@name='name']").await;
    // Sent empty, it says what is missing, and no longer once something is there.
    ines.press("Add the folder").await;
    ines.sees("Fill this in.").await;
    name.send_keys("Counter").await.unwrap();
    ines.gone("//*[contains(text(), 'Fill this in.')]").await;
    // Escape asks, and what was typed stays.
    name.send_keys("\u{e00c}").await.unwrap();
    ines.sees("Discard changes?").await;
    ines.confirm("Keep editing").await;
    ines.gone("//*[@role='alertdialog']").await;
    assert_eq!(
        name.prop("value").await.unwrap().as_deref(),
        Some("Counter")
    );
    ines.press("Add the folder").await;
    jexlin_acceptance::until("the folder", || {
        (world
            .service
            .sql("SELECT count(*) FROM folder WHERE name = 'Counter'")
            == "1")
            .then_some(())
    });
    // What the service says of a field stands at the field.
    ines.choose("Add something else", "Add a folder here").await;
    let name = ines.find("//*[@role='dialog']//input[@name='name']").await;
    name.send_keys("a/b").await.unwrap();
    ines.press("Add the folder").await;
    ines.find("//*[@role='dialog']//p[@role='alert' and contains(., 'a slash')]")
        .await;
    name.send_keys("\u{e00c}").await.unwrap();
    ines.confirm("Discard").await;
    closed(&ines, "the form").await;
    ines.0.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_view_of_a_table_is_saved_for_oneself_and_chosen_again() {
    let world = world();
    let driver = Driver::start();
    let ines = Page(driver.browser(&[]).await);
    ines.sign_in(&world.service, "ines").await;
    let people = format!("{}/people", world.service.url);
    ines.0.goto(&format!("{people}?sort=-name")).await.unwrap();
    let views = "//button[@aria-label='Saved views']";
    ines.click(views).await;
    ines.find("//input[@aria-label='Name of the view']")
        .await
        .send_keys("Last first\u{e007}")
        .await
        .unwrap();
    let kept = "//li/button[normalize-space(.)='Last first']";
    ines.find(kept).await;
    // From the page as it is, back to the view.
    ines.0.goto(&people).await.unwrap();
    ines.click(views).await;
    ines.click(kept).await;
    ines.find("//th[@aria-sort='descending']").await;
    assert!(
        ines.0
            .current_url()
            .await
            .unwrap()
            .as_str()
            .ends_with("?sort=-name")
    );
    ines.0.close().await.unwrap();
    // It is hers, it is of that page, and it is no search of credentials.
    let kept = |who: &str, page: &str| {
        let session = world.service.sign_in(who);
        session.get(&format!("/api/v1/searches{page}")).good()["items"]
            .as_array()
            .map(Vec::len)
    };
    assert_eq!(kept("ines", "?page=people"), Some(1));
    assert_eq!(kept("ines", "?page=devices"), Some(0));
    assert_eq!(kept("ines", ""), Some(0));
    assert_eq!(kept("marek", "?page=people"), Some(0));
    let session = world.service.sign_in("marek");
    for (page, filters) in [
        ("people", json!({"finding": "any"})),
        ("../people", json!({"sort": "name"})),
        ("", json!({"sort": "name"})),
    ] {
        let body = json!({"name": "other", "page": page, "filters": filters});
        session
            .post("/api/v1/searches", &body)
            .refused(422, "bad-input");
    }
}

/// The names of the rows that are drawn, in the order of the document, and as they are seen from above.
const ROWS: &str = "const rows = [...document.querySelectorAll('[data-row]')].filter(row => row.querySelector('input[aria-label^=\"Select pump\"]')); const name = row => row.querySelector('a').textContent.match(/pump \\d{3}/)[0]; return [rows.map(name), [...rows].sort((a, b) => a.getBoundingClientRect().top - b.getBoundingClientRect().top).map(name), rows.filter(row => row.querySelector('input').checked).map(name), document.activeElement.closest('[data-row]') ? name(document.activeElement.closest('[data-row]')) : '']";

#[tokio::test(flavor = "multi_thread")]
async fn an_element_that_shows_another_row_has_nothing_left_of_the_one_before() {
    let service = Service::ready();
    let names: Vec<String> = (0..360).map(|n| format!("pump {n:03}")).collect();
    {
        let ines = service.sign_in("ines");
        let folder = ines.folder("Pumping");
        for name in &names {
            let _ = ines.login(&folder, name, "Winter-tide-O01l");
        }
    }
    let driver = Driver::start();
    let page = Page(driver.browser(&[]).await);
    page.sign_in(&service, "ines").await;
    for address in ["/credentials", "/vault"] {
        page.0
            .goto(&format!("{}{address}", service.url))
            .await
            .unwrap();
        page.click("//input[@aria-label='Select pump 002']").await;
        let scroll = "const on = document.querySelector('[data-row] input[aria-label^=\"Select pump\"]').closest('table, ul').parentElement; if (arguments[1]) document.querySelector('[aria-label=\"Select pump 002\"]').closest('[data-row]').querySelector('a').focus(); on.scrollTop = on.querySelector('[data-row]').offsetHeight * arguments[0]";
        let drawn = async || {
            let said = page.0.execute(ROWS, vec![]).await.unwrap();
            serde_json::from_value::<(Vec<String>, Vec<String>, Vec<String>, String)>(said).unwrap()
        };
        let (before, _, chosen, _) = drawn().await;
        assert_eq!(chosen, ["pump 002"], "{address}");
        let _ = page
            .0
            .execute(scroll, vec![json!(150), json!(true)])
            .await
            .unwrap();
        page.find("//input[@aria-label='Select pump 150']").await;
        // Once nobody scrolls any more, they stand in the document as they are seen.
        let mut far = drawn().await;
        for _ in 0..200 {
            if far.0 == far.1 {
                break;
            }
            far = drawn().await;
        }
        let (in_document, as_seen, chosen, focused) = far;
        assert_eq!(in_document, as_seen, "{address}");
        let at = names.iter().position(|it| *it == as_seen[0]).unwrap();
        assert_eq!(as_seen, names[at..at + as_seen.len()], "{address}");
        assert_eq!(as_seen.len(), before.len(), "{address}");
        assert_eq!((chosen.len(), focused.as_str()), (0, ""), "{address}");
        let _ = page
            .0
            .execute(scroll, vec![json!(0), json!(false)])
            .await
            .unwrap();
        page.find("//input[@aria-label='Select pump 000']").await;
        assert_eq!(drawn().await.2, ["pump 002"], "{address}");
    }
    page.0.close().await.unwrap();
}
