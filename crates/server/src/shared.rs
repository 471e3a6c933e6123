//! One answer for all who ask at once.

use std::collections::HashMap;
use std::sync::Arc;

/// One answer for all who ask at once: those who come while one is being worked out wait for the next, and share it. However many pages open
/// an instrument together, it is in memory once or twice.
#[derive(Clone, Default)]
pub(crate) struct Shared(Arc<std::sync::Mutex<HashMap<u64, Arc<Turn>>>>);

#[derive(Default)]
struct Turn {
    working: tokio::sync::Mutex<()>,
    /// Who waits for the next answer, and that answer.
    next: std::sync::Mutex<Arc<tokio::sync::OnceCell<Answer>>>,
}

type Answer = Option<axum::body::Bytes>;

impl Shared {
    /// The answer for a number, worked out after this was called.
    pub(crate) async fn answer<F>(&self, id: u64, work: impl FnOnce() -> F) -> anyhow::Result<Answer>
    where
        F: Future<Output = anyhow::Result<Answer>>,
    {
        let turn = self
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .entry(id)
            .or_default()
            .clone();
        let mine = turn
            .next
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .clone();
        let _working = turn.working.lock().await;
        if let Some(answer) = mine.get() {
            return Ok(answer.clone());
        }
        // Whoever comes from now on waits for the one after this.
        *turn
            .next
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner) = Arc::default();
        let answer = work().await?;
        // Nobody else works on it.
        let _ = mine.set(answer.clone());
        Ok(answer)
    }
}
