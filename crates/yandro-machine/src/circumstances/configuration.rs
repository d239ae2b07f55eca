//! What a server's configuration says of a site: who answers, where it listens, what is forbidden,
//! where its errors are written.

use std::collections::HashSet;
use std::net::IpAddr;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::check::{AnsweringHost, Configured, Expected, SiteFileState};
use yandro_core::config::{Answering, Place, VirtualHost, asked_at, by_address, first_that_has};
use yandro_core::httpd::run::{Configuration as Httpd, EventKind};
use yandro_core::httpd::{Overrides, denies};
use yandro_core::nginx::run::{Configuration as Nginx, ServerBlock, answering_name};
use yandro_core::site::{ServerKind, Site};

use crate::files;
use crate::machine::Machine;
use crate::servers::Found;
use crate::{apache, nginx};

/// A server's configuration, run through once for all of its sites.
#[derive(Clone, Debug)]
pub(super) enum Read {
    /// Of Apache httpd.
    Apache(Httpd),
    /// Of nginx.
    Nginx(Nginx),
}

impl Read {
    /// Reads it; with `is_asked` the program says what is built in, which takes longer than all the rest.
    pub(super) fn of(machine: &Machine, found: &Found, is_asked: bool) -> Self {
        match found.kind {
            ServerKind::Apache if is_asked => Self::Apache(apache::configuration(machine, found)),
            ServerKind::Apache => Self::Apache(apache::unasked_configuration(machine, found)),
            ServerKind::Nginx => Self::Nginx(nginx::configuration(found)),
        }
    }

    /// The files that were read, as the server sees them.
    pub(super) fn files(&self) -> &[Utf8PathBuf] {
        match self {
            Self::Apache(own) => &own.files,
            Self::Nginx(own) => &own.files,
        }
    }

    /// What it says of each of these sites.
    pub(super) fn sites(&self, found: &Found, sites: &[&Expected]) -> Vec<Configured> {
        let files: HashSet<&str> = self.files().iter().map(|file| file.as_str()).collect();
        match self {
            Self::Apache(own) => {
                let (listens, hosts) = (own.listens(), own.virtual_hosts());
                let at = by_address(&hosts);
                let of = |expected: &&Expected| {
                    let site = &expected.site;
                    let about = About::of(found, expected, &files, &own.includes);
                    let mut configured = about.configured(own.fault.is_some(), |name, port| {
                        first_that_has(asked_at(&at, site.address, port)?, name)
                    });
                    configured.has_tls = Some(own.modules.contains("ssl_module"));
                    let is_deaf = |port: &u16| listens.iter().all(|listen| !listen.takes_in(site.address, *port));
                    configured.not_listened = about.if_read(&configured, is_deaf);
                    configured
                };
                sites.iter().map(of).collect()
            }
            Self::Nginx(own) => {
                let at = own.answering();
                let of = |expected: &&Expected| {
                    let site = &expected.site;
                    let about = About::of(found, expected, &files, &own.includes);
                    let mut configured = about.configured(own.fault.is_some(), |name, port| {
                        let at: &Answering<'_> = asked_at(&at, site.address, port)?;
                        let host = answering_name(at, name)?;
                        let has_name = host.name.iter().chain(&host.aliases).any(|own| own.eq_ignore_ascii_case(name));
                        let is_default = at.hosts.get(at.default).is_some_and(|own| own.place == host.place);
                        Some((host, has_name || !is_default))
                    });
                    configured.has_tls = Some(true);
                    let is_deaf = |port: &u16| asked_at(&at, site.address, *port).is_none();
                    configured.not_listened = about.if_read(&configured, is_deaf);
                    configured
                };
                sites.iter().map(of).collect()
            }
        }
    }

    /// The line that keeps this machine from a site's folder.
    pub(super) fn denied(&self, found: &Found, site: &Site) -> Option<Place> {
        match self {
            Self::Apache(own) => denied(own, found, site),
            Self::Nginx(own) => blocks(own, found, site).find_map(|block| own.denied(block, site.address)).cloned(),
        }
    }

    /// The error logs that the server writes for a site, by the paths of this machine.
    pub(super) fn error_logs(&self, found: &Found, site: &Site) -> Vec<Utf8PathBuf> {
        let mut logs: Vec<Utf8PathBuf> = Vec::new();
        match self {
            Self::Apache(configuration) => {
                let of_site = Own::of(found, site);
                let is_own = |place: &Place| of_site.has(found, place);
                let main: Vec<_> = configuration.main_server("ErrorLog").collect();
                let of_site = configuration.events.iter().filter(|event| event.is("ErrorLog") && is_own(&event.place));
                for event in of_site.chain(main) {
                    let path = event.arguments.first().map(|path| configuration.server_root.join(path));
                    logs.extend(path.map(|path| found.view.here_or_same(&path)));
                }
            }
            Self::Nginx(configuration) => {
                let named = blocks(configuration, found, site).flat_map(|block| configuration.error_logs(block));
                let absolute = named.filter(|path| path.starts_with('/')).map(Utf8Path::new);
                logs.extend(absolute.map(|path| found.view.here_or_same(path)));
                // What it says nothing of goes to a place that is built in: Debian's and most others' is this one.
                if logs.is_empty() {
                    logs.push("/var/log/nginx/error.log".into());
                }
            }
        }
        logs.dedup();
        logs
    }

    /// The names that answer on a port, in the order of their virtual hosts.
    pub(super) fn names_on(&self, address: IpAddr, port: u16) -> Vec<String> {
        let names = |hosts: &[&VirtualHost]| hosts.iter().filter_map(|host| host.name.clone()).collect();
        match self {
            Self::Apache(own) => {
                let hosts = own.virtual_hosts();
                let at = by_address(&hosts);
                asked_at(&at, address, port).map(|at| names(&at.hosts)).unwrap_or_default()
            }
            Self::Nginx(own) => {
                let at = own.answering();
                asked_at(&at, address, port).map(|at| names(&at.hosts)).unwrap_or_default()
            }
        }
    }
}

/// A site, and what its server reads.
struct About<'a> {
    found: &'a Found,
    expected: &'a Expected,
    files: &'a HashSet<&'a str>,
    includes: &'a [Utf8PathBuf],
    own: Own,
}

impl<'a> About<'a> {
    fn of(found: &'a Found, expected: &'a Expected, files: &'a HashSet<&'a str>, includes: &'a [Utf8PathBuf]) -> Self {
        Self { found, expected, files, includes, own: Own::of(found, &expected.site) }
    }
}

impl About<'_> {
    /// How its file stands, and who answers its names. `answers` tells the virtual host of a name and a port, and
    /// whether it has the name.
    fn configured<'h>(
        &self,
        is_cut_short: bool,
        answers: impl Fn(&str, u16) -> Option<(&'h VirtualHost, bool)>,
    ) -> Configured {
        let (found, site) = (self.found, &self.expected.site);
        let (layout, own) = (&found.layout, &self.own);
        let mut configured = Configured { site_file: self.site_file(), ..Configured::default() };
        let as_seen = found.view.there_or_same(own.link.as_ref().unwrap_or(&own.file));
        let pattern = found.view.there(&layout.pattern());
        let is_included = is_cut_short
            || self.files.contains(as_seen.as_str())
            // One that is missing or not enabled is told as that.
            || self.includes.iter().any(|own| Some(own.as_path()) == pattern.as_deref());
        if configured.site_file == SiteFileState::Read && !is_included {
            configured.site_file = SiteFileState::NotIncluded { file: own.file.clone(), main: layout.main.clone() };
        }
        // What was read in part says nothing of who answers.
        if is_cut_short {
            return configured;
        }
        for port in self.ports() {
            for name in site.names() {
                let Some((host, has_name)) = answers(name.as_str(), port) else { continue };
                configured.answering.push(AnsweringHost {
                    name: name.clone(),
                    port,
                    place: host.place.clone(),
                    has_name,
                    is_own: own.has(found, &host.place),
                    tls: host.tls,
                    document_root: self.folder_of(host),
                });
            }
        }
        configured
    }

    /// The folder that a virtual host serves, as the site calls it if it is the same.
    fn folder_of(&self, host: &VirtualHost) -> Option<Utf8PathBuf> {
        let folder = self.found.view.here_or_same(Utf8Path::new(host.document_root.as_deref()?));
        let own = self.expected.site.document_root()?;
        let is_same = folder == own
            || folder.canonicalize_utf8().is_ok_and(|real| own.canonicalize_utf8().is_ok_and(|own| own == real));
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

    /// Whether something stands in it.
    fn has(&self, found: &Found, place: &Place) -> bool {
        let file = found.view.here_or_same(Utf8Path::new(&place.file));
        file == self.file || Some(&file) == self.link.as_ref()
    }
}

/// The server blocks of a site, that for HTTPS first: it is the one that has a folder.
fn blocks<'c>(own: &'c Nginx, found: &Found, site: &Site) -> impl Iterator<Item = &'c ServerBlock> {
    let of_site = Own::of(found, site);
    let mut blocks: Vec<&ServerBlock> =
        own.servers.iter().filter(|block| of_site.has(found, &block.host.place)).collect();
    blocks.sort_by_key(|block| !block.host.tls);
    blocks.into_iter()
}

/// What a section of Apache httpd's says of the lines within it.
enum Within {
    /// They are about this folder, or this path of the site.
    Folder(Utf8PathBuf),
    /// They are about what it stands in.
    Same,
    /// They are about some files, some requests, or another site.
    Other,
}

/// The line that forbids the document root: in the innermost `<Directory>` that it is in, or in an
/// override file.
fn denied(own: &Httpd, found: &Found, site: &Site) -> Option<Place> {
    let root = site.document_root()?;
    let of_site = Own::of(found, site);
    let mut within: Vec<Within> = Vec::new();
    let mut last: Option<(usize, bool, &Place)> = None;
    for event in &own.events {
        let is_any = |names: &[&str]| names.iter().any(|name| event.is(name));
        match event.kind {
            EventKind::Open => within.push(match event.arguments.first() {
                Some(folder) if is_any(&["Directory", "Location"]) => Within::Folder(folder.into()),
                _ if is_any(&["IfModule", "IfDefine", "IfVersion", "RequireAll", "RequireAny"]) => Within::Same,
                _ if event.is("VirtualHost") && of_site.has(found, &event.place) => Within::Same,
                _ => Within::Other,
            }),
            EventKind::Close => _ = within.pop(),
            EventKind::Directive => {
                let Some(is_denied) = denies(&event.name, event.arguments.iter().map(String::as_str)) else { continue };
                let folder = within.iter().rev().find_map(|own| match own {
                    Within::Folder(folder) => Some(folder),
                    _ => None,
                });
                let is_other = within.iter().any(|own| matches!(own, Within::Other));
                let Some(folder) = folder.filter(|folder| !is_other && root.starts_with(folder)) else { continue };
                let depth = folder.components().count();
                if last.as_ref().is_none_or(|(other, ..)| depth >= *other) {
                    last = Some((depth, is_denied, &event.place));
                }
            }
        }
    }
    let of_overrides = || override_place(&root, |own| own.denied);
    last.filter(|(_, is_denied, _)| *is_denied).map(|(.., place)| place.clone()).or_else(of_overrides)
}

/// A line of the innermost override file of a folder that has such a line.
pub(super) fn override_place(root: &Utf8Path, line: impl Fn(Overrides) -> Option<usize>) -> Option<Place> {
    let files = root.ancestors().map(|folder| folder.join(".htaccess")).filter(|file| file.is_file());
    files.into_iter().find_map(|file| {
        let line = line(Overrides::read(&files::read(&file).ok()?))?;
        Some(Place { file: file.into(), line })
    })
}
