//! Several instruments given away as one: presets of a SoundFont, or SFZ that share a folder of audio.

use super::Created;
use super::exports::{Preview, Writing};
use crate::App;
use crate::problem::Problem;
use crate::workers::Exporting;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use formats::{PERCUSSION_BANK, Place, places_for};
use instrument::Kind;
use program::Program;
use serde::{Deserialize, Serialize};
use shown::seen;
use std::collections::HashSet;
use utoipa::ToSchema;
use work::{JobKind, foresee};

/// So many at most.
const MOST: usize = 128;

/// An instrument among others.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct AmongOthers {
    /// Which.
    id: u64,
    /// Its bank, 0 to 127, or 128 for kits; chosen for it, where it is left out.
    #[serde(default)]
    bank: Option<u16>,
    /// Its program, 0 to 127; chosen for it, where bank or program is left out.
    #[serde(default)]
    program: Option<u8>,
}

/// Instruments that are given away together.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct NewTogether {
    /// Which, and where they stand.
    instruments: Vec<AmongOthers>,
    /// As what they are written.
    #[serde(flatten)]
    writing: Writing,
    /// Whether all come down to the softest.
    #[serde(default)]
    even: bool,
    /// As all of them are called.
    title: String,
}

/// Where an instrument stands.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PlaceView {
    /// Which.
    id: u64,
    /// 0 to 127; 128 are kits.
    bank: u16,
    /// 0 to 127.
    program: u8,
}

/// What would be written.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct TogetherPreview {
    /// In the order that was asked for.
    places: Vec<PlaceView>,
    /// How much.
    preview: Preview,
}

struct Asked {
    programs: Vec<Program>,
    places: Vec<Place>,
    /// Names of what each is, where it is to be written.
    snapshots: Vec<String>,
}

/// The instruments, one in memory at a time but for what sounds, and where they stand.
async fn asked(app: &App, new: &NewTogether, is_written: bool) -> Result<Asked, Problem> {
    if new.instruments.is_empty() || new.instruments.len() > MOST {
        return Err(Problem::refused("Choose between 1 and 128 instruments."));
    }
    if new.writing.settings()?.alone {
        return Err(Problem::refused(
            "Audio alone is given away of one instrument at a time.",
        ));
    }
    let (mut programs, mut snapshots, mut said) = (Vec::new(), Vec::new(), Vec::new());
    for of in &new.instruments {
        let seen = seen(&app.store, of.id)
            .await?
            .ok_or_else(|| Problem::missing("instrument"))?;
        let place = of
            .bank
            .zip(of.program)
            .map(|(bank, number)| Place { bank, number });
        said.push((place, seen.view.plan.kind == Kind::Drum));
        let program = seen.view.program.clone();
        if is_written {
            let snapshot = seen.snapshot_of(program.clone(), |take| take.chosen);
            snapshots.push(app.store.put_snapshot(&snapshot).await?);
        }
        programs.push(program);
    }
    let places = places_for(&said);
    let mut taken = HashSet::new();
    for Place { bank, number } in &places {
        if *bank > PERCUSSION_BANK || *number > 127 {
            return Err(Problem::refused(
                "Banks go from 0 to 127, 128 for kits; programs from 0 to 127.",
            ));
        }
        if !taken.insert((bank, number)) {
            return Err(Problem::refused(format!(
                "Two instruments stand at bank {bank}, program {number}: give one of them another place."
            )));
        }
    }
    Ok(Asked {
        programs,
        places,
        snapshots,
    })
}

/// What would be written, and where each would stand.
#[utoipa::path(post, path = "/api/together/preview", request_body = NewTogether, responses((status = 200, body = TogetherPreview), (status = 422, body = Problem)))]
pub(super) async fn preview_together(
    State(app): State<App>,
    Json(new): Json<NewTogether>,
) -> Result<Json<TogetherPreview>, Problem> {
    let settings = new.writing.settings()?;
    let Asked { programs, places, .. } = asked(&app, &new, false).await?;
    let parts: Vec<_> = programs.iter().zip(places.iter().copied()).collect();
    let preview = Preview::of(&app, foresee(&parts, settings)?, settings).await?;
    let places = new.instruments.iter().zip(&places).map(|(of, place)| PlaceView {
        id: of.id,
        bank: place.bank,
        program: place.number,
    });
    Ok(Json(TogetherPreview {
        places: places.collect(),
        preview,
    }))
}

/// Begins to write instruments as one. The job is the first one's.
#[utoipa::path(post, path = "/api/together", request_body = NewTogether, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn begin_together(
    State(app): State<App>,
    Json(new): Json<NewTogether>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let settings = new.writing.settings()?;
    let title = new.title.trim();
    if title.is_empty() || title.chars().count() > 100 {
        return Err(Problem::refused("Name what is written, in 100 letters at most."));
    }
    let Asked {
        places,
        mut snapshots,
        ..
    } = asked(&app, &new, true).await?;
    let exporting = Exporting {
        settings,
        snapshot: snapshots.remove(0),
        snapshots,
        places,
        even: new.even,
        title: Some(title.to_owned()),
        into: None,
        shell: app.shell_for(&[settings]).await?,
    };
    let id = app
        .store
        .enqueue(
            new.instruments[0].id,
            JobKind::Export,
            &serde_json::to_value(exporting)?,
        )
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}
