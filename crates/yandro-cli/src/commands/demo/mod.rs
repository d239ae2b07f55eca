//! `yandro demo`: the whole way in a temporary sysroot.

mod scenario;
mod upstream;

use std::net::{IpAddr, Ipv4Addr};
use std::time::Instant;

use camino::Utf8Path;
use clap::Parser as _;
use yandro_machine::{Closeness, Environment};
use yandro_serve::{Running, Server, Sites};

use super::{look, map, serve};
use crate::args::{Cli, Command, DemoArgs};
use crate::context::Context;
use crate::error::CommandError;
use crate::global::Global;
use crate::signals;
use crate::view::{COMMAND, DIM, Outcome, STRONG, Ui, check as view};

pub(crate) fn run(global: &Global, args: &DemoArgs, ui: &mut Ui) -> Result<Outcome<'static>, CommandError> {
    let started = Instant::now();
    let folder = tempfile::Builder::new().prefix("yandro-demo-").tempdir().map_err(CommandError::not_made)?;
    let runtime = signals::runtime()?;
    let interrupted = || CommandError::not_made("interrupted; the demo's folder was removed");
    let sysroot = Utf8Path::from_path(folder.path())
        .ok_or_else(|| CommandError::not_made("the temporary folder's path is no UTF-8"))?
        .to_owned();

    // The ports have to be known before anything is written; the server answers later.
    let (server, upstream) = runtime
        .block_on(async {
            Ok::<_, std::io::Error>((
                Server::bind(&[IpAddr::V4(Ipv4Addr::LOCALHOST)], 0, 0).await?,
                upstream::start().await?,
            ))
        })
        .map_err(|error| CommandError::not_made(format!("no free port is to be had: {error}")))?;
    let ports = server.ports().map_err(CommandError::not_made)?;
    let mut surroundings = Environment::of_process(Some(sysroot.clone()));
    // Nothing of the caller's is touched: not even under sudo.
    surroundings.sudo_uid = None;
    scenario::write(&sysroot, &surroundings, ports).map_err(CommandError::not_made)?;
    let mut context = Context::at(global, &surroundings)?;
    let guard = runtime.enter();
    let running = server
        .start(Sites::default(), yandro_machine::process::most_open_files(), None)
        .map_err(CommandError::not_made)?;
    drop(guard);

    ui.say(&format!("{STRONG}Saltmarsh Ferries{STRONG:#} in {sysroot}, on the built-in server.\nThat folder replaces `/`: the /etc/hosts that is changed is the one in there, and nothing of yours.\n"));
    map_all(&mut context, scenario::commands(&sysroot, upstream), &running, ui)?;

    ui.say(&format!("{DIM}${DIM:#} {COMMAND}yandro check{COMMAND:#}"));
    show(&runtime, &context, ui).ok_or_else(interrupted)??;

    ui.say(&format!(
        "\n{DIM}Now somebody loses a line of the hosts file:{DIM:#}\n{DIM}${DIM:#} {COMMAND}yandro check{COMMAND:#}"
    ));
    scenario::lose_a_line(&context.machine.places.hosts).map_err(CommandError::not_made)?;
    show(&runtime, &context, ui).ok_or_else(interrupted)??;

    if args.keep {
        let kept = folder.keep();
        ui.say(&format!("\nKept in {0}; try: yandro --sysroot {0} serve", kept.display()));
    } else {
        drop(folder);
        ui.say(&format!(
            "\n{DIM}Everything is removed again; it took {} ms. `--keep` keeps it.{DIM:#}",
            started.elapsed().as_millis()
        ));
    }
    Ok(Outcome::printed())
}

/// Runs each command of the scenario as if it had been typed.
fn map_all(
    context: &mut Context,
    lines: Vec<scenario::ScenarioLine>,
    running: &Running,
    ui: &mut Ui,
) -> Result<(), CommandError> {
    for line in lines {
        ui.say(&format!("{DIM}${DIM:#} {COMMAND}{}{COMMAND:#}", line.shown));
        context.command.clone_from(&line.shown);
        let Some(Command::Map(args)) = Cli::parse_from(line.words).command else { continue };
        // The server reads the site as it would in `yandro serve`, before the proof.
        map::run_then(context, &args, ui, || {
            let (_, list) = context.list()?;
            running.exchange(serve::served(context, &list)?.0);
            Ok(())
        })?
        .show(ui);
        ui.say("");
    }
    Ok(())
}

/// Checks all sites and prints what was found; `None` when interrupted.
fn show(runtime: &tokio::runtime::Runtime, context: &Context, ui: &mut Ui) -> Option<Result<(), CommandError>> {
    let (_, list) = match context.list() {
        Ok(list) => list,
        Err(error) => return Some(Err(error)),
    };
    let started = Instant::now();
    let looked = look::quietly(context, &list.sites, Closeness::default());
    let looked = runtime.block_on(signals::unless_interrupted(looked))?;
    Some(looked.map(|reports| view::print(ui, &reports, started.elapsed())))
}
