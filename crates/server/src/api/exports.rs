//! Exports: what a format would lose, the jobs that write them, and their files.

use super::Created;
use crate::App;
use crate::problem::Problem;
use crate::workers::{Exporting, GivenTo};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::Response;
use formats::{AudioForm, Beside, Dither, Format, Place};
use instrument::{Cell, Giving, LayerOfPass, MiddleC};
use program::{Program, StrandId};
use serde::{Deserialize, Serialize};
use shown::{InstrumentView, JobView, LossView, seen, view_of};
use std::collections::HashMap;

use utoipa::ToSchema;
use work::{ExportSettings, Foreseen, JobKind, Took, foresee, seconds_foreseen};

/// A format to export to.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum FormatName {
    /// SFZ with WAV files, in a zip.
    Sfz,
    /// SoundFont 2.
    SoundFont2,
    /// A page that plays, in a zip.
    Page,
}

impl From<FormatName> for Format {
    fn from(name: FormatName) -> Self {
        match name {
            FormatName::Sfz => Self::Sfz,
            FormatName::SoundFont2 => Self::SoundFont2,
            FormatName::Page => Self::Page,
        }
    }
}

/// How the noise of 16 bits lies.
#[derive(Debug, Clone, Copy, Default, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum DitherName {
    /// Alike everywhere.
    #[default]
    Flat,
    /// Where it is heard least.
    Shaped,
}

impl From<DitherName> for Dither {
    fn from(name: DitherName) -> Self {
        match name {
            DitherName::Flat => Self::Flat,
            DitherName::Shaped => Self::Shaped,
        }
    }
}

/// As what something is written.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
pub(crate) struct Writing {
    /// To what.
    format: FormatName,
    /// Width of the audio: 16 or 24; of WAV files 32, too.
    bits: u16,
    /// Whether audio files are FLAC; else they are WAV.
    #[serde(default)]
    flac: bool,
    /// Whether audio files are written alone, with roots and loops inside where they hold them.
    #[serde(default)]
    alone: bool,
    /// Frames per second; as each was recorded, where it is left out.
    #[serde(default)]
    rate_hz: Option<u32>,
    /// Whether two sides are made one.
    #[serde(default)]
    one_side: bool,
    /// Of 16 bits.
    #[serde(default)]
    dither: DitherName,
    /// Whether round robins are presets of a SoundFont, beside the first.
    #[serde(default)]
    turns_beside: bool,
    /// Whether sounds of keys that come up are a preset of a SoundFont.
    #[serde(default)]
    key_up_beside: bool,
    /// Whether kept values are presets of a SoundFont, or SFZ of their own beside the same audio.
    #[serde(default)]
    kept_beside: bool,
}

impl Writing {
    pub(super) fn settings(self) -> Result<ExportSettings, Problem> {
        let form = AudioForm {
            rate_hz: self.rate_hz,
            one_side: self.one_side,
        };
        let settings = ExportSettings::of(self.format.into(), self.bits)
            .and_then(|settings| settings.with(self.flac, self.alone))
            .and_then(|settings| settings.in_form(form))
            .map_err(|error| Problem::refused(error.to_string()))?;
        Ok(ExportSettings {
            dither: self.dither.into(),
            beside: Beside {
                turns: self.turns_beside,
                key_up: self.key_up_beside,
                kept: self.kept_beside,
            },
            ..settings
        })
    }
}

/// So many exports of before say how long the next takes.
const PACES: i64 = 30;

/// An export to make.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct NewExport {
    /// As what.
    #[serde(flatten)]
    writing: Writing,
    /// How audio files are called, see [`instrument::name_by_rule`]; as the recordings are called here, where it is left out.
    #[serde(default)]
    names: Option<String>,
    /// How middle C is written in them.
    #[serde(default)]
    middle_c: MiddleC,
    /// Strands that are left out.
    #[serde(default)]
    without: Vec<StrandId>,
    /// Layers that are left out.
    #[serde(default)]
    without_layers: Vec<LayerOfPass>,
    /// Whether recordings go out whole and as they were made: of audio files alone.
    #[serde(default)]
    as_recorded: bool,
    /// A folder on the server's disk, in place of a file to download.
    #[serde(default)]
    into: Option<IntoFolderWish>,
}

/// A folder that is given into again and again.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct IntoFolderWish {
    /// Its name, among the folders that Ladder gives into.
    folder: String,
    /// Whether files that another hand changed are replaced.
    #[serde(default)]
    replace: bool,
    /// Whether an SFZ is written alone, beside audio that is there.
    #[serde(default)]
    texts_alone: bool,
}

impl IntoFolderWish {
    fn checked(&self, settings: ExportSettings) -> Result<GivenTo, Problem> {
        if self.texts_alone && (settings.format != Format::Sfz || settings.alone) {
            return Err(Problem::refused(
                "Only an SFZ has a text that can be written alone.",
            ));
        }
        Ok(GivenTo {
            folder: formats::clean_name(super::checked_name(&self.folder, "A folder")?),
            replace: self.replace,
            texts_alone: self.texts_alone,
        })
    }
}

/// An export before it is made.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Preview {
    /// How many files there will be.
    files: usize,
    /// So long, for the most part.
    bytes: u64,
    /// So many seconds, as exports like it took here before.
    seconds: f64,
    /// The names of the first audio files, or presets.
    names: Vec<String>,
    /// How many there are of these.
    named: usize,
    /// What the format does not hold, and what is written instead.
    losses: Vec<LossView>,
}

/// As what, and what of an instrument, is to be written.
pub(super) fn asked(view: &InstrumentView, new: &NewExport) -> Result<(ExportSettings, Program), Problem> {
    let settings = new.writing.settings()?;
    let giving = Giving {
        without: new.without.clone(),
        without_layers: new.without_layers.clone(),
        as_recorded: new.as_recorded && settings.alone,
        names: new.names.clone(),
        middle_c: new.middle_c,
    };
    let cells: HashMap<u64, Cell> = view.takes.iter().map(|take| (take.id, take.cell)).collect();
    let cell_of = |source: &str| cells.get(&work::take_of_source(source).ok()?).copied();
    let program = giving.of(view.program.clone(), &view.plan, &cell_of);
    Ok((settings, program.map_err(Problem::refused)?))
}

/// An export before it is made.
#[utoipa::path(post, path = "/api/instruments/{id}/exports/preview", params(("id" = u64, Path)), request_body = NewExport, responses((status = 200, body = Preview), (status = 422, body = Problem)))]
pub(super) async fn preview_export(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewExport>,
) -> Result<Json<Preview>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let (settings, program) = asked(&view, &new)?;
    let foreseen = foresee(&[(&program, Place::default())], settings)?;
    Ok(Json(Preview::of(&app, foreseen, settings).await?))
}

impl Preview {
    pub(super) async fn of(app: &App, foreseen: Foreseen, settings: ExportSettings) -> Result<Self, Problem> {
        let done = app.store.done(JobKind::Export, PACES).await?;
        let before: Vec<(ExportSettings, Took)> = done
            .into_iter()
            .filter_map(|(input, mut result)| {
                // Those of a Ladder that did not count seconds yet have none.
                let settings = serde_json::from_value(input).ok()?;
                Some((settings, serde_json::from_value(result["took"].take()).ok()?))
            })
            .collect();
        Ok(Self {
            seconds: seconds_foreseen(foreseen.bytes, settings, &before),
            files: foreseen.files,
            bytes: foreseen.bytes,
            names: foreseen.names,
            named: foreseen.named,
            losses: foreseen.losses.into_iter().map(loss_view).collect(),
        })
    }
}

pub(super) fn loss_view(loss: formats::Loss) -> LossView {
    LossView {
        what: loss.what,
        regions: loss.regions,
    }
}

/// Begins an export.
#[utoipa::path(post, path = "/api/instruments/{id}/exports", params(("id" = u64, Path)), request_body = NewExport, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn begin_export(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewExport>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let (settings, program) = asked(&seen.view, &new)?;
    let into = new.into.as_ref().map(|into| into.checked(settings)).transpose()?;
    // What is exported is what is heard now, whatever is edited before it is written.
    let snapshot = app
        .store
        .put_snapshot(&seen.snapshot_of(program, |take| take.chosen))
        .await?;
    let exporting = Exporting {
        settings,
        snapshot,
        snapshots: Vec::new(),
        places: Vec::new(),
        even: false,
        title: None,
        into,
        shell: app.shell_for(&[settings]).await?,
    };
    let id = app
        .store
        .enqueue(id, JobKind::Export, &serde_json::to_value(exporting)?)
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The newest exports.
#[utoipa::path(get, path = "/api/instruments/{id}/exports", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
pub(super) async fn list_exports(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<JobView>>, Problem> {
    Ok(Json(
        app.store
            .jobs(id, &[JobKind::Export])
            .await?
            .into_iter()
            .map(JobView::of)
            .collect(),
    ))
}

/// The newest imports of long takes.
#[utoipa::path(get, path = "/api/instruments/{id}/imports", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
pub(super) async fn imports(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<JobView>>, Problem> {
    let jobs = app.store.jobs(id, &[JobKind::Import]).await?;
    Ok(Json(jobs.into_iter().map(JobView::of).collect()))
}

/// What a format would lose.
#[utoipa::path(get, path = "/api/instruments/{id}/losses/{format}", params(("id" = u64, Path), ("format" = FormatName, Path)), responses((status = 200, body = Vec<LossView>)))]
pub(super) async fn losses(
    State(app): State<App>,
    Path((id, format)): Path<(u64, FormatName)>,
) -> Result<Json<Vec<LossView>>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let lost = formats::lower(&view.program, format.into()).losses;
    Ok(Json(lost.into_iter().map(loss_view).collect()))
}

/// One job.
#[utoipa::path(get, path = "/api/jobs/{id}", params(("id" = u64, Path)), responses((status = 200, body = JobView), (status = 404, body = Problem)))]
pub(super) async fn job(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<JobView>, Problem> {
    let job = app.store.job(id).await?.ok_or_else(|| Problem::missing("job"))?;
    Ok(Json(JobView::of(job)))
}

/// Cancels a job; tells how it stands then, which may be that it had ended.
#[utoipa::path(post, path = "/api/jobs/{id}/cancel", params(("id" = u64, Path)), responses((status = 200, body = JobView), (status = 404, body = Problem)))]
pub(super) async fn cancel(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<JobView>, Problem> {
    let job = app
        .store
        .cancel(id)
        .await?
        .ok_or_else(|| Problem::missing("job"))?;
    Ok(Json(JobView::of(job)))
}

/// Tries a job again that has failed; tells how it stands then.
#[utoipa::path(post, path = "/api/jobs/{id}/again", params(("id" = u64, Path)), responses((status = 200, body = JobView), (status = 404, body = Problem)))]
pub(super) async fn again(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<JobView>, Problem> {
    let job = app
        .store
        .try_again(id)
        .await?
        .ok_or_else(|| Problem::missing("job"))?;
    Ok(Json(JobView::of(job)))
}

/// The file that an export made.
#[utoipa::path(get, path = "/api/jobs/{id}/file", params(("id" = u64, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
pub(super) async fn job_file(State(app): State<App>, Path(id): Path<u64>) -> Result<Response, Problem> {
    let job = app.store.job(id).await?.ok_or_else(|| Problem::missing("job"))?;
    let result = job.result.unwrap_or_default();
    let path = result["file"]
        .as_str()
        .ok_or_else(|| Problem::refused("There is no file of this job, or it is not ready."))?;
    let name = result["name"].as_str().unwrap_or("export");
    let (length, bytes) = app.store.read_file(path).await?;
    super::download(name, length, bytes)
}
