//! The console in headless Chromium.

#![allow(clippy::unwrap_used, reason = "what cannot be set up ends the test")]

use std::process::{Child, Command, Stdio};
use std::time::Duration;

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
        let child = Command::new("chromedriver").arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("chromedriver");
        jexlin_standins::wait_for_port("127.0.0.1", port).unwrap();
        Self(child, port)
    }

    /// A fresh browser.
    ///
    /// # Panics
    /// When it does not come up.
    pub async fn browser(&self, more: &[&str]) -> Client {
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
pub struct Page(pub Client);

impl Page {
    /// Waits for something, by XPath.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn find(&self, xpath: &str) -> fantoccini::elements::Element {
        self.0.wait().at_most(Duration::from_secs(20)).for_element(Locator::XPath(xpath)).await.unwrap_or_else(|error| panic!("{xpath}: {error}"))
    }

    /// Presses the first button or link with a text.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn press(&self, text: &str) {
        let xpath = format!("//button[contains(normalize-space(.), \"{text}\") and not(@disabled)] | //a[contains(normalize-space(.), \"{text}\")]");
        self.find(&xpath).await.click().await.unwrap_or_else(|error| panic!("{text}: {error}"));
    }

    /// Types into the field of a label.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn fill(&self, label: &str, text: &str) {
        let field = self.find(&format!("//label[starts-with(normalize-space(.), \"{label}\")]/following-sibling::*[self::input or self::textarea]")).await;
        field.send_keys(text).await.unwrap();
    }

    /// Waits for a text.
    ///
    /// # Panics
    /// When it is not there.
    pub async fn sees(&self, text: &str) {
        self.find(&format!("//*[contains(normalize-space(.), \"{text}\")]")).await;
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
        self.sees("Today, ").await;
    }

    /// Nothing that axe can find against WCAG 2.2 AA.
    ///
    /// # Panics
    /// When it finds something.
    pub async fn accessible(&self, what: &str) {
        let axe = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js")).unwrap();
        self.0.execute(&format!("{axe}; window.axe = axe;"), vec![]).await.unwrap();
        let run = "const done = arguments[arguments.length - 1]; axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html + ' ' + n.failureSummary).join(' | '))))";
        let found = self.0.execute_async(run, vec![]).await.unwrap();
        assert_eq!(found, Value::Array(vec![]), "{what}");
    }
}
