//! The shell of pages that play, as it was built with the site: put where whoever exports finds it, once somebody wants one.

use crate::App;
use crate::problem::Problem;
use formats::Format;
use std::path::Path;
use std::sync::Arc;
use store::Store;
use tokio::sync::OnceCell;
use work::{ExportSettings, Shell, shell_path};

/// Where it lies in a site as it is built.
pub const SHELL: &str = "play";

/// As one file, and its name.
pub(crate) struct Built {
    hash: String,
    packed: Vec<u8>,
    put: OnceCell<()>,
}

impl Built {
    /// Puts it there, where that was not done yet; its hash.
    async fn put(&self, store: &Store) -> anyhow::Result<String> {
        let put = async || {
            store
                .put_bytes(&shell_path(&self.hash), self.packed.clone())
                .await
        };
        self.put.get_or_try_init(put).await?;
        Ok(self.hash.clone())
    }
}

impl App {
    /// With the shell that was built with a site; without one, where there is none.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub async fn with_shell(mut self, web: &Path) -> anyhow::Result<Self> {
        let folder = web.join(SHELL);
        if !folder.is_dir() {
            return Ok(self);
        }
        let packed = tokio::task::spawn_blocking(move || Shell::of_folder(&folder)?.packed()).await??;
        self.shell = Some(Arc::new(Built {
            hash: blake3::hash(&packed).to_hex().to_string(),
            packed,
            put: OnceCell::new(),
        }));
        Ok(self)
    }

    /// The shell that something has which is written so.
    pub(crate) async fn shell_for(&self, settings: &[ExportSettings]) -> Result<Option<String>, Problem> {
        if settings.iter().all(|settings| settings.format != Format::Page) {
            return Ok(None);
        }
        let shell = self.shell.as_ref();
        let shell = shell.ok_or_else(|| Problem::refused(work::NO_SHELL))?;
        Ok(Some(shell.put(&self.store).await?))
    }
}
