//! How Apache httpd's files are written.

use std::borrow::Cow;
use std::ops::Range;

use crate::server_path::ServerPath;

use super::desired::{WRITTEN, tls, virtual_hosts};
use super::parse::parse;
use crate::config::{Dialect, Directive, ParseError, Section, SiteFiles, Syntax, Tree, Variable, Want, escaped};
use crate::host_port::HostPort;
use crate::site::Site;
use crate::site::{Scheme, SiteVariable};

/// Apache httpd's syntax.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ApacheSyntax;

impl Syntax for ApacheSyntax {
    fn write_directive(&self, out: &mut String, name: &str, arguments: &[String]) {
        out.push_str(name);
        out.push(' ');
        self.write_arguments(out, arguments);
    }

    fn write_open(&self, out: &mut String, name: &str, arguments: &[String]) {
        out.push('<');
        self.write_directive(out, name, arguments);
        out.push('>');
    }

    fn write_close(&self, out: &mut String, name: &str) {
        out.push_str("</");
        out.push_str(name);
        out.push('>');
    }

    fn quoted<'a>(&self, argument: &'a str) -> Cow<'a, str> {
        quoted(argument)
    }

    fn is_repeated(&self, _: &str) -> bool {
        false
    }
}

impl Dialect for ApacheSyntax {
    fn parse(&self, bytes: &[u8]) -> Result<Tree, ParseError> {
        parse(bytes)
    }

    fn host(&self) -> &'static str {
        "VirtualHost"
    }

    fn name(&self) -> &'static str {
        "ServerName"
    }

    fn ports(&self, host: &Section) -> Vec<u16> {
        host.open.values().filter_map(HostPort::port_of).collect()
    }

    fn wanted_port(&self, want: &Want) -> Option<u16> {
        match want {
            Want::Section(_, addresses, _) => HostPort::port_of(addresses.first()?),
            Want::Directive(..) => None,
        }
    }

    fn hosts(&self, site: &Site, files: &SiteFiles) -> Vec<Want> {
        virtual_hosts(site, files)
    }

    fn is_secure(&self, host: &Section) -> bool {
        host.directives("SSLEngine").any(|own| own.values().eq(["on"]))
    }

    fn others(&self, port: u16, files: &SiteFiles, scheme: Scheme) -> Want {
        // With nothing more in it all is as the main server has it.
        let mut wants = vec![Want::one("ServerName", "localhost")];
        if scheme == Scheme::Https {
            let denied = Want::Directive("Require", vec!["all".into(), "denied".into()]);
            wants.extend(tls(files));
            wants.push(Want::Section("Location", vec!["/".into()], vec![denied]));
        }
        Want::Section("VirtualHost", vec![format!("*:{port}")], wants)
    }

    fn certificate_names(&self) -> [&'static str; 2] {
        ["SSLCertificateFile", "SSLCertificateKeyFile"]
    }

    fn variable(&self) -> Variable {
        Variable::Braced
    }

    fn writes(&self, own: &Directive) -> bool {
        // A log's name may be a program; in other arguments the bar is only a character.
        let is_log = own.is("ErrorLog") || own.is("CustomLog");
        let is_program = is_log && own.values().any(|value| value.starts_with('|'));
        let is_other_variable = own.is("SetEnv") && !SiteVariable::is_allowed(own.values());
        WRITTEN.iter().any(|name| own.is(name)) && !is_program && !is_other_variable
    }

    fn is_secure_want(&self, want: &Want) -> bool {
        let Want::Section(_, _, inner) = want else { return false };
        inner.iter().any(|own| matches!(own, Want::Directive("SSLEngine", _)))
    }

    fn is_address(&self, _: &str) -> bool {
        false
    }

    fn may_add(&self, name: &str) -> bool {
        super::adopt::may_add(name)
    }

    fn moved_to(
        &self,
        section: &Section,
        wanted: &[String],
        single: &[String],
        port: u16,
        is_own: bool,
    ) -> Vec<(Range<usize>, String)> {
        let here = |address: &&str| HostPort::port_of(address).is_none_or(|own| own == port);
        let addresses: Vec<String> = match (single, is_own) {
            ([], _) => wanted.to_vec(),
            (_, true) => section.open.values().filter(here).map(str::to_owned).collect(),
            (single, false) => single.iter().map(|address| format!("{address}:{port}")).collect(),
        };
        let is_so = section.open.values().eq(addresses.iter().map(String::as_str));
        let span = section.open.arguments.first().zip(section.open.arguments.last());
        let span = span.filter(|_| !is_so).map(|(first, last)| first.span.start..last.span.end);
        span.map(|span| (span, self.quoted_all(&addresses))).into_iter().collect()
    }

    fn assumed_main(&self, sites: &ServerPath) -> String {
        self.directive("IncludeOptional", &[sites.join("*.conf").to_string()]) + "\n"
    }
}

/// An argument as the server reads it back: in double quotes where it has to be.
pub(super) fn quoted(argument: &str) -> Cow<'_, str> {
    let is_plain = !argument.is_empty()
        && argument.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._:/*^%{}$=,[]+@~".contains(&b));
    if is_plain && (argument == "/" || !argument.starts_with('/')) {
        return argument.into();
    }
    format!("\"{}\"", escaped(argument, &['"', '\\'])).into()
}
