//! Looking at sites, with a line on the terminal for whoever waits.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use yandro_core::{HostName, ServerId, Site, SiteReport};
use yandro_machine::{Closeness, Limit, Progress, Scene, look};

use super::serve::taken;
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::view::progress;

/// Looks at sites closely, on servers as they are now. `tell` gets each report when it is complete; without it a line
/// on the terminal says how far it has come.
pub(super) async fn closely(
    context: &Context,
    sites: &[Site],
    within: Limit,
    tell_report: Option<&mut (dyn FnMut(&SiteReport) + Send)>,
) -> Result<Vec<SiteReport>, CommandError> {
    until_taken_up(context, sites).await;
    let present = context.look_for_servers();
    let counted = Arc::new(Progress::default());
    let work = progress::begin("checking", context.shows_progress && tell_report.is_none());
    let told = tokio::spawn(tell(counted.clone()));
    let scene = Scene {
        machine: &context.machine,
        present: &present,
        now: now(),
        listed: &listed(context),
        progress: &counted,
    };
    let closeness = Closeness { is_close: true, within };
    let sites: Vec<Site> = sites.iter().map(|site| context.with_server(site)).collect();
    let looked = match tell_report {
        Some(tell) => look(scene, &sites, closeness, tell).await,
        None => look(scene, &sites, closeness, &mut |_| ()).await,
    };
    told.abort();
    drop(work);
    Ok(looked?)
}

/// Looks at sites on the servers that the command knows, in silence.
pub(super) async fn quietly(
    context: &Context,
    sites: &[Site],
    closeness: Closeness,
) -> Result<Vec<SiteReport>, CommandError> {
    until_taken_up(context, sites).await;
    let (present, counted) = (context.present(), Progress::default());
    let scene = Scene { machine: &context.machine, present, now: now(), listed: &listed(context), progress: &counted };
    let sites: Vec<Site> = sites.iter().map(|site| context.with_server(site)).collect();
    Ok(look(scene, &sites, closeness, &mut |_| ()).await?)
}

/// The same for one site.
pub(super) async fn at_one(context: &Context, site: &Site, closeness: Closeness) -> Result<SiteReport, CommandError> {
    Ok(quietly(context, std::slice::from_ref(site), closeness).await?.remove(0))
}

/// The built-in server needs no reload: it loads a change by itself, a moment later.
async fn until_taken_up(context: &Context, sites: &[Site]) {
    if sites.iter().any(|site| site.server == Some(ServerId::BuiltIn)) {
        taken::wait(context).await;
    }
}

/// The names of all sites of the list.
pub(super) fn listed(context: &Context) -> Arc<BTreeSet<HostName>> {
    let sites = context.enabled().map(|list| list.sites).unwrap_or_default();
    Arc::new(sites.iter().flat_map(Site::names).cloned().collect())
}

/// Says how far it has come, as long as it takes.
async fn tell(counted: Arc<Progress>) {
    loop {
        let (done, all) = counted.get();
        if all > 0 {
            progress::now(&format!("checking: {done} of {all}"));
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}
