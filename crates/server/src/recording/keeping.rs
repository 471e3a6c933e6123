//! What arrived is put away: a spool becomes a take or a long take.

use anyhow::Context;
use instrument::Origin;
use store::{About, Belongs, NewLongTake, NewTake, Spool};

/// What became of it.
pub(super) enum Kept {
    /// A take; without a number where its run is another's by now.
    Take(Option<u64>),
    /// A long take.
    LongTake(u64),
}

/// Keeps what arrived in a spool as what it says it is: a take, or a long take. However often it is done, it is there once.
pub(super) async fn keep_spool(
    store: &store::Store,
    about: &About,
    spool: &mut Spool,
    origin: &Origin,
    broken_off: bool,
    holder: Option<&str>,
) -> anyhow::Result<Kept> {
    let recording = store
        .put_recording(spool)
        .await
        .context("what was recorded could not be put away")?;
    match &about.belongs {
        Belongs::LongTake(name) => {
            let new = NewLongTake {
                name: name.clone(),
                recording,
                spool: Some(about.spool.clone()),
                broken_off,
            };
            let id = store.add_long_take(about.instrument, &new).await?;
            Ok(Kept::LongTake(id))
        }
        Belongs::Cell(cell) => {
            let take = NewTake {
                spool: Some(about.spool.clone()),
                ..NewTake::whole(*cell, recording, origin.clone())
            };
            let ids = store.add_takes_of_run(about.instrument, holder, &[take]).await?;
            Ok(Kept::Take(ids.first().copied()))
        }
    }
}

/// What a page is told of what arrived of its recording.
pub(super) fn kept_sentence(about: &About, frames: u64) -> String {
    let seconds = frames as f64 / f64::from(about.form.rate_hz.max(1));
    let what = match &about.belongs {
        Belongs::LongTake(name) => format!("the long take «{name}»"),
        Belongs::Cell(cell) => format!(
            "a take of {}",
            instrument::key_name(cell.key, instrument::MiddleC::C4)
        ),
    };
    format!("The recording broke off. Its first {seconds:.1} s are kept as {what}.")
}
