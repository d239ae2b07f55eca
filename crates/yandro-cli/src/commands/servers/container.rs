//! `yandro servers add --container`: what the engine tells, in place of arguments.

use std::env;

use camino::Utf8PathBuf;
use yandro_core::{ServerKind, ServerName};
use yandro_machine::NamedServer;
use yandro_machine::container::{ContainerError, ENGINES, Engine, configuration};

use crate::args::ServerAddArgs;
use crate::context::Context;
use crate::error::CommandError;

/// The server in the container that the arguments name.
pub(super) fn server(
    context: &Context,
    name: ServerName,
    container: &str,
    args: &ServerAddArgs,
) -> Result<NamedServer, CommandError> {
    let engine = engine(context)?;
    let fault = |error: ContainerError| match error {
        ContainerError::Refused(words) => CommandError::usage(format!("the container `{container}`: {words}"))
            .hint(format!("see which there are: {}", shell_words::join(engine.typed(&["ps", "--all"])))),
        other => CommandError::not_made(other),
    };
    let found = engine.container(container).map_err(fault)?;
    if !found.is_running {
        let start = shell_words::join(engine.typed(&["start", container]));
        return Err(CommandError::not_made(format!(
            "the container `{container}` doesn't run, so the server in it can't be looked at"
        ))
        .hint(format!("start it: {start}")));
    }
    let server = engine.server(container, args.kind).map_err(fault)?;
    let Some((kind, control)) = server else {
        let kinds: Vec<&str> = ServerKind::ALL.iter().map(|kind| kind.software().title()).collect();
        return Err(CommandError::usage(format!("the container `{container}` has no server of a known kind")).hint(
            format!(
                "known are {}; a server of another kind is an upstream: yandro map NAME :PORT",
                kinds.join(" and ")
            ),
        ));
    };
    let config = configuration(kind, &found.mounts).ok_or_else(|| not_mounted(context, container, kind))?;
    let inside = |arguments: &[&str]| engine.words(&[&["exec", container, control.program], arguments].concat());
    Ok(NamedServer {
        paths: found.mounts,
        ports: found.ports,
        test: inside(control.test),
        reload: inside(control.reload),
        start: engine.words(&["start", container]),
        stop: engine.words(&["stop", container]),
        ..NamedServer::new(name, kind, config)
    })
}

/// The engine of the settings, or the first that is there.
fn engine(context: &Context) -> Result<Engine, CommandError> {
    let path = env::var_os("PATH").unwrap_or_default();
    let in_path = |name: &str| {
        let name = format!("{name}{}", env::consts::EXE_SUFFIX);
        let mut programs = env::split_paths(&path).map(|folder| folder.join(&name)).filter(|program| program.is_file());
        programs.find_map(|found| Utf8PathBuf::from_path_buf(found).ok())
    };
    let settings = context.machine.places.settings();
    let program = match &context.settings.containers.engine {
        Some(own) if Utf8PathBuf::from(own).is_absolute() => Some(Utf8PathBuf::from(own)).filter(|own| own.is_file()),
        Some(own) => in_path(own),
        None => ENGINES.iter().find_map(|name| in_path(name)),
    };
    let missing = || {
        CommandError::not_made("no container engine was found").hint(format!(
            "if you have one, name its program in {settings}:\n\n  [containers]\n  engine = \"/opt/engine/bin/podman\"\n"
        ))
    };
    program.map(Engine::new).ok_or_else(missing)
}

/// No folder of this machine has the virtual hosts of the container's server.
fn not_mounted(context: &Context, container: &str, kind: ServerKind) -> CommandError {
    let known = kind.software().layouts().iter().find(|known| known.links.is_none());
    let sites = known.map_or("WHERE", |known| known.sites);
    let certificates = context.machine.places.certificates();
    CommandError::usage(format!(
        "the container `{container}` has {kind}, but no folder of this computer is mounted where its virtual hosts are"
    ))
    .hint(format!(
        "start it again with these, and with your project's folder: -v ./conf.d:{sites}:ro -v {certificates}:/certificates:ro -v ./FOLDER:/srv/FOLDER:ro"
    ))
}
