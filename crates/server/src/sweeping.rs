//! What nobody refers to is swept away now and then.

use crate::sets::Sets;
use shown::seen;
use std::collections::HashSet;
use std::time::Duration;
use store::{RENDERS_KEPT_BYTES, Store};

const FIRST_AFTER: Duration = Duration::from_secs(60);
const SWEEP_EVERY: Duration = Duration::from_secs(3_600);
/// What was touched within this time may be on its way to being referred to.
const UNTOUCHED: Duration = Duration::from_secs(24 * 3_600);

/// Sweeps for ever.
pub(crate) fn sweep_forever(store: Store, sets: Sets) {
    tokio::spawn(async move {
        tokio::time::sleep(FIRST_AFTER).await;
        loop {
            sets.forget_old();
            match sweep(&store).await {
                Ok(swept) if swept != store::Swept::default() => tracing::info!("swept away: {swept:?}"),
                Ok(_) => {}
                Err(error) => tracing::warn!("sweeping: {error:#}"),
            }
            tokio::time::sleep(SWEEP_EVERY).await;
        }
    });
}

async fn sweep(store: &Store) -> anyhow::Result<store::Swept> {
    let mut renders = HashSet::new();
    for row in store.instruments().await? {
        if let Some(seen) = seen(store, row.id).await? {
            renders.extend(seen.renders());
        }
    }
    store.sweep(UNTOUCHED, &renders, RENDERS_KEPT_BYTES).await
}
