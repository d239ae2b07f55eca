//! Observing and judging sites, and looking closer at those that are not well.

use std::io::{IsTerminal as _, Write as _};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use tokio::task::JoinSet;
use yandro_core::check::{Beside, Expected, NameObservation, SiteReport, explain, judge};
use yandro_core::name::HostName;
use yandro_core::pki::Authority;
use yandro_core::site::{ServerId, Site};
use yandro_machine::circumstances::{self, OfServer, settings};
use yandro_machine::probe::{Limit, Manner, OffersOf, Prober};
use yandro_machine::{caches, files, observe};

use super::around;
use crate::context::{Context, now};
use crate::error::CommandError;

/// How many sites that are not well are looked at closely: with more of them one cause is enough.
const CLOSELY: usize = 32;
/// Up to how many sites each name is asked for all that it offers within TLS; of more each port is.
const FEW: usize = 8;
/// When it is worth saying that something is being done.
const PATIENCE: Duration = Duration::from_millis(500);

/// How closely to look.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Closeness {
    /// Whether what stands beside the answers counts as well: who listens, what the server's files say, the
    /// settings of this machine. Each site that is not well is then looked at again for its cause.
    pub(crate) is_close: bool,
    /// How long to wait for any one answer.
    pub(crate) within: Limit,
}

/// What was seen of a site's first ports, and its report.
struct Looked {
    expected: Arc<Expected>,
    chain: Option<Vec<u8>>,
    seen: Vec<NameObservation>,
    /// The same of its further ports.
    further: Vec<(Arc<Expected>, Vec<NameObservation>)>,
}

/// Observes and judges these sites, all at once, in their order.
pub(crate) async fn look(
    context: &Context,
    sites: &[Site],
    closeness: Closeness,
) -> Result<Vec<SiteReport>, CommandError> {
    let places = &context.machine.places;
    let hosts = files::read_if_there(&places.hosts)?.unwrap_or_default();
    let authority = observe::authority_certificates(&context.machine)?
        .map(|certificates| Authority::read(&certificates))
        .transpose()
        .map_err(CommandError::not_made)?;
    let offers = match sites.len() {
        _ if !closeness.is_close => OffersOf::None,
        0..=FEW => OffersOf::Names,
        _ => OffersOf::Ports,
    };
    let manner = Manner { within: closeness.within, offers };
    let prober = Prober::new(&context.machine, hosts, authority.as_ref(), manner);
    let expected = expected(context, sites, authority.as_ref(), closeness.is_close);
    let around = closeness.is_close.then(|| around::begin(context, &expected, authority.filter(|_| has_https(sites))));
    let looked = observe_all(context, expected, &prober, closeness.is_close).await?;
    let Some(around) = around else {
        return Ok(looked.iter().map(|own| report(own, &Beside::default())).collect());
    };
    let mut around = around.finish(context, looked.iter().map(|own| &*own.expected).collect()).await?;
    let mut reports = Vec::with_capacity(looked.len());
    let mut closely = 0;
    for (own, beside) in looked.iter().zip(&around.beside) {
        let mut report = report(own, beside);
        if !report.findings.is_empty() && closely < CLOSELY {
            closely += 1;
            let server = around.servers.entry(report.server).or_default();
            look_around(context, own, &mut report, server, beside, &prober).await;
        }
        reports.push(report);
    }
    Ok(reports)
}

fn has_https(sites: &[Site]) -> bool {
    sites.iter().any(|site| site.https.is_on())
}

/// Judges what was seen.
fn report(own: &Looked, beside: &Beside) -> SiteReport {
    let mut report = judge(&own.expected, &own.seen, beside);
    for (expected, seen) in &own.further {
        report.take_in(judge(expected, seen, beside), expected.http_port, expected.https_port);
    }
    report
}

/// What is expected of each site, for each pair of its ports.
fn expected(
    context: &Context,
    sites: &[Site],
    authority: Option<&Authority>,
    is_close: bool,
) -> Vec<Vec<Arc<Expected>>> {
    let resolver = caches::resolver_setup(&context.machine);
    let settings =
        if is_close { settings::look(&context.machine, |name| std::env::var(name).ok()) } else { Vec::new() };
    let of_site = |site: &Site| {
        let server = site.server.unwrap_or(ServerId::BuiltIn);
        let of_ports = |(http_port, https_port)| {
            Arc::new(Expected {
                site: site.clone(),
                server,
                is_here: context.is_here(server),
                http_port,
                https_port,
                hosts_file: context.machine.places.hosts.clone(),
                resolver: resolver.clone(),
                now: now(),
                settings: settings.clone(),
                authority_since: authority.map(|authority| authority.root_facts.not_before),
            })
        };
        context.all_ports_of(site, server).into_iter().map(of_ports).collect()
    };
    sites.iter().map(of_site).collect()
}

async fn observe_all(
    context: &Context,
    expected: Vec<Vec<Arc<Expected>>>,
    prober: &Arc<Prober>,
    is_told: bool,
) -> Result<Vec<Looked>, CommandError> {
    let started = Instant::now();
    let mut tasks = JoinSet::new();
    for (place, of_site) in expected.into_iter().enumerate() {
        let mut chain = None;
        for (turn, expected) in of_site.into_iter().enumerate() {
            if turn == 0 {
                chain = files::read_if_there(&context.machine.places.chain(&expected.site.name))?;
            }
            let (prober, chain) = (prober.clone(), chain.clone());
            tasks.spawn(async move {
                let seen = prober.observe(expected.clone(), chain.clone()).await;
                ((place, turn), Looked { expected, chain, seen, further: Vec::new() })
            });
        }
    }
    let done = Arc::new(AtomicUsize::new(0));
    let all = tasks.len();
    let progress = is_told.then(|| tokio::spawn(tell_progress(done.clone(), all)));
    let mut seen = Vec::with_capacity(all);
    while let Some(one) = tasks.join_next().await {
        seen.push(one.map_err(|error| broken_off(&error))?);
        done.fetch_add(1, Ordering::Relaxed);
    }
    if let Some(progress) = progress {
        progress.abort();
        // Whatever it wrote is gone before anything else is said.
        if progress.await.is_err() && started.elapsed() > PATIENCE && std::io::stderr().is_terminal() {
            _ = std::io::stderr().write_all(b"\r\x1b[K");
        }
    }
    seen.sort_by_key(|(order, _)| *order);
    let mut looked: Vec<Looked> = Vec::with_capacity(seen.len());
    for ((_, turn), own) in seen {
        match looked.last_mut() {
            Some(first) if turn > 0 => first.further.push((own.expected, own.seen)),
            _ => looked.push(own),
        }
    }
    Ok(looked)
}

pub(super) fn broken_off(error: &tokio::task::JoinError) -> CommandError {
    CommandError::not_made(format!("a probe broke off: {error}"))
}

/// Looks for the cause of what was found: the server's processes, its configuration and its files,
/// and its log while the site is asked once more.
async fn look_around(
    context: &Context,
    own: &Looked,
    report: &mut SiteReport,
    server: &mut OfServer,
    beside: &Beside,
    prober: &Arc<Prober>,
) {
    let expected = own.expected.clone();
    let mut around = circumstances::look(&context.machine, &expected, server, beside);
    if report.findings.iter().any(|finding| finding.code().is_logged()) {
        let marked = server.mark_logs(&expected.site);
        _ = prober.observe(expected.clone(), own.chain.clone()).await;
        let names: Vec<String> = expected.site.names().map(HostName::to_string).collect();
        around.log = marked.added(&names);
    }
    explain(report, expected.http_port, expected.https_port, &around);
}

/// A line on the terminal that is written over, as long as it takes.
async fn tell_progress(done: Arc<AtomicUsize>, all: usize) {
    tokio::time::sleep(PATIENCE).await;
    if !std::io::stderr().is_terminal() {
        return;
    }
    loop {
        let line = format!("\rchecking: {} of {all} ", done.load(Ordering::Relaxed));
        _ = std::io::stderr().write_all(line.as_bytes());
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}
