//! Headless Chromium through its driver, one of each for a test.

use crate::support::{PATIENCE, wait_for};
use fantoccini::key::Key;
use fantoccini::wd::WebDriverCompatibleCommand;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

pub struct Browser {
    pub page: Client,
    driver: Child,
    pub downloads: tempfile::TempDir,
    _profile: tempfile::TempDir,
}

impl Browser {
    pub async fn open(width: u32, height: u32) -> Browser {
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed by ./dev test");
        assert!(
            wait_for(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok()),
            "chromedriver did not start"
        );
        let (downloads, profile) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let options = json!({
            "goog:chromeOptions": {
                "args": [
                    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
                    "--disable-background-networking", "--disable-component-update", "--disable-sync",
                    "--lang=en-GB", format!("--window-size={width},{height}"),
                    format!("--user-data-dir={}", profile.path().display()),
                ],
                "prefs": {
                    "download.default_directory": downloads.path(),
                    "download.prompt_for_download": false,
                },
            }
        });
        let page = ClientBuilder::new(HttpConnector::new())
            .capabilities(options.as_object().unwrap().clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .unwrap();
        Browser { page, driver, downloads, _profile: profile }
    }

    /// Waits for an element and returns it.
    pub async fn find(&self, css: &str) -> fantoccini::elements::Element {
        let found = self.page.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await;
        match found {
            Ok(element) => element,
            Err(e) => panic!("{css} did not appear: {e}\n{}", self.text().await),
        }
    }

    pub async fn click(&self, css: &str) {
        let element = self.find(css).await;
        let begun = std::time::Instant::now();
        while begun.elapsed() < PATIENCE {
            if element.click().await.is_ok() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        element.click().await.unwrap();
    }

    /// Clicks the button with this word on it.
    pub async fn press(&self, word: &str) {
        // A dialog that is open covers the rest of the page.
        let open =
            self.page.execute("return !!document.querySelector('[role=dialog]')", vec![]).await.unwrap();
        let within = if open == Value::Bool(true) { "//*[@role='dialog']" } else { "" };
        let path = format!("{within}//button[normalize-space(.)='{word}' or @aria-label='{word}']");
        let wait = self.page.wait().at_most(PATIENCE);
        let button = match wait.for_element(Locator::XPath(&path)).await {
            Ok(button) => button,
            Err(e) => panic!("no button \"{word}\": {e}\n{}", self.text().await),
        };
        let begun = std::time::Instant::now();
        while begun.elapsed() < PATIENCE {
            if button.is_enabled().await.unwrap_or(false) && button.click().await.is_ok() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        button.click().await.unwrap();
    }

    /// Types into the field with this label, as it is.
    pub async fn keys(&self, label: &str, keys: &str) {
        let path = format!("//label[normalize-space(.)='{label}']/..//input");
        let field = self.page.find(Locator::XPath(&path)).await.unwrap();
        field.send_keys(keys).await.unwrap();
    }

    /// Clicks the button or the way on the page whose words contain these.
    pub async fn press_part(&self, words: &str) {
        let path = format!(
            "//main//*[(self::button or self::a) and (contains(normalize-space(.), '{words}') or contains(@aria-label, '{words}'))]"
        );
        let wait = self.page.wait().at_most(PATIENCE);
        match wait.for_element(Locator::XPath(&path)).await {
            Ok(button) => button.click().await.unwrap(),
            Err(e) => panic!("no button with \"{words}\": {e}\n{}", self.text().await),
        }
    }

    /// Clicks the button in the dialog whose words contain these.
    pub async fn press_in_dialog(&self, words: &str) {
        let path = format!("//*[@role='dialog']//button[contains(normalize-space(.), '{words}')]");
        let wait = self.page.wait().at_most(PATIENCE);
        match wait.for_element(Locator::XPath(&path)).await {
            Ok(button) => button.click().await.unwrap(),
            Err(e) => panic!("no button with \"{words}\": {e}\n{}", self.text().await),
        }
    }

    /// Fills the field with this label.
    pub async fn fill(&self, label: &str, text: &str) {
        let path = format!("//label[normalize-space(.)='{label}']/..//input");
        let wait = self.page.wait().at_most(PATIENCE);
        let field = match wait.for_element(Locator::XPath(&path)).await {
            Ok(field) => field,
            Err(e) => panic!("no field \"{label}\": {e}\n{}", self.text().await),
        };
        // As a person does it: typed over what is marked. Emptied by the driver, the page could draw it again, and what
        // is typed would be added.
        field.send_keys(&(Key::Control + "a")).await.unwrap();
        field.send_keys(&Key::Backspace.to_string()).await.unwrap();
        field.send_keys(text).await.unwrap();
    }

    pub async fn text(&self) -> String {
        let text = self.page.execute("return document.body.innerText", vec![]).await.unwrap_or_default();
        text.as_str().unwrap_or_default().to_string()
    }

    /// Waits until the page says this.
    pub async fn says(&self, wanted: &str) {
        let begun = std::time::Instant::now();
        while begun.elapsed() < PATIENCE {
            if self.text().await.contains(wanted) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("the page does not say \"{wanted}\":\n{}", self.text().await);
    }

    /// Waits until the page no longer says this.
    pub async fn says_no_more(&self, gone: &str) {
        let begun = std::time::Instant::now();
        while begun.elapsed() < PATIENCE {
            if !self.text().await.contains(gone) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("the page still says \"{gone}\":\n{}", self.text().await);
    }

    /// What axe finds wrong on the page as it is: nothing.
    pub async fn is_accessible(&self, what: &str) {
        let source = std::fs::read_to_string(concat!(
            env!("CARGO_MANIFEST_DIR"),
            "/../../console/node_modules/axe-core/axe.min.js"
        ))
        .expect("the console's packages are installed by ./dev test");
        self.page.execute(&source, vec![]).await.unwrap();
        let found = self
            .page
            .execute_async(
                "const done = arguments[arguments.length - 1];
                 axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'] })
                   .then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html).join(' | '))));",
                vec![],
            )
            .await
            .unwrap();
        assert_eq!(found, Value::Array(Vec::new()), "{what}");
    }

    /// Drops files and whole folders of this machine onto a place of the page.
    pub async fn drop_on(&self, x: i64, y: i64, paths: &[&std::path::Path]) {
        let data = json!({ "items": [], "files": paths, "dragOperationsMask": 1 });
        for kind in ["dragEnter", "dragOver", "drop"] {
            let event = json!({ "type": kind, "x": x, "y": y, "data": data });
            self.page
                .issue_cmd(DevTools { command: "Input.dispatchDragEvent", parameters: event })
                .await
                .unwrap();
        }
    }

    /// Gives the browser a passkey holder that says yes to everything.
    pub async fn virtual_authenticator(&self) {
        let options = json!({ "options": {
            "protocol": "ctap2", "transport": "internal", "hasResidentKey": true,
            "hasUserVerification": true, "isUserVerified": true, "automaticPresenceSimulation": true,
        } });
        for (command, parameters) in
            [("WebAuthn.enable", json!({})), ("WebAuthn.addVirtualAuthenticator", options)]
        {
            self.page.issue_cmd(DevTools { command, parameters }).await.unwrap();
        }
    }

    pub async fn close(mut self) {
        let _ = self.page.clone().close().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The browser ends with its driver.
        let _ = Command::new("pkill").args(["-P", &self.driver.id().to_string()]).status();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

/// A command of the browser's own protocol, by way of its driver.
#[derive(Debug)]
struct DevTools {
    command: &'static str,
    parameters: Value,
}

impl WebDriverCompatibleCommand for DevTools {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (reqwest::Method, Option<String>) {
        let body = json!({ "cmd": self.command, "params": self.parameters });
        (reqwest::Method::POST, Some(body.to_string()))
    }
}
