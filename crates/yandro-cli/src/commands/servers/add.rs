//! `yandro servers add` and `drop`.

use std::env;
use std::path::PathBuf;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Access, ChangeSet, PathPair, PublishedPort, Role, ServerId, ServerKind, ServerName, System, windows_words,
};
use yandro_machine::{NamedServer, files, settings, settings::with_server, settings::without_server};

use super::container;
use crate::args::ServerAddArgs;
use crate::commands::apply::{Planned, apply, done};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{COMMAND, DIM, Data, Outcome, STRONG, Ui, data};

/// Usual names of main files, with the kind of server.
fn main_files() -> impl Iterator<Item = (&'static str, ServerKind)> {
    ServerKind::ALL.iter().flat_map(|kind| kind.software().main_files().iter().map(|name| (*name, *kind)))
}

pub(super) fn add<'c>(context: &'c Context, args: &'c ServerAddArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let server = named(context, args)?;
    let plan = || {
        let main = context.machine.path(server.config.as_str());
        let same = context.present().all().iter().find(|found| found.named.is_none() && found.layout.main == main);
        if let Some(found) = same {
            no_sites(context, found.id, "it gets another name by this")?;
        }
        settings_change(context, server.is_systems, |text| with_server(text, &server))
    };
    done!(apply(context, ui, plan, |()| Ok(())));
    let (name, kind, config) = (server.name.to_string(), server.kind.word(), server.config.to_string());
    Ok(Outcome::new(Added { server: name, kind, config }, move |_, ui| {
        show(context, &server, args.container.is_some(), ui);
    }))
}

data! {
    /// Data of `yandro servers add`.
    struct Added {
        server: String,
        kind: &'static str,
        /// Its main file, or the folder of virtual hosts.
        config: String,
    }

    /// Data of `yandro servers drop`.
    struct ServerDropped {
        /// The server.
        dropped: String,
    }
}

impl Data for Added {}
impl Data for ServerDropped {}

/// What the engine told.
fn tell_asked(server: &NamedServer, ui: &mut Ui) {
    for pair in &server.paths {
        ui.say(&format!("  {DIM}sees{DIM:#} {} {DIM}as{DIM:#} {}", pair.here, pair.there));
    }
    for port in &server.ports {
        ui.say(&format!("  {DIM}port{DIM:#} {} {DIM}of this computer is its{DIM:#} {}", port.here, port.there));
    }
}

fn show(context: &Context, server: &NamedServer, is_asked: bool, ui: &mut Ui) {
    ui.say(&format!("{STRONG}{}{STRONG:#} is known now: {} with {}", server.name, server.kind, server.config));
    if is_asked {
        tell_asked(server, ui);
    }
    if server.reload.is_empty() && server.is_elsewhere() {
        ui.note(&format!(
            "no reload command is set. Reload the server yourself after each change, or set one: yandro servers add {} --reload \"COMMAND\"",
            server.name
        ));
    }
    let certificates = context.machine.places.certificates();
    if server.view(&context.machine).there(&certificates).is_none() {
        ui.note(&format!(
            "the certificates can't be read from within, and HTTPS needs them: have it see {certificates}, for a container by starting it again with: -v {certificates}:/certificates:ro"
        ));
    }
    ui.say(&format!("\nMap a site on it: {COMMAND}yandro map NAME FOLDER --server {}{COMMAND:#}", server.name));
}

pub(super) fn drop<'c>(context: &'c Context, name: ServerName, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let Some(server) = context.registry.named().iter().find(|server| server.name == name) else {
        return Err(CommandError::usage(format!("no server of yours is called `{name}`"))
            .hint("see which there are: yandro servers"));
    };
    let plan = || {
        no_sites(context, ServerId::Named(name), "they would be left on a server that yandro knows no more")?;
        settings_change(context, server.is_systems, |text| without_server(text, name))
    };
    done!(apply(context, ui, plan, |()| Ok(())));
    Ok(Outcome::new(ServerDropped { dropped: name.to_string() }, |data, ui| {
        let name = &data.dropped;
        ui.say(&format!("{STRONG}{name}{STRONG:#} is out of yandro's settings; its own files stay as they are"));
    }))
}

/// The change of the user's settings, or of the servers that root names for everybody.
fn settings_change(
    context: &Context,
    is_systems: bool,
    change: impl Fn(&str) -> String,
) -> Result<Planned<()>, CommandError> {
    let machine = &context.machine;
    let (path, access) = if is_systems {
        if !context.preview && machine.is_root() {
            settings::make_system_folder(machine).map_err(CommandError::not_made)?;
        }
        (settings::system_servers_file(machine), Access::Public)
    } else {
        (machine.places.settings(), Access::Private)
    };
    let before = files::read_if_there(&path)?;
    let after = change(&String::from_utf8_lossy(before.as_deref().unwrap_or_default()));
    let mut set = ChangeSet::default();
    let folder = path.parent().unwrap_or(&machine.places.config).to_owned();
    set.folder(Role::Settings, folder, access);
    set.file(Role::Settings, path, (before, Some(after.into_bytes())), access);
    Ok(Planned { set, starts: false, about: () })
}

/// Sites stay where they are: a server may change its name or go only while none is on it.
fn no_sites(context: &Context, id: ServerId, why: &str) -> Result<(), CommandError> {
    let (_, list) = context.list()?;
    let sites: Vec<&str> =
        list.sites.iter().filter(|site| site.server == Some(id)).map(|site| site.name.as_str()).collect();
    if sites.is_empty() {
        return Ok(());
    }
    Err(CommandError::not_made(format!("sites are on {id}, and {why}: {}", sites.join(", ")))
        .hint(format!("take them away first, and map them again afterwards: yandro unmap {}", sites.join(" ")))
        .hint("or move each to another server: yandro map NAME --server WHICH"))
}

/// The server as the arguments name it, each value checked.
fn named(context: &Context, args: &ServerAddArgs) -> Result<NamedServer, CommandError> {
    let machine = &context.machine;
    let name = ServerName::parse(&args.name)?;
    let paths: Vec<PathPair> = args.paths.iter().map(|text| pair(context, text)).collect::<Result<_, _>>()?;
    let asked =
        args.container.as_deref().map(|container| container::server(context, name, container, args)).transpose()?;
    let before = asked.as_ref().or_else(|| context.registry.named().iter().find(|server| server.name == name));
    let (config, kind) = match (&args.config, before) {
        (None, Some(before)) => (machine.path(before.config.as_str()), before.kind),
        (Some(config), _) => configuration(context, args, config)?,
        (None, None) => {
            return Err(CommandError::usage(format!("where the configuration of `{name}` is has to be said"))
                .hint(format!("give its main file or folder: yandro servers add {name} --config PATH")));
        }
    };
    let program = args.program.as_deref().map(|path| context.given(path));
    if let Some(program) = program.as_ref().filter(|program| !program.is_file()) {
        return Err(CommandError::usage(format!("no such program: `{program}`")));
    }
    let ports: Vec<PublishedPort> = args
        .ports
        .iter()
        .map(|text| PublishedPort::parse(text).map_err(CommandError::usage))
        .collect::<Result<_, _>>()?;
    for (turn, port) in ports.iter().enumerate() {
        if ports[..turn].iter().any(|other| other.here == port.here || other.there == port.there) {
            return Err(CommandError::usage(format!("the port `{port}` is given twice")));
        }
    }
    let known = before.cloned().unwrap_or_else(|| NamedServer::new(name, kind, config.clone()));
    let command = |text: &Option<String>, known: Vec<String>| text.as_deref().map_or(Ok(known), words);
    let server = NamedServer {
        name,
        kind,
        config: machine.places.inside(&config),
        program: program.or(known.program),
        paths: with(known.paths, paths, |known, new| known.here == new.here),
        address: args.address.or(known.address),
        ports: with(known.ports, ports, |known, new| known.here == new.here || known.there == new.there),
        test: command(&args.test, known.test)?,
        reload: command(&args.reload, known.reload)?,
        start: command(&args.start, known.start)?,
        stop: command(&args.stop, known.stop)?,
        is_systems: args.for_everyone || known.is_systems,
    };
    if server.view(machine).there(&config).is_none() {
        return Err(CommandError::usage(format!("none of the pairs of folders has {config} in it"))
            .hint(format!("say where the server has it: --path {config}=WHERE")));
    }
    if server.is_elsewhere() && server.program.is_some() {
        return Err(CommandError::usage("a server on another machine has no program here: leave `--program` out")
            .hint("name commands that reach it: --test, --reload, --start, --stop"));
    }
    Ok(server)
}

/// The known values, with each new one in its place or behind them.
fn with<T>(known: Vec<T>, new: Vec<T>, is_same: impl Fn(&T, &T) -> bool) -> Vec<T> {
    let kept = known.into_iter().filter(|known| !new.iter().any(|new| is_same(known, new)));
    kept.collect::<Vec<_>>().into_iter().chain(new).collect()
}

/// A pair of folders; that of this machine may be relative, and has to be there.
fn pair(context: &Context, text: &str) -> Result<PathPair, CommandError> {
    let (here, there) = text.split_once('=').unwrap_or((text, ""));
    let pair = PathPair::parse(&format!("{}={there}", context.given(Utf8Path::new(here)))).map_err(|error| {
        CommandError::usage(error).hint("write it as HERE=THERE, as in `--path ./saltmarsh=/srv/saltmarsh`")
    })?;
    // The certificates' folder may be yet to be made.
    let real = context.machine.path(pair.here.as_str());
    if !real.starts_with(&context.machine.places.data) && !real.is_dir() {
        return Err(CommandError::usage(format!("no such folder: `{}`", pair.here)).hint("look for a slip in the path"));
    }
    let here = context.machine.places.inside(&pair.here);
    Ok(PathPair { here, there: pair.there })
}

/// The main file or folder, and the kind of server that it is for.
fn configuration(
    context: &Context,
    args: &ServerAddArgs,
    config: &Utf8Path,
) -> Result<(Utf8PathBuf, ServerKind), CommandError> {
    let given = context.given(config);
    let mut path = context.machine.path(given.as_str());
    if !path.exists() {
        return Err(CommandError::usage(format!("no such file or folder: `{path}`"))
            .hint("give the server's main file; `httpd -V` and `nginx -V` name it"));
    }
    // A folder with a main file in it, or a bundle's, means that file.
    let folders = [path.clone(), path.join("conf")];
    let mut mains = folders.iter().flat_map(|folder| main_files().map(|(name, _)| folder.join(name)));
    let main = mains.find(|main| main.is_file());
    path = main.unwrap_or(path);
    let by_name = main_files().find(|(name, _)| path.file_name() == Some(name)).map(|(_, kind)| kind);
    if let Some(kind) = args.kind.or(by_name) {
        return Ok((path, kind));
    }
    let kinds: Vec<String> = ServerKind::ALL.iter().map(|kind| format!("--kind {}", kind.word())).collect();
    Err(CommandError::usage(format!("{path} doesn't tell what kind of server it is for"))
        .hint(format!("say it: {}", kinds.join(", "))))
}

/// A command's words: a program that is there, given by its absolute path or looked for as a shell
/// would.
fn words(text: &str) -> Result<Vec<String>, CommandError> {
    let not_closed = |_| CommandError::usage(format!("a quote is not closed in the command `{text}`"));
    let mut words = match System::HERE {
        System::Windows => windows_words(text),
        System::Linux | System::MacOs => shell_words::split(text).map_err(not_closed)?,
    };
    let missing = || {
        CommandError::usage(format!("`{text}` begins with no program that is there"))
            .hint("give the program by its absolute path; it is run without a shell")
    };
    let first = words.first_mut().ok_or_else(missing)?;
    if Utf8Path::new(&*first).components().count() < 2 {
        // Kept by its path, so that it is the same program ever after.
        let path = env::var_os("PATH").unwrap_or_default();
        let names = [first.clone(), format!("{first}{}", env::consts::EXE_SUFFIX)];
        let programs = |folder: PathBuf| names.clone().map(|name| folder.join(name));
        let found = env::split_paths(&path).flat_map(programs).find(|program| program.is_file());
        let found = found.and_then(|found| Utf8PathBuf::from_path_buf(found).ok()).ok_or_else(missing)?;
        *first = found.into_string();
    }
    let program = Utf8Path::new(first);
    if !program.is_absolute() || !program.is_file() {
        return Err(missing());
    }
    Ok(words)
}
