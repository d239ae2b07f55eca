//! From arguments to the command that they name.

use yandro_machine::{Environment, Machine, as_caller};

use crate::args::{Cli, Command};
use crate::commands;
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::help;
use crate::view::{Outcome, Ui};

pub(crate) fn run(cli: &Cli, ui: &mut Ui) -> Result<Status, CommandError> {
    let Some(command) = &cli.command else { return without_command(cli, ui) };
    if let Command::Help { topic } = command {
        if topic[..] == ["support"] {
            let context = Context::new(&cli.global, ui)?;
            return Ok(commands::support::run(&context, ui.verbose)?.show(ui));
        }
        let page = help::page(topic).ok_or_else(|| no_topic(topic))?;
        ui.print(page.trim_end());
        return Ok(Status::Well);
    }
    if let Command::Setup(args) = command {
        return commands::setup::run(&cli.global, &args.command, ui).map(|outcome| outcome.show(ui));
    }
    if let Command::Demo(args) = command {
        return commands::demo::run(&cli.global, args, ui).map(|outcome| outcome.show(ui));
    }
    if let Command::Privileged { pipe } = command {
        let caller = Environment::of_process(None).sudo_uid;
        return yandro_machine::changes::serve_privileged(pipe.as_deref(), caller)
            .map(|()| Status::Well)
            .map_err(CommandError::not_made);
    }
    if let Command::AsCaller { program } = command {
        let machine = Machine::new(&Environment::of_process(None))?;
        let never = as_caller::run_as_caller(&machine, program).map_err(CommandError::not_made)?;
        match never {}
    }
    let context = Context::new(&cli.global, ui)?;
    let done = with_keys_closed(&context, command, ui);
    tell_open_keys(&context, ui);
    done
}

/// Without a command: the sites, or the help if there is none yet.
fn without_command(cli: &Cli, ui: &mut Ui) -> Result<Status, CommandError> {
    let context = Context::new(&cli.global, ui)?;
    if context.list()?.1.sites.is_empty() {
        ui.print(help::summary().trim_end());
        return Ok(Status::Well);
    }
    Ok(commands::sites::run(&context)?.show(ui))
}

fn no_topic(topic: &[String]) -> CommandError {
    let words = topic.join(" ");
    let error = CommandError::usage(format!("`{words}` is not a command of yandro"));
    match help::meant(&words) {
        Some((aim, command)) => error.hint(format!("{aim}: {command}")),
        None => error.hint("list the commands: yandro help"),
    }
}

/// Runs the command and prints what came of it; those that look at keys without changing anything close them first,
/// too.
fn with_keys_closed(context: &Context, command: &Command, ui: &mut Ui) -> Result<Status, CommandError> {
    if let Command::Check(_) | Command::Authority(_) | Command::Cert(_) | Command::Serve(_) | Command::Lend(_) = command
    {
        context.keys.close_all(&context.machine)?;
    }
    run_command(context, command, ui).map(|outcome| outcome.show(ui))
}

/// Whoever could read a key may have it.
fn tell_open_keys(context: &Context, ui: &mut Ui) {
    let open = context.keys.take_open();
    for key in &open {
        let done = if context.keys.closes() { "it is now" } else { "it is to be" };
        ui.warn(&format!("others could read {} (mode {:04o}): {done} {:04o}", key.path, key.mode, key.wanted));
    }
    let is_authority = |path: &camino::Utf8Path| path.starts_with(context.machine.places.authority());
    if open.iter().any(|key| is_authority(&key.path)) {
        ui.note("if somebody else has an account here, or the key was backed up: yandro authority replace");
    }
}

fn run_command<'c>(context: &'c Context, command: &'c Command, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match command {
        Command::Map(args) => commands::map::run(context, args, ui),
        Command::Unmap(args) => commands::unmap::run(context, args, ui),
        Command::Adopt(args) => commands::adopt::run(context, args, ui),
        Command::Rename(args) => commands::rename::run(context, args, ui),
        Command::Move(args) => commands::rename::run_move(context, args, ui),
        Command::Disable(args) => commands::enable::disable(context, args, ui),
        Command::Env(args) => commands::env::run(context, args),
        Command::Database(args) => commands::database::run(context, args, ui),
        Command::Readdress(args) => commands::readdress::run(context, args, ui),
        Command::Enable(args) => commands::enable::enable(context, args, ui),
        Command::Sites => commands::sites::run(context),
        Command::Open(args) => commands::open::run(context, args),
        Command::Check(args) => commands::check::run(context, args, ui),
        Command::Logs(args) => commands::logs::run(context, args, ui),
        Command::Ports => commands::ports::run(context),
        Command::Undo(args) => commands::undo::run(context, args, ui),
        Command::History(args) => commands::history::run(context, args, ui),
        Command::Settle(args) => commands::settle::run(context, args, ui),
        Command::Uninstall(args) => commands::uninstall::run(context, args, ui),
        Command::Servers(args) => commands::servers::run(context, args, ui),
        Command::Vhosts => commands::vhosts::run(context),
        Command::Hosts(args) => commands::hosts::run(context, args, ui),
        Command::Cert(args) => commands::cert::run(context, args, ui),
        Command::Authority(args) => commands::authority::run(context, args, ui),
        Command::Pack(args) => commands::pack::run(context, args, ui),
        Command::Lend(args) => commands::lend::run(context, args, ui),
        Command::Serve(args) => commands::serve::run(context, args, ui),
        Command::Demo(_)
        | Command::Setup(_)
        | Command::Help { .. }
        | Command::Privileged { .. }
        | Command::AsCaller { .. } => Ok(Outcome::printed()),
    }
}
