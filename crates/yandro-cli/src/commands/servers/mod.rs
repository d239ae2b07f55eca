//! `yandro servers`.

mod add;
mod built_in;
mod container;
mod list;

use yandro_core::{ServerId, ServerName, System};
use yandro_machine::{Control, ControlError, ServerControl as _, changes, ports};

use crate::args::{ServersArgs, ServersCommand};
use crate::as_root::this_as_root;
use crate::context::Context;
use crate::error::{CommandError, Status, no_server};
use crate::sudo::Sudo;
use crate::view::{Data, GOOD, Outcome, STRONG, Ui, WARN, data, on_wait};

pub(crate) fn run<'c>(context: &'c Context, args: &'c ServersArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match &args.command {
        None | Some(ServersCommand::List) => Ok(list::list(context)),
        Some(ServersCommand::Add(args)) => add::add(context, args, ui),
        Some(ServersCommand::Drop { name }) => add::drop(context, ServerName::parse(name)?, ui),
        Some(ServersCommand::Test { name }) => test(context, name.as_deref(), ui),
        Some(ServersCommand::Reload { name }) => control(context, name.as_deref(), Verb::Reload, ui),
        Some(ServersCommand::Start { name }) => control(context, name.as_deref(), Verb::Start, ui),
        Some(ServersCommand::Stop { name }) => control(context, name.as_deref(), Verb::Stop, ui),
        Some(ServersCommand::Restart { name }) => control(context, name.as_deref(), Verb::Restart, ui),
    }
}

/// The server of this name, or the first.
fn chosen(context: &Context, name: Option<&str>) -> Result<(ServerId, Control), CommandError> {
    if !context.machine.is_real() {
        return Err(CommandError::usage("within a sysroot no server is touched"));
    }
    let found = match name {
        Some(name) => {
            let id = ServerId::parse(name)?;
            context.server(id).ok_or_else(|| context.no_server(id))
        }
        None => context
            .present()
            .all()
            .first()
            .ok_or_else(|| CommandError::not_made("no web server was found").hint(no_server())),
    }?;
    let control = Control::of(&context.machine, found)
        .ok_or_else(|| CommandError::not_made(format!("`{}` has no program to control it", found.id.word())))?;
    Ok((found.id, control))
}

fn test<'c>(context: &'c Context, name: Option<&'c str>, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    if built_in::is_meant(name) {
        return Ok(built_in::test(context));
    }
    let (id, server) = chosen(context, name)?;
    let name = id.word();
    let sudo = Sudo::new(&context.machine, ui.is_quiet());
    let tested = changes::with_rights(id, &server, &sudo, &on_wait(ui.is_quiet()), |server| server.test());
    let judged = tested.ok_or_else(|| no_rights(name, "test"))?;
    let status = if judged.is_ok() { Status::Well } else { Status::Findings };
    let data =
        Tested { server: name.to_owned(), well: judged.is_ok(), words: judged.err().map(|error| error.to_string()) };
    Ok(Outcome::new(data, tell_tested).with(status))
}

fn tell_tested(data: &Tested, ui: &mut Ui) {
    match &data.words {
        None => ui.say(&format!("{GOOD}{} accepts its configuration{GOOD:#}", data.server)),
        Some(words) => ui.print(&format!("{WARN}{} refuses its configuration:{WARN:#}\n{words}", data.server)),
    }
}

data! {
    /// Data of `yandro servers test`.
    struct Tested {
        server: String,
        well: bool,
        /// The server's own words, if it refuses its configuration.
        words: Option<String>,
    }

    /// Data of `yandro servers start`, `stop`, `reload` and `restart`.
    struct Controlled {
        server: String,
        /// Whether it runs now; none where that can't be seen from here.
        running: Option<bool>,
    }
}

impl Data for Tested {}
impl Data for Controlled {}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Verb {
    Start,
    Stop,
    Reload,
    Restart,
}

impl Verb {
    fn word(self) -> &'static str {
        match self {
            Self::Start => "start",
            Self::Stop => "stop",
            Self::Reload => "reload",
            Self::Restart => "restart",
        }
    }
}

fn control<'c>(
    context: &'c Context,
    name: Option<&'c str>,
    verb: Verb,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    if built_in::is_meant(name) {
        return built_in::control(context, verb, ui);
    }
    let (id, server) = chosen(context, name)?;
    let name = id.word();
    // A remote server's state is unknown.
    let is_elsewhere = matches!(server, Control::Commands(_));
    let was_running = server.is_running();
    let done = match verb {
        Verb::Start if was_running && !is_elsewhere => "runs already",
        Verb::Start => "was started",
        Verb::Stop if !was_running => "doesn't run",
        Verb::Stop => "was stopped",
        Verb::Reload => "was reloaded",
        Verb::Restart => "was restarted",
    };
    if context.preview {
        let state = match was_running {
            _ if is_elsewhere => "is on another machine: yandro can't see whether it runs",
            true => "runs",
            false => "doesn't run",
        };
        ui.say(&format!("Nothing was done: this was a preview. {name} {state}"));
        return Ok(Outcome::printed());
    }
    let on_wait = on_wait(ui.is_quiet());
    let sudo = Sudo::new(&context.machine, ui.is_quiet());
    let controlled = changes::with_rights(id, &server, &sudo, &on_wait, |server| {
        // Apache httpd ends when it reloads a configuration that it refuses. One in a container can only be asked while it runs.
        if verb != Verb::Stop && !(verb == Verb::Start && is_elsewhere) {
            server.test().map_err(|error| refused(name, &error))?;
        }
        let done = match verb {
            Verb::Start => server.start(&on_wait),
            Verb::Stop => server.stop(&on_wait),
            Verb::Reload => server.reload(&on_wait),
            Verb::Restart => server.stop(&on_wait).and_then(|()| server.start(&on_wait)),
        };
        done.map_err(|error| not_controlled(name, &error))
    });
    controlled.unwrap_or_else(|| Err(no_rights(name, verb.word())))?;
    let running = (!is_elsewhere).then(|| server.is_running());
    Ok(Outcome::new(Controlled { server: name.to_owned(), running }, move |data, ui| {
        ui.say(&format!("{STRONG}{}{STRONG:#} {done}", data.server));
    }))
}

fn refused(name: &str, error: &ControlError) -> CommandError {
    CommandError::not_made(format!("{name} refuses its configuration, and was left as it is:\n{error}"))
        .hint("correct the file and line that it names, then run the command again")
        .code("server-refuses")
}

fn not_controlled(name: &str, error: &ControlError) -> CommandError {
    let not_done = not_done(error);
    if !error.is_no_command() {
        return not_done;
    }
    not_done.hint(format!("name it: yandro servers add {name} --reload COMMAND; --start and --stop alike"))
}

/// The server is another user's, and root was not to be had.
fn no_rights(name: &str, verb: &str) -> CommandError {
    CommandError::not_made(format!("only {} may {verb} {name} here; nothing was changed", System::HERE.administrator()))
        .hint(format!("{}: {}", System::HERE.by_those_who_may(), this_as_root()))
        .code("not-permitted")
}

/// A server's words, and who has the port that it can't have.
pub(crate) fn not_done(error: &ControlError) -> CommandError {
    let words = error.to_string();
    let error = CommandError::not_made(format!("the server could not be controlled:\n{words}"));
    if let Some(held) = ports::explain(&words) {
        return error.hint(format!("{held}: stop it, or let this server listen on another port"));
    }
    let is_permission = words.contains("Operation not permitted") || words.contains("Permission denied");
    if is_permission {
        error.hint(format!("run the command as {}: {}", System::HERE.administrator(), this_as_root()))
    } else {
        error
    }
}

#[cfg(test)]
pub(crate) mod schemas {
    pub(crate) use super::add::{Added, ServerDropped};
    pub(crate) use super::list::Servers;
    pub(crate) use super::{Controlled, Tested};
}
