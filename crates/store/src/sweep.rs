//! What nobody refers to any more is removed. Safe beside other servers, workers and sweeps: a file is named in the database before it is
//! there, and goes only while its name is held there.

use crate::audio::recording_path;
use crate::events::Told;
use crate::schema::{edition_recordings, jobs, long_takes, recordings, takes, waiting_files};
use crate::{JobState, Store};
use diesel::dsl::{exists, not, sql};
use diesel::prelude::*;
use diesel::sql_types::{Bool, Datetime};
use diesel_async::RunQueryDsl;
use futures::StreamExt;
use object_store::{ObjectMeta, ObjectStore, path::Path};
use std::collections::HashSet;
use std::time::{Duration, SystemTime};
use work::{EXPORTS, JobKind, RENDERS};

/// Renders that are not in use are kept for who goes back to them, up to so many bytes.
pub const RENDERS_KEPT_BYTES: u64 = 4 << 30;
/// Jobs of one kind and instrument that a page can still see.
const JOBS_SEEN: i64 = 20;
/// Where files lie that were sent and are not yet read.
const UPLOADS: &str = "uploads/";
/// Where jobs' snapshots lie.
const SNAPSHOTS: &str = "snapshots/";

/// What a sweep removed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Swept {
    /// Recordings that no take, long take or waiting file is a part of.
    pub recordings: usize,
    /// Exports, uploads, snapshots and half-written files.
    pub files: usize,
    /// Renders that are not in use, beyond those that are kept.
    pub renders: usize,
    /// Jobs that ended long ago.
    pub jobs: usize,
}

impl Store {
    /// Removes what nobody refers to and nobody touched for a while. `renders` names the renders that are in use.
    ///
    /// # Errors
    /// Those of the database and the object store.
    pub async fn sweep(
        &self,
        untouched: Duration,
        renders: &HashSet<String>,
        renders_kept_bytes: u64,
    ) -> anyhow::Result<Swept> {
        let jobs = self.sweep_jobs(untouched).await?;
        let recordings = self.sweep_recordings(untouched).await?;
        let mut files = self.sweep_half_written(untouched).await?;
        for folder in [EXPORTS, UPLOADS, SNAPSHOTS] {
            // First what is there, then what is named: a job that ends in between has named its file.
            let mut old = self.files_under(folder).await?;
            old.retain(|file| is_older(file, untouched));
            if old.is_empty() {
                continue;
            }
            let named = self.named_by_jobs().await?;
            for file in old {
                let name = file.location.as_ref();
                if !named.iter().any(|named| name.starts_with(named.as_str())) {
                    self.forget_file(name).await?;
                    files += 1;
                }
            }
        }
        files += self.sweep_sources(untouched).await?;
        files += self.sweep_editions(untouched).await?;
        let renders = self.sweep_renders(untouched, renders, renders_kept_bytes).await?;
        Ok(Swept {
            recordings,
            files,
            renders,
            jobs,
        })
    }

    pub(crate) async fn files_under(&self, folder: &str) -> anyhow::Result<Vec<ObjectMeta>> {
        let mut found = Vec::new();
        let mut all = self.files.list(Some(&Path::from(folder.trim_end_matches('/'))));
        while let Some(file) = all.next().await {
            found.push(file?);
        }
        Ok(found)
    }

    /// How names of files begin that jobs read, wrote or are about to write.
    async fn named_by_jobs(&self) -> anyhow::Result<HashSet<String>> {
        let rows: Vec<(String, String, Option<String>)> = self
            .read(async |connection| {
                Ok(jobs::table
                    .filter(jobs::kind.ne(JobKind::Measure.name()))
                    .select((jobs::state, jobs::input, jobs::result))
                    .load(connection)
                    .await?)
            })
            .await?;
        let mut named = HashSet::new();
        for (state, input, result) in rows {
            let text = |json: &str, field: &str| -> Option<String> {
                let value: serde_json::Value = serde_json::from_str(json).ok()?;
                Some(value[field].as_str()?.to_owned())
            };
            // What a job that ended well or was cancelled was given, nobody reads again.
            if state != JobState::Done.name() && state != JobState::Cancelled.name() {
                named.extend(text(&input, "file"));
                // What an edition is made from is several.
                if let Ok(of) = serde_json::from_str::<Snapshots>(&input) {
                    named.extend(of.snapshots.iter().map(|name| snapshot_path(name)));
                }
                if let Some(snapshot) = text(&input, "snapshot") {
                    named.insert(snapshot_path(&snapshot));
                    named.insert(format!("{EXPORTS}{snapshot}"));
                }
            }
            named.extend(result.as_deref().and_then(|result| text(result, "file")));
        }
        Ok(named)
    }

    /// Jobs that ended long ago, and that no page shows any more.
    async fn sweep_jobs(&self, untouched: Duration) -> anyhow::Result<usize> {
        let seconds = untouched.as_secs();
        self.write(async |connection| {
            let old = sql::<Bool>(&format!(
                "ended_at < NOW(3) - INTERVAL {seconds} SECOND AND NOT (kind = 'measure' AND state = 'failed')"
            ));
            let ended: Vec<(u64, u64, String)> = jobs::table
                .filter(old)
                .select((jobs::id, jobs::instrument_id, jobs::kind))
                .order(jobs::id.desc())
                .load(connection)
                .await?;
            let mut seen = std::collections::HashMap::<(u64, String), i64>::new();
            let gone: Vec<u64> = ended
                .into_iter()
                .filter(|(_, instrument, kind)| {
                    let count = seen.entry((*instrument, kind.clone())).or_default();
                    *count += 1;
                    *count > JOBS_SEEN || kind == JobKind::Measure.name()
                })
                .map(|(id, ..)| id)
                .collect();
            for gone in gone.chunks(500) {
                diesel::delete(jobs::table.filter(jobs::id.eq_any(gone.to_vec())))
                    .execute(connection)
                    .await?;
            }
            Ok((gone.len(), Told::default()))
        })
        .await
    }

    async fn sweep_recordings(&self, untouched: Duration) -> anyhow::Result<usize> {
        // Files that an earlier version put there before it named them.
        let known: HashSet<String> = self
            .read(async |connection| {
                Ok(recordings::table
                    .select(recordings::hash)
                    .load(connection)
                    .await?)
            })
            .await?
            .into_iter()
            .map(|hash: String| recording_path(&hash))
            .collect();
        let mut gone = 0;
        for file in self.files_under("recordings").await? {
            if !known.contains(file.location.as_ref()) && is_older(&file, untouched) {
                gone += usize::from(self.sweep_nameless(&file).await?);
            }
        }
        let seconds = untouched.as_secs();
        let candidates: Vec<String> = self
            .read(async |connection| {
                Ok(recordings::table
                    .filter(unreferred(seconds))
                    .select(recordings::hash)
                    .load(connection)
                    .await?)
            })
            .await?;
        for hash in candidates {
            gone += usize::from(self.sweep_recording(&hash, seconds).await?);
        }
        Ok(gone)
    }

    /// Removes one while its row is held: whoever wants to keep the same sound meanwhile waits, and puts it there anew.
    async fn sweep_recording(&self, hash: &str, seconds: u64) -> anyhow::Result<bool> {
        self.write(async |connection| {
            let still: Option<String> = recordings::table
                .find(hash)
                .filter(unreferred(seconds))
                .select(recordings::hash)
                .for_update()
                .first(connection)
                .await
                .optional()?;
            if still.is_none() {
                return Ok((false, Told::default()));
            }
            for name in [
                recording_path(hash),
                work::peaks_path(hash),
                work::levels_path(hash),
            ] {
                self.forget_file(&name).await?;
            }
            diesel::delete(recordings::table.find(hash))
                .execute(connection)
                .await?;
            Ok((true, Told::default()))
        })
        .await
    }

    /// A recording's file that the database does not know: held by a row of its own while it goes.
    async fn sweep_nameless(&self, file: &ObjectMeta) -> anyhow::Result<bool> {
        let Some(hash) = file
            .location
            .filename()
            .and_then(|name| name.strip_suffix(".wav"))
            .filter(|hash| hash.len() == 64)
        else {
            return Ok(false);
        };
        self.write(async |connection| {
            let made = diesel::insert_or_ignore_into(recordings::table)
                .values((
                    recordings::hash.eq(hash),
                    recordings::rate_hz.eq(0),
                    recordings::channels.eq(0),
                    recordings::bits.eq(0),
                    recordings::frames.eq(0),
                ))
                .execute(connection)
                .await?;
            if made == 0 {
                // Somebody has just named it.
                return Ok((false, Told::default()));
            }
            self.forget_file(file.location.as_ref()).await?;
            diesel::delete(recordings::table.find(hash))
                .execute(connection)
                .await?;
            Ok((true, Told::default()))
        })
        .await
    }

    /// Files that a killed process had begun to write.
    async fn sweep_half_written(&self, untouched: Duration) -> anyhow::Result<usize> {
        let Some(folder) = self.local.clone() else {
            return Ok(0);
        };
        tokio::task::spawn_blocking(move || {
            let (mut gone, mut folders) = (0, vec![folder.to_path_buf()]);
            while let Some(folder) = folders.pop() {
                for entry in std::fs::read_dir(folder)? {
                    let entry = entry?;
                    let name = entry.file_name();
                    // Another process may have finished or removed it just now.
                    let Ok(meta) = entry.metadata() else { continue };
                    if meta.is_dir() {
                        folders.push(entry.path());
                    } else if name.to_string_lossy().contains('#')
                        && meta
                            .modified()
                            .is_ok_and(|at| at.elapsed().is_ok_and(|age| age > untouched))
                    {
                        gone += usize::from(std::fs::remove_file(entry.path()).is_ok());
                    }
                }
            }
            anyhow::Ok(gone)
        })
        .await?
    }

    async fn sweep_renders(
        &self,
        untouched: Duration,
        in_use: &HashSet<String>,
        kept_bytes: u64,
    ) -> anyhow::Result<usize> {
        let mut all = self.files_under(RENDERS).await?;
        let mut size: u64 = all.iter().map(|file| file.size).sum();
        all.retain(|file| !in_use.contains(file.location.as_ref()) && is_older(file, untouched));
        all.sort_by_key(|file| file.last_modified);
        let mut gone = 0;
        for file in all {
            if size <= kept_bytes {
                break;
            }
            size -= file.size;
            self.forget_file(file.location.as_ref()).await?;
            gone += 1;
        }
        Ok(gone)
    }

    /// Puts what a job works on under a name of its content, which it gives.
    ///
    /// # Errors
    /// Those of the object store.
    pub async fn put_snapshot(&self, snapshot: &impl serde::Serialize) -> anyhow::Result<String> {
        let bytes = serde_json::to_vec(snapshot)?;
        let name = blake3::hash(&bytes).to_hex().to_string();
        self.put_bytes(&snapshot_path(&name), bytes).await?;
        Ok(name)
    }

    /// Reads that back.
    ///
    /// # Errors
    /// Those of the object store, and where it is not there.
    pub async fn snapshot<T: serde::de::DeserializeOwned>(&self, name: &str) -> anyhow::Result<T> {
        let bytes = self.bytes_of(&snapshot_path(name), 0..u64::MAX).await?;
        let bytes =
            bytes.ok_or_else(|| anyhow::anyhow!("what this job was asked for is not there any more"))?;
        Ok(serde_json::from_slice(&bytes)?)
    }
}

/// Snapshots that a job works on.
#[derive(serde::Deserialize)]
struct Snapshots {
    snapshots: Vec<String>,
}

fn snapshot_path(name: &str) -> String {
    format!("{SNAPSHOTS}{name}.json")
}

pub(crate) fn is_older(file: &ObjectMeta, than: Duration) -> bool {
    let modified: SystemTime = file.last_modified.into();
    modified.elapsed().is_ok_and(|age| age > than)
}

/// Recordings that were named long ago and that nothing is a part of.
#[diesel::dsl::auto_type]
fn unreferred(seconds: u64) -> _ {
    let age: diesel::expression::SqlLiteral<Datetime> =
        sql::<Datetime>(&format!("NOW(3) - INTERVAL {seconds} SECOND"));
    let in_takes = takes::table.filter(takes::recording.eq(recordings::hash));
    let in_long_takes = long_takes::table.filter(long_takes::recording.eq(recordings::hash));
    let in_editions = edition_recordings::table.filter(edition_recordings::recording.eq(recordings::hash));
    let in_waiting = waiting_files::table.filter(waiting_files::recording.eq(recordings::hash));
    recordings::noted_at
        .lt(age)
        .and(not(exists(in_takes)))
        .and(not(exists(in_long_takes)))
        .and(not(exists(in_waiting)))
        .and(not(exists(in_editions)))
}
