//! `cubrel-serve`, which `cubrel serve` runs.

use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Parser, Subcommand, ValueEnum};
use cubrel_serve::people::tokens::Tokens;
use cubrel_serve::settings::{Anybody, At, ServerFile, Settings, TOKENS};
use cubrel_serve::{Failure, Ready};
use serde_json::json;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Serves models over HTTP and Arrow Flight SQL.
#[derive(Debug, Parser)]
#[command(
    name = "cubrel-serve",
    bin_name = "cubrel serve",
    version,
    after_help = "Examples:\n  cubrel serve                                  the model of this folder, for this machine\n  cubrel serve ferries harbours --http 127.0.0.1:0 --flight none\n  cubrel serve ferries --as north_desk --user ann@example.org\n  cubrel serve --config server.toml\n  cubrel serve token add ann@example.org --days 90\n  curl http://127.0.0.1:8080/api/models/ferries/query -H 'Content-Type: application/json' \\\n       -d '{\"text\": \"grid net_revenue by port.region\"}'"
)]
struct Cli {
    #[command(subcommand)]
    command: Option<Command>,
    /// Folders of models; by default this one
    #[arg(value_name = "DIR")]
    dirs: Vec<PathBuf>,
    /// Where HTTP is answered; port 0 takes any that is free
    #[arg(long, value_name = "ADDRESS")]
    http: Option<String>,
    /// Where Arrow Flight SQL is answered; port 0 takes any that is free, `none` answers nowhere
    #[arg(long, value_name = "ADDRESS")]
    flight: Option<String>,
    /// A file of settings; `server.toml` where there is one
    #[arg(long, value_name = "FILE", global = true)]
    config: Option<PathBuf>,
    /// Without sign-in: the roles in which everybody asks
    #[arg(long = "as", value_name = "ROLE")]
    roles: Vec<String>,
    /// Without sign-in: what `user()` gives
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// How it says that it is ready, and writes its log
    #[arg(long, value_enum, default_value_t = Format::Text, global = true)]
    format: Format,
    /// How much the log tells: error, warn, info, debug
    #[arg(long, value_name = "LEVEL", default_value = "info", global = true)]
    log: tracing::Level,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Format {
    Text,
    Json,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// What people show to be let in
    Token {
        #[command(subcommand)]
        command: TokenCommand,
    },
    /// Write the JSON Schema of `server.toml`
    Schema,
}

#[derive(Debug, Subcommand)]
enum TokenCommand {
    /// Make one, and print it once
    Add {
        /// Who shows it
        name: String,
        /// How long it opens
        #[arg(long, default_value_t = 30)]
        days: u32,
    },
    /// List them
    List,
    /// Take all of a person back, or one by its id
    Revoke {
        /// The person or the id
        who: String,
    },
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    let done = match &cli.command {
        Some(Command::Token { command }) => token(command, &cli),
        Some(Command::Schema) => {
            let schema = schemars::schema_for!(ServerFile);
            say(&serde_json::to_string_pretty(&schema).unwrap_or_default());
            Ok(())
        }
        None => serve(&cli),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            eprintln!("error: {failure}\n  help: {}", failure.help());
            ExitCode::from(2)
        }
    }
}

/// A line for whoever reads the output; that nobody does is no error.
fn say(line: &str) {
    let _ = writeln!(std::io::stdout(), "{line}");
}

/// The file of settings, and the folder that its paths begin at.
fn file(cli: &Cli) -> Result<(ServerFile, PathBuf), Failure> {
    let usual = Path::new("server.toml");
    let path = cli.config.as_deref().or_else(|| usual.is_file().then_some(usual));
    let Some(path) = path else { return Ok((ServerFile::default(), PathBuf::from("."))) };
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Ok((ServerFile::read(path)?, folder.to_path_buf()))
}

fn token(command: &TokenCommand, cli: &Cli) -> Result<(), Failure> {
    let (_, folder) = file(cli)?;
    let tokens = Tokens::in_file(&folder.join(TOKENS));
    let is_json = cli.format == Format::Json;
    match command {
        TokenCommand::Add { name, days } => {
            let (token, known) = tokens.add(name, *days)?;
            if is_json {
                say(&json!({"token": token, "id": known.id, "name": known.name, "until": known.until.to_string()})
                    .to_string());
            } else {
                say(&token);
                if std::io::stdout().is_terminal() {
                    eprintln!("It is shown this once, and opens until {:.0} for {}.", known.until, known.name);
                }
            }
        }
        TokenCommand::List => {
            for known in tokens.list()? {
                if is_json {
                    let ended = known.has_ended();
                    let (id, name, made, until) =
                        (known.id, known.name, known.made.to_string(), known.until.to_string());
                    say(&json!({"id": id, "name": name, "made": made, "until": until, "ended": ended}).to_string());
                } else {
                    let ended = if known.has_ended() { "  (ended)" } else { "" };
                    say(&format!("{}  {:.0}  {}{ended}", known.id, known.until, known.name));
                }
            }
        }
        TokenCommand::Revoke { who } => {
            for known in tokens.revoke(who)? {
                say(&format!("{}  {}", known.id, known.name));
            }
        }
    }
    Ok(())
}

fn serve(cli: &Cli) -> Result<(), Failure> {
    let log = tracing_subscriber::fmt().with_max_level(cli.log).with_writer(std::io::stderr);
    match cli.format {
        Format::Json => log.json().flatten_event(true).init(),
        Format::Text => log.with_ansi(std::io::stderr().is_terminal()).init(),
    }
    let (file, folder) = file(cli)?;
    let asker = Anybody { roles: cli.roles.clone(), user: cli.user.clone() };
    let settings =
        Settings::new(file, &folder, &At { http: cli.http.clone(), flight: cli.flight.clone() }, &cli.dirs, asker)?;
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
    let runtime =
        runtime.map_err(|e| Failure::new(format!("no threads can be had: {e}"), "look at the system's limits"))?;
    runtime.block_on(async {
        let ready = Ready::new(&settings).await?;
        let (url, flight, models) = (ready.url(), ready.flight(), ready.models());
        match cli.format {
            Format::Json => say(&json!({"http": url, "flight": flight, "models": models}).to_string()),
            Format::Text => {
                let flight = flight.map(|flight| format!(", and for Flight SQL at {flight}")).unwrap_or_default();
                say(&format!("{} at {url}{flight}", models.join(", ")));
            }
        }
        ready.serve(asked_to_stop()).await;
        Ok(())
    })
}

/// Comes when the server is to stop: by the keyboard, or by whoever started it.
async fn asked_to_stop() {
    let keyboard = async {
        let _ = tokio::signal::ctrl_c().await;
    };
    #[cfg(unix)]
    {
        use tokio::signal::unix::{SignalKind, signal};
        if let Ok(mut term) = signal(SignalKind::terminate()) {
            tokio::select! {
                () = keyboard => {}
                _ = term.recv() => {}
            }
            return;
        }
    }
    keyboard.await;
}
