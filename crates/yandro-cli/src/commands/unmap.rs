//! `yandro unmap`.

use serde_json::json;
use yandro_core::name::HostName;
use yandro_core::plan::unmap_sites;
use yandro_core::site::{Site, SiteList};
use yandro_machine::observe;

use super::apply::{Planned, apply};
use crate::args::UnmapArgs;
use crate::context::{Context, now};
use crate::error::{self, CommandError, Status};
use crate::view::change::{self, labelled, server_lines};
use crate::view::{STRONG, Ui};

pub(crate) fn run(context: &Context, args: &UnmapArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    let names = error::names(&args.names)?;
    let plan = || {
        let (text, list) = context.list()?;
        let sites = chosen(&names, &list)?;
        let observed = observe::observe(&context.machine, text, &sites, now())?;
        let set = unmap_sites(&observed, &sites)?;
        Ok(Planned { set, starts: false, about: sites.into_iter().cloned().collect::<Vec<Site>>() })
    };
    let Some(done) = apply(context, ui, plan, |_| Ok(()))? else { return Ok(Status::Well) };

    if ui.json {
        let names: Vec<&str> = done.about.iter().map(|site| site.name.as_str()).collect();
        let changed: Vec<_> = done.set.steps.iter().map(yandro_core::plan::Step::path).collect();
        ui.json(&json!({ "version": 1, "unmapped": names, "changed": changed }));
        return Ok(Status::Well);
    }
    for site in &done.about {
        ui.say(&format!("{STRONG}{}{STRONG:#} is taken away; {} stays as it is", site.name.to_unicode(), site.content));
    }
    let mut lines = change::summary(&done.set, &context.machine.places);
    lines.extend(server_lines(&done.set, &done.servers));
    ui.say(&labelled(&lines));
    Ok(Status::Well)
}

fn chosen<'l>(names: &[HostName], list: &'l SiteList) -> Result<Vec<&'l Site>, CommandError> {
    let mut sites: Vec<&Site> = Vec::new();
    for name in names {
        match (list.site(name), list.owner(name)) {
            (Some(site), _) if sites.contains(&site) => {}
            (Some(site), _) => sites.push(site),
            (None, Some(owner)) => {
                return Err(CommandError::usage(format!("`{name}` is an alias of the site `{}`", owner.name))
                    .hint(format!("take the whole site away: yandro unmap {}", owner.name))
                    .hint(format!(
                        "or map it again with the aliases that it is to keep: yandro map {} --alias NAME",
                        owner.name
                    )));
            }
            (None, None) => {
                return Err(
                    CommandError::usage(format!("there is no site `{name}`")).hint("see which there are: yandro sites")
                );
            }
        }
    }
    Ok(sites)
}
