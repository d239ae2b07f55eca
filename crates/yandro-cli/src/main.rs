//! The command `yandro`.

mod args;
mod commands;
mod context;
mod error;
mod passphrase;
mod run;
mod signals;
mod sudo;
mod view;

use std::process::ExitCode;

use clap::Parser as _;

fn main() -> ExitCode {
    yandro_machine::process::keep_memory_to_itself();
    let cli = args::Cli::parse();
    let mut ui = view::Ui::new(&cli.global);
    let status = match run::run(&cli, &mut ui) {
        Ok(status) => status,
        Err(error) => {
            ui.error(&error);
            error.status
        }
    };
    ExitCode::from(status.code())
}
