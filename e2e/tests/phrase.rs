//! A phrase: brought as a MIDI file, played through and round in every step, played by hand and kept, saved again.

use anyhow::Context;
use e2e::{Browser, Ladder, same_samples};
use engine::EventKind;
use formats::{PhraseEvent, read_phrase};
use thirtyfour::prelude::*;

/// By the byte (Standard MIDI File 1.0): 120 quarters a minute, 480 ticks each; three keys, a pedal and a bend in two quarters, a second channel.
const FILE: &[u8] = b"MThd\0\0\0\x06\0\0\0\x01\x01\xE0MTrk\0\0\0\x36\
\0\xFF\x51\x03\x07\xA1\x20\
\0\x90\x3C\x64\
\0\xB0\x40\x7F\
\x81\x70\x80\x3C\x40\
\0\x90\x43\x50\
\0\xE0\x00\x50\
\x81\x70\x80\x43\x40\
\0\xB0\x40\x00\
\0\xE0\x00\x40\
\x60\x91\x48\x7F\
\x60\x81\x48\x40\
\x82\x20\xFF\x2F\0";

fn kinds(event: &PhraseEvent) -> EventKind {
    let [status, first, second] = event.bytes;
    match status >> 4 {
        0x9 => EventKind::NoteOn {
            key: first,
            velocity: second,
        },
        0x8 => EventKind::NoteOff { key: first },
        0xB => EventKind::Controller {
            controller: first,
            value: second,
        },
        _ => EventKind::Bend {
            value: u16::from(second) << 7 | u16::from(first),
        },
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_midi_file_goes_round_in_every_step_and_what_is_played_is_kept_as_one() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    page.driver
        .goto(&format!("{}/instruments/1/shape", ladder.address))
        .await?;
    page.named("h2", "Shape").await?;
    page.hears_midi().await?;
    let folder = tempfile::tempdir()?;
    let (good, bad) = (
        folder.path().join("Two bars.mid"),
        folder.path().join("Nothing.mid"),
    );
    std::fs::write(&good, FILE)?;
    std::fs::write(&bad, b"RIFF")?;
    page.click("button", "Phrase").await?;
    let bring = async |path: &std::path::Path| -> anyhow::Result<()> {
        let input = page
            .driver
            .query(By::Css("[data-part=midi-file]"))
            .first()
            .await?;
        Ok(input.send_keys(path.display().to_string()).await?)
    };
    bring(&bad).await?;
    page.until(
        "what is wrong with it",
        "return document.body.innerText.includes('This is not a MIDI file')",
    )
    .await?;
    bring(&good).await?;
    page.named("[role=combobox]", "Two bars").await?;

    // It goes round, and goes on in another step.
    page.click("[aria-label=Phrase] button", "Play").await?;
    let rounds = |least: u32| {
        format!(
            "const at = document.querySelector('[data-part=phrase-at]');
            return at !== null && Number(at.dataset.rounds) >= {least} && window.most > 0"
        )
    };
    page.until("it goes round", &rounds(2)).await?;
    page.click("a", "Trim").await?;
    page.named("h2", "C4").await?;
    page.until("it goes round here too", &rounds(4)).await?;
    page.click("label", "Goes round").await?;
    page.named("[aria-label=Phrase] button", "Play").await?;
    page.until(
        "silence after its end",
        "return document.querySelector('[data-part=phrase-at]') === null && document.querySelector('[data-part=meter]').dataset.voices === '0'",
    )
    .await?;

    // Played through, it is what the native engine makes of it.
    let phrase = read_phrase(FILE)?;
    assert!((phrase.length_ms - 1_000.0).abs() < 1e-6);
    assert_eq!(phrase.events.len(), 10);
    let score: Vec<(usize, EventKind)> = (phrase.events.iter())
        .map(|event| ((event.at_ms * 48.0 / 128.0) as usize, kinds(event)))
        .collect();
    same_samples(&ladder, &page, 1, &score, 600).await?;

    // Saved at another tempo: half as fast.
    page.fill("Tempo", "60").await?;
    page.click("button", "Save as MIDI file").await?;
    let saved = read_phrase(&page.downloaded("Two bars.mid").await?)?;
    assert!((saved.quarters_a_minute - 60.0).abs() < 1e-6);
    assert!((saved.length_ms - 2_000.0).abs() < 1.0, "{}", saved.length_ms);
    assert_eq!(saved.events.len(), 10);
    for (saved, own) in saved.events.iter().zip(&phrase.events) {
        assert!(saved.bytes == own.bytes && (saved.at_ms - 2.0 * own.at_ms).abs() < 1.0);
    }

    // What is played is kept as another one.
    page.click("button", "Keep what I play").await?;
    page.script(
        "const say = (bytes, ms) => setTimeout(() => window.port.onmidimessage({ data: bytes }), ms);
        say([0x90, 65, 90], 0); say([0x80, 65, 20], 300); say([0x90, 69, 80], 400); say([0x80, 69, 20], 700);
        setTimeout(() => { window.played = true; }, 800);",
    )
    .await?;
    page.until("it was played", "return window.played === true")
        .await?;
    page.click("button", "Keep what was played").await?;
    page.named("[role=combobox]", "played 2").await?;
    page.click("button", "Save as MIDI file").await?;
    let kept = read_phrase(&page.downloaded("played 2.mid").await?)?;
    let bytes: Vec<[u8; 3]> = kept.events.iter().map(|event| event.bytes).collect();
    assert_eq!(
        bytes,
        [[0x90, 65, 90], [0x80, 65, 20], [0x90, 69, 80], [0x80, 69, 20]]
    );
    let last = kept.events.last().context("events")?.at_ms;
    assert!(kept.events[0].at_ms < 1.0 && last >= 600.0 && kept.length_ms >= last);

    // It is there the next time.
    page.driver.refresh().await?;
    page.click("button", "Phrase").await?;
    page.named("[role=combobox]", "played 2").await?;
    page.close().await?;
    ladder.end().await
}
