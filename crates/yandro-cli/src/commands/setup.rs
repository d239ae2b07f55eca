//! `yandro setup`: completions, manual pages, and the right to listen on low ports.

use camino::Utf8PathBuf;
use yandro_core::System;
use yandro_machine::{FileError, Machine, caller, low_ports, process};

use crate::args::SetupCommand;
use crate::as_root::{as_root, this_as_root};
use crate::context::Context;
use crate::error::CommandError;
use crate::global::Global;
use crate::view::{COMMAND, Outcome, STRONG, Ui};
use crate::{complete, help};

/// The way without that right.
const OTHER_PORTS: &str = "or choose ports above 1023 for the built-in server: `http-port` and `https-port` under [built-in] in settings.toml";

pub(crate) fn run<'c>(global: &Global, command: &SetupCommand, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match command {
        SetupCommand::Completions { shell } => {
            let script = complete::script(shell).map_err(CommandError::not_made)?;
            ui.print(&String::from_utf8_lossy(&script));
        }
        SetupCommand::Ports { remove } => {
            let context = Context::new(global, ui)?;
            if *remove { take_ports(&context, ui)? } else { give_ports(&context, ui)? }
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

/// There while this user gave the right.
fn given(machine: &Machine) -> Utf8PathBuf {
    machine.places.data.join("low-ports")
}

fn give_ports(context: &Context, ui: &mut Ui) -> Result<(), CommandError> {
    let program = low_ports::program().map_err(CommandError::not_made)?;
    if System::HERE != System::Linux {
        return Err(CommandError::not_made("this system gives a program no such right").hint(OTHER_PORTS));
    }
    if context.preview || !context.machine.is_real() {
        ui.say(&format!("Nothing was done: {program} would get the right to listen on ports below 1024"));
        return Ok(());
    }
    if !low_ports::are_allowed() {
        if !context.machine.is_root() {
            return by_root(&["setup", "ports"], "give yandro's file the right to listen on ports below 1024", ui);
        }
        low_ports::allow(true).map_err(|error| refused(&error.to_string()))?;
        context.machine.write_private(&given(&context.machine), b"")?;
    }
    ui.say(&format!("{STRONG}{program}{STRONG:#} may listen on ports below 1024 now, with no other rights of root's"));
    ui.note(&format!(
        "whoever may run that file may do so. After an update of yandro it takes this command again; to take the right away: {COMMAND}yandro setup ports --remove{COMMAND:#}"
    ));
    Ok(())
}

fn take_ports(context: &Context, ui: &mut Ui) -> Result<(), CommandError> {
    if context.preview {
        ui.say("Nothing was done: this was a preview");
        return Ok(());
    }
    let had = low_ports::are_allowed();
    take_ports_away(context, ui)?;
    ui.say(if had { "yandro may no longer listen on ports below 1024" } else { "yandro had no such right" });
    Ok(())
}

/// Takes the right away.
pub(super) fn take_ports_away(context: &Context, ui: &mut Ui) -> Result<(), CommandError> {
    if low_ports::are_allowed() && context.machine.is_real() {
        if context.machine.is_root() {
            low_ports::allow(false).map_err(|error| refused(&error.to_string()))?;
        } else {
            let words = ["setup", "ports", "--remove", "--quiet"];
            by_root(&words, "take the right to listen on ports below 1024 from yandro's file", ui)?;
        }
    }
    let given = given(&context.machine);
    let _rights = caller::rights_for(&given);
    _ = std::fs::remove_file(&given);
    Ok(())
}

/// Whether this user gave the right.
pub(super) fn gave_ports(context: &Context) -> bool {
    given(&context.machine).exists() && low_ports::are_allowed()
}

/// Has root run a command of this program's. Not by the helper, which may be allowed to users who aren't trusted with
/// root: this is a right for everybody who may run the file.
fn by_root(words: &[&str], aim: &str, ui: &mut Ui) -> Result<(), CommandError> {
    let command = low_ports::program().ok().and_then(|program| process::with_all_rights(program.as_std_path()));
    let mut command = command.ok_or_else(|| refused("only root may do this"))?;
    if !ui.is_quiet() {
        ui.note(&format!("this needs root. yandro runs `{}` to {aim}, and nothing else", as_root(words)));
    }
    let ran = command.args(words).status();
    if ran.is_ok_and(|status| status.success()) { Ok(()) } else { Err(refused("only root may do this")) }
}

fn refused(why: &str) -> CommandError {
    CommandError::not_made(format!("the right to listen on ports below 1024 was not changed: {why}"))
        .hint(format!("run the command as root, or as a user who may use sudo: {}", this_as_root()))
        .hint(OTHER_PORTS)
}
