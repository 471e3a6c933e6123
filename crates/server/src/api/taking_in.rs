//! Files that wait become takes: of this instrument, or of new ones.

use super::Created;
use super::files::{Brought, FileName, brought, heard_of};
use crate::App;
use crate::audio::with_library;
use crate::problem::Problem;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use instrument::{
    Cell, HeardInFile, Kind, LevelOf, NameGuess, Origin, PlacedFile, Spelling, even_normalised,
    is_normalised, key_name, kind_of_file, map_of_files, mics_of, plan_with, read_name, rung_of,
};
use serde::{Deserialize, Serialize};
use shown::view_of;
use std::collections::BTreeMap;
use store::{NewTake, Recording, TakenIn, WaitingRow};
use utoipa::{IntoParams, ToSchema};

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

/// What files became.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct TakenInto {
    /// The instrument.
    id: u64,
    /// Whether they were recognised as normalised, and their levels evened along the ladder: a change of its own, which can be undone.
    evened: bool,
}

/// Takes files in: rungs, layers and round robins that the plan does not have are added to it.
#[utoipa::path(post, path = "/api/instruments/{id}/files/take-in", params(("id" = u64, Path)), request_body = Vec<TakeIn>, responses((status = 200, body = Vec<TakenInto>), (status = 422, body = Problem)))]
pub(super) async fn take_files_in(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wishes): Json<Vec<TakeIn>>,
) -> Result<Json<Vec<TakenInto>>, Problem> {
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
        let gone = |id: u64| !waiting.contains_key(&id);
        if wish.files.iter().flat_map(PlacedFile::files).any(gone) {
            return Err(Problem::refused(
                "A file was taken in meanwhile: look at the list again.",
            ));
        }
        let fresh = wish.name.is_some() || here.takes.is_empty();
        let kind = wish.kind.unwrap_or(here.plan.kind);
        let base = (!fresh).then(|| here.plan.clone());
        let mics = mics_of(&wish.files);
        let (together, audio) = sounds_of(&app, &wish.files, &waiting, &mics).await?;
        let (plan, cells) = plan_with(
            base,
            kind,
            &wish.layers,
            &together,
            &mics,
            (audio[0].recording.form.rate_hz, audio[0].recording.form.channels),
            &mut super::fresh_name,
        )
        .map_err(Problem::refused)?;
        let name = match &wish.name {
            Some(name) => Some(super::checked_name(name, "An instrument")?.to_owned()),
            None => None,
        };
        let gains = gains_of(&audio, &cells);
        let takes = audio
            .into_iter()
            .zip(cells)
            .map(|(sound, cell)| {
                let origin = Origin {
                    file: Some(sound.name),
                    inside: sound.heard.inside,
                    ..Origin::default()
                };
                NewTake::whole(cell, sound.recording, origin)
            })
            .collect();
        taken.push(TakenIn {
            name,
            from_plan: here.plan.clone(),
            map: fresh.then(|| map_of_files(&plan)).flatten(),
            plan,
            takes,
            gains,
            files: wish.files.iter().flat_map(PlacedFile::files).collect(),
        });
    }
    let made = app.store.take_in(id, &taken).await?;
    let into = |(id, taken): (u64, &TakenIn)| TakenInto {
        id,
        evened: !taken.gains.is_empty(),
    };
    Ok(Json(made.into_iter().zip(&taken).map(into).collect()))
}

/// Brings one file as an instrument of its own, which plays on all keys.
#[utoipa::path(post, path = "/api/files", params(FileName), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn instrument_of_file(
    State(app): State<App>,
    Query(FileName { name }): Query<FileName>,
    body: Body,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let file = name.rsplit(['/', '\\']).next().unwrap_or(&name);
    let called: String = file
        .rsplit_once('.')
        .map_or(file, |(stem, _)| stem)
        .chars()
        .take(120)
        .collect();
    let called = super::checked_name(&called, "A file")?;
    let Brought { recording, heard } = brought(&app, file, body).await?;
    let guess = read_name(file, Spelling::default());
    // A note that is both named and heard is that one; a name alone may be a word.
    let key = rung_of(&NameGuess::default(), &heard, 0).or_else(|| rung_of(&guess, &heard, 0));
    let place = PlacedFile {
        file: 0,
        right: None,
        key: key.unwrap_or(MIDDLE_C),
        layer: 0,
        round_robin: 0,
        key_up: false,
        mic: None,
        pass: None,
    };
    let (kind, form) = (kind_of_file(&heard), recording.form);
    let (plan, cells) = plan_with(
        None,
        kind,
        &[],
        &[place],
        &[],
        (form.rate_hz, form.channels),
        &mut super::fresh_name,
    )
    .map_err(Problem::refused)?;
    let origin = Origin {
        file: Some(name.clone()),
        inside: heard.inside,
        ..Origin::default()
    };
    let take = NewTake::whole(cells[0], recording, origin);
    let id = app
        .store
        .make_of(called, &plan, map_of_files(&plan), &[take])
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The key of a sound that tells no note.
const MIDDLE_C: u8 = 60;

/// Seconds of a file that waits which are sent at most.
const SENT_S: u64 = 20;

/// A file that waits, to be heard.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Waits {
    /// The file of its right side, where it holds the left one alone.
    right: Option<u64>,
}

/// Frames of a file that waits, as those of a take: its first 20 s.
#[utoipa::path(get, path = "/api/instruments/{id}/files/{file}/audio", params(("id" = u64, Path), ("file" = u64, Path), Waits), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem)))]
pub(super) async fn waiting_audio(
    State(app): State<App>,
    Path((id, file)): Path<(u64, u64)>,
    Query(Waits { right }): Query<Waits>,
) -> Result<impl IntoResponse, Problem> {
    let rows = app.store.waiting(id).await?;
    let start_of = |id: u64| {
        let row = rows.iter().find(|row| row.id == id)?;
        Some(WaitingRow {
            frames: row.frames.min(SENT_S * u64::from(row.form.rate_hz)),
            ..row.clone()
        })
    };
    let row = start_of(file).ok_or_else(|| Problem::missing("file"))?;
    let right = right.and_then(start_of);
    let channels = padded(whole(&app, &row, right.as_ref()).await?);
    let audio = signal::Audio {
        rate_hz: row.form.rate_hz,
        channels,
    };
    Ok((
        [(header::CONTENT_TYPE, "application/octet-stream")],
        work::as_bytes(&audio),
    ))
}

/// A recording that is to be a take.
struct Sound {
    recording: Recording,
    name: String,
    heard: HeardInFile,
}

/// Gains that bring a normalised set back onto one curve; none where they are as they were recorded, or where one has no level.
fn gains_of(sounds: &[Sound], cells: &[Cell]) -> Vec<f64> {
    let level = |(n, (sound, cell)): (u64, (&Sound, &Cell))| {
        Some(LevelOf {
            take: n,
            cell: *cell,
            peak_dbfs: sound.heard.peak_dbfs?,
            loudness_lufs: sound.heard.loudness_lufs?,
        })
    };
    let levels: Option<Vec<LevelOf>> = (0..).zip(sounds.iter().zip(cells)).map(level).collect();
    let levels = levels.filter(|levels| is_normalised(levels)).unwrap_or_default();
    even_normalised(&levels).iter().map(|of| of.value).collect()
}

type Member<'a> = (&'a PlacedFile, &'a WaitingRow, Option<&'a WaitingRow>);

/// The recordings of some files. Two files that are sides of one become one; and so do files of one place and several mics, each mic's channels after
/// those of the one before; the shorter ones end in silence. A place that lacks a mic is refused, since its takes could not share one treatment.
async fn sounds_of(
    app: &App,
    files: &[PlacedFile],
    waiting: &BTreeMap<u64, WaitingRow>,
    mics: &[String],
) -> Result<(Vec<PlacedFile>, Vec<Sound>), Problem> {
    let members: Vec<Member> = files
        .iter()
        .map(|placed| {
            (
                placed,
                &waiting[&placed.file],
                placed.right.map(|right| &waiting[&right]),
            )
        })
        .collect();
    let mut places: BTreeMap<_, Vec<Member>> = BTreeMap::new();
    for (n, member) in members.iter().enumerate() {
        let placed = member.0;
        let place = (placed.key_up, placed.key, placed.layer, placed.round_robin);
        // With one mic, files of one place are takes of it, in their order.
        let apart = if mics.len() > 1 { 0 } else { n };
        places.entry((apart, place)).or_default().push(*member);
    }
    let sides = members
        .iter()
        .map(|(_, row, right)| if right.is_some() { 2 } else { row.form.channels });
    let sides = usize::from(sides.max().unwrap_or(1).min(2));
    let (mut together, mut sounds) = (Vec::new(), Vec::new());
    for members in places.into_values() {
        let (placed, row, right) = members[0];
        let rate_hz = row.form.rate_hz;
        let of_all = members
            .iter()
            .flat_map(|(_, row, right)| std::iter::once(*row).chain(*right));
        let bits = of_all.map(|row| row.form.bits).max().unwrap_or(row.form.bits);
        let recording = if mics.len() > 1 {
            let mut channels = Vec::new();
            for mic in mics {
                let found = members
                    .iter()
                    .find(|(placed, ..)| placed.mic.as_ref() == Some(mic));
                let Some((_, of, right)) = found.filter(|(_, of, _)| of.form.rate_hz == rate_hz) else {
                    return Err(Problem::refused(format!(
                        "{} has no file of the mic «{mic}» at {} Hz: mend its row, or take the mics in one after another.",
                        key_name(placed.key, instrument::MiddleC::C4),
                        rate_hz
                    )));
                };
                let audio = whole(app, of, *right).await?;
                let last = audio.len() - 1;
                channels.extend((0..sides).map(|side| audio[side.min(last)].clone()));
            }
            kept(app, rate_hz, bits, channels).await?
        } else if right.is_some() {
            kept(app, rate_hz, bits, whole(app, row, right).await?).await?
        } else {
            row.recording()
        };
        sounds.push(Sound {
            recording,
            name: row.name.clone(),
            heard: heard_of(row),
        });
        together.push(placed.clone());
    }
    Ok((together, sounds))
}

/// All channels of a file; its first and that of its right side, where there is one.
async fn whole(app: &App, row: &WaitingRow, right: Option<&WaitingRow>) -> Result<Vec<Vec<f32>>, Problem> {
    let read = async |row: &WaitingRow, channels| {
        let audio = app
            .store
            .read_recording(&row.recording, row.form, 0..row.frames, channels);
        anyhow::Ok(audio.await?.channels)
    };
    let Some(right) = right else {
        return Ok(read(row, 0..usize::MAX).await?);
    };
    if right.form.rate_hz != row.form.rate_hz {
        return Err(Problem::refused(format!(
            "«{}» has {} Hz and its right side {} Hz: they are no pair.",
            row.name, row.form.rate_hz, right.form.rate_hz
        )));
    }
    let mut both = read(row, 0..1).await?;
    both.extend(read(right, 0..1).await?);
    Ok(both)
}

/// A recording of these channels.
async fn kept(app: &App, rate_hz: u32, bits: u16, channels: Vec<Vec<f32>>) -> Result<Recording, Problem> {
    let channels = padded(channels);
    let audio = signal::Audio { rate_hz, channels };
    Ok(with_library(app, move |library| work::keep(library, &audio, bits)).await?)
}

/// The shorter ones end in silence.
fn padded(mut channels: Vec<Vec<f32>>) -> Vec<Vec<f32>> {
    let longest = channels.iter().map(Vec::len).max().unwrap_or(0);
    channels
        .iter_mut()
        .for_each(|channel| channel.resize(longest, 0.0));
    channels
}
