//! The old addresses of an application that yandro knows.

use std::collections::BTreeSet;

use yandro_core::{AppAddress, Cause, Evidence, HostName, Site, WebUrl};
use yandro_machine::{Closeness, Limit, changes};

use crate::commands::look;
use crate::context::Context;
use crate::error::CommandError;
use crate::signals;

/// How long the site's page may take, in seconds.
const PATIENCE: u16 = 10;

/// Old addresses, and such that may be one.
#[derive(Debug, Default)]
pub(super) struct Known {
    /// Earlier names of the site, and addresses of this computer that its page leads to.
    pub(super) sure: Vec<AppAddress>,
    /// Addresses on the network that its page leads to: another site, or where the application came from.
    pub(super) possible: Vec<String>,
}

impl Known {
    /// Looks into the history, and at the site's page as it is now.
    pub(super) fn of(context: &Context, site: &Site) -> Result<Self, CommandError> {
        let mut known = Self::default();
        for name in former_names(context, &site.name) {
            known.sure.extend(AppAddress::parse(name.as_str()));
        }
        let mut seen = BTreeSet::new();
        for url in page_addresses(context, site)? {
            let Ok(parsed) = WebUrl::parse(&url) else { continue };
            let scheme = if parsed.is_secure { "https" } else { "http" };
            let origin = format!("{scheme}://{}", parsed.host_field());
            if !seen.insert(origin.clone()) {
                continue;
            }
            let name = HostName::parse(parsed.host_port.host());
            if name.as_ref().is_ok_and(|name| site.names().any(|own| own == name)) {
                continue;
            }
            let is_local = parsed.host_port.is_loopback() || name.is_ok_and(|name| !name.can_be_real());
            match AppAddress::parse(&origin) {
                Ok(address) if is_local => known.sure.push(address),
                _ => known.possible.push(origin),
            }
        }
        Ok(known)
    }
}

/// The names that the site had before.
fn former_names(context: &Context, name: &HostName) -> Vec<HostName> {
    let mut names = vec![name.clone()];
    for entry in changes::history(&context.machine).entries.iter().rev() {
        for change in &entry.sites {
            if let (Some(before), Some(after)) = (&change.before, &change.after)
                && names.contains(&after.name)
                && !names.contains(&before.name)
            {
                names.push(before.name.clone());
            }
        }
    }
    names.split_off(1)
}

/// The addresses that the site's page redirects to, gives as its own, or loads from, as `check` finds them.
fn page_addresses(context: &Context, site: &Site) -> Result<Vec<String>, CommandError> {
    if site.disabled {
        return Ok(Vec::new());
    }
    let closeness = Closeness { is_close: true, within: Limit::seconds(PATIENCE) };
    let runtime = signals::runtime()?;
    let looked = runtime.block_on(signals::unless_interrupted(look::at_one(context, site, closeness)));
    let report = looked.ok_or_else(|| CommandError::not_made("interrupted; nothing was changed"))??;
    let mut addresses = Vec::new();
    for finding in &report.findings {
        let diagnosis = &finding.diagnosis;
        match &diagnosis.cause {
            Cause::PageMixed { origin, .. } => addresses.push(origin.clone()),
            Cause::RedirectLeaves { .. } | Cause::RedirectBack { .. } | Cause::PageLeaves { .. } => {
                addresses.extend(diagnosis.evidence.iter().filter_map(|evidence| match evidence {
                    Evidence::LeadsTo { to, .. } => Some(to.clone()),
                    Evidence::OwnAddress(address) => Some(address.clone()),
                    _ => None,
                }));
            }
            _ => {}
        }
    }
    Ok(addresses)
}
