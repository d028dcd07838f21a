//! What holds for every page of the console: the browser has nothing to complain about, everything
//! that opens over a page is accessible, nothing is cut off on a narrow screen, and the tasks of every
//! day take as few steps as they should.

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

const PAGES: [&str; 18] = [
    "/",
    "/vault",
    "/credentials",
    "/requests",
    "/checkouts",
    "/devices",
    "/accounts",
    "/jobs",
    "/plans",
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
        ("/", "//button[@aria-label='Keyboard shortcuts']"),
        ("/", "//header//button[contains(., 'Search credentials')]"),
    ] {
        page.0
            .goto(&format!("{}{path}", world.service.url))
            .await
            .unwrap();
        settled(&page).await;
        page.find(opener).await.click().await.unwrap();
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

/// Somebody who counts what they press.
struct Hand<'a> {
    page: &'a Page,
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
        self.page.find(xpath).await.click().await.unwrap();
    }
}

const ENTER: &str = "\u{e007}";

#[tokio::test(flavor = "multi_thread")]
async fn the_tasks_of_every_day_take_few_steps() {
    let world = world();
    let driver = Driver::start();
    let marek = Page(driver.browser(&[]).await);
    marek.sign_in(&world.service, "marek").await;
    // Reveal a known credential from anywhere: three keys and its name.
    let mut hand = Hand {
        page: &marek,
        steps: 0,
    };
    hand.searches("ordering", "Ordering portal").await;
    marek.find("//button[@data-key='r']").await;
    hand.key("r").await;
    marek.find("//*[@data-secret='shown']").await;
    assert!(hand.steps <= 3, "{}", hand.steps);
    // Ask at a gate, from anywhere: four.
    let mut hand = Hand {
        page: &marek,
        steps: 0,
    };
    hand.searches("ridge", "Ridge pump").await;
    hand.click("//label[normalize-space(.)='Reason']").await;
    hand.types("pump 3 stopped").await;
    hand.key(ENTER).await;
    marek.sees("your request").await;
    assert!(hand.steps <= 4, "{}", hand.steps);
    marek.0.close().await.unwrap();
    // Approve on a phone: two taps.
    let tomas = Page(driver.browser(&[]).await);
    driver.set_width(&tomas.0, 390).await;
    tomas.sign_in(&world.service, "tomas").await;
    let mut hand = Hand {
        page: &tomas,
        steps: 0,
    };
    hand.click("//button[contains(., 'Approve')]").await;
    jexlin_acceptance::until("the approval", || {
        (world.service.sql("SELECT state FROM request") == "approved").then_some(())
    });
    assert!(hand.steps <= 2, "{}", hand.steps);
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
        steps: 0,
    };
    hand.click("//*[@role='tab' and contains(., 'Access')]")
        .await;
    ines.find(
        "//div[@aria-label='Who has access']//tr[contains(., 'marek') and contains(., '/Pumping')]",
    )
    .await;
    assert!(hand.steps <= 2, "{}", hand.steps);
    // Give a group `reveal` on a folder until Friday: six.
    ines.0
        .goto(&format!("{}/vault/{}", world.service.url, world.folder))
        .await
        .unwrap();
    let mut hand = Hand {
        page: &ines,
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
    assert!(hand.steps <= 6, "{}", hand.steps);
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
    assert!(hand.steps <= 4, "{}", hand.steps);
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
