//! A headless Chromium, driven through ChromeDriver.

use anyhow::{Context, bail};
use serde_json::{Value, json};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use thirtyfour::extensions::cdp::ChromeDevTools;
use thirtyfour::prelude::*;

/// So long is waited for what must come.
const PATIENCE: Duration = Duration::from_secs(120);

/// What goes to the output is looked at block by block.
const TAP: &str = "
const connect = AudioNode.prototype.connect;
AudioNode.prototype.connect = function (to, ...rest) {
  if (to instanceof AudioDestinationNode && !window.tap) {
    window.tap = new AnalyserNode(to.context, { fftSize: 128 });
    connect.call(this, window.tap);
  }
  return connect.call(this, to, ...rest);
};
window.loudest = () => {
  const of = new Float32Array(128);
  window.tap?.getFloatTimeDomainData(of);
  return of.reduce((most, x) => Math.max(most, Math.abs(x)), 0);
};";

/// One browser window. Ends with it.
pub struct Browser {
    driver_process: Child,
    profile: TempDir,
    /// The window.
    pub driver: WebDriver,
}

impl Browser {
    /// Opens a window of 1280×800 whose downloads go to its own folder.
    pub async fn open() -> anyhow::Result<Self> {
        Self::open_with(&[]).await
    }

    /// The same, whose audio input plays a WAV file over and over, allowed without asking.
    pub async fn open_hearing(file: &Path) -> anyhow::Result<Self> {
        Self::open_with(&[
            "--use-fake-ui-for-media-stream".to_owned(),
            "--use-fake-device-for-media-stream".to_owned(),
            format!("--use-file-for-fake-audio-capture={}", file.display()),
        ])
        .await
    }

    async fn open_with(more: &[String]) -> anyhow::Result<Self> {
        let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let driver_process = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        let profile = TempDir::new()?;
        let mut wishes = DesiredCapabilities::chrome();
        for argument in [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--autoplay-policy=no-user-gesture-required",
            "--window-size=1280,800",
        ] {
            wishes.add_arg(argument)?;
        }
        for argument in more {
            wishes.add_arg(argument)?;
        }
        wishes.add_arg(&format!(
            "--user-data-dir={}",
            profile.path().join("profile").display()
        ))?;
        std::fs::create_dir_all(profile.path().join("downloads"))?;
        wishes.add_experimental_option(
            "prefs",
            serde_json::json!({ "download.default_directory": profile.path().join("downloads"), "download.prompt_for_download": false }),
        )?;
        let began = Instant::now();
        let driver = loop {
            match WebDriver::new(format!("http://127.0.0.1:{port}"), wishes.clone()).await {
                Ok(driver) => break driver,
                Err(error) if began.elapsed() > Duration::from_secs(30) => return Err(error.into()),
                Err(_) => tokio::time::sleep(Duration::from_millis(200)).await,
            }
        };
        // The window's frame is not part of the page: ask for the page's own size.
        let extra = driver
            .execute(
                "return [outerWidth - innerWidth, outerHeight - innerHeight]",
                vec![],
            )
            .await?;
        let extra: [u32; 2] = extra.convert()?;
        driver
            .set_window_rect(0, 0, 1280 + extra[0], 800 + extra[1])
            .await?;
        Ok(Self {
            driver_process,
            profile,
            driver,
        })
    }

    /// In every page that is opened from now on, frames in it too, `window.loudest()` is the peak of the block that goes to the output.
    pub async fn taps_output(&self) -> anyhow::Result<()> {
        let tools = ChromeDevTools::new(self.driver.handle.clone());
        tools
            .execute_cdp_with_params("Page.addScriptToEvaluateOnNewDocument", json!({ "source": TAP }))
            .await?;
        Ok(())
    }

    /// The element with that text among those a selector names, waited for.
    pub async fn named(&self, selector: &str, text: &str) -> anyhow::Result<WebElement> {
        let began = Instant::now();
        loop {
            for element in self.driver.find_all(By::Css(selector)).await? {
                if element
                    .text()
                    .await
                    .is_ok_and(|found| found.trim().starts_with(text))
                {
                    return Ok(element);
                }
            }
            if began.elapsed() > PATIENCE {
                bail!("nothing that is {selector} says «{text}»");
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Clicks it.
    pub async fn click(&self, selector: &str, text: &str) -> anyhow::Result<()> {
        Ok(self.named(selector, text).await?.click().await?)
    }

    /// Types into the field of that label, and Enter.
    pub async fn fill(&self, label: &str, text: &str) -> anyhow::Result<()> {
        let field = self.field(label).await?;
        field.send_keys(Key::Control + "a").await?;
        field.send_keys(text).await?;
        field.send_keys(Key::Enter + "").await?;
        Ok(())
    }

    /// The input of a label.
    pub async fn field(&self, label: &str) -> anyhow::Result<WebElement> {
        let of = self
            .named("label", label)
            .await?
            .attr("for")
            .await?
            .context("a label without a field")?;
        Ok(self.driver.query(By::Id(&of)).first().await?)
    }

    /// A MIDI keyboard of our own, `window.port`, in place of the browser's, which finds none here; and a watch on the meter: `window.most` voices at
    /// once. Gives when all heads are there.
    pub async fn hears_midi(&self) -> anyhow::Result<()> {
        self.script(
            "window.port = { id: 'a', name: 'keys' };
            navigator.requestMIDIAccess = async () => ({ inputs: new Map([['a', window.port]]), outputs: new Map(), onstatechange: null });
            const meter = document.querySelector('[data-part=meter]'); window.most = 0;
            new MutationObserver(() => { window.most = Math.max(window.most, Number(meter.dataset.voices)); }).observe(meter, { attributes: true });",
        )
        .await?;
        self.click("button", "MIDI").await?;
        self.named("[data-part=toast]", "1 MIDI input is heard").await?;
        self.script("window.port.onmidimessage({ data: [0x90, 0, 1] }); window.port.onmidimessage({ data: [0x80, 0, 0] })")
            .await?;
        self.until(
            "all heads, and silence",
            "const { heads, of, voices } = document.querySelector('[data-part=meter]').dataset; return Number(of) > 0 && heads === of && voices === '0'",
        )
        .await
    }

    /// Opens a Radix select by its label and picks an option.
    pub async fn pick(&self, label: &str, option: &str) -> anyhow::Result<()> {
        let id = self
            .named("div.field-label, div.sr-only", label)
            .await?
            .attr("id")
            .await?
            .context("a label without an id")?;
        self.driver
            .query(By::Css(format!("[role=combobox][aria-labelledby='{id}']")))
            .first()
            .await?
            .click()
            .await?;
        self.click("[role=option]", option).await
    }

    /// Types into the input of that accessible name, and Enter.
    pub async fn write(&self, name: &str, text: &str) -> anyhow::Result<()> {
        let field = self
            .driver
            .query(By::Css(format!("[aria-label='{name}']")))
            .first()
            .await?;
        field.send_keys(Key::Control + "a").await?;
        field.send_keys(text).await?;
        field.send_keys(Key::Enter + "").await?;
        Ok(())
    }

    /// Writes into the field that stands in a label of that text, in place of what is there, and leaves it.
    pub async fn write_under(&self, label: &str, text: &str) -> anyhow::Result<()> {
        let of = format!("//label[starts-with(normalize-space(.), '{label}')]//input");
        let field = self.driver.query(By::XPath(of)).first().await?;
        field.send_keys(Key::Control + "a").await?;
        field.send_keys(text).await?;
        field.send_keys(Key::Enter + "").await?;
        Ok(())
    }

    /// Strikes middle C on the keyboard of [`Self::hears_midi`], and waits until something sounds.
    pub async fn sounds(&self) -> anyhow::Result<()> {
        self.hears_midi().await?;
        self.script("window.port.onmidimessage({ data: [0x90, 60, 100] })")
            .await?;
        self.until("it sounds", "return window.most > 0").await
    }

    /// Clicks a key of the ladder.
    pub async fn click_key(&self, key: u8) -> anyhow::Result<()> {
        let ladder = self.driver.query(By::Css("[data-part=ladder]")).first().await?;
        let number = |text: Option<String>| -> anyhow::Result<f64> { Ok(text.context("no view")?.parse()?) };
        let low = number(ladder.attr("data-low").await?)?;
        let keys = number(ladder.attr("data-keys").await?)?;
        let (_, height) = ladder.rect().await.map(|r| (r.width, r.height))?;
        const HEADER: f64 = 34.0;
        let y = HEADER + (low + keys - 0.5 - f64::from(key)) * (height - HEADER) / keys;
        // From the middle of the element, as WebDriver has it.
        self.driver
            .action_chain()
            .move_to_element_with_offset(&ladder, 0, (y - height / 2.0).round() as i64)
            .click()
            .perform()
            .await?;
        Ok(())
    }

    /// Drops files or folders of this machine on an element.
    pub async fn drop_on(&self, selector: &str, paths: &[&Path]) -> anyhow::Result<()> {
        let target = self.driver.query(By::Css(selector)).first().await?.rect().await?;
        let tools = thirtyfour::extensions::cdp::ChromeDevTools::new(self.driver.handle.clone());
        for kind in ["dragEnter", "dragOver", "drop"] {
            let paths: Vec<String> = paths.iter().map(|path| path.display().to_string()).collect();
            let event = serde_json::json!({
                "type": kind, "x": target.x + target.width / 2.0, "y": target.y + target.height / 2.0,
                "data": { "items": [], "files": paths, "dragOperationsMask": 1 },
            });
            tools
                .execute_cdp_with_params("Input.dispatchDragEvent", event)
                .await?;
        }
        Ok(())
    }

    /// What a script returns.
    pub async fn script(&self, code: &str) -> anyhow::Result<Value> {
        Ok(self.driver.execute(code, vec![]).await?.json().clone())
    }

    /// Asks a script until it returns true. Where it never does, what the page shows is told: tests do not time, so that only what
    /// stands still fails here, on a busy machine with a slow disk too.
    pub async fn until(&self, what: &str, code: &str) -> anyhow::Result<()> {
        let began = Instant::now();
        while self.script(code).await? != Value::Bool(true) {
            if began.elapsed() > PATIENCE {
                let shown = self.script("return document.body.innerText").await?;
                let shown = shown.as_str().unwrap_or_default();
                // What is said last, toasts among it, stands at the end.
                let end = shown.chars().count().saturating_sub(1_500);
                let shown: String = shown.chars().skip(end).collect();
                bail!("never: {what}; the page shows:\n{shown}");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Ok(())
    }

    /// A download whose name ends so, waited for to its end: before that the browser holds its name with an empty file, and what arrives stands in another.
    pub async fn downloaded(&self, ending: &str) -> anyhow::Result<Vec<u8>> {
        const ARRIVING: &str = ".crdownload";
        let began = Instant::now();
        loop {
            let entries = std::fs::read_dir(self.profile.path().join("downloads"))?;
            let paths: Vec<PathBuf> = entries
                .map(|entry| Ok(entry?.path()))
                .collect::<std::io::Result<_>>()?;
            let ends = |path: &PathBuf, ending: &str| path.to_string_lossy().ends_with(ending);
            let arrives = paths.iter().any(|path| ends(path, ARRIVING));
            if let Some(path) = paths.iter().find(|path| !arrives && ends(path, ending)) {
                let bytes = std::fs::read(path)?;
                if !bytes.is_empty() {
                    return Ok(bytes);
                }
            }
            if began.elapsed() > PATIENCE {
                bail!("no download ends in {ending}");
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// A picture for `docs/screenshots`, where `LADDER_PICTURES` names a folder.
    pub async fn picture(&self, name: &str) -> anyhow::Result<()> {
        if let Ok(folder) = std::env::var("LADDER_PICTURES") {
            tokio::time::sleep(Duration::from_millis(900)).await;
            self.driver
                .screenshot(&Path::new(&folder).join(format!("{name}.png")))
                .await?;
        }
        Ok(())
    }

    /// Ends it.
    pub async fn close(self) -> anyhow::Result<()> {
        Ok(self.driver.clone().quit().await?)
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver_process.kill();
        let _ = self.driver_process.wait();
        // A test that failed half-way must not leave a window behind, which would take the next test's time: its processes are those
        // that name its profile.
        let profile = self.profile.path().display().to_string();
        let _ = Command::new("pkill").args(["-KILL", "-f", &profile]).status();
    }
}
