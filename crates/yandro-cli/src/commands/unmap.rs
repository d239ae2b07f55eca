//! `yandro unmap`.

use yandro_core::{HostName, Site, SiteList, unmap_sites};

use super::apply::{Planned, apply, done};
use super::database;
use crate::args::UnmapArgs;
use crate::context::{Context, now};
use crate::error::{self, CommandError};
use crate::view::change;
use crate::view::{Data, Outcome, STRONG, Ui, data};

pub(crate) fn run<'c>(context: &'c Context, args: &'c UnmapArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let names = error::names(&args.names)?;
    let plan = || {
        let (text, list) = context.list()?;
        let sites = chosen(&names, &list)?;
        let observed = context.observer().observe(text, &sites, now())?;
        let set = unmap_sites(&observed, &sites)?;
        Ok(Planned { set, starts: false, about: sites.into_iter().cloned().collect::<Vec<Site>>() })
    };
    let done = done!(apply(context, ui, plan, |_| Ok(())));

    let made = |site: &Site| Some((site.name.to_string(), database::made_for(context, &site.name).ok()??.to_string()));
    let databases: Vec<(String, String)> = done.about.iter().filter_map(made).collect();
    let unmapped = done.about.iter().map(|site| site.name.to_string()).collect();
    Ok(Outcome::new(Unmapped { unmapped, changed: change::paths(&done.set) }, move |_, ui| {
        for site in &done.about {
            let name = site.name.to_unicode();
            ui.say(&format!("{STRONG}{name}{STRONG:#} is taken away; {} stays as it is", site.content));
        }
        ui.say(&done.summary(context));
        for (name, database) in &databases {
            ui.note(&format!("{database} is still there; to drop it: yandro database {name} drop"));
        }
        for (name, place) in &done.set.silenced {
            let place = place.written();
            ui.note(&format!("`{name}` of {place} is no longer answered: it is read only with a module that yandro had enabled, and that is off again"));
        }
        for (what, place) in &done.set.staying {
            ui.note(&format!("{what} stays on: {} needs it", place.written()));
        }
    }))
}

data! {
    /// Data of `yandro unmap`.
    struct Unmapped {
        /// The sites that are taken away.
        unmapped: Vec<String>,
        /// The paths that were changed.
        changed: Vec<String>,
    }
}

impl Data for Unmapped {}

fn chosen<'l>(names: &[HostName], list: &'l SiteList) -> Result<Vec<&'l Site>, CommandError> {
    let mut sites: Vec<&Site> = Vec::new();
    for name in names {
        match (list.site(name), list.owner(name)) {
            (Some(site), _) if sites.contains(&site) => {}
            (Some(site), _) => sites.push(site),
            (None, Some(owner)) => {
                return Err(CommandError::usage(format!("`{name}` is an alias of the site `{}`", owner.name))
                    .hint(format!("take the whole site away: yandro unmap {}", owner.name))
                    .hint(format!("or only the alias: yandro map {} --no-alias {name}", owner.name)));
            }
            (None, None) => {
                return Err(error::no_site(name));
            }
        }
    }
    Ok(sites)
}
