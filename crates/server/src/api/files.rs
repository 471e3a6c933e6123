//! Files that were dropped on the page: read, and listed with what their names tell.

use super::Created;
use crate::App;
use crate::audio::with_library;
use crate::problem::Problem;
use axum::Json;
use axum::body::{Body, BodyDataStream};
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use futures::StreamExt;
use instrument::{
    HeardInFile, Kind, KitKeys, MOST_TAKE_S, NameGuess, OctaveHabit, Spelling, contradicts, kind_of_files,
    kind_offered, kit_keys, place_files, says_of, settle,
};
use serde::{Deserialize, Serialize};
use shown::plan_of;
use std::collections::BTreeMap;
use std::fs::File;
use store::{Recording, WaitingRow};
use tokio::io::AsyncWriteExt;
use utoipa::{IntoParams, ToSchema};

/// A file that is to be one take is no longer than this.
const MOST_BYTES: u64 = 2 << 30;

/// A file as it was read from a body: in the store, with what was heard.
pub(super) struct Brought {
    pub(super) recording: Recording,
    pub(super) heard: HeardInFile,
}

/// Seconds of a file that are listened to for its pitch.
const HEARD_S: usize = 4;

/// What is refused is read on, up to so many bytes: who is still sending would not hear why.
const LET_COME_BYTES: usize = 1 << 30;

/// The name of a file that is sent.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct FileName {
    /// With its ending.
    pub(super) name: String,
}

/// Reads what still comes of a body that is refused.
pub(super) async fn let_come(stream: &mut BodyDataStream) {
    let mut count = 0;
    while let Some(Ok(piece)) = stream.next().await {
        count += piece.len();
        if count > LET_COME_BYTES {
            return;
        }
    }
}

/// Writes what is sent to a file, as many bytes as there may be; how many there are. `too_long` says that there are more.
pub(super) async fn receive(
    body: Body,
    name: &str,
    out: File,
    most_bytes: u64,
    too_long: &str,
) -> Result<u64, Problem> {
    let mut out = tokio::fs::File::from_std(out);
    let (mut stream, mut count) = (body.into_data_stream(), 0u64);
    while let Some(piece) = stream.next().await {
        let piece =
            piece.map_err(|_| Problem::refused(format!("«{name}» did not arrive whole: send it again.")))?;
        count += piece.len() as u64;
        if count > most_bytes {
            return Err(Problem::refused(too_long));
        }
        if let Err(error) = out.write_all(&piece).await {
            let_come(&mut stream).await;
            return Err(error.into());
        }
    }
    out.flush().await?;
    Ok(count)
}

/// Reads a file that is sent and puts its recording into the store.
pub(super) async fn brought(app: &App, name: &str, body: Body) -> Result<Brought, Problem> {
    let file = app.store.scratch().file()?;
    let too_long = format!("«{name}» is over 2 GB: bring it as a long take.");
    receive(body, name, file.reopen()?, MOST_BYTES, &too_long).await?;
    heard_in(app, name, move || file.reopen()).await
}

/// Puts the recording of a file into the store, and listens to it.
pub(super) async fn heard_in(
    app: &App,
    name: &str,
    open: impl Fn() -> std::io::Result<File> + Send + 'static,
) -> Result<Brought, Problem> {
    let of = name.to_owned();
    let read = with_library(app, move |library| {
        let inside = work::inside_of(&open()?)?;
        let (mut start, mut loudest) = (Vec::new(), 0.0f32);
        let mut form = None;
        let recording = work::read_file(library, open()?, &of, |of, frames, piece| {
            form = Some(of);
            if frames > u64::from(of.rate_hz) * MOST_TAKE_S {
                return Err(work::refusal(format!(
                    "It lasts over {} minutes. Bring it as a long take, and cut it.",
                    MOST_TAKE_S / 60
                )));
            }
            loudest = piece.iter().fold(loudest, |top, x| top.max(x.abs()));
            if start.len() < of.rate_hz as usize * HEARD_S * usize::from(of.channels) {
                start.extend_from_slice(piece);
            }
            Ok(())
        })?;
        let start = form
            .map(|form| signal::Audio::from_interleaved(form.rate_hz, usize::from(form.channels), &start));
        let pitch = start.as_ref().and_then(signal::measure_pitch);
        let dies_away = start.as_ref().and_then(|start| {
            let bounds = signal::sound_bounds(start)?;
            Some(signal::dies_away(start, bounds.start_frame, bounds.end_frame))
        });
        let loudness_lufs = start
            .as_ref()
            .and_then(|start| signal::loudness_lufs_of(start, 0, start.frames()));
        let heard = HeardInFile {
            key: pitch.map(|p| p.key),
            cents: pitch.map(|p| p.cents),
            confidence: pitch.map_or(0.0, |p| p.confidence),
            dies_away,
            peak_dbfs: (loudest > 0.0).then(|| signal::amplitude_to_db(f64::from(loudest))),
            loudness_lufs,
            silent: loudest == 0.0,
            ..inside
        };
        Ok(Brought { recording, heard })
    })
    .await;
    read.map_err(|error| match error.downcast_ref::<work::Refusal>() {
        Some(refusal) => Problem::refused(format!("«{name}» was left aside. {refusal}")),
        None => error.into(),
    })
}

/// Brings one file; it waits until it is taken in.
#[utoipa::path(post, path = "/api/instruments/{id}/files", params(("id" = u64, Path), FileName), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn bring_file(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(FileName { name }): Query<FileName>,
    body: Body,
) -> Result<(StatusCode, Json<Created>), Problem> {
    plan_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let name: String = name.chars().take(1_000).collect();
    let Brought { recording, heard } = brought(&app, &name, body).await?;
    let heard = serde_json::to_value(heard)?;
    let id = app.store.add_waiting(id, &name, &recording, &heard).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// How names are to be read.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Habits {
    /// How notes are spelt.
    #[serde(default)]
    #[param(inline)]
    spelling: Spelling,
    /// Keys added to what the names say; decided by what is heard where it is left out.
    shift_keys: Option<i16>,
    /// Laid out as a kit: each file on a key of its own, whatever it is called.
    #[param(inline)]
    kit: Option<KitKeys>,
    /// The first key of the kit.
    kit_from: Option<u8>,
}

/// One file with what its name tells.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FileRow {
    /// Its number.
    id: u64,
    /// As it was named.
    name: String,
    /// The file that holds its right side, where this one holds the left alone.
    right: Option<RightSide>,
    /// Frames per second.
    rate_hz: u32,
    /// Channels.
    channels: u16,
    /// Length.
    frames: u64,
    /// What its name tells.
    guess: NameGuess,
    /// The rung that follows.
    key: Option<u8>,
    /// The layer that follows, from soft.
    layer: u16,
    /// The round robin that follows, from 0.
    round_robin: u16,
    /// What was heard, and stood inside it.
    heard: HeardInFile,
    /// What does not agree.
    says: Vec<String>,
    /// Whether what is heard is another note than its name or the file itself tells.
    contradicts: bool,
}

/// The other file of a stereo recording in two.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct RightSide {
    /// Its number.
    id: u64,
    /// As it was named.
    name: String,
}

/// All files that wait.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FilesView {
    /// By name.
    files: Vec<FileRow>,
    /// Names of the layers found, soft to loud.
    layers: Vec<String>,
    /// What they are offered as together.
    kind: Kind,
    /// How middle C is written, as far as what is heard tells.
    octave: Option<OctaveHabit>,
    /// The same as a sentence.
    octave_says: String,
    /// The different things in it, by the stem of their names.
    stems: Vec<StemView>,
}

pub(super) fn heard_of(row: &WaitingRow) -> HeardInFile {
    serde_json::from_value(row.heard.clone()).unwrap_or_default()
}

/// The files that wait, with what their names tell.
#[utoipa::path(get, path = "/api/instruments/{id}/files", params(("id" = u64, Path), Habits), responses((status = 200, body = FilesView)))]
pub(super) async fn list_files(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(habits): Query<Habits>,
) -> Result<Json<FilesView>, Problem> {
    let rows = app.store.waiting(id).await?;
    let names: Vec<String> = rows.iter().map(|row| row.name.clone()).collect();
    let heard: Vec<HeardInFile> = rows.iter().map(heard_of).collect();
    let placed = place_files(&names, &heard, habits.spelling, habits.shift_keys);
    let octave = placed.octave;
    let planned = plan_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?
        .kind;
    // Of every file, a right side as well.
    let guesses = settle(&names, habits.spelling).guesses;
    let stems = stems_of(planned, &guesses, &heard);
    let octave_says = match octave {
        Some(OctaveHabit {
            shift_keys,
            agree,
            heard,
        }) => format!(
            "Middle C is written C{} in these names: {agree} of {heard} heard say so.",
            4 - shift_keys / 12
        ),
        None if guesses.iter().any(|guess| guess.key.is_some()) => {
            "What is heard does not tell how middle C is written: C4 is assumed.".to_owned()
        }
        None => String::new(),
    };
    let mut files: Vec<FileRow> = (placed.files.into_iter())
        .map(|of| {
            let (row, heard) = (&rows[of.file], &heard[of.file]);
            let right = of.right.map(|right| &rows[right]);
            FileRow {
                id: row.id,
                name: row.name.clone(),
                right: right.map(|right| RightSide {
                    id: right.id,
                    name: right.name.clone(),
                }),
                rate_hz: row.form.rate_hz,
                channels: if right.is_some() { 2 } else { row.form.channels },
                frames: right.map_or(0, |right| right.frames).max(row.frames),
                says: says_of(&of.guess, heard, of.key),
                contradicts: contradicts(&of.guess, heard, of.key),
                key: of.key,
                layer: of.layer,
                round_robin: of.round_robin,
                guess: of.guess,
                heard: heard.clone(),
            }
        })
        .collect();
    let kit = habits.kit;
    if let Some(kit) = kit {
        lay_out_as_a_kit(
            &mut files,
            kit_keys(habits.kit_from.unwrap_or(KIT_FROM), rows.len(), kit),
        );
    }
    Ok(Json(FilesView {
        files,
        layers: match kit {
            Some(_) => Vec::new(),
            None => placed.layers,
        },
        kind: kit.map_or_else(|| kind_offered(planned, &heard), |_| Kind::Drum),
        octave,
        octave_says,
        stems,
    }))
}

/// The key of the first sound of a kit where nothing is said: the bass drum's of General MIDI's percussion map (MIDI RP-003).
const KIT_FROM: u8 = 36;

/// Each file has a key of its own, in the order of the names; those that no key is left for have none.
fn lay_out_as_a_kit(files: &mut [FileRow], keys: Vec<u8>) {
    let mut keys = keys.into_iter();
    for file in files {
        file.key = keys.next();
        file.guess.key_up = false;
        (file.layer, file.round_robin, file.contradicts) = (0, 0, false);
        file.says = match file.key {
            Some(_) => Vec::new(),
            None => vec!["No key is left for it.".to_owned()],
        };
    }
}

/// Files that one thing may have been cut into: a stem of their names.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct StemView {
    /// What their names have in common.
    name: String,
    /// How many.
    files: usize,
    /// What it is offered as.
    kind: Kind,
}

fn stems_of(planned: Kind, guesses: &[NameGuess], heard: &[HeardInFile]) -> Vec<StemView> {
    let mut stems: BTreeMap<&str, (usize, bool)> = BTreeMap::new();
    for (guess, heard) in guesses.iter().zip(heard) {
        let (files, has_loop) = stems.entry(&guess.stem).or_default();
        *files += 1;
        *has_loop |= heard
            .inside
            .as_ref()
            .is_some_and(|inside| inside.looped.is_some());
    }
    let any = stems.values().any(|(_, has_loop)| *has_loop);
    stems
        .into_iter()
        .filter(|(name, _)| !name.is_empty())
        .map(|(name, (files, has_loop))| StemView {
            name: name.to_owned(),
            files,
            kind: kind_of_files(planned, has_loop, any),
        })
        .collect()
}

/// Files that are not wanted.
#[utoipa::path(post, path = "/api/instruments/{id}/files/forget", params(("id" = u64, Path)), request_body = Vec<u64>, responses((status = 204)))]
pub(super) async fn forget_files(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(files): Json<Vec<u64>>,
) -> Result<StatusCode, Problem> {
    app.store.forget_waiting(id, &files).await?;
    Ok(StatusCode::NO_CONTENT)
}
