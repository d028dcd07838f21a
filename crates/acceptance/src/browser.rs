//! The console in headless Chromium.

#![allow(clippy::unwrap_used, reason = "what cannot be set up ends the test")]

use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::actions::{InputSource as _, MOUSE_BUTTON_LEFT, MouseActions, PointerAction};
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::{Value, json};

use crate::{PASSWORD, Service};

/// The driver of the browsers.
pub struct Driver(Child, u16);

impl Driver {
    /// Starts it.
    ///
    /// # Panics
    /// When it does not start.
    #[must_use]
    pub fn start() -> Self {
        let port = jexlin_standins::free_port().unwrap();
        let child = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver");
        jexlin_standins::wait_for_port("127.0.0.1", port).unwrap();
        Self(child, port)
    }

    /// A fresh browser.
    ///
    /// # Panics
    /// When it does not come up.
    pub async fn browser(&self, more: &[&str]) -> Client {
        self.browser_with(more, json!({}), json!({"browser": "ALL"}))
            .await
    }

    /// A fresh browser that traces what its compositor does with each frame.
    ///
    /// # Panics
    /// When it does not come up.
    pub async fn tracing_browser(&self) -> Client {
        let categories = "devtools.timeline.frame,disabled-by-default-devtools.timeline.frame";
        self.browser_with(
            &[],
            json!({"perfLoggingPrefs": {"traceCategories": categories, "enableNetwork": false, "enablePage": false}}),
            json!({"performance": "ALL"}),
        )
        .await
    }

    /// What the browser found wrong with the page since it was asked last: errors, and what the
    /// Content-Security-Policy refused.
    ///
    /// # Panics
    /// When the driver does not answer.
    pub async fn complaints(&self, client: &Client) -> Vec<String> {
        let session = client.session_id().await.unwrap().unwrap();
        let url = format!("http://127.0.0.1:{}/session/{session}/se/log", self.1);
        let mut answer = ureq::post(url)
            .header("Content-Type", "application/json")
            .send("{\"type\": \"browser\"}")
            .unwrap();
        let log: Value =
            serde_json::from_str(&answer.body_mut().read_to_string().unwrap()).unwrap();
        let entries = log["value"].as_array().into_iter().flatten();
        entries
            .filter(|entry| entry["level"] == "SEVERE" || entry["level"] == "WARNING")
            .map(|entry| entry["message"].to_string())
            .collect()
    }

    /// Gives the page a width, as of a phone, in pixels.
    ///
    /// # Panics
    /// When the driver does not answer.
    pub async fn set_width(&self, client: &Client, width: u32) {
        let session = client.session_id().await.unwrap().unwrap();
        let url = format!(
            "http://127.0.0.1:{}/session/{session}/goog/cdp/execute",
            self.1
        );
        let body = json!({"cmd": "Emulation.setDeviceMetricsOverride", "params": {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false}});
        ureq::post(url)
            .header("Content-Type", "application/json")
            .send(body.to_string())
            .unwrap();
    }

    /// What was traced since the browser came up: the names of the events and their times in
    /// seconds. The driver tells it once.
    ///
    /// # Panics
    /// When the driver does not answer.
    pub async fn traced(&self, client: &Client) -> Vec<(String, f64)> {
        let session = client.session_id().await.unwrap().unwrap();
        let url = format!("http://127.0.0.1:{}/session/{session}/se/log", self.1);
        let mut answer = ureq::post(url)
            .header("Content-Type", "application/json")
            .send("{\"type\": \"performance\"}")
            .unwrap();
        let text = answer
            .body_mut()
            .with_config()
            .limit(512 << 20)
            .read_to_string()
            .unwrap();
        let log: Value = serde_json::from_str(&text).unwrap();
        let event = |entry: &Value| {
            let message: Value = serde_json::from_str(entry["message"].as_str()?).ok()?;
            let event = &message["message"]["params"];
            Some((
                event["name"].as_str()?.to_owned(),
                event["ts"].as_f64()? / 1_000_000.0,
            ))
        };
        log["value"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(event)
            .collect()
    }

    async fn browser_with(&self, more: &[&str], options: Value, logs: Value) -> Client {
        let folder = std::env::temp_dir().join(format!(
            "jexlin-browser-{}-{}",
            std::process::id(),
            jexlin_standins::free_port().unwrap()
        ));
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
        let mut chrome = json!({"args": arguments, "binary": "/usr/bin/chromium"});
        if let (Some(chrome), Some(options)) = (chrome.as_object_mut(), options.as_object()) {
            chrome.extend(options.clone());
        }
        wanted.insert("goog:chromeOptions".into(), chrome);
        wanted.insert("goog:loggingPrefs".into(), logs);
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
pub struct Page(pub Client);

impl Page {
    /// Waits for something, by XPath.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn find(&self, xpath: &str) -> fantoccini::elements::Element {
        self.0
            .wait()
            .at_most(Duration::from_secs(20))
            .for_element(Locator::XPath(xpath))
            .await
            .unwrap_or_else(|error| panic!("{xpath}: {error}"))
    }

    /// Presses the first button or link with a text.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn press(&self, text: &str) {
        let xpath = format!(
            "//button[contains(normalize-space(.), \"{text}\") and not(@disabled)] | //a[contains(normalize-space(.), \"{text}\")]"
        );
        self.click(&xpath).await;
    }

    /// Clicks on something, by XPath.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn click(&self, xpath: &str) {
        // The element may be replaced, or something may cover it for a moment: try again.
        let mut tries = 0;
        while let Err(error) = self.find(xpath).await.click().await {
            let moved = error.to_string();
            let moved = moved.contains("intercepted") || moved.contains("stale element");
            tries += 1;
            assert!(moved && tries < 50, "{xpath}: {error}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Drags one thing onto another with the mouse, by XPath.
    ///
    /// # Panics
    /// When one of them is not there.
    pub async fn drag(&self, from: &str, to: &str) {
        let (from, to) = (self.find(from).await, self.find(to).await);
        // Over it twice: a browser tells a place of what is coming only when the mouse moves above
        // it.
        let mouse = MouseActions::new("mouse".into())
            .then(PointerAction::MoveToElement {
                element: from,
                duration: None,
                x: 0.0,
                y: 0.0,
            })
            .then(PointerAction::Down {
                button: MOUSE_BUTTON_LEFT,
            })
            .then(PointerAction::MoveBy {
                duration: None,
                x: 5.0,
                y: 5.0,
            })
            .then(PointerAction::MoveToElement {
                element: to.clone(),
                duration: None,
                x: 0.0,
                y: 0.0,
            })
            .then(PointerAction::MoveToElement {
                element: to,
                duration: None,
                x: 3.0,
                y: 1.0,
            })
            .then(PointerAction::Up {
                button: MOUSE_BUTTON_LEFT,
            });
        self.0.perform_actions(mouse).await.unwrap();
    }

    /// Types into the field of a label.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn fill(&self, label: &str, text: &str) {
        let xpath = format!(
            "//label[starts-with(normalize-space(.), \"{label}\")]/following-sibling::*[self::input or self::textarea] | //input[starts-with(@aria-label, \"{label}\")]"
        );
        // The field may be replaced before anything is typed: try again.
        let mut tries = 0;
        while let Err(error) = self.find(&xpath).await.send_keys(text).await {
            tries += 1;
            let gone = error.to_string().contains("stale element");
            assert!(gone && tries < 50, "{label}: {error}");
        }
    }

    /// Waits until something is no longer there.
    ///
    /// # Panics
    /// If it stays for five seconds.
    pub async fn gone(&self, xpath: &str) {
        for _ in 0..100 {
            if self.0.find(Locator::XPath(xpath)).await.is_err() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("{xpath} stays");
    }

    /// Says yes to the question that is open, by the word on its button.
    ///
    /// # Panics
    /// When no such question is there.
    pub async fn confirm(&self, label: &str) {
        let xpath = format!(
            "//*[@role='alertdialog']//button[normalize-space(.)=\"{label}\" and not(@disabled)]"
        );
        self.click(&xpath).await;
    }

    /// Chooses from a menu, by what its button says.
    ///
    /// # Panics
    /// When one of them is not there.
    pub async fn choose(&self, menu: &str, action: &str) {
        self.click(&format!("//button[@aria-haspopup='menu' and (starts-with(@aria-label, \"{menu}\") or contains(normalize-space(.), \"{menu}\"))]")).await;
        self.click(&format!(
            "//*[@role='menuitem' and contains(normalize-space(.), \"{action}\")]"
        ))
        .await;
    }

    /// Waits for a text.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn sees(&self, text: &str) {
        self.find(&format!("//*[contains(normalize-space(.), \"{text}\")]"))
            .await;
    }

    /// Signs somebody in.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn sign_in(&self, service: &Service, name: &str) {
        self.0.goto(&service.url).await.unwrap();
        self.fill("Sign-in name", name).await;
        self.fill("Password", PASSWORD).await;
        self.press("Sign in").await;
        self.sees("Waiting for you").await;
    }

    /// Nothing that axe can find against WCAG 2.2 AA.
    ///
    /// # Panics
    /// When it finds something.
    pub async fn accessible(&self, what: &str) {
        let axe = std::fs::read_to_string(concat!(
            env!("CARGO_MANIFEST_DIR"),
            "/../../console/node_modules/axe-core/axe.min.js"
        ))
        .unwrap();
        self.0
            .execute(&format!("{axe}; window.axe = axe;"), vec![])
            .await
            .unwrap();
        let run = "const done = arguments[arguments.length - 1]; axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html + ' ' + n.failureSummary).join(' | '))))";
        let found = self.0.execute_async(run, vec![]).await.unwrap();
        assert_eq!(found, Value::Array(vec![]), "{what}");
    }
}
