//! What a server's configuration says of a site: who answers, where it listens, what is forbidden,
//! where its errors are written.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::check::{Circumstances, Expected, OtherHost, SiteFileState};
use yandro_core::config::{Answering, Place, VirtualHost, asked_at, by_address, first_that_has};
use yandro_core::httpd::run::{Configuration as Httpd, EventKind};
use yandro_core::nginx::run::answering_name;
use yandro_core::site::{ServerKind, Site};

use super::logs;
use crate::machine::Machine;
use crate::servers::Found;
use crate::{apache, nginx};

/// Reads it into the circumstances.
pub(super) fn read(machine: &Machine, found: &Found, expected: &Expected, around: &mut Circumstances) {
    let site = &expected.site;
    let ports: Vec<u16> = [site.http_ports(expected.http_port), site.https_ports(expected.https_port)].concat();
    let file = found.layout.site_link(&site.name).map_or_else(|| found.layout.site_file(&site.name), |(link, _)| link);
    let as_seen = found.view.there_or_same(&file);
    let is_read = |files: &[Utf8PathBuf], includes: &[Utf8PathBuf]| {
        // One that is missing or not enabled is told as that.
        files.contains(&as_seen)
            || includes.iter().any(|own| Some(own.as_path()) == found.view.there(&found.layout.pattern()).as_deref())
    };
    let is_included = match found.kind {
        ServerKind::Apache => {
            let own = apache::configuration(machine, found);
            around.has_tls = Some(own.modules.contains("ssl_module"));
            let listens = own.listens();
            let is_deaf = |port: &u16| listens.iter().all(|listen| !listen.takes_in(site.address, *port));
            around.not_listened = ports.iter().copied().filter(is_deaf).collect();
            around.denied = denied(&own, site);
            let hosts = own.virtual_hosts();
            let at = by_address(&hosts);
            others(found, site, &ports, around, |port| {
                first_that_has(asked_at(&at, site.address, port)?, site.name.as_str())
            });
            own.fault.is_some() || is_read(&own.files, &own.includes)
        }
        ServerKind::Nginx => {
            let own = nginx::configuration(found);
            let at = own.answering();
            around.has_tls = Some(true);
            let is_deaf = |port: &u16| asked_at(&at, site.address, *port).is_none();
            around.not_listened = ports.iter().copied().filter(is_deaf).collect();
            around.denied = denied_by_nginx(&found.layout.site_file(&site.name), site);
            others(found, site, &ports, around, |port| {
                let at: &Answering<'_> = asked_at(&at, site.address, port)?;
                let host = answering_name(at, site.name.as_str())?;
                let has_name =
                    host.name.iter().chain(&host.aliases).any(|own| own.eq_ignore_ascii_case(site.name.as_str()));
                let is_default = at.hosts.get(at.default).is_some_and(|own| own.place == host.place);
                Some((host, has_name || !is_default))
            });
            own.fault.is_some() || is_read(&own.files, &own.includes)
        }
    };
    if around.site_file == SiteFileState::Read && !is_included {
        let file = found.layout.site_file(&site.name);
        around.site_file = SiteFileState::NotIncluded { file, main: found.layout.main.clone() };
    }
    // What isn't read says nothing of who listens and answers.
    if around.site_file != SiteFileState::Read {
        around.not_listened.clear();
    }
}

/// The virtual hosts that answer in the place of the site's own.
fn others<'h>(
    found: &Found,
    site: &Site,
    ports: &[u16],
    around: &mut Circumstances,
    answers: impl Fn(u16) -> Option<(&'h VirtualHost, bool)>,
) {
    let own = found.layout.site_file(&site.name);
    let link = found.layout.site_link(&site.name).map(|(link, _)| link);
    for port in ports {
        let Some((host, has_name)) = answers(*port) else { continue };
        let file = found.view.here_or_same(Utf8Path::new(&host.place.file));
        if file == own || Some(&file) == link.as_ref() {
            let is_https = site.https.is_on() && site.https_ports(443).contains(port);
            around.tls_off = around.tls_off.take().or_else(|| (is_https && !host.tls).then(|| host.place.clone()));
        } else {
            around.others.push(OtherHost { port: *port, place: host.place.clone(), has_name });
        }
    }
}

/// The line that forbids the document root: in the innermost `<Directory>` that it is in, or in an
/// override file.
fn denied(own: &Httpd, site: &Site) -> Option<Place> {
    let root = site.document_root()?;
    let mut within: Vec<Option<Utf8PathBuf>> = Vec::new();
    let mut last: Option<(usize, bool, Place)> = None;
    for event in &own.events {
        match event.kind {
            EventKind::Open => {
                let folder = event.arguments.first().map(Utf8PathBuf::from);
                within.push(folder.filter(|_| event.is("Directory") || event.is("Location")));
            }
            EventKind::Close => _ = within.pop(),
            EventKind::Directive if event.is("Require") => {
                let Some(folder) = within.iter().rev().flatten().next().filter(|folder| root.starts_with(folder))
                else {
                    continue;
                };
                let words: Vec<String> = event.arguments.iter().map(|word| word.to_ascii_lowercase()).collect();
                let is_denied = words == ["all", "denied"];
                if !is_denied && words != ["all", "granted"] {
                    continue;
                }
                let depth = folder.components().count();
                if last.as_ref().is_none_or(|(other, ..)| depth >= *other) {
                    last = Some((depth, is_denied, event.place.clone()));
                }
            }
            EventKind::Directive => {}
        }
    }
    let of_overrides =
        || line_with(&super::override_file(&root)?, |line| line.eq_ignore_ascii_case("require all denied"));
    last.filter(|(_, is_denied, _)| *is_denied).map(|(.., place)| place).or_else(of_overrides)
}

fn denied_by_nginx(file: &Utf8Path, site: &Site) -> Option<Place> {
    // What is denied within a location with a pattern, as hidden files are, is not the folder.
    let find = |file: &Utf8Path| {
        let text = std::fs::read_to_string(file).ok()?;
        let mut within = false;
        for (number, line) in text.lines().map(str::trim).enumerate() {
            if line.starts_with("location ") {
                within = line.contains('~');
            } else if line == "}" {
                within = false;
            } else if line == "deny all;" && !within {
                return Some(Place { file: file.to_string(), line: number + 1 });
            }
        }
        None
    };
    find(file).or_else(|| find(site.serving.extra.as_deref()?))
}

fn line_with(file: &Utf8Path, fits: impl Fn(&str) -> bool) -> Option<Place> {
    let text = std::fs::read_to_string(file).ok()?;
    let line = text.lines().position(|line| fits(line.trim()))? + 1;
    Some(Place { file: file.to_string(), line })
}

/// The error logs that a server writes for a site, by the paths of this machine.
pub(super) fn error_logs(machine: &Machine, found: &Found, site: &Site) -> Vec<Utf8PathBuf> {
    let own = found.layout.site_file(&site.name);
    let mut logs: Vec<Utf8PathBuf> = Vec::new();
    match found.kind {
        ServerKind::Apache => {
            let configuration = apache::configuration(machine, found);
            let link = found.layout.site_link(&site.name).map(|(link, _)| link);
            let is_own = |place: &Place| {
                let file = found.view.here_or_same(Utf8Path::new(&place.file));
                file == own || Some(&file) == link.as_ref()
            };
            let main: Vec<_> = configuration.main_server("ErrorLog").collect();
            let of_site = configuration.events.iter().filter(|event| event.is("ErrorLog") && is_own(&event.place));
            for event in of_site.chain(main) {
                let path = event.arguments.first().map(|path| configuration.server_root.join(path));
                logs.extend(path.map(|path| found.view.here_or_same(&path)));
            }
        }
        ServerKind::Nginx => {
            for file in [&own, &found.layout.main] {
                let text = std::fs::read_to_string(file).unwrap_or_default();
                logs.extend(logs::nginx_error_logs(&text));
            }
            logs.push("/var/log/nginx/error.log".into());
        }
    }
    logs.dedup();
    logs
}
