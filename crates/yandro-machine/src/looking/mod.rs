//! Observing and judging sites, and looking closer at those that are not well.

mod beside;
mod error;
mod scene;
mod url;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use camino::Utf8Path;
use tokio::task::JoinSet;
use yandro_core::{
    Answer, Authority, Beside, Code, Expected, Failure, FailureKind, HostName, HostsFault, NameObservation, Proof,
    ServerId, Site, SiteReport, Timed, explain, judge,
};

use crate::circumstances::{self, OfServer, Slowness, settings};
use crate::files::FileError;
use crate::os;
use crate::probe::{Limit, Manner, OffersOf, Prober};
use crate::{caches, files, observe, permissions, resolver};

use beside::{Around, Beginning};
pub use error::LookError;
pub use scene::{Progress, Scene};
pub use url::{AddressLook, HostFacts, UrlLook, look_at_url};

/// How many sites with a problem are asked once more for the server's log lines.
const CLOSELY: usize = 32;
/// How long the answers of a name may have taken for the site to be asked once more.
const PATIENCE: Duration = Duration::from_secs(3);
/// Up to how many sites each name is asked for all that it offers within TLS; of more each port is.
const FEW: usize = 8;

/// How closely to look.
#[derive(Clone, Copy, Debug, Default)]
pub struct Closeness {
    /// Whether facts apart from the answers count as well: listeners, the server's files, the
    /// settings of this machine. Each site with a problem is then looked at again for its cause.
    pub is_close: bool,
    /// How long to wait for any one answer.
    pub within: Limit,
}

/// The observations of a site's first ports, and its report.
struct Looked {
    expected: Arc<Expected>,
    chain: Option<Vec<u8>>,
    seen: Vec<NameObservation>,
    /// The same of its further ports.
    further: Vec<(Arc<Expected>, Vec<NameObservation>)>,
}

/// Observes these sites, all at once, and gives their reports in their order. `tell` gets each report as soon as it and
/// those before it are complete.
///
/// # Errors
/// When the hosts file, the authority or a certificate can't be read.
pub async fn look(
    scene: Scene<'_>,
    sites: &[Site],
    closeness: Closeness,
    tell: &mut (dyn FnMut(&SiteReport) + Send),
) -> Result<Vec<SiteReport>, LookError> {
    let places = &scene.machine.places;
    let (hosts, hosts_fault) = read_hosts(&places.hosts)?;
    let authority = observe::authority_certificates(scene.machine)?
        .map(|certificates| Authority::read(&certificates))
        .transpose()
        .map_err(LookError::Authority)?;
    let offers = match sites.len() {
        _ if !closeness.is_close => OffersOf::None,
        0..=FEW => OffersOf::Names,
        _ => OffersOf::Ports,
    };
    let manner = Manner { within: closeness.within, offers };
    let prober = Prober::new(scene.machine, scene.present, hosts, authority.as_ref(), manner);
    let expected = expected(scene, sites, (authority.as_ref(), hosts_fault), closeness.is_close);
    let around = closeness.is_close.then(|| {
        let authority = if has_https(sites) { authority } else { None };
        Beginning::begin(scene, &expected, authority)
    });
    let first: Vec<Arc<Expected>> = expected.iter().filter_map(|of_site| of_site.first().cloned()).collect();
    let mut observing = Observing::new(scene, expected, &prober);
    // Reading configurations and stores keeps all processors busy. A few sites are asked meanwhile, so that their
    // rows come soon after.
    observing.begin(FEW)?;
    let mut around = match around {
        Some(around) => Some(around.finish(scene, first.iter().map(|own| &**own).collect()).await?),
        None => None,
    };
    observing.begin(usize::MAX)?;
    let mut reports = Vec::with_capacity(sites.len());
    let mut closely = 0;
    while let Some(own) = observing.next().await? {
        let report = match &mut around {
            Some(around) => own.explained(scene, around, reports.len(), (&prober, &mut closely)).await,
            None => report(&own, &Beside::default()),
        };
        tell(&report);
        reports.push(report);
    }
    Ok(reports)
}

/// The hosts file, and its fault if resolvers read no line of it.
fn read_hosts(path: &Utf8Path) -> Result<(Vec<u8>, Option<HostsFault>), LookError> {
    match files::read_if_there(path) {
        Ok(Some(bytes)) if bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff") => {
            Ok((Vec::new(), Some(HostsFault::Utf16)))
        }
        Ok(Some(bytes)) => {
            // Root reads it all the same.
            let is_readable = os::is_readable_by_all(path).map_err(FileError::at(path))?;
            Ok((bytes, (!is_readable).then_some(HostsFault::Unreadable)))
        }
        Ok(None) => {
            let target = path.read_link_utf8().ok();
            Ok((Vec::new(), Some(target.map_or(HostsFault::Missing, HostsFault::Dangling))))
        }
        Err(error) if error.is_permission() => Ok((Vec::new(), Some(HostsFault::Unreadable))),
        Err(error) => Err(error.into()),
    }
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

/// The expected state of each site, for each pair of its ports.
fn expected(
    scene: Scene<'_>,
    sites: &[Site],
    (authority, hosts_fault): (Option<&Authority>, Option<HostsFault>),
    is_close: bool,
) -> Vec<Vec<Arc<Expected>>> {
    let setup = caches::resolver_setup(scene.machine);
    let tenants = resolver::Tenants::of(scene.machine, sites);
    let settings = if is_close { settings::look(scene.machine, |name| std::env::var(name).ok()) } else { Vec::new() };
    let of_site = |site: &Site| {
        let server = site.server.unwrap_or(ServerId::BuiltIn);
        let named =
            scene.present.get(server).filter(|found| found.is_elsewhere()).and_then(|found| found.named.as_ref());
        let is_startable = named.is_some_and(|named| !named.start.is_empty());
        let of_ports = |(http_port, https_port)| {
            Arc::new(Expected {
                site: site.clone(),
                server,
                is_here: scene.present.is_here(server),
                is_startable,
                http_port,
                https_port,
                hosts_file: scene.machine.places.hosts.clone(),
                hosts_fault: hosts_fault.clone(),
                resolver: setup.clone(),
                tenants: resolver::Tenants::setup(tenants.as_ref(), site),
                now: scene.now,
                settings: settings.clone(),
                listed: scene.listed.clone(),
                authority_since: authority.map(|authority| authority.root_facts.not_before),
            })
        };
        scene.present.all_ports_of(site, server).into_iter().map(of_ports).collect()
    };
    sites.iter().map(of_site).collect()
}

/// Sites that are being observed, all at once.
struct Observing<'s> {
    scene: Scene<'s>,
    prober: Arc<Prober>,
    /// The sites that are yet to be begun with, in order.
    waiting: std::iter::Enumerate<std::vec::IntoIter<Vec<Arc<Expected>>>>,
    tasks: JoinSet<((usize, usize), Looked)>,
    /// How many pairs of ports each site has.
    turns: Vec<usize>,
    /// The observations that are complete, by site and pair of ports.
    seen: BTreeMap<(usize, usize), Looked>,
    /// The site that is to be given next.
    next: usize,
}

impl<'s> Observing<'s> {
    /// Nothing is asked yet.
    fn new(scene: Scene<'s>, expected: Vec<Vec<Arc<Expected>>>, prober: &Arc<Prober>) -> Self {
        let turns: Vec<usize> = expected.iter().map(Vec::len).collect();
        scene.progress.all.store(turns.iter().sum(), Ordering::Relaxed);
        let waiting = expected.into_iter().enumerate();
        let (tasks, seen) = (JoinSet::new(), BTreeMap::new());
        Self { scene, prober: prober.clone(), waiting, tasks, turns, seen, next: 0 }
    }

    /// Begins with so many more sites, or with all that are left.
    fn begin(&mut self, most: usize) -> Result<(), LookError> {
        for (place, of_site) in self.waiting.by_ref().take(most) {
            let mut chain = None;
            for (turn, expected) in of_site.into_iter().enumerate() {
                if turn == 0 {
                    chain = files::read_if_there(&self.scene.machine.places.chain(&expected.site.name))?;
                }
                let (prober, chain) = (self.prober.clone(), chain.clone());
                self.tasks.spawn(async move {
                    let seen = prober.observe(expected.clone(), chain.clone()).await;
                    ((place, turn), Looked { expected, chain, seen, further: Vec::new() })
                });
            }
        }
        Ok(())
    }

    /// The next site with all of its ports, in the order of the sites; `None` after the last.
    async fn next(&mut self) -> Result<Option<Looked>, LookError> {
        let Some(turns) = self.turns.get(self.next).copied() else { return Ok(None) };
        while !(0..turns).all(|turn| self.seen.contains_key(&(self.next, turn))) {
            let Some(one) = self.tasks.join_next().await else { return Ok(None) };
            let (order, own) = one.map_err(LookError::broken_off)?;
            self.seen.insert(order, own);
            self.scene.progress.done.fetch_add(1, Ordering::Relaxed);
        }
        let mut of_site = (0..turns).filter_map(|turn| self.seen.remove(&(self.next, turn)));
        let first = of_site.next();
        let further: Vec<_> = of_site.map(|own| (own.expected, own.seen)).collect();
        self.next += 1;
        Ok(first.map(|first| Looked { further, ..first }))
    }
}

impl Looked {
    /// The report of the site at this place, its findings explained.
    async fn explained(
        &self,
        scene: Scene<'_>,
        around: &mut Around,
        place: usize,
        (prober, closely): (&Arc<Prober>, &mut usize),
    ) -> SiteReport {
        let beside = &mut around.beside[place];
        beside.files = circumstances::file_faults(scene.machine, &self.expected);
        if self.is_refused_for_now() {
            let server = around.servers.get(&self.expected.server);
            beside.limits = server.and_then(|server| server.limits(&self.expected.site));
        }
        let mut report = report(self, beside);
        if !report.findings.is_empty() {
            *closely += 1;
            let server = around.servers.entry(report.server).or_default();
            let prober = (*closely <= CLOSELY).then_some(prober);
            self.look_around(scene, &mut report, server, beside, prober).await;
        }
        report
    }

    /// Whether a request was answered as servers do that count them.
    fn is_refused_for_now(&self) -> bool {
        let is_refused = |status: u16| matches!(status, 429 | 503);
        self.all_seen().any(|seen| {
            let answers = [&seen.http, &seen.https].into_iter().flatten();
            answers.filter_map(|timed| timed.seen.as_ref().ok()).any(|answer| is_refused(answer.status))
                || matches!(seen.proof.as_ref().map(|timed| &timed.seen), Some(Proof::Status(status)) if is_refused(*status))
        })
    }

    /// The observations of each name at each of its addresses and ports.
    fn all_seen(&self) -> impl Iterator<Item = &NameObservation> {
        let of_ports = self.seen.iter().chain(self.further.iter().flat_map(|(_, seen)| seen));
        of_ports.flat_map(|seen| std::iter::once(seen).chain(&seen.further))
    }

    /// How the site was slow, by what was found.
    fn slowness(&self, report: &SiteReport) -> Slowness {
        let is_late = |timed: &Timed<Result<Answer, Failure>>| {
            timed.seen.as_ref().is_err_and(|failure| failure.kind == FailureKind::TimedOut)
        };
        Slowness {
            is_silent: report.findings.iter().any(|finding| finding.code() == Code::ServerSilent),
            is_page_late: self.all_seen().any(|seen| seen.https.as_ref().or(seen.http.as_ref()).is_some_and(is_late)),
        }
    }

    /// Looks for the cause of what was found: the server's processes, its configuration and its files,
    /// and with a `prober` its log while the site is asked once more.
    async fn look_around(
        &self,
        scene: Scene<'_>,
        report: &mut SiteReport,
        server: &mut OfServer,
        beside: &Beside,
        prober: Option<&Arc<Prober>>,
    ) {
        let expected = self.expected.clone();
        let slowness = self.slowness(report);
        let mut around = circumstances::look((scene.machine, scene.present), &expected, server, (beside, slowness));
        let is_quick = self.seen.iter().all(|seen| took(seen) < PATIENCE);
        if let Some(prober) = prober.filter(|_| is_quick)
            && report.findings.iter().any(|finding| finding.code().is_logged())
        {
            let marked = server.mark_logs(scene.machine, &expected);
            _ = prober.observe(expected.clone(), self.chain.clone()).await;
            let names: Vec<String> = expected.site.names().map(HostName::to_string).collect();
            let began = Instant::now();
            around.log = marked.added(&names);
            // The built-in server gathers lines before it writes them.
            while around.log.is_empty() && expected.server == ServerId::BuiltIn && began.elapsed() < GATHERED {
                tokio::time::sleep(Duration::from_millis(10)).await;
                around.log = marked.added(&names);
            }
        }
        explain(report, expected.http_port, expected.https_port, &around);
        for remedy in report.findings.iter_mut().flat_map(|finding| &mut finding.diagnosis.remedies) {
            *remedy = remedy.clone().for_rights(&permissions::may_be_written);
        }
    }
}

/// How long the lines of a log are waited for, which may have none.
const GATHERED: Duration = Duration::from_millis(200);

/// How long the answers of a name took.
fn took(seen: &NameObservation) -> Duration {
    let of_page = seen.https.as_ref().or(seen.http.as_ref()).map(|timed| timed.took);
    of_page.unwrap_or_default() + seen.proof.as_ref().map(|timed| timed.took).unwrap_or_default()
}
