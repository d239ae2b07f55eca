//! Observing and judging sites, and looking closer at those that are not well.

use std::collections::BTreeMap;
use std::io::{IsTerminal as _, Write as _};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use tokio::task::JoinSet;
use yandro_core::check::{Code, Expected, SiteReport, explain, judge};
use yandro_core::name::HostName;
use yandro_core::pki::Authority;
use yandro_core::site::{ServerId, Site};
use yandro_machine::circumstances::{self, OfServer, logs, settings};
use yandro_machine::probe::Prober;
use yandro_machine::{caches, files, observe};

use crate::context::{Context, now};
use crate::error::CommandError;

/// How many sites that are not well are looked at closely: with more of them one cause is enough.
const CLOSELY: usize = 32;
/// When it is worth saying that something is being done.
const PATIENCE: Duration = Duration::from_millis(500);

/// A report, and what was expected of the site's first ports.
struct Looked {
    report: SiteReport,
    expected: Arc<Expected>,
    chain: Option<Vec<u8>>,
}

/// Observes and judges these sites, all at once, in their order. With `closely` the settings of
/// this machine count as well, and each site that is not well is looked at again for its cause.
pub(crate) async fn look(context: &Context, sites: &[Site], closely: bool) -> Result<Vec<SiteReport>, CommandError> {
    let places = &context.machine.places;
    let hosts = files::read_if_there(&places.hosts)?.unwrap_or_default();
    let authority = observe::authority_certificates(&context.machine)?
        .map(|certificates| Authority::read(&certificates))
        .transpose()
        .map_err(CommandError::not_made)?;
    let prober = Prober::new(&context.machine, hosts, authority.as_ref());
    let mut looked = first(context, sites, &prober, authority.as_ref(), closely).await?;
    if closely {
        let mut servers: BTreeMap<ServerId, OfServer> = BTreeMap::new();
        for own in looked.iter_mut().filter(|own| !own.report.findings.is_empty()).take(CLOSELY) {
            let id = own.report.server;
            let server = servers.entry(id).or_insert_with(|| OfServer::look(&context.machine, id));
            look_around(context, own, server, &prober).await;
        }
    }
    Ok(looked.into_iter().map(|own| own.report).collect())
}

async fn first(
    context: &Context,
    sites: &[Site],
    prober: &Arc<Prober>,
    authority: Option<&Authority>,
    closely: bool,
) -> Result<Vec<Looked>, CommandError> {
    let places = &context.machine.places;
    let resolver = caches::resolver_setup(&context.machine);
    let has_https = sites.iter().any(|site| site.https.is_on());
    let settings = if closely {
        settings::look(&context.machine, authority.filter(|_| has_https), |name| std::env::var(name).ok())
    } else {
        Vec::new()
    };
    let started = Instant::now();
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
                settings: settings.clone(),
                authority_since: authority.map(|authority| authority.root_facts.not_before),
            });
            let (prober, chain) = (prober.clone(), chain.clone());
            tasks.spawn(async move {
                let seen = prober.observe(expected.clone(), chain.clone()).await;
                let report = judge(&expected, &seen);
                ((place, turn), Looked { report, expected, chain })
            });
        }
    }
    let done = Arc::new(AtomicUsize::new(0));
    let all = tasks.len();
    let progress = closely.then(|| tokio::spawn(tell_progress(done.clone(), all)));
    let mut seen = Vec::with_capacity(sites.len());
    while let Some(one) = tasks.join_next().await {
        seen.push(one.map_err(|error| CommandError::not_made(format!("a probe broke off: {error}")))?);
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
    let mut reports: Vec<Looked> = Vec::with_capacity(sites.len());
    for ((_, turn), own) in seen {
        match reports.last_mut() {
            Some(first) if turn > 0 => {
                let (http, https) = (own.expected.http_port, own.expected.https_port);
                first.report.take_in(own.report, http, https);
            }
            _ => reports.push(own),
        }
    }
    Ok(reports)
}

/// Looks for the cause of what was found: the server's processes, its configuration and its files,
/// and its log while the site is asked once more.
async fn look_around(context: &Context, own: &mut Looked, server: &OfServer, prober: &Arc<Prober>) {
    let expected = own.expected.clone();
    let mut around = circumstances::look(&context.machine, &expected, server, |pid| context.server_of_process(pid));
    if own.report.findings.iter().any(|finding| is_of_log(finding.code)) {
        let marked = logs::mark(&context.machine, &expected);
        _ = prober.observe(expected.clone(), own.chain.clone()).await;
        let names: Vec<String> = expected.site.names().map(HostName::to_string).collect();
        around.log = marked.added(&names);
    }
    explain(&mut own.report, expected.http_port, expected.https_port, &around);
}

/// Whether a server writes something about it.
fn is_of_log(code: Code) -> bool {
    matches!(
        code,
        Code::HttpsStatus
            | Code::FolderForbidden
            | Code::UpstreamDown
            | Code::AnsweredElsewhere
            | Code::HttpsFails
            | Code::HttpFails
            | Code::TlsFails
    )
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
