//! From the shelf to a file that is given away, without a mouse: Tab, Enter, arrows and what is typed.

use anyhow::Context;
use e2e::{Browser, Ladder};
use thirtyfour::prelude::*;

/// So many stops a page has at most, on the way to any of them.
const MOST_STOPS: usize = 160;

struct Hands(Browser);

impl Hands {
    async fn press(&self, keys: impl Into<TypingData>) -> anyhow::Result<()> {
        Ok(self.0.driver.action_chain().send_keys(keys).perform().await?)
    }

    async fn with_control(&self, key: &str) -> anyhow::Result<()> {
        let keys = self.0.driver.action_chain().key_down(Key::Control);
        Ok(keys.send_keys(key).key_up(Key::Control).perform().await?)
    }

    /// Goes on from stop to stop until the one that has the focus is wanted, which a script says of `it`.
    async fn tab_to(&self, what: &str, wanted: &str) -> anyhow::Result<()> {
        let asked =
            format!("const it = document.activeElement; return it !== document.body && Boolean({wanted})");
        for _ in 0..MOST_STOPS {
            self.press(Key::Tab + "").await?;
            if self.0.script(&asked).await? == true {
                // Who cannot see where they are is lost: it stands out from what it is without the focus.
                let seen = self
                    .0
                    .script(
                        "const it = document.activeElement; const s = getComputedStyle(it); \
                         return (s.outlineStyle !== 'none' && parseFloat(s.outlineWidth) >= 1) || s.boxShadow !== 'none' || it.closest('.sr-only') !== null",
                    )
                    .await?;
                anyhow::ensure!(seen == true, "{what}: the focus cannot be seen");
                return Ok(());
            }
        }
        anyhow::bail!("Tab never comes to {what}")
    }

    async fn go_to_step(&self, step: &str) -> anyhow::Result<()> {
        self.tab_to(
            step,
            &format!("it.closest('nav') && it.textContent.trim().toLowerCase().startsWith('{step}')"),
        )
        .await?;
        self.press(Key::Enter + "").await?;
        self.0
            .until(step, &format!("return location.pathname.endsWith('/{step}')"))
            .await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_shelf_to_an_export_without_a_mouse() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let hands = Hands(Browser::open().await?);
    hands.0.driver.goto(&ladder.address).await?;
    hands.0.named("p", "Slate chimes").await?;
    hands
        .tab_to(
            "the chimes",
            "it.tagName === 'A' && it.textContent.includes('Slate chimes')",
        )
        .await?;
    hands.press(Key::Enter + "").await?;
    hands
        .0
        .until("its map", "return location.pathname === '/instruments/2/map'")
        .await?;

    // Trim: a cell by the arrows, its level typed and stepped, the plan of the page undone by its keys.
    hands.go_to_step("trim").await?;
    hands.0.named("h2", "F♯4").await?;
    hands.tab_to("the board", "it.dataset.cell").await?;
    hands.press(Key::Up + "").await?;
    hands.0.named("h2", "C5").await?;
    hands
        .tab_to(
            "the level",
            "it.tagName === 'INPUT' && it.labels?.[0]?.textContent === 'Level'",
        )
        .await?;
    let level = |is: &str| format!("return document.activeElement.value === '{is}'");
    // Faster than any answer comes: each step goes on from the one before.
    for _ in 0..5 {
        hands.press(Key::Up + "").await?;
    }
    hands.0.until("five steps up", &level("5.0 dB")).await?;
    ladder
        .wait_for("/api/instruments/2", |view| {
            view["takes"]
                .as_array()
                .is_some_and(|takes| takes.iter().any(|take| take["correction"]["gain_db"] == 5.0))
        })
        .await?;
    hands.with_control("a").await?;
    hands.press("-2,5").await?;
    hands.press(Key::Enter + "").await?;
    hands.0.until("a level that is typed", &level("−2.5 dB")).await?;

    // Map: a rule from a list that is opened, gone through and closed by keys; a region from the list of them, its limit typed.
    hands.go_to_step("map").await?;
    let tab = |name: &str| format!("it.getAttribute('role') === 'tab' && it.textContent === '{name}'");
    hands.tab_to("the rule", &tab("By rule")).await?;
    hands.press(Key::Enter + "").await?;
    hands
        .tab_to(
            "the keys between two rungs",
            "it.getAttribute('role') === 'combobox' && it.textContent.includes('stretch the upper rung down')",
        )
        .await?;
    hands.press(Key::Enter + "").await?;
    hands.named_option("stretch the upper rung down").await?;
    hands.press(Key::Down + "").await?;
    hands.named_option("stretch the lower rung up").await?;
    hands.press(Key::Enter + "").await?;
    hands
        .0
        .until(
            "stretched up",
            "return [...document.querySelectorAll('[data-region]')].some((r) => r.textContent.startsWith('Bars F♯4 soft 1: keys F♯4 to B4'))",
        )
        .await?;
    hands.tab_to("a region", "it.dataset.region").await?;
    hands.press(Key::Down + "").await?;
    hands
        .tab_to(
            "its highest key",
            "it.tagName === 'INPUT' && it.labels?.[0]?.textContent === 'Highest key'",
        )
        .await?;
    hands.with_control("a").await?;
    hands.press("D3").await?;
    hands.press(Key::Enter + "").await?;
    const BY_HAND: &str = "[...document.querySelectorAll('[data-region]')].some((r) => /keys .* to D3, .*set by hand/.test(r.textContent))";
    hands.0.until("set by hand", &format!("return {BY_HAND}")).await?;
    hands.tab_to("the steps", "it.closest('nav')").await?;
    hands.with_control("z").await?;
    hands.0.until("undone", &format!("return !{BY_HAND}")).await?;

    // Export, and the file.
    hands.go_to_step("export").await?;
    hands
        .tab_to(
            "Export",
            "it.tagName === 'BUTTON' && it.textContent.trim() === 'Export'",
        )
        .await?;
    hands.press(Key::Enter + "").await?;
    hands.0.named("a", "Download").await?;
    hands.tab_to("Download", "it.textContent === 'Download'").await?;
    hands.press(Key::Enter + "").await?;
    let zip = hands.0.downloaded(".zip").await?;
    anyhow::ensure!(zip.starts_with(b"PK"), "that is no zip");
    hands.0.close().await.context("the browser")
}

impl Hands {
    /// An option of the list that is open has the focus.
    async fn named_option(&self, name: &str) -> anyhow::Result<()> {
        self.0
            .until(
                name,
                &format!(
                    "const it = document.activeElement; return it.getAttribute('role') === 'option' && it.textContent.includes('{name}')"
                ),
            )
            .await
    }
}
