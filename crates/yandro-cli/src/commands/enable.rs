//! `yandro disable` and `yandro enable`.

use yandro_core::{Site, SiteList, map_sites};
use yandro_machine::SystemFresh;

use super::apply::{Planned, apply, done};
use super::map::{Telling, bring_about, can_be_served};
use super::rename::own_site;
use crate::args::DisableArgs;
use crate::context::{Context, now};
use crate::error::{self, CommandError};
use crate::view::change;
use crate::view::{COMMAND, Data, Outcome, STRONG, Ui, data};

pub(crate) fn disable<'c>(context: &'c Context, args: &DisableArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let plan = || planned(context, args, true);
    let done = done!(apply(context, ui, plan, |_| Ok(())));
    let disabled = done.about.iter().map(|site| site.name.to_string()).collect();
    Ok(Outcome::new(Disabled { disabled, changed: change::paths(&done.set) }, move |_, ui| {
        for site in &done.about {
            ui.say(&format!(
                "{STRONG}{}{STRONG:#} is out of use; all that belongs to it is kept",
                site.name.to_unicode()
            ));
        }
        if change::is_quiet(&done.set) {
            ui.say("nothing had to be changed");
        } else {
            ui.say(&done.summary(context));
        }
        let names: Vec<&str> = done.about.iter().map(|site| site.name.as_str()).collect();
        if !names.is_empty() {
            ui.say(&format!("\nbring it back: {COMMAND}yandro enable {}{COMMAND:#}", names.join(" ")));
        }
    }))
}

pub(crate) fn enable<'c>(context: &'c Context, args: &DisableArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let plan = || {
        let mut planned = planned(context, args, false)?;
        for site in &planned.about {
            can_be_served(context, &mut planned.set, site, false)?;
        }
        Ok(planned)
    };
    if args.all && context.list()?.1.sites.iter().all(|site| !site.disabled) {
        ui.note("no site is out of use");
    }
    bring_about(context, ui, plan, || Ok(()), Telling { is_root_given: true, ..Telling::default() })
}

data! {
    /// Data of `yandro disable`.
    struct Disabled {
        /// The sites that are out of use.
        disabled: Vec<String>,
        /// The paths that were changed.
        changed: Vec<String>,
    }
}

impl Data for Disabled {}

/// The sites that are meant, as they are to be, and what that changes.
fn planned(context: &Context, args: &DisableArgs, disabled: bool) -> Result<Planned<Vec<Site>>, CommandError> {
    let (text, list) = context.list()?;
    let sites = chosen(args, &list, disabled)?;
    let mut observed = context.observer().observe(text, &sites.iter().collect::<Vec<_>>(), now())?;
    let set = map_sites(&mut observed, &list, &sites, &mut SystemFresh::new())?;
    Ok(Planned { set, starts: !disabled, about: sites })
}

fn chosen(args: &DisableArgs, list: &SiteList, disabled: bool) -> Result<Vec<Site>, CommandError> {
    let mut sites: Vec<Site> = Vec::new();
    if args.all {
        sites.extend(list.sites.iter().filter(|site| site.disabled != disabled).cloned());
    }
    for name in error::names(&args.names)? {
        let site = own_site(list, &name)?;
        if !sites.contains(site) {
            sites.push(site.clone());
        }
    }
    for site in &mut sites {
        site.disabled = disabled;
    }
    sites.dedup();
    Ok(sites)
}
