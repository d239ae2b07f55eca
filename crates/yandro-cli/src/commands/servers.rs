//! `yandro servers`.

use camino::{Utf8Path, Utf8PathBuf};
use serde_json::json;
use yandro_core::config::Layout;
use yandro_core::plan::{Access, ChangeSet, Step};
use yandro_core::site::ServerKind;
use yandro_machine::apache::{self, Apache, Found};
use yandro_machine::changes::ServerControl;
use yandro_machine::nginx::{self, Nginx};
use yandro_machine::settings::{NamedKind, NamedServer, with_server, without_server};
use yandro_machine::{files, ports};

use super::apply::{Planned, apply};
use crate::args::{ServerAddArgs, ServerKindArg, ServersArgs, ServersCommand};
use crate::context::Context;
use crate::error::{CommandError, NO_SERVER, Status};
use crate::view::{COMMAND, Cell, DIM, GOOD, STRONG, Table, Ui, WARN};

/// Names that stand for something already.
const TAKEN: [&str; 5] = ["apache", "nginx", "built-in", "elsewhere", "any"];

pub(crate) fn run(context: &Context, args: &ServersArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    match &args.command {
        None | Some(ServersCommand::List) => list(context, ui),
        Some(ServersCommand::Add(args)) => add(context, args, ui),
        Some(ServersCommand::Drop { name }) => drop(context, name, ui),
        Some(ServersCommand::Test { name }) => test(context, name.as_deref(), ui),
        Some(ServersCommand::Reload { name }) => control(context, name.as_deref(), Verb::Reload, ui),
        Some(ServersCommand::Start { name }) => control(context, name.as_deref(), Verb::Start, ui),
        Some(ServersCommand::Stop { name }) => control(context, name.as_deref(), Verb::Stop, ui),
        Some(ServersCommand::Restart { name }) => control(context, name.as_deref(), Verb::Restart, ui),
    }
}

/// A server as the list has it.
struct Listed {
    name: String,
    kind: ServerKind,
    layout: Layout,
    listens: Vec<String>,
    process: Option<i32>,
}

fn list(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let machine = &context.machine;
    let found = apache::find_all(machine);
    let mut servers = found.iter().map(|found| listed_apache(context, found)).collect::<Result<Vec<_>, _>>()?;
    servers.extend(nginx::find_layout(machine).map(|layout| listed_nginx(context, layout)));
    let is_missing = |named: &&NamedServer| found.iter().all(|found| found.name != named.name);
    let gone: Vec<&NamedServer> = machine.servers.iter().filter(is_missing).collect();
    if ui.json {
        let told: Vec<_> = servers
            .iter()
            .map(|own| {
                json!({
                    "name": own.name, "kind": own.kind, "layout": own.layout.known.title, "config": own.layout.main,
                    "sites": own.layout.sites, "listens": own.listens, "process": own.process,
                })
            })
            .collect();
        ui.json(&json!({ "version": 1, "servers": told, "missing": gone.iter().map(|named| &named.name).collect::<Vec<_>>() }));
        return Ok(Status::Well);
    }
    if servers.is_empty() {
        ui.say(&format!("No web server was found.\nTo mend it: {NO_SERVER}"));
    } else {
        let mut table = Table::new(&["SERVER", "LAYOUT", "MAIN FILE", "LISTENS ON", "STANDS"]);
        for own in &servers {
            table.row(vec![
                Cell::new(&own.name, STRONG),
                Cell::plain(own.layout.known.title),
                Cell::plain(machine.places.inside(&own.layout.main).as_str()),
                Cell::plain(own.listens.join(", ")),
                match own.process {
                    Some(pid) => Cell::new(format!("runs (process {pid})"), GOOD),
                    None if machine.is_real() => Cell::new("doesn't run", WARN),
                    None => Cell::new("not asked: a sysroot", DIM),
                },
            ]);
        }
        ui.table(&table);
        if let [first, _, ..] = &found[..] {
            ui.say(&format!(
                "\nOf several Apache httpd sites are mapped on the first, {STRONG}{}{STRONG:#}.",
                first.name
            ));
        }
    }
    for named in gone {
        ui.note(&format!(
            "`{}` is named in {}, and there is no file {}; take it out: {COMMAND}yandro servers drop {}{COMMAND:#}",
            named.name,
            machine.places.settings(),
            named.config,
            named.name
        ));
    }
    Ok(Status::Well)
}

fn listed_apache(context: &Context, found: &Found) -> Result<Listed, CommandError> {
    let configuration = apache::configuration(&context.machine, found)?;
    let mut listens: Vec<String> = Vec::new();
    for listen in configuration.listens() {
        let text = match listen.address {
            Some(address) => std::net::SocketAddr::new(address, listen.port).to_string(),
            None => listen.port.to_string(),
        };
        if !listens.contains(&text) {
            listens.push(text);
        }
    }
    let control = context.machine.is_real().then(|| Apache::of(&context.machine, found)).flatten();
    let process = control.and_then(|control| control.running()).map(|pid| pid.as_raw_nonzero().get());
    Ok(Listed { name: found.name.clone(), kind: ServerKind::Apache, layout: found.layout.clone(), listens, process })
}

fn listed_nginx(context: &Context, layout: Layout) -> Listed {
    let configuration = nginx::configuration(&context.machine, &layout);
    let listens = configuration.answering().iter().map(|at| at.address.trim_start_matches("*:").to_owned()).collect();
    let control = context.machine.is_real().then(|| Nginx::find(&context.machine)).flatten();
    let process = control.and_then(|control| control.running()).map(|pid| pid.as_raw_nonzero().get());
    Listed { name: ServerKind::Nginx.word().to_owned(), kind: ServerKind::Nginx, layout, listens, process }
}

fn add(context: &Context, args: &ServerAddArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    let server = named(context, args)?;
    let plan = || {
        no_sites(context, "another server takes the place of the one that they are on")?;
        let settings = context.machine.places.settings();
        let before = files::read_if_there(&settings)?;
        let text = String::from_utf8_lossy(before.as_deref().unwrap_or_default()).into_owned();
        Ok(settings_change(context, before, with_server(&text, &server)))
    };
    let Some(_) = apply(context, ui, plan, |()| Ok(()))? else { return Ok(Status::Well) };
    if ui.json {
        ui.json(&json!({ "version": 1, "server": server.name, "config": server.config }));
        return Ok(Status::Well);
    }
    ui.say(&format!(
        "{STRONG}{}{STRONG:#} is the Apache httpd that sites are mapped on now: {}",
        server.name, server.config
    ));
    ui.say(&format!("\nLet it judge its configuration: {COMMAND}yandro servers test{COMMAND:#}"));
    Ok(Status::Well)
}

fn drop(context: &Context, name: &str, ui: &mut Ui) -> Result<Status, CommandError> {
    if context.machine.servers.iter().all(|server| server.name != name) {
        return Err(CommandError::usage(format!("no server of yours is called `{name}`"))
            .hint("see which there are: yandro servers"));
    }
    let plan = || {
        no_sites(context, "they would be left on a server that yandro knows no more")?;
        let before = files::read_if_there(&context.machine.places.settings())?;
        let text = String::from_utf8_lossy(before.as_deref().unwrap_or_default()).into_owned();
        Ok(settings_change(context, before, without_server(&text, name)))
    };
    let Some(_) = apply(context, ui, plan, |()| Ok(()))? else { return Ok(Status::Well) };
    if ui.json {
        ui.json(&json!({ "version": 1, "dropped": name }));
    } else {
        ui.say(&format!("{STRONG}{name}{STRONG:#} is out of yandro's settings; its own files stay as they are"));
    }
    Ok(Status::Well)
}

fn settings_change(context: &Context, before: Option<Vec<u8>>, after: String) -> Planned<()> {
    let places = &context.machine.places;
    let mut set = ChangeSet::default();
    set.steps.push(Step::Folder { path: places.config.clone(), access: Access::Private });
    set.file(places.settings(), before, Some(after.into_bytes()), Access::Private);
    Planned { set, starts: false, about: () }
}

/// Sites stay where they are: which server is Apache httpd may change only while none is on it.
fn no_sites(context: &Context, why: &str) -> Result<(), CommandError> {
    let (_, list) = context.list()?;
    let sites: Vec<&str> = list
        .sites
        .iter()
        .filter(|site| site.server == Some(ServerKind::Apache))
        .map(|site| site.name.as_str())
        .collect();
    if sites.is_empty() {
        return Ok(());
    }
    Err(CommandError::not_made(format!("sites are on Apache httpd, and {why}: {}", sites.join(", ")))
        .hint(format!("take them away first, and map them again afterwards: yandro unmap {}", sites.join(" "))))
}

/// The server as the arguments name it, each value checked.
fn named(context: &Context, args: &ServerAddArgs) -> Result<NamedServer, CommandError> {
    let is_name = |name: &str| {
        !name.is_empty() && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
    };
    if !is_name(&args.name) || TAKEN.contains(&args.name.as_str()) {
        return Err(CommandError::usage(format!("`{}` can't be a server's name", args.name))
            .hint("choose one of small letters, digits and hyphens, such as `ferries`"));
    }
    let absolute = |path: &Utf8Path| context.current.join(path);
    let config = absolute(&args.config);
    let real = context.machine.path(config.as_str());
    if !real.is_file() {
        let error = CommandError::usage(format!("there is no file `{real}`"));
        return Err(if real.is_dir() {
            error.hint("give the main file in it, such as `httpd.conf`")
        } else {
            error.hint("give the server's main file; `httpd -V` names it")
        });
    }
    let program = args.program.as_deref().map(absolute);
    if let Some(program) = program.as_ref().filter(|program| !program.is_file()) {
        return Err(CommandError::usage(format!("there is no program `{program}`")));
    }
    let command = |text: &Option<String>| text.as_deref().map_or_else(|| Ok(Vec::new()), words);
    Ok(NamedServer {
        name: args.name.clone(),
        kind: match args.kind {
            ServerKindArg::Apache => NamedKind::Apache,
        },
        config: context.machine.places.inside(&config),
        program,
        test: command(&args.test)?,
        reload: command(&args.reload)?,
        start: command(&args.start)?,
        stop: command(&args.stop)?,
    })
}

/// A command's words: a program that is there, by its absolute path.
fn words(text: &str) -> Result<Vec<String>, CommandError> {
    let words = shell_words::split(text)
        .map_err(|_| CommandError::usage(format!("a quote is not closed in the command `{text}`")))?;
    let program = words.first().map(Utf8PathBuf::from).unwrap_or_default();
    if !program.is_absolute() || !program.is_file() {
        return Err(CommandError::usage(format!("`{text}` begins with no program"))
            .hint("give it by its absolute path; it is run without a shell"));
    }
    Ok(words)
}

/// A server that can be controlled.
enum Chosen {
    Apache(Apache),
    Nginx(Nginx),
}

impl Chosen {
    fn control(&self) -> &dyn ServerControl {
        match self {
            Self::Apache(own) => own,
            Self::Nginx(own) => own,
        }
    }

    fn carry_out(&self, verb: Verb) -> Result<(), String> {
        match (self, verb) {
            (_, Verb::Start) if self.control().is_running() => Ok(()),
            (Self::Apache(own), Verb::Start) => own.start(),
            (Self::Apache(own), Verb::Stop) => own.stop(),
            (Self::Apache(own), Verb::Reload) => own.reload_and_wait(),
            (Self::Apache(own), Verb::Restart) => own.stop().and_then(|()| own.start()),
            (Self::Nginx(own), Verb::Start) => own.bring_up().map(|_| ()),
            (Self::Nginx(own), Verb::Stop) => own.stop(),
            (Self::Nginx(own), Verb::Reload) if own.running().is_none() => Err("it doesn't run".into()),
            (Self::Nginx(own), Verb::Reload) => own.bring_up().map(|_| ()),
            (Self::Nginx(own), Verb::Restart) => own.stop().and_then(|()| own.bring_up().map(|_| ())),
        }
    }
}

/// The server of this name, or the first.
fn chosen(context: &Context, name: Option<&str>) -> Result<(String, Chosen), CommandError> {
    let machine = &context.machine;
    if !machine.is_real() {
        return Err(CommandError::usage("within a sysroot no server is touched"));
    }
    let no_program = |name: &str| CommandError::not_made(format!("`{name}` has no program to control it"));
    let found = apache::find_all(machine).into_iter().find(|found| name.is_none_or(|name| found.name == name));
    if let Some(found) = found {
        let control = Apache::of(machine, &found).ok_or_else(|| no_program(&found.name))?;
        return Ok((found.name, Chosen::Apache(control)));
    }
    let nginx = ServerKind::Nginx.word();
    if name.is_none_or(|name| name == nginx) && nginx::find_layout(machine).is_some() {
        let control = Nginx::find(machine).ok_or_else(|| no_program(nginx))?;
        return Ok((nginx.to_owned(), Chosen::Nginx(control)));
    }
    Err(match name {
        None => CommandError::not_made("no web server was found").hint(NO_SERVER),
        Some(name) => {
            CommandError::usage(format!("there is no server `{name}`")).hint("see which there are: yandro servers")
        }
    })
}

fn test(context: &Context, name: Option<&str>, ui: &mut Ui) -> Result<Status, CommandError> {
    let (name, server) = chosen(context, name)?;
    let judged = server.control().test();
    if ui.json {
        ui.json(&json!({ "version": 1, "server": name, "well": judged.is_ok(), "words": judged.as_ref().err() }));
    } else {
        match &judged {
            Ok(()) => ui.say(&format!("{GOOD}{name} accepts its configuration{GOOD:#}")),
            Err(words) => ui.print(&format!("{WARN}{name} refuses its configuration:{WARN:#}\n{words}")),
        }
    }
    Ok(if judged.is_ok() { Status::Well } else { Status::Findings })
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Verb {
    Start,
    Stop,
    Reload,
    Restart,
}

fn control(context: &Context, name: Option<&str>, verb: Verb, ui: &mut Ui) -> Result<Status, CommandError> {
    let (name, server) = chosen(context, name)?;
    let was_running = server.control().is_running();
    let done = match verb {
        Verb::Start if was_running => "runs already",
        Verb::Start => "was started",
        Verb::Stop if !was_running => "doesn't run",
        Verb::Stop => "was stopped",
        Verb::Reload => "has taken its configuration up",
        Verb::Restart => "was restarted",
    };
    if context.preview {
        let state = if was_running { "runs" } else { "doesn't run" };
        ui.say(&format!("Nothing was done: this was a preview. {name} {state}"));
        return Ok(Status::Well);
    }
    if verb != Verb::Stop {
        // A server that is told to take up what it refuses may end.
        server.control().test().map_err(|words| {
            CommandError::not_made(format!("{name} refuses its configuration, and was left as it is:\n{words}"))
                .hint("mend the file and line that it names, then run the command again")
        })?;
    }
    server.carry_out(verb).map_err(|words| not_done(&words))?;
    if ui.json {
        ui.json(&json!({ "version": 1, "server": name, "running": server.control().is_running() }));
    } else {
        ui.say(&format!("{STRONG}{name}{STRONG:#} {done}"));
    }
    Ok(Status::Well)
}

/// A server's words, and who has the port that it can't have.
pub(crate) fn not_done(words: &str) -> CommandError {
    let error = CommandError::not_made(format!("the server could not be controlled:\n{words}"));
    if let Some(held) = ports::explain(words) {
        return error.hint(format!("{held}: stop it, or have this server listen elsewhere"));
    }
    let is_permission = words.contains("Operation not permitted") || words.contains("Permission denied");
    if is_permission { error.hint("run the command again with `sudo`") } else { error }
}
