//! What an earlier start, or a server that is gone, left of recordings.

use super::*;

impl Recorder {
    /// Goes on with what an earlier start of this folder left: its recordings are this one's at once, and what had arrived of pages' recordings
    /// is kept. Then looks after the leases for ever.
    pub(crate) async fn go_on(self: &Arc<Self>, folder: &Folder) -> anyhow::Result<()> {
        self.store.free_runs(folder.name()).await?;
        self.store.free_jobs(folder.name()).await?;
        let mut arrived: HashMap<u64, Vec<Arrived>> = HashMap::new();
        for found in self.store.arrived()? {
            arrived.entry(found.about.instrument).or_default().push(found);
        }
        let rows = self
            .store
            .take_over_runs(&self.holder, Some(folder.name()))
            .await?;
        for row in rows {
            let of_run = arrived.remove(&row.instrument_id).unwrap_or_default();
            let instrument = row.instrument_id;
            if let Err(error) = self.resume(instrument, &row.settings, of_run).await {
                tracing::error!(instrument, "a recording could not go on: {error:#}");
            }
        }
        for found in arrived.into_values().flatten() {
            self.keep_broken_off(found).await?;
        }
        let recorder = self.clone();
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(TEND_EVERY).await;
                // What the database does not hear now it hears in a moment: leases are longer.
                if let Err(error) = recorder.tend().await {
                    tracing::debug!("leases: {error:#}");
                }
            }
        });
        Ok(())
    }

    async fn tend(self: &Arc<Self>) -> anyhow::Result<()> {
        let held = self.store.renew_runs(&self.holder).await?;
        // One that another server has taken over meanwhile ends here: its takes would not be kept.
        let lost: Vec<u64> = locked(&self.running)
            .keys()
            .filter(|id| !held.contains(id))
            .copied()
            .collect();
        for instrument in lost {
            tracing::warn!(instrument, "another server goes on with this recording");
            self.order(instrument, Order::Stop);
        }
        for row in self.store.take_over_runs(&self.holder, None).await? {
            self.resume(row.instrument_id, &row.settings, Vec::new()).await?;
        }
        Ok(())
    }

    /// A recording goes on from where it was.
    async fn resume(
        self: &Arc<Self>,
        instrument: u64,
        settings: &str,
        arrived: Vec<Arrived>,
    ) -> anyhow::Result<()> {
        tracing::info!(instrument, "going on with a recording");
        // Of a long take the same goes on; a note that was broken off is kept as it is, and asked for again.
        let (mut long, mut wanted) = (None, None);
        for found in arrived {
            wanted = wanted.max(Some(found.next_frame()));
            match &found.about.belongs {
                Belongs::LongTake(_) if long.is_none() => long = Some(found),
                _ => self.keep_broken_off(found).await?,
            }
        }
        let settings = serde_json::from_str(settings).unwrap_or_default();
        if let Err(sentence) = self.begin_from(instrument, settings, wanted, long).await? {
            tracing::warn!(instrument, "{sentence}");
        }
        Ok(())
    }

    /// What arrived of a recording that nobody goes on with is kept, marked.
    async fn keep_broken_off(&self, mut found: Arrived) -> anyhow::Result<()> {
        if found.spool.frames() > 0 {
            let origin = Origin {
                verdict: Some(Verdict::of(vec![Finding::broken_off()], None, 0.0)),
                ..found.about.origin.clone()
            };
            let frames = found.spool.frames();
            keep_spool(&self.store, &found.about, &mut found.spool, &origin, true, None).await?;
            self.note_kept(found.about.instrument, kept_sentence(&found.about, frames));
        }
        self.store.forget_arrived(&found.about.spool)?;
        Ok(())
    }
}
