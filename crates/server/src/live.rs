//! What pages hear: stored events in their order, and what passes by while recording and while jobs run.

use serde::Serialize;
use session::Progress;
use shown::JobView;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use store::Store;
use tokio::sync::broadcast;
use utoipa::ToSchema;

/// How often the events table is looked at. Other servers write there too.
const LOOK_EVERY: Duration = Duration::from_millis(120);
/// How often running jobs are looked at, for the pages that show them.
const JOBS_EVERY: u32 = 3;

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
        /// `instrument`, `take`, `measured`, `treated`, `changed`, `long_take`, `file`, `job`, `run`.
        kind: String,
        /// More, by kind.
        #[schema(value_type = Object)]
        body: serde_json::Value,
    },
    /// How a run stands; nothing that has to be caught up with. Told to pages that look at its instrument.
    Progress {
        /// Whose.
        instrument: u64,
        /// Where it stands; `null` where nothing is recorded (any more).
        progress: Option<Box<Progress>>,
    },
    /// How far a job is. Told to pages that look at its instrument.
    Job {
        /// Whose.
        instrument: u64,
        /// Where it stands.
        job: Box<JobView>,
    },
}

impl Message {
    /// Whether a page that looks at an instrument is told.
    pub(crate) fn is_for(&self, looking_at: Option<u64>) -> bool {
        match self {
            Self::Event { .. } => true,
            Self::Progress { instrument, .. } | Self::Job { instrument, .. } => {
                looking_at == Some(*instrument)
            }
        }
    }
}

/// The sender of messages.
#[derive(Clone)]
pub(crate) struct Live {
    sender: broadcast::Sender<Message>,
    /// How many pages look at each instrument.
    looked_at: Arc<Mutex<HashMap<u64, usize>>>,
}

/// A page that looks at an instrument, until it is dropped.
pub(crate) struct Looking {
    live: Live,
    instrument: u64,
}

impl Drop for Looking {
    fn drop(&mut self) {
        let mut looked_at = self.live.looked_at();
        if let Some(count) = looked_at.get_mut(&self.instrument) {
            *count -= 1;
            if *count == 0 {
                looked_at.remove(&self.instrument);
            }
        }
    }
}

impl Live {
    /// Begins to follow the events table.
    pub(crate) async fn start(store: Store) -> anyhow::Result<Self> {
        let live = Self {
            sender: broadcast::channel(4_096).0,
            looked_at: Arc::default(),
        };
        let (following, mut last) = (live.clone(), store.newest_event().await?);
        tokio::spawn(async move {
            let (mut away, mut round, mut shares) = (false, 0u32, HashMap::new());
            loop {
                tokio::time::sleep(LOOK_EVERY).await;
                round = round.wrapping_add(1);
                let told = following.tell_events(&store, &mut last).await;
                let told = match told {
                    Ok(()) if round.is_multiple_of(JOBS_EVERY) => {
                        following.tell_jobs(&store, &mut shares).await
                    }
                    told => told,
                };
                // Once for each time that it goes and comes.
                match &told {
                    Ok(()) if away => tracing::info!("the database answers again"),
                    Err(error) if !away => tracing::warn!("events: {error:#}"),
                    _ => {}
                }
                away = told.is_err();
            }
        });
        Ok(live)
    }

    async fn tell_events(&self, store: &Store, last: &mut u64) -> anyhow::Result<()> {
        loop {
            let events = store.events_after(*last).await?;
            let Some(newest) = events.last().map(|event| event.id) else {
                return Ok(());
            };
            for event in events {
                self.send(message_of(event));
            }
            *last = newest;
        }
    }

    /// Tells how far jobs are whose share has changed.
    async fn tell_jobs(&self, store: &Store, shares: &mut HashMap<u64, f64>) -> anyhow::Result<()> {
        let instruments: Vec<u64> = self.looked_at().keys().copied().collect();
        if instruments.is_empty() {
            shares.clear();
            return Ok(());
        }
        let running = store.running(&instruments).await?;
        shares.retain(|id, _| running.iter().any(|job| job.id == *id));
        for job in running {
            if shares.insert(job.id, job.share) != Some(job.share) {
                self.send(Message::Job {
                    instrument: job.instrument_id,
                    job: Box::new(JobView::of(job)),
                });
            }
        }
        Ok(())
    }

    fn looked_at(&self) -> std::sync::MutexGuard<'_, HashMap<u64, usize>> {
        self.looked_at.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A page looks at an instrument from now on.
    pub(crate) fn look(&self, instrument: u64) -> Looking {
        *self.looked_at().entry(instrument).or_default() += 1;
        Looking {
            live: self.clone(),
            instrument,
        }
    }

    pub(crate) fn send(&self, message: Message) {
        // No page listening is no error.
        let _ = self.sender.send(message);
    }

    pub(crate) fn listen(&self) -> broadcast::Receiver<Message> {
        self.sender.subscribe()
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
