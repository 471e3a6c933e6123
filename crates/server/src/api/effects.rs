//! Which effects there are, and what each can be set to: one table, the program's own.

use axum::Json;
use program::EffectView;

/// All kinds, in the order in which they are offered.
#[utoipa::path(get, path = "/api/effects", responses((status = 200, body = Vec<EffectView>)))]
pub(super) async fn effects() -> Json<Vec<EffectView>> {
    Json(EffectView::all())
}
