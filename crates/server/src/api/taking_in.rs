//! Files that wait become takes: of this instrument, or of new ones.

use super::Created;
use super::files::heard_of;
use crate::App;
use crate::audio::with_library;
use crate::problem::Problem;
use crate::view::view_of;
use axum::Json;
use axum::extract::{Path, State};
use instrument::{Inside, Kind, Origin, PlacedFile, key_name, mics_of, plan_with};
use serde::Deserialize;
use std::collections::BTreeMap;
use store::{NewTake, Recording, TakenIn, WaitingRow};
use utoipa::ToSchema;

/// Files that become one instrument.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub(super) struct TakeIn {
    /// A new instrument of this name; `None` takes them into this one.
    #[serde(default)]
    name: Option<String>,
    /// What it is, which says whether it is looped.
    #[serde(default)]
    kind: Option<Kind>,
    /// Names of the layers, soft to loud.
    #[serde(default)]
    layers: Vec<String>,
    /// The files.
    files: Vec<PlacedFile>,
}

/// Takes files in: rungs, layers and round robins that the plan does not have are added to it.
#[utoipa::path(post, path = "/api/instruments/{id}/files/take-in", params(("id" = u64, Path)), request_body = Vec<TakeIn>, responses((status = 200, body = Vec<Created>), (status = 422, body = Problem)))]
pub(super) async fn take_files_in(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wishes): Json<Vec<TakeIn>>,
) -> Result<Json<Vec<Created>>, Problem> {
    let here = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let waiting: BTreeMap<u64, WaitingRow> = app
        .store
        .waiting(id)
        .await?
        .into_iter()
        .map(|row| (row.id, row))
        .collect();
    let mut taken = Vec::new();
    for wish in wishes {
        if wish.files.is_empty() {
            continue;
        }
        let rows: Vec<&WaitingRow> = wish
            .files
            .iter()
            .map(|placed| waiting.get(&placed.file))
            .collect::<Option<_>>()
            .ok_or_else(|| Problem::refused("A file was taken in meanwhile: look at the list again."))?;
        let fresh = wish.name.is_some() || here.takes.is_empty();
        let kind = wish.kind.unwrap_or(here.plan.kind);
        let base = (!fresh).then(|| here.plan.clone());
        let mics = mics_of(&wish.files);
        let (together, audio) = if mics.len() > 1 {
            one_of_each_place(&app, &wish.files, &rows, &mics).await?
        } else {
            let whole = |row: &&WaitingRow| Sound {
                recording: row.recording(),
                name: row.name.clone(),
                inside: heard_of(row).inside,
            };
            (wish.files.clone(), rows.iter().map(whole).collect())
        };
        let (plan, cells) = plan_with(
            base,
            kind,
            &wish.layers,
            &together,
            &mics,
            (audio[0].recording.form.rate_hz, audio[0].recording.form.channels),
        )
        .map_err(Problem::refused)?;
        let name = match &wish.name {
            Some(name) => Some(super::checked_name(name, "An instrument")?.to_owned()),
            None => None,
        };
        let takes = audio
            .into_iter()
            .zip(cells)
            .map(|(sound, cell)| {
                let origin = Origin {
                    file: Some(sound.name),
                    inside: sound.inside,
                    ..Origin::default()
                };
                NewTake::whole(cell, sound.recording, origin)
            })
            .collect();
        taken.push(TakenIn {
            name,
            plan,
            from_plan: here.plan.clone(),
            takes,
            files: wish.files.iter().map(|placed| placed.file).collect(),
        });
    }
    let made = app.store.take_in(id, &taken).await?;
    Ok(Json(made.into_iter().map(|id| Created { id }).collect()))
}

/// A recording that is to be a take.
struct Sound {
    recording: Recording,
    name: String,
    inside: Option<Inside>,
}

/// Files of one place and several mics become one recording that holds them all, each mic's channels after those of the one before;
/// the shorter ones end in silence. A place that lacks a mic is refused, since its takes could not share one treatment.
async fn one_of_each_place(
    app: &App,
    files: &[PlacedFile],
    rows: &[&WaitingRow],
    mics: &[String],
) -> Result<(Vec<PlacedFile>, Vec<Sound>), Problem> {
    type Place = (bool, u8, u16, u16);
    type Member<'a> = (&'a PlacedFile, &'a WaitingRow);
    let mut places: BTreeMap<Place, Vec<Member>> = BTreeMap::new();
    for (placed, row) in files.iter().zip(rows) {
        let place = (placed.key_up, placed.key, placed.layer, placed.round_robin);
        places.entry(place).or_default().push((placed, row));
    }
    let sides = usize::from(rows.iter().map(|row| row.form.channels).max().unwrap_or(1).min(2));
    let (mut together, mut sounds) = (Vec::new(), Vec::new());
    for ((_, key, ..), members) in places {
        let mut channels: Vec<Vec<f32>> = Vec::new();
        let (first, form) = (members[0], members[0].1.form);
        for mic in mics {
            let found = members
                .iter()
                .find(|(placed, _)| placed.mic.as_ref() == Some(mic));
            let Some((_, row)) = found.filter(|(_, row)| row.form.rate_hz == form.rate_hz) else {
                return Err(Problem::refused(format!(
                    "{} has no file of the mic «{mic}» at {} Hz: mend its row, or take the mics in one after another.",
                    key_name(key, instrument::MiddleC::C4),
                    form.rate_hz
                )));
            };
            let audio = app
                .store
                .read_recording(&row.recording, row.form, 0..row.frames, 0..usize::MAX)
                .await?;
            let last = audio.channels.len() - 1;
            channels.extend((0..sides).map(|side| audio.channels[side.min(last)].clone()));
        }
        let longest = channels.iter().map(Vec::len).max().unwrap_or(0);
        channels
            .iter_mut()
            .for_each(|channel| channel.resize(longest, 0.0));
        let audio = signal::Audio {
            rate_hz: form.rate_hz,
            channels,
        };
        let bits = form.bits;
        sounds.push(Sound {
            recording: with_library(app, move |library| work::keep(library, &audio, bits)).await?,
            name: first.1.name.clone(),
            inside: heard_of(first.1).inside,
        });
        together.push(first.0.clone());
    }
    Ok((together, sounds))
}
