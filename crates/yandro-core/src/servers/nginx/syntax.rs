//! How nginx's files are written.

use std::borrow::Cow;
use std::ops::Range;

use crate::server_path::ServerPath;

use super::desired::{PARAMETERS, WRITTEN, server_blocks, tls};
use super::parse;
use crate::config::{Dialect, Directive, ParseError, Section, SiteFiles, Syntax, Tree, Variable, Want, escaped};
use crate::host_port::HostPort;
use crate::site::Site;
use crate::site::{Scheme, SiteVariable};

#[derive(Clone, Copy, Debug)]
pub(crate) struct NginxSyntax;

impl Syntax for NginxSyntax {
    fn write_directive(&self, out: &mut String, name: &str, arguments: &[String]) {
        out.push_str(name);
        out.push(' ');
        self.write_arguments(out, arguments);
        out.push(';');
    }

    fn write_open(&self, out: &mut String, name: &str, arguments: &[String]) {
        out.push_str(name);
        out.push(' ');
        self.write_arguments(out, arguments);
        out.push_str(if arguments.is_empty() { "{" } else { " {" });
    }

    fn write_close(&self, out: &mut String, _: &str) {
        out.push('}');
    }

    /// In double quotes where it has to be. What begins a variable there can't be escaped.
    fn quoted<'a>(&self, argument: &'a str) -> Cow<'a, str> {
        let is_plain = !argument.is_empty()
            && argument.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._/:*^$=,[]+@~&!?|()<>".contains(&b));
        if is_plain {
            return argument.into();
        }
        format!("\"{}\"", escaped(argument, &['"', '\\'])).into()
    }

    fn is_repeated(&self, name: &str) -> bool {
        ["listen", "location", "proxy_set_header", "fastcgi_param", "allow", "if"].contains(&name)
    }
}

impl Dialect for NginxSyntax {
    fn parse(&self, bytes: &[u8]) -> Result<Tree, ParseError> {
        parse(bytes)
    }

    fn host(&self) -> &'static str {
        "server"
    }

    fn name(&self) -> &'static str {
        "server_name"
    }

    fn ports(&self, host: &Section) -> Vec<u16> {
        let mut ports: Vec<u16> = host.directives("listen").filter_map(|own| port(own.values().next()?)).collect();
        ports.dedup();
        ports
    }

    fn wanted_port(&self, want: &Want) -> Option<u16> {
        let Want::Section(_, _, inner) = want else { return None };
        inner.iter().find_map(|own| match own {
            Want::Directive("listen", arguments) => port(arguments.first()?),
            _ => None,
        })
    }

    fn hosts(&self, site: &Site, files: &SiteFiles) -> Vec<Want> {
        server_blocks(site, files)
    }

    fn is_secure(&self, host: &Section) -> bool {
        host.directives("listen").any(|own| own.values().any(|word| word == "ssl"))
    }

    fn others(&self, port: u16, files: &SiteFiles, scheme: Scheme) -> Want {
        let is_secure = scheme == Scheme::Https;
        let word = is_secure.then(|| "ssl".to_owned());
        let listen =
            |address: String| Want::Directive("listen", std::iter::once(address).chain(word.clone()).collect());
        let mut wants = vec![listen(port.to_string())];
        wants.extend(files.server.listens_on_v6.then(|| listen(format!("[::]:{port}"))));
        wants.push(Want::one("server_name", "_"));
        if is_secure {
            wants.extend(tls(files));
        }
        wants.push(Want::one("return", if is_secure { "403" } else { "404" }));
        Want::Section("server", Vec::new(), wants)
    }

    fn certificate_names(&self) -> [&'static str; 2] {
        ["ssl_certificate", "ssl_certificate_key"]
    }

    fn variable(&self) -> Variable {
        Variable::Plain
    }

    fn writes(&self, own: &Directive) -> bool {
        let is_other_variable = own.is("fastcgi_param")
            && !own.values().next().is_some_and(|name| PARAMETERS.contains(&name))
            && !SiteVariable::is_allowed(own.values());
        (WRITTEN.contains(&own.name.as_str()) && !is_other_variable)
            || own.is("include") && own.values().eq(["fastcgi_params"])
    }

    fn is_secure_want(&self, want: &Want) -> bool {
        let Want::Section(_, _, inner) = want else { return false };
        inner.iter().any(|own| matches!(own, Want::Directive("ssl_certificate", _)))
    }

    fn is_address(&self, name: &str) -> bool {
        name == "listen"
    }

    fn may_add(&self, name: &str) -> bool {
        super::adopt::may_add(name)
    }

    fn moved_to(
        &self,
        section: &Section,
        _: &[String],
        single: &[String],
        port: u16,
        is_own: bool,
    ) -> Vec<(Range<usize>, String)> {
        let is_elsewhere = |own: &&Directive| own.values().next().and_then(self::port).is_some_and(|own| own != port);
        let others =
            section.directives("listen").filter(|own| !super::adopt::is_plain_listen(own)).filter(is_elsewhere);
        let mut splices: Vec<(Range<usize>, String)> = others.map(|own| (own.span.clone(), String::new())).collect();
        if !is_own {
            let lines = single.iter().map(|address| format!("\tlisten {address}:{port} ssl;\n"));
            let at = section.open.span.end;
            splices.push((at..at, lines.collect()));
        }
        splices
    }

    fn assumed_main(&self, sites: &ServerPath) -> String {
        format!("http {{ {} }}\n", self.directive("include", &[sites.join("*.conf").to_string()]))
    }
}

/// The port of a `listen` address.
fn port(address: &str) -> Option<u16> {
    address.parse().ok().or_else(|| HostPort::port_of(address))
}
