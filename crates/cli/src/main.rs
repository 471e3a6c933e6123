//! The `ladder` program.

mod measure;

use anyhow::Context;
use clap::{Parser, Subcommand};
use server::App;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;
use store::Store;

/// Turns an instrument into a sample library.
#[derive(Parser)]
#[command(name = "ladder", version)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serves the page.
    Start {
        /// Loopback address and port; port 0 takes a free one.
        #[arg(long, default_value = "127.0.0.1:4360")]
        address: SocketAddr,
        /// The built page.
        #[arg(long, default_value = "web/dist")]
        web: PathBuf,
        /// Where audio is kept.
        #[arg(long, default_value = "data")]
        folder: PathBuf,
        /// Fill in the demo where there are no instruments.
        #[arg(long)]
        demo: bool,
    },
    /// Does jobs for a server that shares database and audio store.
    Work {
        /// Where audio is kept.
        #[arg(long, default_value = "data")]
        folder: PathBuf,
    },
    /// Measures audio files.
    Measure(measure::Measure),
    /// Prints the API's description.
    Openapi,
}

#[tokio::main]
async fn main() -> anyhow::Result<ExitCode> {
    tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_default_env()
                .unwrap_or_else(|_| "warn,server=info".into()),
        )
        .with_writer(std::io::stderr)
        .init();
    match Arguments::parse().command {
        Command::Start {
            address,
            web,
            folder,
            demo,
        } => start(address, &web, &folder, demo).await?,
        Command::Work { folder } => {
            let store = open(&folder).await?;
            server::work_forever(store, worker_name(0)).await;
        }
        Command::Measure(wish) => return Ok(wish.run()),
        Command::Openapi => println!("{}", server::openapi().to_pretty_json()?),
    }
    Ok(ExitCode::SUCCESS)
}

async fn open(folder: &std::path::Path) -> anyhow::Result<Store> {
    let url =
        std::env::var("LADDER_DATABASE_URL").context("LADDER_DATABASE_URL is not set: bin/start sets it")?;
    Store::open(&url, folder).await
}

/// Unlike any other worker's: process and start.
fn worker_name(number: usize) -> String {
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .map_or(0, |d| d.as_nanos());
    format!("{}-{number}-{now}", std::process::id())
}

async fn start(
    address: SocketAddr,
    web: &std::path::Path,
    folder: &std::path::Path,
    demo: bool,
) -> anyhow::Result<()> {
    let store = open(folder).await?;
    for number in 0..2 {
        tokio::spawn(server::work_forever(store.clone(), worker_name(number)));
    }
    let app = App::start(store).await?;
    let for_demo = app.clone();
    server::serve(app, address, web, |address| {
        println!("Ladder is at http://{address}");
        if demo {
            tokio::spawn(async move {
                if let Err(error) = server::fill_demo(&for_demo).await {
                    tracing::error!("the demo could not be filled in: {error:#}");
                }
            });
        }
    })
    .await
}
