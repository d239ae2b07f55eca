//! Names that are no sites, and what goes with the last site.

use std::collections::BTreeSet;

use super::change::{Access, ChangeSet, LinkChange, Step};
use super::observed::{Fresh, Observed, ObservedApache};
use super::site::{PlanError, certificate, drop_certificate, remove_apache_site};
use crate::httpd::{self, OTHERS, Others};
use crate::name::HostName;
use crate::site::{Content, DEFAULT_ADDRESS, Https, ServerKind, Site};

/// The name under which the virtual hosts for other names are kept.
pub(super) fn others_name() -> HostName {
    HostName::parse(OTHERS).expect("it is a name")
}

/// Keeps the virtual hosts for other names in step with `site`, which was just planned.
pub(super) fn keep_others(
    set: &mut ChangeSet,
    observed: &Observed,
    apache: &ObservedApache,
    site: &Site,
    fresh: &mut dyn Fresh,
) -> Result<(), PlanError> {
    let name = others_name();
    let path = apache.layout.site_file(&name);
    let existing = apache.site_files.get(&name);
    let known = existing.map(|text| httpd::modules_of(text)).unwrap_or_default();
    let mut modules = known.clone();
    modules.extend(set.steps.iter().filter_map(|step| match step {
        Step::Link(LinkChange { path, before: None, after: Some(_) })
            if path.parent() == Some(&apache.layout.enabled_modules()) && path.extension() == Some("load") =>
        {
            path.file_stem().map(str::to_owned)
        }
        _ => None,
    }));
    let has = |port| existing.is_some_and(|text| httpd::has_port(text, port));
    let is_free = |address: &str| !apache.foreign_addresses.contains(address);
    let before = Others { over_http: has(80), over_https: has(443), modules: &known };
    let now = Others {
        over_http: is_free("*:80"),
        over_https: is_free("*:443") && (has(443) || site.https.is_on()),
        modules: &modules,
    };
    let (link, target) = apache.layout.site_link(&name);
    let old = apache.site_links.get(link.file_name().unwrap_or_default()).cloned();
    let has_certificate = observed.chains.contains_key(&name) && observed.keys.contains_key(&name);
    // A list may have a thousand sites, and this is looked at for each.
    if set.steps.is_empty() && before == now && old.is_some() && existing.is_some() && has_certificate == now.over_https
    {
        return Ok(());
    }
    let pretended = pretended(now.over_https);
    certificate(set, observed, &pretended, fresh)?;
    let files = observed.places.site_files(&pretended, &apache.log_folder);
    let text = httpd::others_file(existing.map(Vec::as_slice), &before, &now, &files);
    let count = set.steps.len();
    set.file(path, existing.cloned(), Some(text), Access::Public);
    set.link(link, old, Some(target));
    if set.steps.len() > count {
        set.server = Some(ServerKind::Apache);
    }
    Ok(())
}

/// Renews the certificate for other names, if there is one and its time comes.
pub(super) fn renew_others(set: &mut ChangeSet, observed: &Observed, fresh: &mut dyn Fresh) -> Result<(), PlanError> {
    let is_there = observed.apache.as_ref().is_some_and(|apache| apache.site_files.contains_key(&others_name()));
    if is_there && observed.chains.contains_key(&others_name()) {
        certificate(set, observed, &pretended(true), fresh)?;
    }
    Ok(())
}

/// What stands for other names where a site is asked for.
fn pretended(over_https: bool) -> Site {
    Site {
        name: others_name(),
        aliases: Vec::new(),
        content: Content::folder("/"),
        address: DEFAULT_ADDRESS,
        server: Some(ServerKind::Apache),
        https: if over_https { Https::Only } else { Https::Off },
    }
}

/// When the last of yandro's sites goes from the server, takes the virtual hosts for other names
/// with it, and the modules that yandro enabled and nobody else uses.
pub(super) fn go_with_the_last(set: &mut ChangeSet, observed: &Observed, apache: &ObservedApache) {
    let name = others_name();
    let gone = |step: &Step| match step {
        Step::File(change) if change.after.is_none() => apache.layout.site_of_file(&change.path),
        _ => None,
    };
    let gone: BTreeSet<HostName> = set.steps.iter().filter_map(gone).collect();
    if gone.is_empty() || apache.own_sites.difference(&gone).next().is_some() {
        return;
    }
    let modules = apache.site_files.get(&name).map(|text| httpd::modules_of(text)).unwrap_or_default();
    remove_apache_site(set, apache, &name);
    drop_certificate(set, observed, &name);
    // In reverse: what was enabled for another comes before it.
    for module in modules.iter().rev().filter(|module| is_idle(module, &modules, apache)) {
        for (link, target) in
            apache.available_modules.get(module).into_iter().flat_map(|files| apache.layout.module_links(module, files))
        {
            if link.file_name().is_some_and(|name| apache.module_links.contains(name)) {
                set.link(link, Some(target), None);
            }
        }
    }
}

/// Whether nobody else needs a module: no directive of it stands in another's file, and no
/// module that is to stay depends on it.
fn is_idle(module: &str, going: &[String], apache: &ObservedApache) -> bool {
    let prefixes: &[&str] = match module {
        "ssl" | "socache_shmcb" => &["ssl"],
        "rewrite" => &["rewrite"],
        "headers" => &["header", "requestheader"],
        "proxy" | "proxy_http" => &["proxy"],
        // What is not known to be idle stays.
        _ => return false,
    };
    let is_used = apache.foreign_directives.iter().any(|own| prefixes.iter().any(|prefix| own.starts_with(prefix)));
    let staying = apache.enabled_modules.iter().filter(|other| !going.contains(other));
    let mut dependencies =
        staying.filter_map(|other| apache.available_modules.get(other)).flat_map(|files| files.load.lines());
    let is_needed = dependencies.any(|line| {
        line.strip_prefix("# Depends:").is_some_and(|rest| rest.split_whitespace().any(|own| own == module))
    });
    !is_used && !is_needed
}
