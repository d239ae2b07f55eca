//! `yandro rename` and `yandro move`.

use yandro_core::{Content, HostName, Site, SiteList, map_site, rename_site};
use yandro_machine::SystemFresh;

use super::apply::Planned;
use super::database;
use super::map::{Telling, absolute, bring_about, can_be_served};
use super::real_names;
use crate::args::{MoveArgs, RenameArgs};
use crate::context::{Context, now};
use crate::error::{self, CommandError};
use crate::view::{Outcome, STRONG, Ui};

pub(crate) fn run<'c>(context: &'c Context, args: &RenameArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let (old, new) = (HostName::parse(&args.old)?, HostName::parse(&args.new)?);
    let mut asked = false;
    let plan = || {
        let (text, list) = context.list()?;
        let before = own_site(&list, &old)?;
        let site = renamed(before, &list, &new, args.keep_old)?;
        let observed = context.observer().observe(text, &[before, &site], now())?;
        let mut set = rename_site(&observed, &list, &old, &site, &mut SystemFresh::new())?;
        real_names::ask(context, args.hide_real, std::iter::once(&new), &mut asked)?;
        if !site.disabled {
            can_be_served(context, &mut set, &site, false)?;
        }
        Ok(Planned { set, starts: !site.disabled, about: vec![site] })
    };
    let kept = if args.keep_old { ", and redirects there" } else { "" };
    let first = format!("{STRONG}{old}{STRONG:#} has the name {STRONG}{new}{STRONG:#} now{kept}");
    let outcome = bring_about(
        context,
        ui,
        plan,
        || Ok(()),
        Telling { is_root_given: true, first: vec![first], ..Telling::default() },
    )?;
    if !context.preview {
        database::renamed(context, &old, &new)?;
    }
    Ok(outcome)
}

pub(crate) fn run_move<'c>(context: &'c Context, args: &MoveArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(&args.name)?;
    let folder = absolute(&context.current, &args.folder)?;
    if !folder.is_dir() {
        return Err(CommandError::usage(format!("no such folder: `{folder}`"))
            .hint("give the folder as it is now, or make it first"));
    }
    let plan = || {
        let (text, list) = context.list()?;
        let site = moved(own_site(&list, &name)?, &folder)?;
        let observed = context.observer().observe(text, &[&site], now())?;
        let mut set = map_site(&observed, &list, &site, &mut SystemFresh::new())?;
        if !site.disabled {
            can_be_served(context, &mut set, &site, false)?;
        }
        Ok(Planned { set, starts: !site.disabled, about: vec![site] })
    };
    bring_about(context, ui, plan, || Ok(()), Telling { is_root_given: true, ..Telling::default() })
}

/// The site whose own name this is.
pub(super) fn own_site<'l>(list: &'l SiteList, name: &HostName) -> Result<&'l Site, CommandError> {
    match (list.site(name), list.owner(name)) {
        (Some(site), _) => Ok(site),
        (None, Some(owner)) => Err(CommandError::usage(format!("`{name}` is an alias of the site `{}`", owner.name))
            .hint(format!("give the site's own name: {}", owner.name))),
        (None, None) => Err(error::no_site(name)),
    }
}

/// The site with its new name. An alias that becomes the name is removed from the aliases.
fn renamed(before: &Site, list: &SiteList, new: &HostName, keeps_old: bool) -> Result<Site, CommandError> {
    let old = &before.name;
    if old == new {
        return Err(CommandError::usage(format!("the site has the name `{new}` already")));
    }
    if let Some(owner) = list.owner(new).filter(|owner| owner.name != *old) {
        return Err(CommandError::usage(format!("`{new}` already belongs to the site `{}`", owner.name))
            .hint("choose another name, or take that one away first"));
    }
    let mut site = before.named(new);
    site.aliases.retain(|alias| alias != new);
    site.serving.redirect_aliases.retain(|alias| alias != new);
    if keeps_old {
        site.aliases.push(old.clone());
        site.serving.redirect_aliases.push(old.clone());
    }
    Ok(site)
}

/// The site with its new folder, and the part of it that is served.
fn moved(before: &Site, folder: &camino::Utf8Path) -> Result<Site, CommandError> {
    let Content::Folder { document_root, .. } = &before.content else {
        let name = &before.name;
        return Err(CommandError::usage(format!("`{name}` forwards to {}, and has no folder", before.content))
            .hint(format!("have it serve that folder: yandro map {name} {folder}")));
    };
    if let Some(below) = document_root.as_ref().filter(|below| !folder.join(below).is_dir()) {
        return Err(CommandError::usage(format!("`{folder}` has no folder `{below}`, which the site serves"))
            .hint(format!("say what is served there: yandro map {} {folder} --document-root PATH", before.name)));
    }
    Ok(Site {
        content: Content::Folder { folder: folder.to_owned(), document_root: document_root.clone() },
        ..before.clone()
    })
}
