//! Planning: rigs, first plans, their cost, and the plan as a MIDI file.

use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::IntoResponse;
use instrument::{
    Cost, How, Kind, Layer, Offer, PAGE_RIG, Plan, cost_of, first_plan, layers_again, read_chord,
};
use serde::{Deserialize, Serialize};
use shown::view_of;
use utoipa::{IntoParams, ToSchema};

/// A rig that can be recorded.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct RigView {
    /// For the plan.
    id: String,
    /// As it is shown.
    name: String,
    /// Names of its programs, from 1; empty where they are not known.
    programs: Vec<String>,
    /// Whether somebody has to play it.
    by_hand: bool,
    /// Whether it is a stand-in for devices.
    simulated: bool,
}

/// The rigs, by name; this computer's own devices first.
#[utoipa::path(get, path = "/api/rigs", responses((status = 200, body = Vec<RigView>)))]
pub(super) async fn rigs() -> Json<Vec<RigView>> {
    let mut all: Vec<RigView> = rig::Model::ALL
        .iter()
        .map(|(model, id, name)| RigView {
            id: (*id).to_owned(),
            name: (*name).to_owned(),
            programs: model.programs().iter().map(|name| (*name).to_owned()).collect(),
            by_hand: *model == rig::Model::SlateChimes,
            simulated: true,
        })
        .collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all.insert(
        0,
        RigView {
            id: PAGE_RIG.to_owned(),
            name: "This computer's devices".to_owned(),
            programs: Vec::new(),
            by_hand: false,
            simulated: false,
        },
    );
    Json(all)
}

/// What a plan will cost.
#[utoipa::path(post, path = "/api/plan/cost", request_body = Plan, responses((status = 200, body = Cost), (status = 422, body = Problem)))]
pub(super) async fn cost(Json(plan): Json<Plan>) -> Result<Json<Cost>, Problem> {
    plan.check()
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(Json(cost_of(&plan)))
}

/// What is to be recorded.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct OfferWish {
    /// What it is.
    kind: Kind,
    /// How the recordings come to be.
    how: How,
    /// With which rig.
    rig: String,
}

/// A good first plan.
#[utoipa::path(get, path = "/api/plan/offer", params(OfferWish), responses((status = 200, body = Offer)))]
pub(super) async fn offer(Query(wish): Query<OfferWish>) -> Json<Offer> {
    Json(first_plan(wish.kind, wish.how, &wish.rig))
}

/// How many layers.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct LayerWish {
    /// 1 to 127; more or fewer are taken for the nearest.
    count: usize,
    /// Those in whose place they come.
    before: Vec<Layer>,
}

/// So many layers, soft to loud, evenly struck; those that were there go on as the ones that are struck most alike.
#[utoipa::path(post, path = "/api/plan/layers", request_body = LayerWish, responses((status = 200, body = Vec<Layer>)))]
pub(super) async fn layers(Json(wish): Json<LayerWish>) -> Json<Vec<Layer>> {
    let before = &wish.before[..wish.before.len().min(127)];
    Json(layers_again(wish.count, before, &mut super::fresh_name))
}

/// A chord, written.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ChordWish {
    /// Semitones from the rung (`0 4 7`), notes (`C E G`), or a name (`min7`).
    text: String,
}

/// What is struck with a rung, in semitones from it.
#[utoipa::path(get, path = "/api/plan/chord", params(ChordWish), responses((status = 200, body = Vec<i8>), (status = 422, body = Problem)))]
pub(super) async fn chord(Query(wish): Query<ChordWish>) -> Result<Json<Vec<i8>>, Problem> {
    let chord = read_chord(&wish.text).map_err(|error| Problem::refused(error.to_string()))?;
    Ok(Json(chord))
}

/// The plan as a Standard MIDI File, one note a cell, for those who record elsewhere.
#[utoipa::path(get, path = "/api/instruments/{id}/plan.mid", params(("id" = u64, Path)), responses((status = 200, content_type = "audio/midi", body = Vec<u8>), (status = 404, body = Problem)))]
pub(super) async fn midi_file(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<impl IntoResponse, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let disposition = super::attachment(&format!("{} plan.mid", view.name));
    let headers = [
        (header::CONTENT_TYPE, "audio/midi".to_owned()),
        (header::CONTENT_DISPOSITION, disposition),
    ];
    Ok((headers, work::plan_as_midi(&view.plan)))
}
