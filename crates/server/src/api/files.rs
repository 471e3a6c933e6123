//! Files: dropped on the page, read by their names, taken in; and takes that go out to be edited and come back.

use super::Created;
use super::long_takes::{FileName, uuid_like};
use crate::App;
use crate::problem::Problem;
use crate::view::{plan_of, view_of};
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use futures::StreamExt;
use instrument::{
    Cell, Fact, Inside, InsideLoop, Kind, Layer, NameGuess, NameHabits, OctaveHabit, Origin, Pass, Plan,
    Said, Strength, Target, even_layers, first_plan, key_name, layers_of, octave_habit, settle,
};
use program::SoundsOn;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use store::{NewTake, RecordingForm, Spool, WaitingRow};
use utoipa::{IntoParams, ToSchema};

/// A file that is to be one take is no longer than this.
const MOST_BYTES: u64 = 2 << 30;
/// So much of a file is read for what stands inside it.
const INSIDE_BYTES: u64 = 256 << 20;
/// Under this the pitch heard is no evidence.
const SURE: f64 = 0.5;

/// What was heard in a file and stood inside it.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub(super) struct Heard {
    /// The note.
    key: Option<u8>,
    /// Cents above it.
    cents: Option<f64>,
    /// How sure, 0 to 1.
    confidence: f64,
    /// Root and loop inside the file.
    inside: Option<Inside>,
    /// The take it went out as.
    from_take: Option<u64>,
}

/// A file as it was read from a body: in the store, with what was heard.
struct Brought {
    recording: String,
    form: RecordingForm,
    frames: u64,
    heard: Heard,
}

/// Reads a file that is sent and puts its recording into the store.
async fn brought(app: &App, name: &str, body: Body) -> Result<Brought, Problem> {
    let file = tempfile::NamedTempFile::new_in(app.store.spool_folder())?;
    let mut out = file.reopen()?;
    let (mut stream, mut count) = (body.into_data_stream(), 0u64);
    while let Some(piece) = stream.next().await {
        let piece = piece?;
        count += piece.len() as u64;
        if count > MOST_BYTES {
            return Err(Problem::refused(format!(
                "«{name}» is over 2 GB: bring it as a long take."
            )));
        }
        out.write_all(&piece)?;
    }
    let (folder, spool_name) = (
        app.store.spool_folder().to_owned(),
        format!("file-{}", uuid_like()),
    );
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_owned());
    let read = tokio::task::spawn_blocking(move || {
        let inside = inside_of(&file)?;
        let mut reader = formats::AudioReader::open(Box::new(file.reopen()?), ending.as_deref())?;
        let form = RecordingForm {
            rate_hz: reader.rate_hz(),
            channels: reader.channels() as u16,
            bits: reader.bits(),
        };
        let mut spool = Spool::begin(&folder, &spool_name, form)?;
        let mut start: Vec<f32> = Vec::new();
        let heard_samples = form.rate_hz as usize * 4 * usize::from(form.channels);
        while let Some(piece) = reader.next_piece()? {
            spool.write(&piece)?;
            if start.len() < heard_samples {
                start.extend_from_slice(&piece);
            }
        }
        let audio = signal::Audio::from_interleaved(form.rate_hz, usize::from(form.channels), &start);
        let pitch = signal::measure_pitch(&audio);
        let heard = Heard {
            key: pitch.map(|p| p.key),
            cents: pitch.map(|p| p.cents),
            confidence: pitch.map_or(0.0, |p| p.confidence),
            ..inside
        };
        Ok::<_, formats::FormatError>((spool, form, heard))
    })
    .await?;
    let (mut spool, form, heard) =
        read.map_err(|error| Problem::refused(format!("«{name}» was left aside. {error}")))?;
    let frames = spool.frames();
    if frames == 0 {
        return Err(Problem::refused(format!(
            "«{name}» was left aside: it holds no sound."
        )));
    }
    let recording = app.store.put_recording(&mut spool).await?;
    Ok(Brought {
        recording,
        form,
        frames,
        heard,
    })
}

/// Root, loop and mark that stand inside a file.
fn inside_of(file: &tempfile::NamedTempFile) -> std::io::Result<Heard> {
    if file.as_file().metadata()?.len() > INSIDE_BYTES {
        return Ok(Heard::default());
    }
    let bytes = std::fs::read(file.path())?;
    let sampler = formats::read_sampler(&bytes).or_else(|| formats::read_aiff_sampler(&bytes));
    Ok(Heard {
        inside: sampler.as_ref().map(|s| Inside {
            root_key: Some(s.root_key),
            recording_cents: s.recording_cents,
            looped: s.looped.map(|l| InsideLoop {
                start_frame: l.start_frame,
                end_frame: l.end_frame,
            }),
        }),
        from_take: formats::read_mark(&bytes).as_deref().and_then(take_of_mark),
        ..Heard::default()
    })
}

/// What is written inside a file that goes out.
fn mark_of_take(take: u64) -> String {
    format!("Ladder take {take}")
}

fn take_of_mark(mark: &str) -> Option<u64> {
    mark.strip_prefix("Ladder take ")?.parse().ok()
}

/// The take that a file's name names, `… [take 12].wav`.
fn take_of_name(name: &str) -> Option<u64> {
    let (_, rest) = name.rsplit_once("[take ")?;
    rest.split_once(']')?.0.parse().ok()
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
    let Brought {
        recording,
        form,
        frames,
        heard,
    } = brought(&app, &name, body).await?;
    let heard = serde_json::to_value(heard)?;
    let id = app
        .store
        .add_waiting(id, &name, &recording, form, frames, &heard)
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// How names are to be read.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Habits {
    /// H is B.
    #[serde(default)]
    german: bool,
    /// Keys added to what the names say; decided by what is heard where it is left out.
    shift_keys: Option<i16>,
}

/// One file with what its name tells.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FileRow {
    /// Its number.
    id: u64,
    /// As it was named.
    name: String,
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
    heard: Heard,
    /// What does not agree.
    says: Vec<String>,
}

/// All files that wait.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FilesView {
    /// By name.
    files: Vec<FileRow>,
    /// Names of the layers found, soft to loud.
    layers: Vec<String>,
    /// How middle C is written, as far as what is heard tells.
    octave: Option<OctaveHabit>,
    /// The same as a sentence.
    octave_says: String,
    /// The different things in it, by the stem of their names.
    stems: Vec<String>,
}

fn heard_of(row: &WaitingRow) -> Heard {
    serde_json::from_value(row.heard.clone()).unwrap_or_default()
}

/// The rung of a file: its name's, moved by the habit; a note without octave in the octave that is heard; else what stands inside or is
/// heard.
fn rung_of(guess: &NameGuess, heard: &Heard, shift: i16) -> Option<u8> {
    let sure = heard.key.filter(|_| heard.confidence >= SURE);
    let named = guess.key.map(|key| i16::from(key) + shift);
    let in_octave = || {
        let (note, heard) = (i16::from(guess.note?), i16::from(sure?));
        let off = (note - heard).rem_euclid(12);
        Some(heard + if off > 6 { off - 12 } else { off })
    };
    let inside = || heard.inside.and_then(|inside| inside.root_key).map(i16::from);
    let key = named.or_else(in_octave).or_else(inside).or(sure.map(i16::from))?;
    u8::try_from(key).ok().filter(|key| *key <= 127)
}

fn says_of(guess: &NameGuess, heard: &Heard, key: Option<u8>) -> Vec<String> {
    let name = |key: u8| key_name(key, instrument::MiddleC::C4);
    let mut says = Vec::new();
    match (key, heard.key.filter(|_| heard.confidence >= SURE)) {
        (Some(key), Some(sounds)) if key != sounds => says.push(if guess.chord.is_some() {
            format!("{} is the note of a chord; {} is heard.", name(key), name(sounds))
        } else if key.abs_diff(sounds) % 12 == 0 {
            format!("Named {}, heard an octave off: {}.", name(key), name(sounds))
        } else if key.abs_diff(sounds) > 2 {
            format!(
                "Named {}, heard {}: a chord or a phrase, or another note.",
                name(key),
                name(sounds)
            )
        } else {
            format!("Named {}, heard {}.", name(key), name(sounds))
        }),
        (None, None) => says.push("Neither its name nor its sound tells a note.".to_owned()),
        (Some(_), None) if guess.key.is_none() && guess.note.is_none() => {
            says.push("The note stands inside the file.".to_owned());
        }
        (Some(_), Some(_)) if guess.key.is_none() && guess.note.is_none() => {
            says.push("The note is the one heard.".to_owned())
        }
        _ => {}
    }
    says
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
    let guesses = settle(
        &names,
        NameHabits {
            german: habits.german,
        },
    );
    let heard: Vec<Heard> = rows.iter().map(heard_of).collect();
    let pairs: Vec<(u8, u8)> = guesses
        .iter()
        .zip(&heard)
        .filter(|(_, heard)| heard.confidence >= SURE)
        .filter_map(|(guess, heard)| Some((guess.key?, heard.key?)))
        .collect();
    let octave = octave_habit(&pairs);
    let shift = habits.shift_keys.or(octave.map(|o| o.shift_keys)).unwrap_or(0);
    let strengths = layers_of(&guesses);
    let stems: BTreeSet<String> = guesses.iter().map(|guess| guess.stem.clone()).collect();
    let octave_says = match octave {
        Some(o) if o.shift_keys == 12 => format!(
            "Middle C is written C3 in these names: {} of {} heard say so.",
            o.agree, o.heard
        ),
        Some(o) if o.shift_keys == 0 => format!(
            "Middle C is written C4 in these names: {} of {} heard say so.",
            o.agree, o.heard
        ),
        Some(o) => format!(
            "These names lie {} keys off what is heard in {} of {}.",
            o.shift_keys, o.agree, o.heard
        ),
        None if guesses.iter().any(|guess| guess.key.is_some()) => {
            "What is heard does not tell how middle C is written: C4 is assumed.".to_owned()
        }
        None => String::new(),
    };
    let files = rows
        .into_iter()
        .zip(guesses)
        .zip(heard)
        .map(|((row, guess), heard)| {
            let key = rung_of(&guess, &heard, shift);
            let layer = guess
                .strength
                .as_ref()
                .and_then(|s| strengths.iter().position(|known| known == s));
            FileRow {
                id: row.id,
                name: row.name,
                rate_hz: row.form.rate_hz,
                channels: row.form.channels,
                frames: row.frames,
                says: says_of(&guess, &heard, key),
                key,
                layer: layer.unwrap_or(0) as u16,
                round_robin: guess.round_robin.map_or(0, |n| n.saturating_sub(1).min(63)) as u16,
                guess,
                heard,
            }
        })
        .collect();
    Ok(Json(FilesView {
        files,
        layers: strengths.iter().map(layer_name).collect(),
        octave,
        octave_says,
        stems: stems.into_iter().filter(|stem| !stem.is_empty()).collect(),
    }))
}

fn layer_name(strength: &Strength) -> String {
    match strength {
        Strength::Number(n) => format!("v{n}"),
        Strength::Word(_, word) => word.clone(),
    }
}

/// A file's place.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub(super) struct Placed {
    /// Which file.
    file: u64,
    /// Its rung.
    key: u8,
    /// Its layer, from soft.
    #[serde(default)]
    layer: u16,
    /// Its turn, from 0.
    #[serde(default)]
    round_robin: u16,
    /// It sounds when the key comes up.
    #[serde(default)]
    key_up: bool,
    /// Where it was heard from.
    #[serde(default)]
    mic: Option<String>,
}

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
    files: Vec<Placed>,
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
    let mut made = Vec::new();
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
                recording: row.recording.clone(),
                form: row.form,
                frames: row.frames,
                name: row.name.clone(),
                inside: heard_of(row).inside,
            };
            (wish.files.clone(), rows.iter().map(whole).collect())
        };
        let (plan, cells) =
            plan_with(base, kind, &wish.layers, &together, &mics, audio[0].form).map_err(Problem::refused)?;
        let into = match &wish.name {
            Some(name) => {
                let name = super::checked_name(name, "An instrument")?;
                app.store.create_instrument(name, &plan).await?
            }
            None => {
                let said = Said::Value(serde_json::to_value(&plan)?);
                app.store
                    .change(id, "take files in", vec![(Target::Instrument, Fact::Plan, said)])
                    .await?
                    .map_err(|error| Problem::refused(error.to_string()))?;
                id
            }
        };
        let takes = audio
            .into_iter()
            .zip(cells)
            .map(|(sound, cell)| NewTake {
                cell,
                recording: sound.recording,
                form: sound.form,
                recording_frames: sound.frames,
                first_frame: 0,
                frames: sound.frames,
                origin: Origin {
                    file: Some(sound.name),
                    inside: sound.inside,
                    ..Origin::default()
                },
            })
            .collect();
        app.store.add_takes(into, takes).await?;
        let taken: Vec<u64> = wish.files.iter().map(|placed| placed.file).collect();
        app.store.forget_waiting(id, &taken).await?;
        made.push(Created { id: into });
    }
    Ok(Json(made))
}

/// A recording that is to be a take.
struct Sound {
    recording: String,
    form: RecordingForm,
    frames: u64,
    name: String,
    inside: Option<Inside>,
}

/// The mics of some files, in the order in which they come.
fn mics_of(files: &[Placed]) -> Vec<String> {
    let mut mics: Vec<String> = Vec::new();
    for mic in files.iter().filter_map(|placed| placed.mic.as_ref()) {
        if !mics.contains(mic) {
            mics.push(mic.clone());
        }
    }
    mics
}

/// Files of one place and several mics become one recording that holds them all, each mic's channels after those of the one before;
/// the shorter ones end in silence. A place that lacks a mic is refused, since its takes could not share one treatment.
async fn one_of_each_place(
    app: &App,
    files: &[Placed],
    rows: &[&WaitingRow],
    mics: &[String],
) -> Result<(Vec<Placed>, Vec<Sound>), Problem> {
    type Place = (bool, u8, u16, u16);
    type Member<'a> = (&'a Placed, &'a WaitingRow);
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
                .read_recording(&row.recording, row.form, 0, row.frames)
                .await?;
            let last = audio.channels.len() - 1;
            channels.extend((0..sides).map(|side| audio.channels[side.min(last)].clone()));
        }
        let longest = channels.iter().map(Vec::len).max().unwrap_or(0);
        channels
            .iter_mut()
            .for_each(|channel| channel.resize(longest, 0.0));
        let form = RecordingForm {
            channels: channels.len() as u16,
            ..form
        };
        let audio = signal::Audio {
            rate_hz: form.rate_hz,
            channels,
        };
        let mut spool = Spool::begin(app.store.spool_folder(), &format!("mics-{}", uuid_like()), form)?;
        spool.write(&audio.interleaved())?;
        sounds.push(Sound {
            recording: app.store.put_recording(&mut spool).await?,
            form,
            frames: longest as u64,
            name: first.1.name.clone(),
            inside: heard_of(first.1).inside,
        });
        together.push(first.0.clone());
    }
    Ok((together, sounds))
}

/// A plan that has a cell for every file, and those cells.
fn plan_with(
    base: Option<Plan>,
    kind: Kind,
    names: &[String],
    files: &[Placed],
    mics: &[String],
    form: RecordingForm,
) -> Result<(Plan, Vec<Cell>), String> {
    let fresh = base.is_none();
    let mut plan = base.unwrap_or_else(|| {
        let mut plan = first_plan(kind, instrument::How::Files, crate::recording::PAGE_RIG).plan;
        plan.passes.clear();
        plan.rate_hz = form.rate_hz;
        plan.channels = (form.channels / mics.len().max(1) as u16).clamp(1, 2);
        if mics.len() > 1 {
            plan.mics = mics.to_vec();
        }
        plan
    });
    if mics.len() > 1 && plan.mics != mics {
        return Err("These files have other mics than the instrument: make a new one of them.".into());
    }
    if fresh {
        plan.kind = kind;
    }
    let mut cells = Vec::with_capacity(files.len());
    for placed in files {
        let sounds_on = if placed.key_up {
            SoundsOn::KeyUp
        } else {
            SoundsOn::KeyDown
        };
        let found = plan.passes.iter().position(|pass| pass.sounds_on == sounds_on);
        let index = found.unwrap_or_else(|| {
            plan.passes.push(Pass {
                name: if placed.key_up { "Key up" } else { "Keys" }.to_owned(),
                sounds_on,
                rungs: Vec::new(),
                layers: Vec::new(),
                round_robins: 1,
                hold_ms: 3_000,
                hold_high_ms: None,
                tail_ms: 3_000,
                controller: None,
            });
            plan.passes.len() - 1
        });
        let pass = &mut plan.passes[index];
        if let Err(at) = pass.rungs.binary_search(&placed.key) {
            pass.rungs.insert(at, placed.key);
        }
        let wanted = usize::from(placed.layer) + 1;
        if pass.layers.len() < wanted.max(if fresh { names.len() } else { 0 }) {
            pass.layers = layers_named(names, wanted.max(names.len()));
        }
        pass.round_robins = pass.round_robins.max(u32::from(placed.round_robin) + 1);
        cells.push(Cell {
            pass: index as u16,
            key: placed.key,
            layer: placed.layer,
            round_robin: placed.round_robin,
        });
    }
    plan.check().map_err(|error| error.to_string())?;
    Ok((plan, cells))
}

/// Layers of these names. Names that are velocities (`v64`) are struck with them.
fn layers_named(names: &[String], count: usize) -> Vec<Layer> {
    let mut layers = even_layers(count);
    for (layer, name) in layers.iter_mut().zip(names) {
        layer.name.clone_from(name);
    }
    let velocities: Vec<u8> = names
        .iter()
        .filter_map(|name| name.strip_prefix('v')?.parse().ok())
        .filter(|velocity| (1..=127).contains(velocity))
        .collect();
    // Layers that are numbered from 1 are no velocities.
    let are_velocities =
        velocities.len() == count && velocities.last().is_some_and(|v| usize::from(*v) > 16.max(count));
    if are_velocities {
        for (layer, velocity) in layers.iter_mut().zip(velocities) {
            layer.strike_velocity = velocity;
        }
    }
    layers
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

/// Takes that go out.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct OutWish {
    /// Their numbers, with commas between; none for every chosen take.
    #[serde(default)]
    takes: String,
    /// Trimmed, faded and levelled, not as they were recorded.
    #[serde(default)]
    treated: bool,
}

/// Takes as files with stable names and a mark inside, in a zip, to be edited elsewhere.
#[utoipa::path(get, path = "/api/instruments/{id}/out", params(("id" = u64, Path), OutWish), responses((status = 200, content_type = "application/zip", body = Vec<u8>), (status = 422, body = Problem)))]
pub(super) async fn takes_out(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<OutWish>,
) -> Result<impl IntoResponse, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let asked: BTreeSet<u64> = wish
        .takes
        .split(',')
        .filter_map(|id| id.trim().parse().ok())
        .collect();
    let takes: Vec<_> = view
        .takes
        .iter()
        .filter(|take| {
            if asked.is_empty() {
                take.chosen
            } else {
                asked.contains(&take.id)
            }
        })
        .collect();
    if takes.is_empty() {
        return Err(Problem::refused(
            "Choose takes first: there is nothing to send out.",
        ));
    }
    let file = tempfile::NamedTempFile::new_in(app.store.spool_folder())?;
    let mut zip = zip::ZipWriter::new(std::io::BufWriter::new(file.reopen()?));
    let plain = zip::write::SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Stored)
        .large_file(true);
    for take in takes {
        let Some(row) = app.store.take(take.id).await? else {
            continue;
        };
        let mut audio = app.store.take_audio(&row, 0, row.frames).await?;
        let mut sampler = formats::Sampler {
            root_key: take.cell.key,
            recording_cents: 0.0,
            looped: None,
            mark: Some(mark_of_take(take.id)),
        };
        if let (true, Some(treatment)) = (wish.treated, &take.treatment) {
            let bake = formats::Bake {
                sample: 0,
                start_frame: treatment.start_frame,
                end_frame: treatment.end_frame,
                fade_in_frames: treatment.fade_in_frames,
                fade_out_frames: treatment.fade_out_frames,
                looped: None,
                gain_db: treatment.gain_db,
            };
            audio = formats::bake(&audio, &bake);
            (sampler.root_key, sampler.recording_cents) = (treatment.root_key, treatment.recording_cents);
        }
        let name = format!(
            "{} [take {}].wav",
            crate::view::take_name(&view.plan, take.cell),
            take.id
        );
        zip.start_file(name.replace('♯', "#").replace(['/', '\\'], "_"), plain)?;
        formats::write_wav(&mut zip, &audio, row.form.bits, Some(&sampler))?;
    }
    zip.finish()?.flush()?;
    let length = file.as_file().metadata()?.len();
    let stream = tokio_util::io::ReaderStream::new(tokio::fs::File::open(file.path()).await?);
    let name = super::percent_encoded(&format!("{} takes.zip", view.name));
    let headers = [
        (header::CONTENT_TYPE, "application/zip".to_owned()),
        (header::CONTENT_LENGTH, length.to_string()),
        (
            header::CONTENT_DISPOSITION,
            format!("attachment; filename*=UTF-8''{name}"),
        ),
    ];
    // The open file stays readable though its name goes now.
    Ok((headers, Body::from_stream(stream)))
}

/// A file that comes back, edited: a new take of the same cell, linked to the one it went out as.
#[utoipa::path(post, path = "/api/instruments/{id}/back", params(("id" = u64, Path), FileName), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn take_back(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(FileName { name }): Query<FileName>,
    body: Body,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let Brought {
        recording,
        form,
        frames,
        heard,
    } = brought(&app, &name, body).await?;
    // An editor may drop the mark or rename the file: either is enough.
    let from = match heard.from_take.or_else(|| take_of_name(&name)) {
        Some(take) => app.store.take(take).await?.filter(|row| row.instrument_id == id),
        None => None,
    };
    let from = from.ok_or_else(|| {
        Problem::refused(format!(
            "«{name}» does not say which take of this instrument it was: keep the [take …] in its name."
        ))
    })?;
    let take = NewTake {
        cell: from.cell,
        recording,
        form,
        recording_frames: frames,
        first_frame: 0,
        frames,
        origin: Origin {
            from_take: Some(from.id),
            made_by: Some("edited outside".to_owned()),
            file: Some(name),
            ..Origin::default()
        },
    };
    let ids = app.store.add_takes(id, vec![take]).await?;
    // The earlier one may have been chosen by hand: what comes back is meant to be used, and Undo brings the earlier one back.
    if let Some(new) = ids.first() {
        let chosen = |take: u64, yes: bool| {
            let said = if yes {
                Said::Value(true.into())
            } else {
                Said::Automatic
            };
            (Target::Take(take), Fact::Chosen, said)
        };
        app.store
            .change(
                id,
                "use the edited take",
                vec![chosen(*new, true), chosen(from.id, false)],
            )
            .await?
            .map_err(|error| Problem::refused(error.to_string()))?;
    }
    Ok((
        StatusCode::CREATED,
        Json(Created {
            id: ids.first().copied().unwrap_or(0),
        }),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn placed(file: u64, key: u8, layer: u16, round_robin: u16, key_up: bool) -> Placed {
        Placed {
            file,
            key,
            layer,
            round_robin,
            key_up,
            mic: None,
        }
    }

    const FORM: RecordingForm = RecordingForm {
        rate_hz: 44_100,
        channels: 1,
        bits: 24,
    };

    #[test]
    fn a_plan_is_made_from_the_files_and_widened_by_more() {
        let wish = TakeIn {
            name: None,
            kind: None,
            layers: vec!["v40".into(), "v110".into()],
            files: vec![
                placed(1, 60, 0, 0, false),
                placed(2, 48, 1, 1, false),
                placed(3, 60, 0, 0, true),
            ],
        };
        let (plan, cells) = plan_with(None, Kind::Struck, &wish.layers, &wish.files, &[], FORM).unwrap();
        assert_eq!(plan.passes.len(), 2);
        assert_eq!(
            (&plan.passes[0].rungs[..], plan.passes[0].round_robins),
            (&[48, 60][..], 2)
        );
        let strikes: Vec<u8> = plan.passes[0].layers.iter().map(|l| l.strike_velocity).collect();
        assert_eq!((strikes, plan.rate_hz, plan.channels), (vec![40, 110], 44_100, 1));
        assert_eq!(cells[2].pass, 1);
        let more = TakeIn {
            layers: Vec::new(),
            files: vec![placed(4, 54, 0, 0, false)],
            ..wish
        };
        let (wider, cells) =
            plan_with(Some(plan), Kind::Struck, &more.layers, &more.files, &[], FORM).unwrap();
        assert_eq!(wider.passes[0].rungs, [48, 54, 60]);
        assert_eq!((wider.passes.len(), cells[0].pass), (2, 0));
    }

    #[test]
    fn numbered_layers_are_no_velocities() {
        let strikes = |names: &[&str]| -> Vec<u8> {
            let names: Vec<String> = names.iter().map(|n| (*n).to_owned()).collect();
            layers_named(&names, names.len())
                .iter()
                .map(|l| l.strike_velocity)
                .collect()
        };
        assert_eq!(
            strikes(&["v1", "v2"]),
            even_layers(2)
                .iter()
                .map(|l| l.strike_velocity)
                .collect::<Vec<u8>>()
        );
        assert_eq!(strikes(&["v31", "v64", "v127"]), [31, 64, 127]);
    }

    #[test]
    fn an_octave_is_taken_from_what_is_heard() {
        let guess = |key, note| NameGuess {
            key,
            note,
            ..NameGuess::default()
        };
        let heard = |key| Heard {
            key: Some(key),
            confidence: 0.9,
            ..Heard::default()
        };
        assert_eq!(rung_of(&guess(None, Some(6)), &heard(67), 0), Some(66));
        assert_eq!(rung_of(&guess(None, Some(0)), &heard(71), 0), Some(72));
        assert_eq!(rung_of(&guess(Some(48), None), &heard(60), 12), Some(60));
        assert_eq!(rung_of(&guess(None, None), &heard(50), 12), Some(50));
        assert_eq!(rung_of(&guess(None, None), &Heard::default(), 0), None);
        assert!(says_of(&guess(Some(60), None), &heard(66), Some(60))[0].contains("chord or a phrase"));
    }

    #[test]
    fn a_take_is_known_by_its_mark_or_its_name() {
        assert_eq!(take_of_mark(&mark_of_take(12)), Some(12));
        assert_eq!(take_of_name("Keys C4 soft [take 7] edited.wav"), Some(7));
        assert_eq!((take_of_mark("hello"), take_of_name("C4.wav")), (None, None));
    }
}
