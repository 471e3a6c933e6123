//! Files that were brought together, and are gone through before anything of them is taken in: in a folder of this process, until they are let go or nobody
//! asks for them any more.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use uuid::Uuid;
use work::{Found, Watch};

/// So many at once; more make room for themselves where nobody asks for the oldest.
const MOST_SETS: usize = 8;
/// Nobody asked for them for so long.
const FORGOTTEN_AFTER: Duration = Duration::from_secs(2 * 3_600);
/// One that is still looked at is not let go for another.
const IN_USE_FOR: Duration = Duration::from_secs(300);

/// Files that were brought together.
pub(crate) struct Set {
    folder: TempDir,
    asked_for: Mutex<Instant>,
    arrived: Mutex<Arrived>,
    /// What is in them, once that was asked for.
    pub(crate) found: tokio::sync::Mutex<Option<Arc<Found>>>,
    /// Hashes under which files of it lie in the store, by their paths.
    pub(crate) sources: tokio::sync::Mutex<HashMap<String, String>>,
    taking: Mutex<Option<Arc<Watch>>>,
}

/// How much of them is there.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Arrived {
    /// How many.
    pub(crate) files: usize,
    /// So long together.
    pub(crate) bytes: u64,
}

fn locked<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Set {
    /// Where they lie.
    pub(crate) fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Notes that more is there; how much is there then.
    pub(crate) fn arrive(&self, bytes: u64) -> Arrived {
        let mut arrived = locked(&self.arrived);
        arrived.files += 1;
        arrived.bytes += bytes;
        *arrived
    }

    /// How much is there.
    pub(crate) fn arrived(&self) -> Arrived {
        *locked(&self.arrived)
    }

    /// Begins to take one in; what was being taken in before is stopped.
    pub(crate) fn begin_taking(&self) -> Arc<Watch> {
        let watch = Arc::new(Watch::default());
        if let Some(before) = locked(&self.taking).replace(watch.clone()) {
            before.stop();
        }
        watch
    }

    /// What is being taken in is not wanted any more.
    pub(crate) fn stop_taking(&self) {
        if let Some(watch) = locked(&self.taking).as_ref() {
            watch.stop();
        }
    }

    /// How far what is being taken in is, 0 to 1.
    pub(crate) fn share(&self) -> f64 {
        locked(&self.taking).as_ref().map_or(0.0, |watch| watch.share())
    }
}

/// All of them.
#[derive(Clone, Default)]
pub(crate) struct Sets(Arc<Mutex<HashMap<Uuid, Arc<Set>>>>);

impl Sets {
    /// A new one in a folder; `None` where too many are looked at.
    ///
    /// # Errors
    /// Those of the disk.
    pub(crate) fn begin(&self, within: &Path) -> std::io::Result<Option<Uuid>> {
        self.forget_old();
        let mut all = locked(&self.0);
        if all.len() >= MOST_SETS {
            let asked = |set: &Arc<Set>| *locked(&set.asked_for);
            let oldest = all.iter().min_by_key(|(_, set)| asked(set));
            let oldest = oldest.map(|(id, set)| (*id, asked(set)));
            match oldest.filter(|(_, asked)| asked.elapsed() > IN_USE_FOR) {
                Some((id, _)) => drop(all.remove(&id)),
                None => return Ok(None),
            }
        }
        let id = Uuid::new_v4();
        let set = Set {
            folder: TempDir::new_in(within)?,
            asked_for: Mutex::new(Instant::now()),
            arrived: Mutex::default(),
            found: tokio::sync::Mutex::default(),
            sources: tokio::sync::Mutex::default(),
            taking: Mutex::default(),
        };
        all.insert(id, Arc::new(set));
        Ok(Some(id))
    }

    /// One of them, which is looked at from now on.
    pub(crate) fn get(&self, id: Uuid) -> Option<Arc<Set>> {
        let set = locked(&self.0).get(&id).cloned()?;
        *locked(&set.asked_for) = Instant::now();
        Some(set)
    }

    /// One is not wanted any more.
    pub(crate) fn forget(&self, id: Uuid) {
        let set = locked(&self.0).remove(&id);
        if let Some(set) = set {
            set.stop_taking();
        }
    }

    /// Lets go of those that nobody asked for in a long time.
    pub(crate) fn forget_old(&self) {
        let young = |_: &Uuid, set: &mut Arc<Set>| locked(&set.asked_for).elapsed() < FORGOTTEN_AFTER;
        locked(&self.0).retain(young);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_looked_at_stays_and_what_is_forgotten_makes_room() {
        let (folder, sets) = (TempDir::new().unwrap(), Sets::default());
        let mut ids = Vec::new();
        while let Some(id) = sets.begin(folder.path()).unwrap() {
            ids.push(id);
        }
        assert_eq!(ids.len(), MOST_SETS);
        let first = sets.get(ids[0]).unwrap();
        let path = first.folder().to_owned();
        *locked(&first.asked_for) -= 2 * IN_USE_FOR;
        drop(first);
        assert!(sets.begin(folder.path()).unwrap().is_some());
        assert!(sets.get(ids[0]).is_none() && !path.exists());
        let second = sets.get(ids[1]).unwrap();
        *locked(&second.asked_for) -= 2 * FORGOTTEN_AFTER;
        let watch = second.begin_taking();
        sets.forget_old();
        // Whoever still works with it goes on until it is told to stop.
        assert!(sets.get(ids[1]).is_none() && second.folder().exists());
        second.stop_taking();
        assert!(watch.tell(0.5).is_err());
    }
}
