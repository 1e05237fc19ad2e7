//! The command line of cubrel: all of it, so that it can be built while the library still is. The program only calls [`run`].

mod args;
mod commands;
mod demo;
mod failure;
mod format;
mod memory;
mod output;
mod report;
mod shell;

use std::ffi::OsString;
use std::process::ExitCode;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};

use args::{GENERAL, Global};
use failure::Failure;
use format::Format;
use output::Output;

/// What to try first, after the short help.
const FIRST: &str = "First things to try:
  cubrel demo ferries                     a model of a ferry company, with a short tour
  cubrel -m ferries query routes          a saved query of it
  cubrel draft my-files --into my-model   a first model from your own files";

/// Related tables in memory, and formulas that answer for whatever is filtered; then see what they cost and what they weigh
#[derive(Parser, Debug)]
#[command(
    name = "cubrel",
    version,
    max_term_width = 100,
    arg_required_else_help = true,
    disable_help_subcommand = true,
    after_help = FIRST
)]
struct Cli {
    #[command(flatten)]
    global: Global,
    #[command(subcommand)]
    command: Command,
}

/// The arguments, with the formats that each command has.
fn command() -> clap::Command {
    Cli::command().mut_subcommands(|sub| {
        let formats = Format::of(sub.get_name());
        let values: Vec<_> = formats.iter().filter_map(Format::to_possible_value).collect();
        let names: Vec<String> = values.iter().map(|v| v.get_name().to_string()).collect();
        let parser = PossibleValuesParser::new(values).try_map(|name| Format::from_str(&name, false));
        let arg = clap::Arg::new("format").long("format").value_name("FORM").display_order(102).value_parser(parser);
        let arg = arg.default_value("table").hide_default_value(true).hide_possible_values(true).help_heading(GENERAL);
        sub.arg(arg.help(format!("Write results as {}", names.join(", "))))
    })
}

#[derive(Subcommand, Debug)]
enum Command {
    /// Write the demo model with its data, load it, and take a short tour
    Demo(commands::demo::Args),
    /// Guess a model from files: types, keys, relationships, a calendar, first measures
    Draft(commands::draft::Args),
    /// Read what has changed in the sources: all or nothing
    Refresh(commands::refresh::Args),
    /// List every problem of the model and its formulas
    Check(commands::check::Args),
    /// Ask for a grid
    Query(commands::query::Args),
    /// Ask one query after the other, with completion
    Shell(commands::shell::Args),
    /// Explain one number: its filters, the rows left, the formula with its values
    Why(commands::why::Args),
    /// Say how long a grid takes, and why
    Time(commands::time::Args),
    /// Say where the bytes are
    Size(commands::size::Args),
    /// Compare two formulas or two models: same numbers, times, sizes
    Compare(commands::compare::Args),
    /// Say where something is used, or what nothing uses
    Uses(commands::uses::Args),
    /// Rename something, in the model's file and every formula in it
    Rename(commands::rename::Args),
    /// Take something out of the model that nothing uses
    Remove(commands::remove::Args),
    /// List what would make the model smaller or faster, each tried
    Advise(commands::advise::Args),
    /// Write one page that tells what the model is
    Report(commands::report::Args),
    /// Hold the model against its expectations
    Test(commands::test::Args),
    /// List the functions and aggregates of formulas
    Functions(commands::functions::Args),
    /// Help an editor with model files and queries, as a language server
    Lsp(commands::lsp::Args),
    /// Write the JSON Schema of model files
    Schema(commands::about::SchemaArgs),
    /// Write completions for a shell
    Completions(commands::about::CompletionsArgs),
    /// Write the manual
    Manual(commands::about::ManualArgs),
    /// A program of the path
    #[command(external_subcommand)]
    Other(Vec<OsString>),
}

/// Runs the program with the arguments of its process, and says what it exits with.
pub fn run() -> ExitCode {
    let matches = command().get_matches();
    let formats = matches.subcommand_name().map_or_else(|| Format::OF_TABLES.to_vec(), Format::of);
    let cli = match Cli::from_arg_matches(&matches) {
        Ok(cli) => cli,
        Err(e) => e.exit(),
    };
    tracing_subscriber::fmt()
        .with_max_level(cli.global.log)
        .with_writer(std::io::stderr)
        .with_target(false)
        .without_time()
        .init();
    // A panic that the library turns into an error is told as that error.
    let told = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !cubrel::is_guarded() {
            told(panic);
        }
    }));
    let mut out = Output::new(&cli.global);
    // Before the command, any format can be named.
    if !formats.contains(&cli.global.format) {
        let names: Vec<_> = formats.iter().filter_map(Format::to_possible_value).collect();
        let names: Vec<&str> = names.iter().map(|value| value.get_name()).collect();
        let help = format!("it has {}", names.join(", "));
        let failure = Failure::Other("this command has no such format".into(), help);
        output::problems::report(&failure, &cli.global);
        return ExitCode::from(2);
    }
    let result = commands::recovering(&cli.global, || run_command(&cli, &mut out));
    match result.and_then(|code| out.finish().map(|()| code)) {
        Ok(code) => ExitCode::from(code),
        // Whoever reads our output may stop when it has seen enough.
        Err(Failure::Write(e)) if e.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(failure) => {
            output::problems::report(&failure, &cli.global);
            ExitCode::from(2)
        }
    }
}

fn run_command(cli: &Cli, out: &mut Output) -> failure::Done {
    if matches!(cli.command, Command::Draft(_) | Command::Refresh(_)) {
        memory::give_back_soon();
    }
    match &cli.command {
        Command::Demo(args) => commands::demo::run(args, &cli.global, out),
        Command::Draft(args) => commands::draft::run(args, &cli.global, out),
        Command::Refresh(args) => commands::refresh::run(args, &cli.global, out),
        Command::Check(args) => commands::check::run(args, &cli.global, out),
        Command::Query(args) => commands::query::run(args, &cli.global, out),
        Command::Shell(args) => shell::run(args, &cli.global),
        Command::Why(args) => commands::why::run(args, &cli.global, out),
        Command::Time(args) => commands::time::run(args, &cli.global, out),
        Command::Size(args) => commands::size::run(args, &cli.global, out),
        Command::Compare(args) => commands::compare::run(args, &cli.global, out),
        Command::Uses(args) => commands::uses::run(args, &cli.global, out),
        Command::Rename(args) => commands::rename::run(args, &cli.global, out),
        Command::Remove(args) => commands::remove::run(args, &cli.global, out),
        Command::Advise(args) => commands::advise::run(args, &cli.global, out),
        Command::Report(args) => commands::report::run(args, &cli.global, out),
        Command::Test(args) => commands::test::run(args, &cli.global, out),
        Command::Functions(args) => commands::functions::run(args, out),
        Command::Lsp(args) => commands::lsp::run(args, &cli.global),
        Command::Schema(_) => commands::about::schema(out),
        Command::Completions(args) => commands::about::completions(args, command(), out),
        Command::Manual(args) => commands::about::manual(args, command(), out),
        Command::Other(words) => commands::other::run(words, &command()),
    }
}
