//! What each step means: the detail that is shown, or the fault.

use core::net::{IpAddr, Ipv6Addr};

use super::fault::Fault;
use super::finding::Code;
use super::judge::Judge;
use super::observation::{Failure, FailureKind, ResolverAnswer, Setting, Timed};
use super::remedy;
use crate::hosts::contradicted;
use crate::name::HostName;
use crate::site::{DEFAULT_ADDRESS, ServerId};
use crate::system::asked_before_files;

/// The detail of a step that is well, or detail and fault of one that is not.
pub(super) type Judged = Result<String, Box<(String, Fault)>>;

pub(super) fn fail(detail: impl Into<String>, fault: Fault) -> Judged {
    Err(Box::new((detail.into(), fault)))
}

impl Judge<'_> {
    pub(super) fn map_again(&self) -> String {
        let site = &self.expected.site;
        match self.expected.server {
            ServerId::Elsewhere => {
                // What its virtual host there has to name.
                format!("yandro cert env {}", site.name)
            }
            _ => self.map_command(),
        }
    }

    fn map_command(&self) -> String {
        format!("yandro map {}", self.expected.site.name)
    }

    /// Puts back what is written for the site, on the disk and in the server.
    pub(super) fn put_back(&self) -> String {
        match self.expected.server {
            ServerId::Apache | ServerId::Nginx | ServerId::Named(_) => remedy::put_back(&self.expected.site.name),
            _ => self.map_again(),
        }
    }

    pub(super) fn start_server(&self) -> String {
        if self.expected.site.own_tls().is_some() {
            return format!("yandro cert env {}", self.expected.site.name);
        }
        match self.expected.server {
            ServerId::BuiltIn if !self.expected.site.address.is_loopback() => {
                format!("yandro serve --listen {}", self.expected.site.address)
            }
            ServerId::BuiltIn => "yandro serve".into(),
            // It is started there; this tells when it answers.
            ServerId::Elsewhere => format!("yandro check {} --watch", self.expected.site.name),
            ServerId::Apache | ServerId::Nginx | ServerId::Named(_) => self.map_again(),
        }
    }

    /// Has the server take up what is on the disk.
    pub(super) fn reload_server(&self) -> String {
        match self.expected.server {
            server @ (ServerId::Apache | ServerId::Nginx | ServerId::Named(_)) => remedy::reload(server),
            _ => self.start_server(),
        }
    }

    pub(super) fn hosts(&self) -> Judged {
        let (name, wanted) = (&self.seen.name, self.expected.site.address);
        let (file, lines) = (&self.expected.hosts_file, &self.seen.hosts.seen.lines);
        let Some((address, _)) = lines.first() else {
            return fail(
                "missing",
                Fault::error(Code::HostsMissing, format!("no line of {file} names `{name}`")).mend(self.map_command()),
            );
        };
        let other = lines.iter().find(|(other, _)| contradicted(*other, &self.wanted()).is_some());
        if let Some((other, line)) = other {
            let fault = Fault::error(
                Code::HostsElsewhere,
                format!("the hosts file points `{name}` to {other}, and the site is at {wanted}"),
            )
            .seen(format!("{file}:{line}"));
            let mut fault = if self.seen.hosts.seen.foreign {
                fault.mend(format!("{} --take-over", self.map_command()))
            } else {
                fault.mend(self.map_command())
            };
            // The right line is there, and doesn't count.
            let right =
                lines.iter().find(|(own, own_line)| own_line > line && contradicted(*own, &self.wanted()).is_none());
            if let Some((_, own)) = right {
                fault.code = Code::HostsShadowed;
                fault.cause =
                    format!("the line of {file} for `{name}` is shadowed by one above it, which points it to {other}");
                fault.evidence = Some(format!("{file}:{line} counts, {file}:{own} doesn't"));
            }
            return fail(other.to_string(), fault);
        }
        Ok(address.to_string())
    }

    pub(super) fn resolver(&self) -> Judged {
        let name = &self.seen.name;
        match &self.seen.resolver.seen {
            ResolverAnswer::NotAsked => Ok("not asked in a sysroot".into()),
            ResolverAnswer::Addresses(addresses)
                if addresses.iter().all(|address| contradicted(*address, &self.wanted()).is_none()) =>
            {
                let detail = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                match self.in_the_way() {
                    Some(fault) => fail(detail, fault),
                    None => Ok(detail),
                }
            }
            ResolverAnswer::Addresses(addresses) => {
                let seen = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                let cause = format!(
                    "the system resolves `{name}` to {seen}, though the hosts file says {}",
                    self.expected.site.address
                );
                let otherwise = Fault::error(Code::ResolverDiffers, cause.clone())
                    .seen("neither a cache that runs nor /etc/nsswitch.conf explains it")
                    .mend(self.asked_by_hand());
                fail(seen, self.why_not_the_file(&cause).unwrap_or(otherwise))
            }
            ResolverAnswer::Failed(words) => {
                let cause = format!("the system finds no address for `{name}`, though the hosts file has one");
                let otherwise = Fault::error(Code::ResolverFails, cause.clone()).seen(words).mend(self.asked_by_hand());
                fail("no address", self.why_not_the_file(&cause).unwrap_or(otherwise))
            }
        }
    }

    /// Asks each source of names by itself.
    fn asked_by_hand(&self) -> String {
        let sources = self.expected.resolver.sources.iter().filter(|source| !source.starts_with('['));
        let asks: Vec<String> = sources.map(|source| format!("getent -s {source} ahosts {}", self.seen.name)).collect();
        if asks.is_empty() { format!("getent ahosts {}", self.seen.name) } else { asks.join("; ") }
    }

    /// A setting by which some programs never ask the hosts file.
    fn in_the_way(&self) -> Option<Fault> {
        let name = &self.seen.name;
        self.expected.settings.iter().find_map(|setting| match setting {
            Setting::Proxy { variable, excepted } if !is_excepted(name, excepted) => {
                let cause =
                    format!("programs that go by the environment ask a proxy for `{name}`, which doesn't know it");
                Some(Fault::warning(Code::ProxyInTheWay, cause).seen(variable).mend(format!("export no_proxy={name}")))
            }
            Setting::BrowserProxy { title, setting, excepted, mend } if !is_excepted(name, excepted) => {
                let cause = format!("{title} asks a proxy for `{name}`, which doesn't know it");
                Some(
                    Fault::warning(Code::ProxyInTheWay, cause)
                        .seen(setting)
                        .mend(mend.replace("{name}", name.as_str())),
                )
            }
            Setting::NamesElsewhere { title, setting, mend } => {
                let cause = format!("{title} asks a server on the internet for `{name}`, past the hosts file");
                Some(Fault::warning(Code::ResolverBypassed, cause).seen(setting).mend(mend))
            }
            _ => None,
        })
    }

    /// Where the name should point to. `::1` is as good as 127.0.0.1: it is the same machine.
    fn wanted(&self) -> Vec<IpAddr> {
        let address = self.expected.site.address;
        let both = address == DEFAULT_ADDRESS;
        std::iter::once(address).chain(both.then_some(Ipv6Addr::LOCALHOST.into())).collect()
    }

    /// Why the resolver doesn't say what the hosts file says: another source is asked first, or
    /// a cache that runs holds an old answer.
    fn why_not_the_file(&self, cause: &str) -> Option<Fault> {
        let setup = &self.expected.resolver;
        if let Some(source) = asked_before_files(&setup.sources) {
            let why = if source == "files" {
                "the system doesn't read the hosts file".to_owned()
            } else {
                format!("the system asks `{source}` before the hosts file")
            };
            let fault = Fault::error(Code::ResolverOrder, format!("{cause}: {why}"));
            let line = format!("hosts: {}", setup.sources.join(" "));
            let mend = r"sudo sed -i 's/^hosts:\s*/hosts: files /' /etc/nsswitch.conf";
            return Some(fault.seen(line).mend(mend));
        }
        let cache = setup.caches.first()?;
        let fault = Fault::error(Code::ResolverStale, format!("{cause}: {} holds an old answer", cache.title()));
        Some(fault.mend(cache.typed()))
    }

    pub(super) fn unconnected(&self, failure: &Failure, port: u16) -> Judged {
        let address = self.seen.resolver.seen.first(&self.seen.hosts.seen).unwrap_or(self.expected.site.address);
        if failure.kind != FailureKind::Refused {
            // One cause for all ports: it is told once.
            let cause = format!("the address {address} of `{}` can't be reached", self.expected.site.name);
            let seen = format!("port {port}: {}", failure.words);
            let mend = format!("ping -c 3 {address}");
            return fail("no answer", Fault::error(Code::Unreachable, cause).seen(seen).mend(mend));
        }
        let is_refused = |failure: &Failure| failure.kind == FailureKind::Refused;
        let plain = seen(self.seen.connect.as_ref()).is_some_and(|result| result.as_ref().is_err_and(is_refused));
        let secure = seen(self.seen.tls.as_ref()).is_some_and(|result| result.as_ref().is_err_and(is_refused));
        let (http, https) = (self.expected.http_port, self.expected.https_port);
        let is_alone = self.expected.site.own_tls().is_some();
        let cause = match (plain && secure && !is_alone, self.expected.server) {
            _ if is_alone => format!("nothing listens on port {port} of {address}: the server there isn't running"),
            (true, server) => {
                format!("nothing listens on ports {http} and {https} of {address}: {server} isn't running")
            }
            (false, server) => {
                format!("nothing listens on port {port} of {address}: {server} listens elsewhere, or not at all")
            }
        };
        fail("refused", Fault::error(Code::PortClosed, cause).mend(self.start_server()))
    }

    pub(super) fn address(&self) -> Judged {
        let (address, own) = (self.expected.site.address, &self.expected.resolver.own_addresses);
        if !self.expected.is_here {
            return Ok("the one that was declared".into());
        }
        if address.is_loopback() {
            return Ok("this machine's own".into());
        }
        if own.is_empty() || own.contains(&address) {
            return Ok("of this machine's network".into());
        }
        let cause = format!("no interface of this machine has the address {address} any more, which the site is at");
        let others: Vec<String> = own
            .iter()
            .filter(|own| !own.is_loopback() && own.is_ipv4() == address.is_ipv4())
            .map(ToString::to_string)
            .collect();
        let seen = match &others[..] {
            [] => "it has loopback alone".to_owned(),
            others => format!("it has {}", others.join(", ")),
        };
        let other = others.first().map_or("127.0.0.1", String::as_str);
        let remedy = format!("yandro map {} --address {other}", self.expected.site.name);
        fail("address gone", Fault::error(Code::AddressGone, cause).seen(seen).mend(remedy))
    }

    pub(super) fn connect(&self) -> Judged {
        if let Some(Err(failure)) = seen(self.seen.connect.as_ref()) {
            return self.unconnected(failure, self.expected.first_port());
        }
        let Some(silent) = self.seen.silent.first() else { return Ok(self.ports()) };
        let cause = format!(
            "`{}` has addresses of both families, and nothing answers on {silent}: some clients try it first",
            self.seen.name
        );
        fail(format!("not on {silent}"), Fault::warning(Code::FamilyHalf, cause).mend(self.map_again()))
    }
}

/// Whether a name is excepted from a proxy: as it is, by a suffix with or without its dot, or with all.
fn is_excepted(name: &HostName, excepted: &[String]) -> bool {
    excepted.iter().any(|own| {
        let own = own.trim_start_matches('*').trim_start_matches('.');
        own.is_empty() || name.is_below_or_equal(&own.to_ascii_lowercase())
    })
}

pub(super) fn seen<T>(timed: Option<&Timed<T>>) -> Option<&T> {
    timed.map(|timed| &timed.seen)
}
