//! Jobs as pages see them.

use serde::{Deserialize, Serialize};
use store::{JobState, MOST_TRIES};
use utoipa::ToSchema;

/// A job.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct JobView {
    /// Its number.
    pub id: u64,
    /// What it does: `export`, `import`, `make`, `render`, `loops`…
    pub kind: String,
    /// `waiting`, `running`, `done`, `failed`, `cancelled`.
    pub state: String,
    /// 0 to 1.
    pub share: f64,
    /// What it was given.
    #[schema(value_type = Object)]
    pub input: serde_json::Value,
    /// What came out.
    pub result: Option<JobResult>,
    /// What went wrong.
    pub error: Option<String>,
    /// How often it was begun.
    pub tries: u32,
    /// How often it is begun by itself, at most.
    pub most_tries: u32,
    /// Whether it failed, and may not fail again.
    pub may_try_again: bool,
}

/// What an export made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct JobResult {
    /// Name of the file.
    #[serde(default)]
    pub name: String,
    /// Its size.
    #[serde(default)]
    pub bytes: u64,
    /// What the format could not hold.
    #[serde(default)]
    pub losses: Vec<LossView>,
    /// What became of a folder, where it was given into one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given: Option<GivenView>,
}

/// What became of a folder that an instrument was given into.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GivenView {
    /// Where it lies on the server's disk.
    pub folder: String,
    /// Files that are new, or otherwise than before.
    pub written: usize,
    /// Files that are as they were.
    pub same: usize,
    /// Files that nothing plays any more.
    pub removed: usize,
}

/// Something a format cannot hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LossView {
    /// A sentence.
    pub what: String,
    /// Regions it concerns.
    pub regions: usize,
}

impl JobView {
    /// A job as pages see it.
    pub fn of(job: store::Job) -> Self {
        let result = job.result.and_then(|value| serde_json::from_value(value).ok());
        Self {
            id: job.id,
            kind: job.kind.name().to_owned(),
            state: job.state.name().to_owned(),
            share: job.share,
            // What was refused at once is refused again; what failed so often may have been mended meanwhile.
            may_try_again: job.state == JobState::Failed && job.tries >= MOST_TRIES,
            most_tries: MOST_TRIES,
            input: job.input,
            result,
            error: job.error,
            tries: job.tries,
        }
    }
}
