//! The command `yandro`.

mod args;
mod as_root;
mod commands;
mod complete;
mod context;
mod databases;
#[cfg(test)]
mod dependencies;
mod error;
mod global;
mod help;
mod passphrase;
mod run;
#[cfg(test)]
mod schemas;
mod signals;
mod sudo;
mod trace;
mod view;

use std::io::Write as _;
use std::process::ExitCode;

use clap::FromArgMatches as _;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use serde_json::json;

use error::Status;

fn main() -> ExitCode {
    yandro_machine::process::keep_memory_to_itself();
    complete::answer(help::command);
    let cli = match parse() {
        Ok(cli) => cli,
        Err(error) => return ExitCode::from(not_parsed(&error).code()),
    };
    trace::begin(cli.global.verbose);
    let mut ui = view::Ui::new(&cli.global);
    let status = match run::run(&cli, &mut ui) {
        Ok(status) => status,
        Err(error) => {
            ui.error(&error);
            error.status
        }
    };
    ExitCode::from(ui.finish(status).code())
}

/// Reads the arguments. An unknown word leads to the command that people mean by it.
fn parse() -> Result<args::Cli, clap::Error> {
    let command = help::command();
    let arguments = args::with_values_joined(std::env::args_os());
    let matches = command.clone().try_get_matches_from(arguments).map_err(|error| meant(&command, error))?;
    args::Cli::from_arg_matches(&matches)
}

fn meant(command: &clap::Command, error: clap::Error) -> clap::Error {
    let word = match error.get(ContextKind::InvalidSubcommand) {
        Some(ContextValue::String(word)) if is_first(command, word) => word,
        _ => return error,
    };
    let text = match help::meant(word) {
        Some((aim, typed)) => format!("`{word}` is not a command of yandro\nfix: {aim}: {typed}\n"),
        None => return error,
    };
    clap::Error::raw(ErrorKind::InvalidSubcommand, text).with_cmd(command)
}

/// Whether no command comes before the word: then the word was meant as one.
fn is_first(command: &clap::Command, word: &str) -> bool {
    let mut before = std::env::args().skip(1).take_while(|argument| argument != word);
    !before.any(|argument| command.find_subcommand(argument).is_some())
}

/// Prints what clap says. Arguments that it repeats are shown escaped.
fn print(error: &clap::Error) -> std::io::Result<()> {
    if error.use_stderr() {
        let text = view::plain(&error.render().to_string());
        return std::io::stderr().write_all(text.as_bytes());
    }
    error.print().and_then(|()| std::io::stdout().flush())
}

/// Prints help or version, or what is wrong with the arguments.
fn not_parsed(error: &clap::Error) -> Status {
    let printed = print(error);
    if error.use_stderr() {
        // The option itself may be what can't be parsed.
        if std::env::args_os().any(|argument| argument == "--json") {
            let text = error.render().to_string();
            let message = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            let fix = text.lines().find_map(|line| line.strip_prefix("fix: ")).unwrap_or("yandro --help");
            let value = json!({ "error": { "code": "bad-arguments", "message": message, "fix": [fix] } });
            _ = writeln!(std::io::stdout(), "{}", view::json_text(&value));
        }
        return Status::Usage;
    }
    match printed {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            _ = writeln!(std::io::stderr(), "error: standard output could not be written: {error}");
            Status::NotPrinted
        }
        _ => Status::Well,
    }
}
