//! How Apache httpd's files are written.

use camino::Utf8Path;

use super::desired::{WRITTEN, tls, virtual_hosts};
use super::parse::parse;
use crate::config::{Dialect, Directive, ParseError, Section, SiteFiles, Syntax, Tree, Variable, Want, escaped};
use crate::host_port::HostPort;
use crate::site::Scheme;
use crate::site::Site;

/// Apache httpd's syntax.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ApacheSyntax;

impl Syntax for ApacheSyntax {
    fn directive(&self, name: &str, arguments: &[String]) -> String {
        format!("{name} {}", self.quoted_all(arguments))
    }

    fn open(&self, name: &str, arguments: &[String]) -> String {
        format!("<{name} {}>", self.quoted_all(arguments))
    }

    fn close(&self, name: &str) -> String {
        format!("</{name}>")
    }

    fn quoted(&self, argument: &str) -> String {
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
        WRITTEN.iter().any(|name| own.is(name)) && !is_program
    }

    fn assumed_main(&self, sites: &Utf8Path) -> String {
        self.directive("IncludeOptional", &[sites.join("*.conf").into_string()]) + "\n"
    }
}

/// An argument as the server reads it back: in double quotes where it has to be.
pub(super) fn quoted(argument: &str) -> String {
    let is_plain = !argument.is_empty()
        && argument.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._:/*^%{}$=,[]+@~".contains(&b));
    if is_plain && (argument == "/" || !argument.starts_with('/')) {
        return argument.to_owned();
    }
    format!("\"{}\"", escaped(argument, &['"', '\\']))
}
