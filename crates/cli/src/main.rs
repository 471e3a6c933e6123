//! The `ladder` program.

mod measure;

use anyhow::Context;
use clap::{Parser, Subcommand};
use server::App;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;
use store::{Folder, Store};

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
            server::work_forever(store, format!("work/{}", uuid::Uuid::new_v4())).await;
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

/// First what can be refused: nothing is touched before it is sure that this server may run.
async fn start(
    address: SocketAddr,
    web: &std::path::Path,
    folder: &std::path::Path,
    demo: bool,
) -> anyhow::Result<()> {
    let listener = server::listen(address).await?;
    let held = Folder::hold(folder)?;
    let workers: Vec<String> = (0..2)
        .map(|_| format!("{}/{}", held.name(), uuid::Uuid::new_v4()))
        .collect();
    let store = open(folder).await?;
    let app = App::start(store.clone(), held).await?;
    for name in workers {
        tokio::spawn(server::work_forever(store.clone(), name));
    }
    println!("Ladder is at http://{}", listener.local_addr()?);
    if demo {
        let for_demo = app.clone();
        tokio::spawn(async move {
            if let Err(error) = server::fill_demo(&for_demo).await {
                tracing::error!("the demo could not be filled in: {error:#}");
            }
        });
    }
    server::serve(app, listener, web).await
}
