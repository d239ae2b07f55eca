//! `yandro unmap`.

use std::convert::Infallible;

use serde_json::json;
use yandro_core::plan::unmap_sites;
use yandro_core::site::{ServerKind, Site};
use yandro_machine::changes::carry_out;
use yandro_machine::observe;

use crate::args::UnmapArgs;
use crate::context::{Context, now, stamp};
use crate::error::{self, CommandError, Status};
use crate::view::change::{self, labelled, server_line};
use crate::view::{STRONG, Ui};

pub(crate) fn run(context: &Context, args: &UnmapArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    let lock = if context.preview { None } else { Some(context.lock(ui)?) };

    let (text, list) = context.list()?;
    let mut sites: Vec<&Site> = Vec::new();
    for name in &error::names(&args.names)? {
        match (list.site(name), list.owner(name)) {
            (Some(site), _) if sites.contains(&site) => {}
            (Some(site), _) => sites.push(site),
            (None, Some(owner)) => {
                return Err(CommandError::usage(format!("`{name}` is an alias of the site `{}`", owner.name))
                    .hint(format!("take the whole site away: yandro unmap {0}; or map it again with the aliases it is to keep: yandro map {0} --alias NAME", owner.name)));
            }
            (None, None) => {
                return Err(
                    CommandError::usage(format!("there is no site `{name}`")).hint("see which there are: yandro sites")
                );
            }
        }
    }
    let observed = observe::observe(&context.machine, text, &sites, now())?;

    let mut set = unmap_sites(&observed, &sites)?;
    set.command.clone_from(&context.command);
    let Some(lock) = lock else {
        change::preview(ui, &set);
        return Ok(Status::Well);
    };

    // A server that doesn't run is not started to be told that it has less to do.
    let runs = context.control().is_some_and(|apache| apache.running().is_some());
    set.server = set.server.filter(|_| runs || !context.machine.is_real());
    let server = context.control_of(set.server)?;
    let brought_up =
        carry_out(&context.machine, &lock, &set, server.as_deref(), stamp(now()), || Ok::<(), Infallible>(()))
            .map_err(|error| error::carry_out(error, |never| match never {}))?;

    if ui.json {
        let names: Vec<&str> = sites.iter().map(|site| site.name.as_str()).collect();
        let changed: Vec<_> = set.steps.iter().map(yandro_core::plan::Step::path).collect();
        ui.json(&json!({ "version": 1, "unmapped": names, "changed": changed }));
        return Ok(Status::Well);
    }
    for site in &sites {
        ui.say(&format!("{STRONG}{}{STRONG:#} is taken away; {} stays as it is", site.name.to_unicode(), site.content));
    }
    let mut lines = change::summary(&set, &context.machine.places);
    if set.server.is_some() {
        lines.push(("server", server_line(ServerKind::Apache, brought_up)));
    }
    ui.say(&labelled(&lines));
    Ok(Status::Well)
}
