//! `yandro servers`.

use camino::{Utf8Path, Utf8PathBuf};
use serde_json::json;
use yandro_core::plan::{Access, ChangeSet, Step};
use yandro_core::site::ServerKind;
use yandro_machine::apache::{self, Apache, Found};
use yandro_machine::changes::ServerControl as _;
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

fn list(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let found = apache::find_all(&context.machine);
    let rows = found.iter().map(|found| Seen::of(context, found)).collect::<Result<Vec<_>, _>>()?;
    let gone: Vec<&NamedServer> =
        context.machine.servers.iter().filter(|named| found.iter().all(|found| found.name != named.name)).collect();
    if ui.json {
        let servers = found.iter().zip(&rows).enumerate().map(|(place, (found, seen))| {
            json!({
                "name": found.name, "kind": "apache", "layout": found.layout.known.title, "config": found.layout.main,
                "sites": found.layout.sites, "listens": seen.listens, "process": seen.process, "maps": place == 0,
            })
        });
        ui.json(&json!({ "version": 1, "servers": servers.collect::<Vec<_>>(), "missing": gone.iter().map(|named| &named.name).collect::<Vec<_>>() }));
        return Ok(Status::Well);
    }
    if found.is_empty() {
        ui.say(&format!("No web server was found.\nTo mend it: {NO_SERVER}"));
    } else {
        let mut table = Table::new(&["SERVER", "LAYOUT", "MAIN FILE", "LISTENS ON", "STANDS"]);
        for (found, seen) in found.iter().zip(&rows) {
            table.row(vec![
                Cell::new(&found.name, STRONG),
                Cell::plain(found.layout.known.title),
                Cell::plain(context.machine.places.inside(&found.layout.main).as_str()),
                Cell::plain(seen.listens.join(", ")),
                match seen.process {
                    Some(pid) => Cell::new(format!("runs (process {pid})"), GOOD),
                    None if context.machine.is_real() => Cell::new("doesn't run", WARN),
                    None => Cell::new("not asked: a sysroot", DIM),
                },
            ]);
        }
        ui.table(&table);
        if let [first, _, ..] = &found[..] {
            ui.say(&format!("\nSites are mapped on {STRONG}{}{STRONG:#}, the first.", first.name));
        }
    }
    for named in gone {
        ui.note(&format!(
            "`{}` is named in {}, and there is no file {}; take it out: {COMMAND}yandro servers drop {}{COMMAND:#}",
            named.name,
            context.machine.places.settings(),
            named.config,
            named.name
        ));
    }
    Ok(Status::Well)
}

/// What there is to say of a server.
struct Seen {
    listens: Vec<String>,
    process: Option<i32>,
}

impl Seen {
    fn of(context: &Context, found: &Found) -> Result<Self, CommandError> {
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
        Ok(Self { listens, process })
    }
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

/// The control of the server of this name, or of the first.
fn chosen(context: &Context, name: Option<&str>) -> Result<(String, Apache), CommandError> {
    if !context.machine.is_real() {
        return Err(CommandError::usage("within a sysroot no server is touched"));
    }
    let mut found = apache::find_all(&context.machine).into_iter();
    let found = match name {
        None => found.next().ok_or_else(|| CommandError::not_made("no web server was found").hint(NO_SERVER))?,
        Some(name) => found.find(|found| found.name == name).ok_or_else(|| {
            CommandError::usage(format!("there is no server `{name}`")).hint("see which there are: yandro servers")
        })?,
    };
    let control = Apache::of(&context.machine, &found)
        .ok_or_else(|| CommandError::not_made(format!("`{}` has no program to control it", found.name)))?;
    Ok((found.name, control))
}

fn test(context: &Context, name: Option<&str>, ui: &mut Ui) -> Result<Status, CommandError> {
    let (name, control) = chosen(context, name)?;
    let judged = control.test();
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
    let (name, control) = chosen(context, name)?;
    let was_running = control.running().is_some();
    let done = match verb {
        Verb::Start if was_running => "runs already",
        Verb::Start => "was started",
        Verb::Stop if !was_running => "doesn't run",
        Verb::Stop => "was stopped",
        Verb::Reload => "has taken its configuration up",
        Verb::Restart => "was restarted",
    };
    if context.preview {
        ui.say(&format!(
            "Nothing was done: this was a preview. {name} {}",
            if was_running { "runs" } else { "doesn't run" }
        ));
        return Ok(Status::Well);
    }
    if verb != Verb::Stop {
        // A server that is told to take up what it refuses may end.
        control.test().map_err(|words| {
            CommandError::not_made(format!("{name} refuses its configuration, and was left as it is:\n{words}"))
                .hint("mend the file and line that it names, then run the command again")
        })?;
    }
    let carried_out = match verb {
        Verb::Start if was_running => Ok(()),
        Verb::Start => control.start(),
        Verb::Stop => control.stop(),
        Verb::Reload => control.reload_and_wait(),
        Verb::Restart => control.stop().and_then(|()| control.start()),
    };
    carried_out.map_err(|words| not_done(&words))?;
    if ui.json {
        ui.json(&json!({ "version": 1, "server": name, "running": control.running().is_some() }));
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
