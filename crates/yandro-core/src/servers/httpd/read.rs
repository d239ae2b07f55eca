//! A configuration of Apache httpd as all servers' are asked.

use core::net::{IpAddr, SocketAddr};

use crate::server_path::ServerPath;

use super::rules::rules;
use super::run::{self, Event, Listen};
use crate::config::{Answering, ConfigFault, Place, VirtualHost, by_address, first_that_has};
use crate::logs::{AccessLog, TookField};
use crate::servers::{Configuration, Listener, Rule};
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

    /// A format of logs: itself, or the one with this nickname.
    fn format<'f>(&'f self, format: &'f str) -> &'f str {
        let mut named = self.configuration.events.iter().filter(|event| event.is("LogFormat"));
        let named = named.rfind(|event| event.arguments.get(1).is_some_and(|name| name == format));
        named.and_then(|event| event.arguments.first()).map_or(format, String::as_str)
    }
}

impl Configuration for HttpdConfiguration {
    fn files(&self) -> &[ServerPath] {
        &self.configuration.files
    }

    fn includes(&self) -> &[ServerPath] {
        &self.configuration.includes
    }

    fn fault(&self) -> Option<&ConfigFault> {
        self.configuration.fault.as_ref()
    }

    fn root(&self) -> &ServerPath {
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

    fn passes_php_on(&self) -> bool {
        ["proxy_module", "proxy_fcgi_module"].iter().all(|module| self.configuration.modules.contains(*module))
    }

    fn decides_tls_by_first(&self) -> bool {
        true
    }

    fn rules(&self, site: &Site, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<Rule> {
        rules(&self.configuration, &site.document_root().unwrap_or_default().into(), is_of_site)
    }

    fn access_logs(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<AccessLog> {
        let is_log = |event: &&Event| event.is("CustomLog") || event.is("TransferLog");
        let of_site: Vec<&Event> =
            self.configuration.events.iter().filter(is_log).filter(|event| is_of_site(&event.place)).collect();
        let is_shared = of_site.is_empty();
        let of_server = ["CustomLog", "TransferLog"].into_iter().flat_map(|name| self.configuration.main_server(name));
        let events: Vec<&Event> = if is_shared { of_server.collect() } else { of_site };
        let log = |event: &Event| {
            // A program that logs are piped to, or the system's log.
            let path = event.arguments.first().filter(|path| !path.starts_with('|') && !path.starts_with("syslog"))?;
            let took = event.arguments.get(1).and_then(|format| TookField::of_format(self.format(format)));
            Some(AccessLog { path: self.configuration.server_root.join(path), is_shared, took })
        };
        let mut logs: Vec<AccessLog> = events.into_iter().filter_map(log).collect();
        logs.dedup();
        logs
    }

    fn error_logs(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<ServerPath> {
        let of_site = self.configuration.events.iter().filter(|event| event.is("ErrorLog") && is_of_site(&event.place));
        let paths =
            of_site.chain(self.configuration.main_server("ErrorLog")).filter_map(|event| event.arguments.first());
        paths.map(|path| self.configuration.server_root.join(path)).collect()
    }

    fn user(&self) -> Option<&str> {
        self.last_of("User")
    }

    fn pid_file(&self) -> Option<ServerPath> {
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
