//! The `ladder` program.

mod build;
mod convert;
mod from;
mod measure;
mod render;
mod telling;

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
    /// Makes an instrument of a folder of named recordings.
    Build(build::Build),
    /// Plays a MIDI file through an SFZ or a SoundFont, into a WAV file.
    Render(render::Render),
    /// Writes an SFZ or a SoundFont as the other, or anew; says what was lost.
    Convert(convert::Convert),
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
        Command::Build(wish) => return Ok(ended(wish.run())),
        Command::Render(wish) => return Ok(ended(wish.run())),
        Command::Convert(wish) => return Ok(ended(wish.run())),
        Command::Openapi => println!("{}", server::openapi().to_pretty_json()?),
    }
    Ok(ExitCode::SUCCESS)
}

/// What went wrong, in a sentence, and 1; 0 where nothing did. What is no wish at all ends with 2.
fn ended(done: anyhow::Result<()>) -> ExitCode {
    let Err(error) = done else {
        return ExitCode::SUCCESS;
    };
    eprintln!("{error:#}");
    ExitCode::FAILURE
}

/// A width of WAV files.
fn bits(text: &str) -> Result<u16, String> {
    match text {
        "16" => Ok(16),
        "24" => Ok(24),
        "32" => Ok(32),
        _ => Err("it is 16, 24 or 32".to_owned()),
    }
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
