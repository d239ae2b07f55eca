//! A configuration of nginx as all servers' are asked.

use core::net::IpAddr;

use crate::server_path::ServerPath;

use super::run::{self, ServerBlock, answering_name};
use crate::config::{Answering, ConfigFault, Place, VirtualHost, asked_at};
use crate::host_port::HostPort;
use crate::logs::AccessLog;
use crate::servers::{Configuration, Listener, Rule};
use crate::site::Site;

/// A configuration, and the folder that its relative paths start from.
#[derive(Debug)]
pub(super) struct NginxConfiguration {
    configuration: run::NginxRun,
    root: ServerPath,
}

/// Default error log: built in, and the same in Debian's and most other builds.
const ERROR_LOG: &str = "/var/log/nginx/error.log";
/// The same as its makers build it, below its prefix.
const PLAIN_ERROR_LOG: &str = "logs/error.log";

impl NginxConfiguration {
    pub(super) fn new(configuration: run::NginxRun, main: &ServerPath) -> Self {
        Self { configuration, root: main.parent().unwrap_or_default() }
    }

    /// The server blocks of a site, that for HTTPS first: it is the one that has a folder.
    fn blocks(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<&ServerBlock> {
        let mut blocks: Vec<&ServerBlock> =
            self.configuration.servers.iter().filter(|block| is_of_site(&block.host.place)).collect();
        blocks.sort_by_key(|block| !block.host.tls);
        blocks
    }
}

impl Configuration for NginxConfiguration {
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
        &self.root
    }

    fn answering(&self) -> Vec<Answering<'_>> {
        self.configuration.answering()
    }

    fn answers<'c>(&self, at: &Answering<'c>, name: &str) -> Option<(&'c VirtualHost, bool)> {
        let host = answering_name(at, name)?;
        let has_name = host.name.iter().chain(&host.aliases).any(|own| own.eq_ignore_ascii_case(name));
        let is_default = at.hosts.get(at.default).is_some_and(|own| own.place == host.place);
        Some((host, has_name || !is_default))
    }

    fn listeners(&self) -> Vec<Listener> {
        let of = |block: &ServerBlock| {
            let place = block.host.place.clone();
            let listener = move |address: &str| {
                let port = HostPort::port_of(address)?;
                Some(Listener { address: address.trim_start_matches("*:").to_owned(), port, place: place.clone() })
            };
            block.listens.iter().filter_map(move |own| listener(&own.address)).collect::<Vec<_>>()
        };
        self.configuration.servers.iter().flat_map(of).collect()
    }

    fn takes_in(&self, answering: &[Answering<'_>], address: IpAddr, port: u16) -> bool {
        asked_at(answering, address, port).is_some()
    }

    fn has_tls(&self) -> bool {
        true
    }

    fn passes_php_on(&self) -> bool {
        true
    }

    fn decides_tls_by_first(&self) -> bool {
        false
    }

    fn rules(&self, site: &Site, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<Rule> {
        let blocks = self.blocks(is_of_site).into_iter();
        blocks.flat_map(|block| self.configuration.rules(block, site.address)).collect()
    }

    fn access_logs(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<AccessLog> {
        let blocks = self.blocks(is_of_site);
        let mut logs: Vec<AccessLog> = Vec::new();
        for block in &blocks {
            logs.extend(self.configuration.access_logs(block));
        }
        if blocks.is_empty() {
            logs.extend(self.configuration.shared_access_logs());
        }
        logs.dedup();
        logs
    }

    fn error_logs(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<ServerPath> {
        let named = self.blocks(is_of_site).into_iter().flat_map(|block| self.configuration.error_logs(block));
        let logs: Vec<ServerPath> = named.filter_map(|path| self.configuration.log_path(path)).collect();
        if !logs.is_empty() {
            return logs;
        }
        vec![self.configuration.log_path(PLAIN_ERROR_LOG).unwrap_or_else(|| ERROR_LOG.into())]
    }

    fn user(&self) -> Option<&str> {
        self.configuration.user.as_deref()
    }

    fn pid_file(&self) -> Option<ServerPath> {
        self.configuration.pid_file.clone()
    }
}
