//! A server's configuration as far as a site is concerned: virtual hosts, listeners, access rules,
//! error logs.

use std::collections::HashSet;
use std::net::{IpAddr, Ipv6Addr};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    AccessLog, Answering, AnsweringHost, Configuration, Configured, DEFAULT_ADDRESS, Expected, Place, ProjectRules,
    Rule, RuleEffect, ServerPath, Site, SiteFileState, VirtualHost, asked_at,
};

use crate::files;
use crate::os;
use crate::servers::Found;

/// The configuration for each of these sites.
pub(super) fn sites(read: &dyn Configuration, found: &Found, sites: &[&Expected]) -> Vec<Configured> {
    let files: HashSet<&str> = read.files().iter().map(ServerPath::as_str).collect();
    let at = read.answering();
    let of = |expected: &&Expected| {
        let address = expected.site.address;
        let about = About::of(found, expected, &files, read.includes());
        let mut configured = about.configured(read.fault().is_some(), |name, port| {
            let of_address = |address| read.answers(asked_at(&at, address, port)?, name);
            addresses(&expected.site)
                .filter(|own| *own == address || read.takes_in(&at, *own, port))
                .filter_map(of_address)
                .collect()
        });
        configured.has_tls = Some(read.has_tls());
        configured.plain_first = if read.decides_tls_by_first() { plain_first(&at, expected) } else { None };
        if read.fault().is_some() {
            // Read in part, it can't tell where the server listens.
            return configured;
        }
        configured.not_listened = about.if_read(&configured, |port| !read.takes_in(&at, address, *port));
        configured
    };
    sites.iter().map(of).collect()
}

/// The first virtual host where a site answers over HTTPS, if it has TLS off.
fn plain_first(at: &[Answering<'_>], expected: &Expected) -> Option<Place> {
    let hosts =
        &asked_at(at, expected.site.address, expected.https_port).filter(|_| expected.site.https.is_on())?.hosts;
    let first = hosts.first().filter(|first| !first.tls)?;
    hosts.iter().any(|host| host.tls).then(|| first.place.clone())
}

/// The addresses of a site's names: of the default one also that of IPv6.
fn addresses(site: &Site) -> impl Iterator<Item = IpAddr> {
    let v6 = (site.address == DEFAULT_ADDRESS).then_some(IpAddr::V6(Ipv6Addr::LOCALHOST));
    std::iter::once(site.address).chain(v6)
}

/// The lines that may answer a site's requests in the place of its folder: of the configuration, then of an override
/// file. Their places are by the paths of this machine.
pub(super) fn rules(read: &dyn Configuration, found: &Found, site: &Site) -> Vec<Rule> {
    let own = Own::of(found, site);
    let mut rules = read.rules(site, &|place| own.has(found, place));
    for rule in &mut rules {
        rule.place.file = found.view.here_or_same(&ServerPath::new(&rule.place.file)).into();
    }
    if let Some(root) = site.document_root() {
        let denied = override_rule(found, &root, |rules| rules.denied);
        rules.extend(denied.map(|(place, effect)| Rule { effect, place }));
        // This one takes the place of the configuration's.
        let index = override_rule(found, &root, |rules| rules.index);
        rules.splice(..0, index.map(|(place, effect)| Rule { effect, place }));
    }
    rules
}

/// The line by which a server counts a site's requests, and refuses those beyond a number.
pub(super) fn limits(read: &dyn Configuration, found: &Found, site: &Site) -> Option<Place> {
    let rules = rules(read, found, site);
    rules.into_iter().find(|rule| rule.effect == RuleEffect::Limits).map(|rule| rule.place)
}

/// The error logs that the server writes for a site, by the paths of this machine.
pub(super) fn error_logs(read: &dyn Configuration, found: &Found, site: &Site) -> Vec<Utf8PathBuf> {
    let own = Own::of(found, site);
    let logs = read.error_logs(&|place| own.has(found, place));
    let mut logs: Vec<Utf8PathBuf> = logs.iter().map(|path| found.view.here_or_same(path)).collect();
    logs.dedup();
    logs
}

/// The logs of requests to a site, by the server's paths.
pub(super) fn access_logs(read: &dyn Configuration, found: &Found, site: &Site) -> Vec<AccessLog> {
    let own = Own::of(found, site);
    read.access_logs(&|place| own.has(found, place))
}

/// The error logs of a server itself, by the paths of this machine.
pub(super) fn main_error_logs(read: &dyn Configuration, found: &Found) -> Vec<Utf8PathBuf> {
    read.error_logs(&|_| false).iter().map(|path| found.view.here_or_same(path)).collect()
}

/// The names that answer on a port, in the order of their virtual hosts.
pub(super) fn names_on(read: &dyn Configuration, address: IpAddr, port: u16) -> Vec<String> {
    let at = read.answering();
    let hosts = asked_at(&at, address, port).map(|at| at.hosts.iter()).into_iter().flatten();
    hosts.filter_map(|host| host.name.clone()).collect()
}

/// A site, and what its server reads.
struct About<'a> {
    found: &'a Found,
    expected: &'a Expected,
    files: &'a HashSet<&'a str>,
    includes: &'a [ServerPath],
    own: Own,
}

impl<'a> About<'a> {
    fn of(found: &'a Found, expected: &'a Expected, files: &'a HashSet<&'a str>, includes: &'a [ServerPath]) -> Self {
        Self { found, expected, files, includes, own: Own::of(found, &expected.site) }
    }
}

impl About<'_> {
    /// State of its file, and the answering virtual hosts. `answers` gives the virtual hosts of a name and a port, one for each address, and
    /// whether it has the name.
    fn configured<'h>(
        &self,
        is_cut_short: bool,
        answers: impl Fn(&str, u16) -> Vec<(&'h VirtualHost, bool)>,
    ) -> Configured {
        let found = self.found;
        let (layout, own) = (&found.layout, &self.own);
        let mut configured = Configured { site_file: self.site_file(), ..Configured::default() };
        let as_seen = found.view.there_or_same(own.link.as_ref().unwrap_or(&own.file));
        let pattern = found.view.there(&layout.pattern());
        let is_included = is_cut_short
            || self.files.contains(as_seen.as_str())
            // A file that is missing or not enabled is reported as that.
            || self.includes.iter().any(|own| Some(own) == pattern.as_ref());
        if configured.site_file == SiteFileState::Read && !is_included {
            configured.site_file = SiteFileState::NotIncluded { file: own.file.clone(), main: layout.main.clone() };
        }
        // A configuration that was read in part can't tell who answers.
        if is_cut_short {
            return configured;
        }
        for port in self.ports() {
            for name in self.expected.asked_names() {
                let answering = |(host, has_name): (&VirtualHost, bool)| AnsweringHost {
                    name: name.clone(),
                    port,
                    place: host.place.clone(),
                    has_name,
                    is_own: own.has(found, &host.place),
                    tls: host.tls,
                    document_root: self.folder_of(host),
                };
                let mut hosts = answers(name.as_str(), port);
                hosts.dedup_by(|one, other| one.0.place == other.0.place);
                configured.answering.extend(hosts.into_iter().map(answering));
            }
        }
        configured
    }

    /// The folder that a virtual host serves, as the site calls it if it is the same.
    fn folder_of(&self, host: &VirtualHost) -> Option<Utf8PathBuf> {
        let folder = self.found.view.here_or_same(&ServerPath::new(host.document_root.as_deref()?));
        let own = self.expected.site.document_root()?;
        let is_same =
            folder == own || os::real_path(&folder).is_ok_and(|real| os::real_path(&own).is_ok_and(|own| own == real));
        Some(if is_same { own } else { folder })
    }

    fn ports(&self) -> Vec<u16> {
        let Expected { site, http_port, https_port, .. } = self.expected;
        let mut ports = if site.own_tls().is_some() { Vec::new() } else { site.http_ports(*http_port) };
        if site.https.is_on() {
            ports.extend(site.https_ports(*https_port));
        }
        ports
    }

    /// The ports that nobody listens on; what isn't read says nothing of that.
    fn if_read(&self, configured: &Configured, is_deaf: impl Fn(&u16) -> bool) -> Vec<u16> {
        if configured.site_file != SiteFileState::Read || configured.answering.is_empty() && self.files.is_empty() {
            return Vec::new();
        }
        self.ports().into_iter().filter(is_deaf).collect()
    }

    fn site_file(&self) -> SiteFileState {
        let Own { file, link } = &self.own;
        match link {
            _ if !file.is_file() => SiteFileState::Missing(file.clone()),
            // A link that leads nowhere is as good as none.
            Some(link) if !link.exists() => SiteFileState::NotEnabled { file: file.clone(), link: link.clone() },
            _ => SiteFileState::Read,
        }
    }
}

/// A site's own file, and the link by which it is enabled.
struct Own {
    file: Utf8PathBuf,
    link: Option<Utf8PathBuf>,
}

impl Own {
    fn of(found: &Found, site: &Site) -> Self {
        let link = found.layout.site_link(&site.name).map(|(link, _)| link);
        Self { file: found.layout.site_file(&site.name), link }
    }

    /// Whether a line is in it.
    fn has(&self, found: &Found, place: &Place) -> bool {
        let file = found.view.here_or_same(&ServerPath::new(&place.file));
        file == self.file || Some(&file) == self.link.as_ref()
    }
}

/// A line of the innermost override file of a folder that has such a line.
pub(super) fn override_place(
    found: &Found,
    root: &Utf8Path,
    line: impl Fn(ProjectRules) -> Option<usize>,
) -> Option<Place> {
    override_rule(found, root, |rules| Some((line(rules)?, ()))).map(|(place, ())| place)
}

/// The same, with what the line does.
fn override_rule<T>(
    found: &Found,
    root: &Utf8Path,
    line: impl Fn(ProjectRules) -> Option<(usize, T)>,
) -> Option<(Place, T)> {
    let software = found.kind.software();
    let name = software.override_file()?;
    let files = root.ancestors().map(|folder| folder.join(name)).filter(|file| file.is_file());
    files.into_iter().find_map(|file| {
        let (line, effect) = line(software.project_rules(&files::read(&file).ok()?))?;
        Some((Place { file: file.into(), line }, effect))
    })
}
