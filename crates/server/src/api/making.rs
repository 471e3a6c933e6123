//! New takes from old, and the jobs that render.

use super::Created;
use crate::App;
use crate::problem::Problem;
use crate::workers::Makings;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use instrument::{Cell, Fact, FillRule, Making, PassId, Printing, Said, Target};
use program::{BusId, LoopWay, Program, StrandId};
use serde::Deserialize;
use shown::JobView;
use shown::{Seen, TakeView, seen};
use utoipa::ToSchema;
use work::JobKind;

/// Takes to make others from.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct MakeWish {
    /// Their numbers.
    takes: Vec<u64>,
    /// How.
    how: Making,
}

/// Makes a new take from each of the given ones: of the same cells, but for those that are put at another key.
#[utoipa::path(post, path = "/api/instruments/{id}/make", params(("id" = u64, Path)), request_body = MakeWish, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn make_takes(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<MakeWish>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    wish.how.check().map_err(Problem::refused)?;
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let of = seen
        .view
        .takes
        .iter()
        .filter(|take| take.treatment.is_some() && wish.takes.contains(&take.id))
        .map(|take| (take.id, wish.how))
        .collect();
    begin(
        &app,
        &seen,
        ToMake {
            of,
            wishes: Vec::new(),
        },
        "Choose takes that are measured: there is nothing to make others from.",
    )
    .await
}

/// Makes takes for the rungs of a pass that were not recorded, by a rule that says from which.
#[utoipa::path(post, path = "/api/instruments/{id}/passes/{pass}/fill", params(("id" = u64, Path), ("pass" = u64, Path)), request_body = FillRule, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn fill_rungs(
    State(app): State<App>,
    Path((id, pass)): Path<(u64, u64)>,
    Json(rule): Json<FillRule>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let view = &seen.view;
    let taken: Vec<(Cell, u64)> = view
        .takes
        .iter()
        .filter(|take| take.chosen && take.treatment.is_some())
        .map(|take| (take.cell, take.id))
        .collect();
    let of = rule.makings(&view.plan, PassId(pass), &taken);
    begin(
        &app,
        &seen,
        ToMake {
            of,
            wishes: Vec::new(),
        },
        "Every rung has a take, or none reaches the empty ones.",
    )
    .await
}

/// Effects to put into the recordings.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct PrintWish {
    /// Their row.
    bus: BusId,
    /// Whether the strands' filters go with them.
    #[serde(default)]
    with_filter: bool,
}

/// The strands that are heard through a row.
fn strands_through(program: &Program, bus: BusId) -> Vec<StrandId> {
    let goes = |strand: &&program::Strand| match bus.strand() {
        Some(own) => strand.id == own,
        None => bus == BusId::WHOLE || strand.sends.iter().any(|send| send.bus == bus),
    };
    program
        .strands
        .iter()
        .filter(goes)
        .map(|strand| strand.id)
        .collect()
}

/// Puts a row of effects into every take that is heard through it, each at its own pitch: new ones take their places, and the row is off from then on,
/// by one change.
#[utoipa::path(post, path = "/api/instruments/{id}/print", params(("id" = u64, Path)), request_body = PrintWish, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn print_effects(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<PrintWish>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let program = &seen.view.program;
    let row = program.buses.iter().find(|bus| bus.id == wish.bus);
    let on: Vec<u64> = row
        .into_iter()
        .flat_map(|bus| &bus.effects)
        .filter(|effect| effect.on)
        .map(|effect| effect.id.0)
        .collect();
    if on.is_empty() && !wish.with_filter {
        return Err(Problem::refused(
            "No effect of this row is on: there is nothing to print.",
        ));
    }
    let strands = strands_through(program, wish.bus);
    let of = printings(&seen, &strands, &wish)?;
    let mut wishes: Vec<(Target, Fact, Said)> = Vec::new();
    let mut say = |target, fact, value: serde_json::Value| wishes.push((target, fact, Said::Value(value)));
    for strand in &strands {
        if wish.bus.is_shared() {
            say(
                Target::Send(*strand, wish.bus),
                Fact::SendDb,
                serde_json::Value::Null,
            );
        }
        if wish.with_filter {
            say(Target::Strand(*strand), Fact::FilterForm, serde_json::Value::Null);
        }
    }
    if !wish.bus.is_shared() {
        for effect in on {
            say(Target::Effect(wish.bus, effect), Fact::EffectOn, false.into());
        }
    }
    begin(
        &app,
        &seen,
        ToMake { of, wishes },
        "Nothing that is measured is heard through this row.",
    )
    .await
}

/// Each take that some strands play, with what is printed into it: none that others play too, which would be heard there as well.
fn printings(seen: &Seen, strands: &[StrandId], wish: &PrintWish) -> Result<Vec<(u64, Making)>, Problem> {
    let (view, program) = (&seen.view, &seen.view.program);
    let played = |region: &program::Region| {
        let sample = program.samples.get(region.sample)?;
        work::take_of_source(&sample.source).ok()
    };
    let mut by_strand: Vec<(u64, StrandId)> = Vec::new();
    for region in &program.regions {
        let Some(take) = played(region) else { continue };
        let strand = region.key.strand;
        if !by_strand.contains(&(take, strand)) {
            by_strand.push((take, strand));
        }
    }
    let mut of = Vec::new();
    for take in &view.takes {
        let plays: Vec<StrandId> = (by_strand.iter())
            .filter(|(id, _)| *id == take.id)
            .map(|(_, strand)| *strand)
            .collect();
        let Some(first) = plays.iter().find(|strand| strands.contains(strand)) else {
            continue;
        };
        if take.treatment.is_none() {
            continue;
        }
        // The effects of the whole are heard on all alike.
        if plays.len() > 1 && (wish.bus != BusId::WHOLE || wish.with_filter) {
            let name = |id: &StrandId| program.strand(*id).map_or("", |strand| strand.name.as_str());
            return Err(Problem::refused(format!(
                "{} and {} play the same recordings: what is printed would be heard in both, and in each in its own way.",
                name(&plays[0]),
                name(&plays[1])
            )));
        }
        let layer = (view.plan.pass(take.cell.pass)).and_then(|pass| pass.layer(take.cell.layer));
        let printing = Printing {
            strand: *first,
            bus: wish.bus,
            with_filter: wish.with_filter,
            strike: layer.map_or(100, |layer| layer.strike_velocity),
        };
        of.push((take.id, Making::Printed(printing)));
    }
    Ok(of)
}

/// What is made, and what is said with it.
struct ToMake {
    of: Vec<(u64, Making)>,
    wishes: Vec<(Target, Fact, Said)>,
}

async fn begin(
    app: &App,
    seen: &Seen,
    ToMake { of, wishes }: ToMake,
    nothing: &str,
) -> Result<(StatusCode, Json<Created>), Problem> {
    if of.is_empty() {
        return Err(Problem::refused(nothing));
    }
    let snapshot = seen.snapshot(|take| of.iter().any(|(id, _)| *id == take.id));
    let snapshot = app.store.put_snapshot(&snapshot).await?;
    let input = serde_json::to_value(Makings { of, snapshot, wishes })?;
    let id = app.store.enqueue(seen.view.id, JobKind::Make, &input).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The newest jobs that make, loop or render takes, listen to them, or lay them beside their source.
#[utoipa::path(get, path = "/api/instruments/{id}/makings", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
pub(super) async fn makings(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<JobView>>, Problem> {
    let kinds = [
        JobKind::Make,
        JobKind::Render,
        JobKind::Loops,
        JobKind::MeasureAgain,
        JobKind::Listen,
        JobKind::Beside,
    ];
    let jobs = app.store.jobs(id, &kinds).await?;
    Ok(Json(jobs.into_iter().map(JobView::of).collect()))
}

/// Whether it is not known yet how loud it is as it is cleaned.
pub(crate) fn lacks_levels(take: &TakeView) -> bool {
    take.cleaned.is_some() && take.levels.is_none()
}

/// Whether its loop is not judged yet.
pub(crate) fn lacks_judgement(take: &TakeView) -> bool {
    let looped = take.treatment.as_ref().and_then(|treatment| treatment.looped);
    take.seam.is_none() && looped.is_some_and(|l| l.way == LoopWay::Forward)
}
