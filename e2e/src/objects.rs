//! An S3-compatible store on loopback, with a key and a secret: the crate `s3s-fs` over a folder.

use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use tempfile::TempDir;
use tokio::net::TcpListener;

const BUCKET: &str = "fernhollow";
const KEY: &str = "workshop";
const SECRET: &str = "only-for-this-test";

/// The store. Ends with it.
pub struct Objects {
    folder: TempDir,
    address: String,
    serving: tokio::task::JoinHandle<()>,
}

impl Objects {
    /// Starts one with an empty bucket.
    pub async fn start() -> anyhow::Result<Self> {
        let folder = TempDir::new()?;
        std::fs::create_dir(folder.path().join(BUCKET))?;
        let files = s3s_fs::FileSystem::new(folder.path()).map_err(|error| anyhow::anyhow!("{error:?}"))?;
        let mut builder = S3ServiceBuilder::new(files);
        builder.set_auth(SimpleAuth::from_single(KEY, SECRET));
        let service = builder.build();
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = format!("http://{}", listener.local_addr()?);
        let serving = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let service = service.clone();
                tokio::spawn(async move {
                    // Whoever leaves in the middle of a request is no concern of the others.
                    let builder = Builder::new(TokioExecutor::new());
                    let _ = builder.serve_connection(TokioIo::new(stream), service).await;
                });
            }
        });
        Ok(Self {
            folder,
            address,
            serving,
        })
    }

    /// What a Ladder needs to keep its audio there, as such variables are usually named; `secret` is the right one where it is left out.
    pub fn environment(&self, secret: Option<&str>) -> Vec<(String, String)> {
        [
            ("LADDER_AUDIO_URL", format!("s3://{BUCKET}/audio")),
            ("AWS_ENDPOINT_URL", self.address.clone()),
            ("AWS_ALLOW_HTTP", "true".to_owned()),
            ("AWS_REGION", "us-east-1".to_owned()),
            ("AWS_ACCESS_KEY_ID", KEY.to_owned()),
            ("AWS_SECRET_ACCESS_KEY", secret.unwrap_or(SECRET).to_owned()),
        ]
        .into_iter()
        .map(|(name, value)| (name.to_owned(), value))
        .collect()
    }

    /// Names of all that lies there.
    pub fn names(&self) -> anyhow::Result<Vec<String>> {
        let mut names = Vec::new();
        let bucket = self.folder.path().join(BUCKET);
        let mut folders = vec![bucket.clone()];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder)? {
                let path = entry?.path();
                if path.is_dir() {
                    folders.push(path);
                } else {
                    names.push(path.strip_prefix(&bucket)?.display().to_string());
                }
            }
        }
        Ok(names)
    }
}

impl Drop for Objects {
    fn drop(&mut self) {
        self.serving.abort();
    }
}
