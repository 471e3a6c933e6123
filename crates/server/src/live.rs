//! What pages hear: stored events in their order, and what passes by while recording.

use serde::Serialize;
use session::Progress;
use std::collections::HashSet;
use std::time::Duration;
use store::Store;
use tokio::sync::broadcast;
use utoipa::ToSchema;

/// How often the events table is looked at. Other servers write there too.
const LOOK_EVERY: Duration = Duration::from_millis(120);

/// Numbers are given before transactions end: one that ends late shows its event behind higher numbers, by no more than this.
pub(crate) const LATE_IDS: u64 = 64;

/// One message to every page.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum Message {
    /// Something that was kept.
    Event {
        /// Its number: after a break, ask for those after the last one heard.
        id: u64,
        /// Whose.
        instrument: u64,
        /// `instrument`, `take`, `measured`, `changed`, `job`, `run`.
        kind: String,
        /// More, by kind.
        #[schema(value_type = Object)]
        body: serde_json::Value,
    },
    /// How a run stands; nothing that has to be caught up with.
    Progress {
        /// Whose.
        instrument: u64,
        /// Where it stands.
        progress: Box<Progress>,
    },
}

/// The sender of messages.
#[derive(Clone)]
pub(crate) struct Live(broadcast::Sender<Message>);

impl Live {
    /// Begins to follow the events table.
    pub(crate) async fn start(store: Store) -> anyhow::Result<Self> {
        let live = Self(broadcast::channel(4_096).0);
        let (sender, mut last) = (live.0.clone(), store.newest_event().await?);
        let mut told: HashSet<u64> = store
            .events_after(last.saturating_sub(LATE_IDS))
            .await?
            .iter()
            .map(|e| e.id)
            .collect();
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(LOOK_EVERY).await;
                match store.events_after(last.saturating_sub(LATE_IDS)).await {
                    Ok(events) => {
                        for event in events {
                            last = last.max(event.id);
                            if told.insert(event.id) {
                                let _ = sender.send(message_of(event));
                            }
                        }
                        told.retain(|id| *id + LATE_IDS >= last);
                    }
                    Err(error) => tracing::warn!("events: {error:#}"),
                }
            }
        });
        Ok(live)
    }

    pub(crate) fn send(&self, message: Message) {
        // No page listening is no error.
        let _ = self.0.send(message);
    }

    pub(crate) fn listen(&self) -> broadcast::Receiver<Message> {
        self.0.subscribe()
    }
}

pub(crate) fn message_of(event: store::StoredEvent) -> Message {
    Message::Event {
        id: event.id,
        instrument: event.instrument_id,
        kind: event.kind,
        body: serde_json::from_str(&event.body).unwrap_or_default(),
    }
}
