//! From arguments to the command that they name.

use crate::args::{AuthorityCommand, Cli, Command, HostsCommand};
use crate::commands;
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::Ui;

pub(crate) fn run(cli: &Cli, ui: &mut Ui) -> Result<Status, CommandError> {
    if let Command::Demo(args) = &cli.command {
        return commands::demo::run(&cli.global, args, ui);
    }
    if let Command::Privileged = &cli.command {
        return yandro_machine::changes::serve_privileged(std::io::stdin().lock(), std::io::stdout().lock())
            .map(|()| Status::Well)
            .map_err(CommandError::not_made);
    }
    let context = Context::new(&cli.global, ui)?;
    match &cli.command {
        Command::Map(args) => commands::map::run(&context, args, ui),
        Command::Unmap(args) => commands::unmap::run(&context, args, ui),
        Command::Sites => commands::sites::run(&context, ui),
        Command::Check(args) => commands::check::run(&context, args, ui),
        Command::Undo(args) => commands::undo::run(&context, args, ui),
        Command::History(args) => commands::history::run(&context, args, ui),
        Command::Settle => commands::settle::run(&context, ui),
        Command::Servers(args) => commands::servers::run(&context, args, ui),
        Command::Vhosts => commands::vhosts::run(&context, ui),
        Command::Hosts(args) => match &args.command {
            HostsCommand::List => commands::hosts::list::run(&context, ui),
            HostsCommand::Lint { mend } => commands::hosts::lint::run(&context, *mend, ui),
            HostsCommand::Point { name, address } => commands::hosts::edit::point(&context, name, *address, ui),
            HostsCommand::Drop { names } => commands::hosts::edit::drop(&context, names, ui),
            HostsCommand::Export(args) => commands::hosts::exchange::export(&context, args, ui),
            HostsCommand::Import { file, replace } => commands::hosts::exchange::import(&context, file, *replace, ui),
            HostsCommand::Restore => commands::history::restore(&context, &context.machine.places.hosts, ui),
        },
        Command::Cert(args) => commands::cert::run(&context, args, ui),
        Command::Authority(args) => match &args.command {
            AuthorityCommand::Show => commands::authority::show(&context, ui),
            AuthorityCommand::Env { format } => commands::authority_export::env(&context, *format, ui),
            AuthorityCommand::Export { format, out } => {
                commands::authority_export::export(&context, *format, out.as_deref(), ui)
            }
            AuthorityCommand::Trust { store } => commands::authority::trust(&context, *store, ui),
            AuthorityCommand::Distrust { store } => commands::authority::distrust(&context, *store, ui),
        },
        Command::Pack(args) => commands::pack::run(&context, args, ui),
        Command::Serve(args) => commands::serve::run(&context, args, ui),
        Command::Demo(_) | Command::Privileged => Ok(Status::Well),
    }
}
