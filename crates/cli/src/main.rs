//! The `ladder` program.

mod build;
mod checking;
mod convert;
mod from;
mod measure;
mod planned;
mod render;
mod telling;
mod writing;

use anyhow::Context;
use clap::{CommandFactory, Parser, Subcommand};
use server::App;
use std::io::Write;
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
    /// Serves the folder of a page that plays, on this machine.
    #[command(after_help = "Example: ladder serve Organ/page")]
    Serve {
        /// The folder.
        folder: PathBuf,
        /// Loopback address and port; port 0 takes a free one.
        #[arg(long, default_value = "127.0.0.1:4370")]
        address: SocketAddr,
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
    /// Listens to an instrument, and says what is wrong with it; ends with 1 where anything is over its limit.
    Check(checking::Check),
    /// Plays a MIDI file through an SFZ or a SoundFont, into a WAV file.
    Render(render::Render),
    /// Writes an SFZ or a SoundFont as the other, or anew; says what was lost.
    Convert(convert::Convert),
    /// Prints what completes these words in a shell.
    #[command(after_help = "Example: ladder completions bash > /etc/bash_completion.d/ladder")]
    Completions {
        /// Which shell.
        shell: clap_complete::Shell,
    },
    /// Prints the manual page, for `man`.
    #[command(after_help = "Example: ladder manual | man -l -")]
    Manual,
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
        Command::Serve { folder, address } => {
            let listener = server::listen(address).await?;
            println!("It plays at http://{}", listener.local_addr()?);
            server::serve_folder(&folder, listener).await?;
        }
        Command::Work { folder } => {
            let store = open(&folder).await?;
            server::work_forever(store, format!("work/{}", uuid::Uuid::new_v4())).await;
        }
        Command::Measure(wish) => return Ok(wish.run()),
        Command::Build(wish) => return Ok(ended(wish.run())),
        Command::Check(wish) => {
            return Ok(wish.run().unwrap_or_else(|error| ended(Err(error))));
        }
        Command::Render(wish) => return Ok(ended(wish.run())),
        Command::Convert(wish) => return Ok(ended(wish.run())),
        Command::Completions { shell } => {
            let mut text = Vec::new();
            clap_complete::generate(shell, &mut Arguments::command(), "ladder", &mut text);
            printed(&text)?;
        }
        Command::Manual => printed(&manual()?)?,
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

/// Prints a text; whoever stops reading it has read enough.
fn printed(text: &[u8]) -> std::io::Result<()> {
    match std::io::stdout().write_all(text) {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        done => done,
    }
}

/// The manual page of all commands, in one.
fn manual() -> std::io::Result<Vec<u8>> {
    let mut text = Vec::new();
    let out = &mut text;
    let mut whole = Arguments::command();
    whole.build();
    clap_mangen::Man::new(whole.clone()).render(out)?;
    for command in whole.get_subcommands().filter(|of| of.get_name() != "help") {
        let man = clap_mangen::Man::new(command.clone());
        man.render_name_section(out)?;
        man.render_synopsis_section(out)?;
        man.render_options_section(out)?;
        man.render_extra_section(out)?;
    }
    Ok(text)
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
    let app = App::start(store.clone(), held).await?.with_shell(web).await?;
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
