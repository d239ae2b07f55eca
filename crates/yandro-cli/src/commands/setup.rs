//! `yandro setup`: completions and manual pages, made from the command line's own tables.

use yandro_machine::FileError;

use crate::args::SetupCommand;
use crate::error::CommandError;
use crate::view::{COMMAND, Outcome, STRONG, Ui};
use crate::{complete, help};

pub(crate) fn run<'c>(command: &SetupCommand, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match command {
        SetupCommand::Completions { shell } => {
            let script = complete::script(shell).map_err(CommandError::not_made)?;
            ui.print(&String::from_utf8_lossy(&script));
        }
        SetupCommand::Man { out } => {
            let pages = std::fs::create_dir_all(out).and_then(|()| clap_mangen::generate_to(help::command(), out));
            pages.map_err(FileError::at(out))?;
            ui.say(&format!(
                "{STRONG}{out}{STRONG:#} has a manual page for each command; read one: {COMMAND}man -l {out}/yandro-map.1{COMMAND:#}"
            ));
        }
    }
    Ok(Outcome::printed())
}
