//! `yandro check`.

use std::sync::Arc;
use std::time::Instant;

use tokio::task::JoinSet;
use yandro_core::check::{Expected, SiteReport, judge};
use yandro_core::pki::Authority;
use yandro_core::site::{ServerId, Site, SiteList};
use yandro_machine::probe::Prober;
use yandro_machine::{caches, files, observe};

use crate::args::CheckArgs;
use crate::context::{Context, now};
use crate::error::{self, CommandError, Status};
use crate::signals;
use crate::view::{Ui, check as view};

pub(crate) fn run(context: &Context, args: &CheckArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    let (_, list) = context.list()?;
    let sites = chosen(args, &list)?;
    if sites.is_empty() && !ui.json {
        ui.say("No site is mapped yet. Map one: yandro map NAME FOLDER");
        return Ok(Status::Well);
    }
    let started = Instant::now();
    let runtime = signals::runtime()?;
    let looked = runtime.block_on(signals::unless_interrupted(look(context, &sites)));
    let reports = looked.ok_or_else(|| CommandError::not_made("interrupted; no proof file was left behind"))??;
    view::print(ui, &reports, started.elapsed());
    let well = reports.iter().all(|report| report.findings.is_empty());
    Ok(if well { Status::Well } else { Status::Findings })
}

fn chosen(args: &CheckArgs, list: &SiteList) -> Result<Vec<Site>, CommandError> {
    if args.names.is_empty() {
        return Ok(list.sites.clone());
    }
    let mut sites: Vec<Site> = Vec::new();
    for name in &error::names(&args.names)? {
        let site = list.owner(name).ok_or_else(|| {
            CommandError::usage(format!("there is no site `{name}`"))
                .hint(format!("map it: yandro map {name} FOLDER; or see which there are: yandro sites"))
        })?;
        if !sites.contains(site) {
            sites.push(site.clone());
        }
    }
    Ok(sites)
}

/// Observes and judges these sites, all at once, in their order.
pub(crate) async fn look(context: &Context, sites: &[Site]) -> Result<Vec<SiteReport>, CommandError> {
    let places = &context.machine.places;
    let hosts = files::read_if_there(&places.hosts)?.unwrap_or_default();
    let authority = observe::authority_certificates(&context.machine)?
        .map(|certificates| Authority::read(&certificates))
        .transpose()
        .map_err(CommandError::not_made)?;
    let prober = Prober::new(&context.machine, hosts, authority.as_ref());
    let resolver = caches::resolver_setup(&context.machine);
    let mut tasks = JoinSet::new();
    for (place, site) in sites.iter().enumerate() {
        let server = site.server.unwrap_or(ServerId::BuiltIn);
        let chain = files::read_if_there(&places.chain(&site.name))?;
        for (turn, (http_port, https_port)) in context.all_ports_of(site, server).into_iter().enumerate() {
            let expected = Arc::new(Expected {
                site: site.clone(),
                server,
                is_here: context.is_here(server),
                http_port,
                https_port,
                hosts_file: places.hosts.clone(),
                resolver: resolver.clone(),
                now: now(),
            });
            let (prober, chain) = (prober.clone(), chain.clone());
            tasks.spawn(async move {
                let seen = prober.observe(expected.clone(), chain).await;
                ((place, turn), judge(&expected, &seen), (http_port, https_port))
            });
        }
    }
    let mut seen = Vec::with_capacity(sites.len());
    while let Some(done) = tasks.join_next().await {
        seen.push(done.map_err(|error| CommandError::not_made(format!("a probe broke off: {error}")))?);
    }
    seen.sort_by_key(|(order, ..)| *order);
    let mut reports: Vec<SiteReport> = Vec::with_capacity(sites.len());
    for ((_, turn), report, (http, https)) in seen {
        match reports.last_mut() {
            Some(first) if turn > 0 => first.take_in(report, http, https),
            _ => reports.push(report),
        }
    }
    Ok(reports)
}
