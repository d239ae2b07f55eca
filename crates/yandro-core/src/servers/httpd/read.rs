//! A configuration of Apache httpd as all servers' are asked.

use core::net::{IpAddr, SocketAddr};

use camino::{Utf8Path, Utf8PathBuf};

use super::overrides::denies;
use super::run::{self, EventKind, Listen};
use crate::config::{Answering, ConfigFault, Place, VirtualHost, by_address, first_that_has};
use crate::servers::{Configuration, Listener};
use crate::site::Site;

/// A configuration with what is asked of it often.
#[derive(Debug)]
pub(super) struct HttpdConfiguration {
    configuration: run::HttpdRun,
    hosts: Vec<VirtualHost>,
    listens: Vec<Listen>,
}

impl HttpdConfiguration {
    pub(super) fn new(configuration: run::HttpdRun) -> Self {
        let (hosts, listens) = (configuration.virtual_hosts(), configuration.listens());
        Self { configuration, hosts, listens }
    }

    /// The argument of a directive of the main server: the last one counts.
    fn last_of(&self, name: &'static str) -> Option<&str> {
        self.configuration.main_server(name).last()?.arguments.first().map(String::as_str)
    }
}

impl Configuration for HttpdConfiguration {
    fn files(&self) -> &[Utf8PathBuf] {
        &self.configuration.files
    }

    fn includes(&self) -> &[Utf8PathBuf] {
        &self.configuration.includes
    }

    fn fault(&self) -> Option<&ConfigFault> {
        self.configuration.fault.as_ref()
    }

    fn root(&self) -> &Utf8Path {
        &self.configuration.server_root
    }

    fn answering(&self) -> Vec<Answering<'_>> {
        by_address(&self.hosts)
    }

    fn answers<'c>(&self, at: &Answering<'c>, name: &str) -> Option<(&'c VirtualHost, bool)> {
        first_that_has(at, name)
    }

    fn listeners(&self) -> Vec<Listener> {
        let of = |listen: &Listen| Listener { address: shown(listen), port: listen.port, place: listen.place.clone() };
        self.listens.iter().map(of).collect()
    }

    fn takes_in(&self, _: &[Answering<'_>], address: IpAddr, port: u16) -> bool {
        self.listens.iter().any(|listen| listen.takes_in(address, port))
    }

    fn has_tls(&self) -> bool {
        self.configuration.modules.contains("ssl_module")
    }

    fn denied(&self, site: &Site, is_of_site: &dyn Fn(&Place) -> bool) -> Option<Place> {
        denied(&self.configuration, &site.document_root()?, is_of_site)
    }

    fn error_logs(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<Utf8PathBuf> {
        let of_site = self.configuration.events.iter().filter(|event| event.is("ErrorLog") && is_of_site(&event.place));
        let paths =
            of_site.chain(self.configuration.main_server("ErrorLog")).filter_map(|event| event.arguments.first());
        paths.map(|path| self.configuration.server_root.join(path)).collect()
    }

    fn user(&self) -> Option<&str> {
        self.last_of("User")
    }

    fn pid_file(&self) -> Option<Utf8PathBuf> {
        let path = self.last_of("PidFile").unwrap_or("logs/httpd.pid");
        Some(self.configuration.server_root.join(path))
    }
}

fn shown(listen: &Listen) -> String {
    match listen.address {
        Some(address) => SocketAddr::new(address, listen.port).to_string(),
        None => listen.port.to_string(),
    }
}

/// Meaning of a section for the lines within it.
enum Within {
    /// They are about this folder, or this path of the site.
    Folder(Utf8PathBuf),
    /// They apply to the surrounding section.
    Same,
    /// They are about some files, some requests, or another site.
    Other,
}

/// The line that forbids the document root: in the innermost `<Directory>` that it is in.
fn denied(own: &run::HttpdRun, root: &Utf8Path, is_of_site: &dyn Fn(&Place) -> bool) -> Option<Place> {
    let mut within: Vec<Within> = Vec::new();
    let mut last: Option<(usize, bool, &Place)> = None;
    for event in &own.events {
        let is_any = |names: &[&str]| names.iter().any(|name| event.is(name));
        match event.kind {
            EventKind::Open => within.push(match event.arguments.first() {
                Some(folder) if is_any(&["Directory", "Location"]) => Within::Folder(folder.into()),
                _ if is_any(&["IfModule", "IfDefine", "IfVersion", "RequireAll", "RequireAny"]) => Within::Same,
                _ if event.is("VirtualHost") && is_of_site(&event.place) => Within::Same,
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
    last.filter(|(_, is_denied, _)| *is_denied).map(|(.., place)| place.clone())
}
