//! What is wrong with an instrument, and how that is mended or accepted.

use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use instrument::{Finding, Wish, accepting};
use serde::Deserialize;
use shown::{FindingsView, MENDING, findings_of, report_of};
use std::collections::HashSet;
use utoipa::{IntoParams, ToSchema};

const GONE: &str = "That was mended or has changed since: look again.";

async fn findings(app: &App, id: u64) -> Result<FindingsView, Problem> {
    findings_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))
}

/// How findings are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Looking {
    /// Whether listening that was cancelled, or went wrong, is begun again.
    #[serde(default)]
    again: bool,
}

/// All that is wrong with it, worst first. What was not listened to yet is asked for.
#[utoipa::path(get, path = "/api/instruments/{id}/findings", params(("id" = u64, Path), Looking), responses((status = 200, body = FindingsView)))]
pub(super) async fn show_findings(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(Looking { again }): Query<Looking>,
) -> Result<Json<FindingsView>, Problem> {
    let found = findings(&app, id).await?;
    if found.to_hear > 0 {
        app.store.enqueue_listen(id, &found.wanted, again).await?;
    } else {
        app.store.put_looked(id, found.counts()).await?;
    }
    Ok(Json(found))
}

/// The same on one page, to print or to keep: what it is, its figures, what was mended, accepted and is open.
#[utoipa::path(get, path = "/api/instruments/{id}/report", params(("id" = u64, Path)), responses((status = 200, content_type = "text/html", body = String), (status = 404, body = Problem)))]
pub(super) async fn show_report(State(app): State<App>, Path(id): Path<u64>) -> Result<Response, Problem> {
    let report = report_of(&app.store, id).await?;
    let report = report.ok_or_else(|| Problem::missing("instrument"))?;
    let headers = [
        (header::CONTENT_TYPE, "text/html; charset=utf-8"),
        (header::CONTENT_SECURITY_POLICY, REPORT_MAY),
    ];
    Ok((headers, report.html("")).into_response())
}

/// A report is read and printed, and does nothing else.
const REPORT_MAY: &str =
    "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; sandbox allow-modals";

/// What is done about findings.
#[derive(Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum Doing {
    /// They are mended.
    Mend,
    /// They are accepted, for a reason.
    Accept(String),
    /// They are accepted no more.
    LookAgain,
}

/// Findings, and what is done about them.
#[derive(Deserialize, ToSchema)]
pub(super) struct AboutFindings {
    /// By their names.
    keys: Vec<u64>,
    /// What.
    doing: Doing,
}

/// Mends or accepts findings, as one change that is undone as one.
#[utoipa::path(post, path = "/api/instruments/{id}/findings", params(("id" = u64, Path)), request_body = AboutFindings,
    responses((status = 204), (status = 409, description = "What was found is no more.", body = Problem)))]
pub(super) async fn act_on_findings(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<AboutFindings>,
) -> Result<StatusCode, Problem> {
    let found = findings(&app, id).await?.findings;
    let mut of: Vec<Finding> = Vec::new();
    for key in &wish.keys {
        let one = found.iter().find(|one| one.key == *key);
        of.push(one.ok_or_else(|| Problem::refused(GONE))?.finding.clone());
    }
    let Some(first) = of.first() else {
        return Err(Problem::refused("Nothing was chosen."));
    };
    let title = first.kind.title().to_lowercase();
    let several = if of.len() > 1 {
        format!(" ({})", of.len())
    } else {
        String::new()
    };
    let (label, wishes): (String, Vec<Wish>) = match &wish.doing {
        Doing::Mend => {
            let mends: Vec<_> = of.iter().filter_map(|finding| finding.mend.clone()).collect();
            if mends.is_empty() {
                return Err(Problem::refused("None of that can be mended by itself."));
            }
            (
                format!("{MENDING}{title}{several}"),
                mends.into_iter().flat_map(|mend| mend.wishes).collect(),
            )
        }
        Doing::Accept(reason) if reason.trim().is_empty() => {
            return Err(Problem::refused(
                "What is accepted has a reason: whoever looks next will ask.",
            ));
        }
        Doing::Accept(reason) => (
            format!("accepting: {title}{several}"),
            of.iter()
                .map(|finding| accepting(finding, Some(reason.trim())))
                .collect(),
        ),
        Doing::LookAgain => (
            format!("looking again: {title}{several}"),
            of.iter().map(|finding| accepting(finding, None)).collect(),
        ),
    };
    let mut said = HashSet::new();
    let wishes: Vec<Wish> = (wishes.into_iter())
        .filter(|wish| said.insert((wish.target, wish.fact)))
        .collect();
    app.store
        .change(id, &label, wishes)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(StatusCode::NO_CONTENT)
}
