//! The folder that a server keeps its things in: held by one server at a time; every process has a corner of its own for what is under way.

use anyhow::Context;
use std::fs::{File, TryLockError};
use std::io::Write;
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

/// Makes a folder that its owner alone can enter.
fn make_private(path: &Path) -> std::io::Result<()> {
    std::fs::create_dir_all(path)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o700))?;
    }
    Ok(())
}

/// What was renamed, made or removed in a folder is safe when this returns.
pub(crate) fn sync_folder(path: &Path) -> std::io::Result<()> {
    File::open(path)?.sync_all()
}

/// Writes a whole file: it is there with all that was written, or not at all.
pub(crate) fn write_synced(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let folder = path.parent().unwrap_or(Path::new("."));
    let mut file = NamedTempFile::new_in(folder)?;
    file.write_all(bytes)?;
    file.as_file().sync_all()?;
    file.persist(path)?;
    sync_folder(folder)
}

/// A folder that this process alone serves, while it is held.
#[derive(Debug)]
pub struct Folder {
    path: PathBuf,
    name: String,
    _lock: File,
}

impl Folder {
    /// Takes hold of it. Nothing in it is touched where another server holds it.
    ///
    /// # Errors
    /// With a sentence, where another server holds it or the disk fails.
    pub fn hold(path: &Path) -> anyhow::Result<Self> {
        make_private(path).with_context(|| format!("the folder «{}» cannot be used", path.display()))?;
        let lock = File::options()
            .create(true)
            .truncate(false)
            .write(true)
            .open(path.join("ladder.lock"))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => anyhow::bail!(
                "Another Ladder serves the folder «{}» already. It goes on; end it first, or choose another folder.",
                path.display()
            ),
            Err(TryLockError::Error(error)) => return Err(error.into()),
        }
        let name_path = path.join("ladder.name");
        let name = match std::fs::read_to_string(&name_path) {
            Ok(name) if name.trim().len() == 36 => name.trim().to_owned(),
            _ => {
                let name = uuid::Uuid::new_v4().to_string();
                write_synced(&name_path, name.as_bytes())?;
                name
            }
        };
        Ok(Self {
            path: path.to_owned(),
            name,
            _lock: lock,
        })
    }

    /// A name that no other folder has, and that it keeps.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

/// The corner of one process: what lies there is gone with it, however it ends.
#[derive(Debug)]
pub struct Scratch {
    path: PathBuf,
    arriving: PathBuf,
    given: PathBuf,
    _lock: File,
}

const LOCK: &str = "lock";

impl Scratch {
    /// Makes one, and clears those away whose processes are gone.
    pub(crate) fn make(folder: &Path) -> anyhow::Result<Self> {
        make_private(folder)?;
        let (all, arriving) = (folder.join("scratch"), folder.join("spool"));
        std::fs::create_dir_all(&all)?;
        std::fs::create_dir_all(&arriving)?;
        for entry in std::fs::read_dir(&all)? {
            let path = entry?.path();
            let held = File::open(path.join(LOCK)).is_ok_and(|lock| lock.try_lock().is_err());
            // One that is just being made has no lock yet under this name: it is renamed once it is held.
            let being_made = path.extension().is_some_and(|ending| ending == "new") && is_young(&path);
            if !held && !being_made {
                // Another process may clear it away at the same time.
                let _ = std::fs::remove_dir_all(&path);
            }
        }
        let path = all.join(uuid::Uuid::new_v4().to_string());
        let new = path.with_extension("new");
        std::fs::create_dir(&new)?;
        let lock = File::create(new.join(LOCK))?;
        lock.lock()?;
        std::fs::rename(&new, &path)?;
        Ok(Self {
            path,
            arriving,
            given: std::path::absolute(folder)?.join("given"),
            _lock: lock,
        })
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Where recordings of pages arrive: they outlive the process.
    pub fn arriving(&self) -> &Path {
        &self.arriving
    }

    /// Where folders lie that instruments are given into.
    pub(crate) fn given(&self) -> &Path {
        &self.given
    }

    /// A file in it, gone when it is dropped.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn file(&self) -> std::io::Result<NamedTempFile> {
        NamedTempFile::new_in(&self.path)
    }
}

fn is_young(path: &Path) -> bool {
    let made = std::fs::metadata(path).and_then(|meta| meta.modified());
    made.is_ok_and(|made| made.elapsed().is_ok_and(|age| age.as_secs() < 60))
}

impl Drop for Scratch {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_is_held_once_and_keeps_its_name() {
        let folder = tempfile::TempDir::new().unwrap();
        let first = Folder::hold(folder.path()).unwrap();
        let refused = Folder::hold(folder.path()).unwrap_err().to_string();
        assert!(refused.starts_with("Another Ladder serves"), "{refused}");
        let name = first.name().to_owned();
        drop(first);
        assert_eq!(Folder::hold(folder.path()).unwrap().name(), name);
    }

    #[test]
    fn what_a_dead_process_left_is_cleared_away_and_what_a_living_one_has_is_not() {
        let folder = tempfile::TempDir::new().unwrap();
        let living = Scratch::make(folder.path()).unwrap();
        std::fs::write(living.path().join("half"), b"half").unwrap();
        let left = folder.path().join("scratch").join("dead");
        std::fs::create_dir(&left).unwrap();
        std::fs::write(left.join("half"), b"half").unwrap();
        let other = Scratch::make(folder.path()).unwrap();
        assert!(living.path().join("half").exists() && !left.exists());
        let path = other.path().to_owned();
        drop(other);
        assert!(!path.exists());
    }
}
