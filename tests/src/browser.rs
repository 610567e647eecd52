//! A headless browser for the console.

use std::net::TcpListener;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use tempfile::TempDir;
use thirtyfour::ChromeCapabilities;
use thirtyfour::prelude::*;

/// A browser of one test.
pub struct Browser {
    /// Drives it.
    pub driver: WebDriver,
    chromedriver: Child,
    _profile: TempDir,
}

impl Browser {
    /// Starts a browser with a window of 1280 × 800.
    pub async fn open() -> Self {
        // The driver's client wants one chosen, though it speaks plain HTTP to the driver.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let port = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a free port").port();
        let chromedriver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed (make test does it)");
        let profile = tempfile::tempdir().expect("a temporary directory");
        let mut wanted = DesiredCapabilities::chrome();
        for argument in [
            "--headless=new",
            "--no-sandbox",
            "--disable-dev-shm-usage",
            "--disable-gpu",
            "--hide-scrollbars",
            "--force-device-scale-factor=1",
            "--no-first-run",
            "--no-default-browser-check",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-quic",
            "--disable-extensions",
            "--no-proxy-server",
            "--window-size=1280,800",
        ] {
            wanted.add_arg(argument).expect("an argument");
        }
        wanted.add_arg(&format!("--user-data-dir={}", profile.path().display())).expect("an argument");
        wanted.accept_insecure_certs(true).expect("a capability");
        let driver = connect(port, wanted).await;
        let browser = Self { driver, chromedriver, _profile: profile };
        browser.resize(1280, 800).await;
        browser
    }

    /// Gives its window another size.
    pub async fn resize(&self, width: u32, height: u32) {
        let size = serde_json::json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
        self.driver.cdp().send_raw("Emulation.setDeviceMetricsOverride", size).await.expect("the size is set");
    }

    /// Waits until text is on the page.
    pub async fn sees(&self, text: &str) -> WebElement {
        let quoted = text.replace('"', "");
        let found = self.driver.query(By::XPath(format!("//*[contains(normalize-space(.), \"{quoted}\")][not(self::script)]")));
        let found = found.wait(Duration::from_secs(15), Duration::from_millis(50)).and_displayed().all_from_selector().await;
        match found {
            Ok(mut all) if !all.is_empty() => all.pop().expect("not empty"),
            _ => panic!("'{text}' did not appear; the page says:\n{}", self.text().await),
        }
    }

    /// All text of the page.
    pub async fn text(&self) -> String {
        match self.driver.find(By::Tag("body")).await {
            Ok(body) => body.text().await.unwrap_or_default(),
            Err(error) => error.to_string(),
        }
    }

    /// Types into the field with this id.
    pub async fn fill(&self, id: &str, text: &str) {
        let field = self
            .driver
            .query(By::Id(id))
            .wait(Duration::from_secs(10), Duration::from_millis(50))
            .first()
            .await
            .expect("the field");
        field.clear().await.expect("cleared");
        field.send_keys(text).await.expect("typed");
    }

    /// Types into the field with this label, in the form that this button sends.
    pub async fn fill_in_form(&self, button: &str, label: &str, text: &str) {
        self.fill(&self.field_in_form(button, label).await, text).await;
    }

    /// Picks an option of the list with this label, in the form that this button sends.
    pub async fn pick_in_form(&self, button: &str, label: &str, option: &str) {
        self.pick(&self.field_in_form(button, label).await, option).await;
    }

    /// The id of the field with this label.
    async fn field_in_form(&self, button: &str, label: &str) -> String {
        let form = format!("//form[.//button[normalize-space(.)=\"{button}\"]]");
        let label = By::XPath(format!("{form}//label[normalize-space(.)=\"{label}\"]"));
        let label = self.driver.query(label).wait(Duration::from_secs(10), Duration::from_millis(50)).first().await;
        label.expect("the label").attr("for").await.expect("readable").expect("it is of a field")
    }

    /// The cells of the table's row that begins with this.
    pub async fn row(&self, begins: &str) -> Vec<String> {
        let cells = By::XPath(format!("//tr[th[normalize-space(.)=\"{begins}\"]]/td"));
        let cells = self.driver.query(cells).wait(Duration::from_secs(10), Duration::from_millis(50)).all_from_selector().await;
        let mut texts = Vec::new();
        for cell in cells.expect("the row") {
            texts.push(cell.text().await.expect("text"));
        }
        texts
    }

    /// Scrolls until the element with this id is at the top.
    pub async fn show(&self, id: &str) {
        let scroll = format!("document.getElementById('{id}').scrollIntoView({{ block: 'start', behavior: 'instant' }})");
        self.driver.execute(scroll, vec![]).await.expect("scrolled");
    }

    /// Presses the button with this name.
    pub async fn press(&self, name: &str) {
        self.click(&format!("//button[normalize-space(.)=\"{name}\"]")).await;
    }

    /// Presses the button whose name contains this.
    pub async fn press_about(&self, part: &str) {
        self.click(&format!("//button[contains(normalize-space(.), \"{part}\") or contains(@aria-label, \"{part}\")]")).await;
    }

    /// Chooses the box with this name.
    pub async fn choose(&self, name: &str) {
        self.click(&format!("//label[normalize-space(.)=\"{name}\"]")).await;
    }

    /// Ticks the box that is named so for those who do not see it.
    pub async fn tick(&self, name: &str) {
        self.click(&format!("//input[@aria-label=\"{name}\"]")).await;
    }

    /// Puts a file into the field with this label, in the form that this button sends.
    pub async fn choose_file(&self, button: &str, label: &str, file: &std::path::Path) {
        let id = self.field_in_form(button, label).await;
        let field = self.driver.find(By::Id(id)).await.expect("the field");
        field.send_keys(file.to_str().expect("text")).await.expect("chosen");
    }

    /// Picks an option of the list with this id.
    pub async fn pick(&self, id: &str, option: &str) {
        self.click(&format!("//select[@id=\"{id}\"]/option[normalize-space(.)=\"{option}\"]")).await;
    }

    /// Follows the link with this name.
    pub async fn follow(&self, name: &str) {
        self.click(&format!("//a[normalize-space(.)=\"{name}\"]")).await;
    }

    /// Clicks as soon as the page no longer moves under it.
    async fn click(&self, path: &str) {
        let began = Instant::now();
        loop {
            let pressed = async {
                let shown =
                    self.driver.query(By::XPath(path)).wait(Duration::from_secs(10), Duration::from_millis(50)).and_displayed();
                let button = shown.first().await?;
                let scroll = "arguments[0].scrollIntoView({ block: 'center', behavior: 'instant' })";
                self.driver.execute(scroll, vec![button.to_json()?]).await?;
                button.click().await
            };
            // What is drawn anew between being found and being clicked is found again.
            let pressed = pressed.await;
            match pressed {
                Ok(()) => return,
                Err(error) if began.elapsed() > Duration::from_secs(10) => panic!("{path} cannot be clicked: {error}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }

    /// Violations of WCAG 2.2 A and AA that axe-core finds on the page, in words.
    pub async fn violations(&self) -> Vec<String> {
        let axe = concat!(env!("CARGO_MANIFEST_DIR"), "/../console/node_modules/axe-core/axe.min.js");
        let axe = std::fs::read_to_string(axe).expect("axe-core is installed (make test does it)");
        self.driver.execute(&axe, vec![]).await.expect("axe is in the page");
        let script =
            "const done = arguments[0]; axe.run(document, { runOnly: ['wcag2a','wcag2aa','wcag21a','wcag21aa','wcag22aa'] })
            .then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html).join(' | '))), e => done([String(e)]))";
        let found = self.driver.execute_async(script, vec![]).await.expect("axe ran");
        found.convert().expect("a list of texts")
    }

    /// Saves a picture of the window.
    pub async fn picture(&self, path: &std::path::Path) {
        self.driver.screenshot(path).await.expect("a picture");
    }

    /// Ends it.
    pub async fn close(self) {
        let _ = self.driver.clone().quit().await;
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.chromedriver.kill();
        let _ = self.chromedriver.wait();
    }
}

/// Connects as soon as the driver listens.
async fn connect(port: u16, wanted: ChromeCapabilities) -> WebDriver {
    let began = Instant::now();
    loop {
        match WebDriver::new(format!("http://127.0.0.1:{port}"), wanted.clone()).await {
            Ok(driver) => return driver,
            Err(error) if began.elapsed() > Duration::from_secs(30) => panic!("the browser did not start: {error}"),
            Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    }
}
