//! The meaning of each step: the detail that is shown, or the fault.

use core::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use camino::Utf8Path;

use super::cause::{HostsFault, Unresolved};
use super::codes::Cause;
use super::finding::{Diagnosis, Evidence, Judged, fail};
use super::judge::Judge;
use super::observation::{Failure, FailureKind, ResolverAnswer, Setting, Timed};
use super::remedy::{MapOption, Remedy, ServerVerb};
use super::words::listed;
use crate::config::Place;
use crate::hosts::contradicted;
use crate::name::HostName;
use crate::site::{DEFAULT_ADDRESS, ServerId};
use crate::system::{Cache, ResolverPlace, System, asked_before_files};

impl Judge<'_> {
    pub(super) fn map_again(&self) -> Remedy {
        match self.expected.server {
            // The virtual host on the other server has to name these.
            ServerId::Elsewhere => Remedy::CertificateVariables(self.expected.site.name.clone()),
            _ => self.map([]),
        }
    }

    /// Maps the site again, with these options.
    pub(super) fn map(&self, options: impl Into<Vec<MapOption>>) -> Remedy {
        Remedy::map(&self.expected.site.name, options)
    }

    /// Puts back what is written for the site, on the disk and in the server.
    pub(super) fn put_back(&self) -> Remedy {
        if self.expected.server.is_configured() {
            return Remedy::PutBack(self.expected.site.name.clone());
        }
        self.map_again()
    }

    pub(super) fn start_server(&self) -> Remedy {
        let site = &self.expected.site;
        if site.own_tls().is_some() {
            return Remedy::CertificateVariables(site.name.clone());
        }
        match self.expected.server {
            ServerId::BuiltIn => Remedy::Serve(Some(site.address).filter(|address| !address.is_loopback())),
            // It is started there; this tells when it answers.
            ServerId::Elsewhere => Remedy::Watch(site.name.clone()),
            server if self.expected.is_startable => Remedy::Control(ServerVerb::Start, server),
            _ => self.map_again(),
        }
    }

    pub(super) fn reload_server(&self) -> Remedy {
        let server = self.expected.server;
        if server.is_configured() { Remedy::reload(server) } else { self.start_server() }
    }

    pub(super) fn hosts(&self) -> Judged {
        let (name, wanted) = (&self.seen.name, self.expected.site.address);
        let (file, lines) = (&self.expected.hosts_file, &self.seen.hosts.seen.lines);
        if let Some(fault) = &self.expected.hosts_fault {
            let fix = Remedy::Shell(make_readable(file, fault));
            let cause = Cause::HostsUnread { file: file.clone(), fault: fault.clone() };
            return fail("not read", Diagnosis::new(cause).fix(fix));
        }
        if lines.is_empty() && self.expected.site.is_known_by_itself(name, self.expected.server) {
            return Ok("not needed: below `localhost` (RFC 6761)".to_owned());
        }
        if let Some(tenants) = self.expected.tenant(name).filter(|_| lines.is_empty()) {
            let by =
                if tenants.place.is_some() { "yandro's responder" } else { "itself: below `localhost` (RFC 6761)" };
            return Ok(format!("not needed: resolved by {by}"));
        }
        let Some((address, _)) = lines.first() else {
            let cause = Cause::HostsMissing { file: file.clone(), host: name.clone() };
            let diagnosis = Diagnosis::new(cause).fix(self.map([]));
            return fail(
                "missing",
                match self.expected.resolver.hosts_maker {
                    Some(maker) => diagnosis.seen(Evidence::Words(maker.to_string())),
                    None => diagnosis,
                },
            );
        };
        let is_wrong = |address: IpAddr| contradicted(address, &self.wanted()).is_some();
        let Some(&(found, line)) = lines.iter().find(|(other, _)| is_wrong(*other)) else {
            // The line that is read first: two of one machine are both right.
            let shown = lines.iter().min_by_key(|(_, line)| *line).map_or(*address, |(address, _)| *address);
            return Ok(shown.to_string());
        };
        let at = |line| Place { file: file.to_string(), line };
        // The right line may be there without counting, or with another one.
        let right = lines.iter().find(|(own, _)| !is_wrong(*own));
        let is_first = is_wrong(*address);
        let (host, file) = (name.clone(), file.clone());
        let diagnosis = match right {
            Some((_, own)) => {
                let evidence = if is_first { Evidence::Shadow(at(line), at(*own)) } else { Evidence::At(at(line)) };
                Diagnosis::new(Cause::HostsShadowed { file, host, found, is_first }).seen(evidence)
            }
            None => Diagnosis::new(Cause::HostsElsewhere { host, found, wanted }).seen(Evidence::At(at(line))),
        };
        let is_foreign = self.seen.hosts.seen.foreign;
        fail(found.to_string(), diagnosis.fix(self.map(is_foreign.then_some(MapOption::TakeOver).as_slice())))
    }

    pub(super) fn resolver(&self) -> Judged {
        let host = self.seen.name.clone();
        if let Some(unresolved) = self.tenants() {
            return unresolved;
        }
        match &self.seen.resolver.seen {
            ResolverAnswer::NotAsked => Ok("not asked in a sysroot".into()),
            ResolverAnswer::Addresses(found) => {
                let detail = found.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                if found.iter().all(|address| contradicted(*address, &self.wanted()).is_none()) {
                    return match self.in_the_way() {
                        Some(diagnosis) => fail(detail, diagnosis),
                        None => Ok(detail),
                    };
                }
                let wanted = self.expected.site.address;
                let answer = Unresolved::Other { host, found: found.clone(), wanted };
                let diagnosis = self.why_not_the_file(&answer).unwrap_or_else(|| {
                    let unexplained = Diagnosis::new(Cause::ResolverDiffers { answer }).seen(Evidence::Unexplained);
                    unexplained.fix(self.asked_by_hand())
                });
                fail(detail, diagnosis)
            }
            ResolverAnswer::Failed(_) if self.expected.site.is_known_by_itself(&host, self.expected.server) => {
                Ok("no address: browsers and curl know it by themselves".to_owned())
            }
            ResolverAnswer::Failed(words) => {
                let answer = Unresolved::None { host };
                let diagnosis = self.why_not_the_file(&answer).unwrap_or_else(|| {
                    let failed = Diagnosis::new(Cause::ResolverFails { answer });
                    failed.seen(Evidence::Words(words.clone())).fix(self.asked_by_hand())
                });
                fail("no address", diagnosis)
            }
        }
    }

    /// Why a name below the site isn't resolved; `None` where it is, or is no such name.
    fn tenants(&self) -> Option<Judged> {
        let tenants = self.expected.tenant(&self.seen.name)?;
        let (found, words) = match &self.seen.resolver.seen {
            ResolverAnswer::NotAsked => return None,
            ResolverAnswer::Addresses(found) => (found.clone(), None),
            ResolverAnswer::Failed(words) => (Vec::new(), Some(words.clone())),
        };
        let place = tenants.place?;
        if !found.is_empty() && found.iter().all(|address| contradicted(*address, &self.wanted()).is_none()) {
            return None;
        }
        let site = self.expected.site.name.clone();
        let detail = if found.is_empty() { "no address".to_owned() } else { listed(&found, ", ") };
        if !tenants.is_up {
            let cause = Cause::ResponderDown { site, responder: tenants.responder };
            return Some(fail(detail, Diagnosis::new(cause).fix(Remedy::Settle)));
        }
        let remedy = match (place, &tenants.others) {
            _ if tenants.is_offline => Remedy::Watch(site.clone()),
            (ResolverPlace::Windows, _) => Remedy::Shell(name_rule(&site, tenants.responder)),
            _ if !tenants.is_told => Remedy::Settle,
            (ResolverPlace::Resolved, Some(others)) => {
                let told = place.reload().map(Cache::typed).unwrap_or_default();
                Remedy::Edit(others.clone()).and(Remedy::Shell(told))
            }
            _ => place.reload().map_or_else(|| self.asked_by_hand(), |told| Remedy::Shell(told.typed())),
        };
        let diagnosis = Diagnosis::new(Cause::TenantsUnresolved { site, found, place }).fix(remedy);
        let evidence = match (&tenants.others, words) {
            _ if tenants.is_offline => Some(Evidence::Offline),
            (Some(others), _) if tenants.is_told => Some(Evidence::OtherServers(others.clone())),
            (_, words) => words.map(Evidence::Words),
        };
        Some(fail(detail, evidence.into_iter().fold(diagnosis, Diagnosis::seen)))
    }

    /// Asks each source of names by itself.
    fn asked_by_hand(&self) -> Remedy {
        let sources = self.expected.resolver.sources.iter().filter(|source| !source.starts_with('['));
        let asks: Vec<String> = sources.map(|source| format!("getent -s {source} ahosts {}", self.seen.name)).collect();
        Remedy::Shell(if asks.is_empty() { format!("getent ahosts {}", self.seen.name) } else { asks.join("; ") })
    }

    /// A setting by which some programs never ask the hosts file.
    fn in_the_way(&self) -> Option<Diagnosis> {
        let host = || self.seen.name.clone();
        let name = &self.seen.name;
        self.expected.settings.iter().find_map(|setting| match setting {
            Setting::Proxy { variable, excepted } if !is_excepted(name, excepted) => {
                let cause = Cause::ProxyInTheWay { host: host(), browser: None };
                let except = Remedy::NoProxy(vec![name.clone()]);
                Some(Diagnosis::new(cause).seen(Evidence::Words(variable.clone())).fix(except))
            }
            Setting::BrowserProxy { title, setting, excepted, fix } if !is_excepted(name, excepted) => {
                let cause = Cause::ProxyInTheWay { host: host(), browser: Some(title.clone()) };
                Some(commanded(cause, setting, fix.for_name(name)))
            }
            Setting::NamesElsewhere { title, setting, fix } => {
                let cause = Cause::ResolverBypassed { host: host(), browser: title.clone() };
                Some(commanded(cause, setting, fix.clone()))
            }
            _ => None,
        })
    }

    /// The expected addresses. `::1` is as good as 127.0.0.1: it is the same machine.
    fn wanted(&self) -> Vec<IpAddr> {
        let address = self.expected.site.address;
        let both = address == DEFAULT_ADDRESS;
        std::iter::once(address).chain(both.then_some(Ipv6Addr::LOCALHOST.into())).collect()
    }

    /// Why the resolver doesn't say what the hosts file says: another source is asked first, or
    /// a cache that runs holds an old answer.
    fn why_not_the_file(&self, answer: &Unresolved) -> Option<Diagnosis> {
        let (setup, answer) = (&self.expected.resolver, answer.clone());
        if let Some(source) = asked_before_files(&setup.sources) {
            let cause = Cause::ResolverOrder { answer, first: source.to_owned() };
            let line = format!("hosts: {}", setup.sources.join(" "));
            let fix = r"sudo sed -i 's/^hosts:\s*/hosts: files /' /etc/nsswitch.conf";
            return Some(Diagnosis::new(cause).seen(Evidence::Words(line)).fix(Remedy::Shell(fix.to_owned())));
        }
        let cache = *setup.caches.first()?;
        Some(Diagnosis::new(Cause::ResolverStale { answer, cache }).fix(Remedy::Shell(cache.typed())))
    }

    pub(super) fn unconnected(&self, failure: &Failure, port: u16) -> Judged {
        let expected = self.expected;
        let address = self.seen.resolver.seen.first(&self.seen.hosts.seen).unwrap_or(expected.site.address);
        if failure.kind != FailureKind::Refused {
            // One cause for all ports is reported once.
            let cause = Cause::Unreachable { site: expected.site.name.clone(), address };
            let diagnosis = Diagnosis::new(cause).seen(Evidence::OnPort(port, failure.words.clone()));
            return fail("no answer", diagnosis.fix(Remedy::Shell(format!("ping -c 3 {address}"))));
        }
        let is_refused = |failure: &Failure| failure.kind == FailureKind::Refused;
        let plain = seen(self.seen.connect.as_ref()).is_some_and(|result| result.as_ref().is_err_and(is_refused));
        let secure = seen(self.seen.tls.as_ref()).is_some_and(|result| result.as_ref().is_err_and(is_refused));
        let has_own_tls = expected.site.own_tls().is_some();
        let is_both = plain && secure && !has_own_tls;
        let cause = Cause::PortClosed {
            address,
            ports: if is_both { vec![expected.http_port, expected.https_port] } else { vec![port] },
            server: (!has_own_tls).then_some(expected.server),
        };
        fail("refused", Diagnosis::new(cause).fix(self.start_server()))
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
        let is_other = |own: &IpAddr| !own.is_loopback() && own.is_ipv4() == address.is_ipv4();
        let others: Vec<IpAddr> = own.iter().copied().filter(is_other).collect();
        let usual = self.expected.resolver.usual_addresses.iter().find(|own| own.is_ipv4() == address.is_ipv4());
        let other = usual.or(others.first()).copied().unwrap_or(Ipv4Addr::LOCALHOST.into());
        let diagnosis = Diagnosis::new(Cause::AddressGone { address }).seen(Evidence::Addresses(others));
        let alone = self.map([MapOption::Address(other)]);
        // It takes all sites along that were there.
        let follows = usual.is_some() && self.expected.server.is_configured();
        let diagnosis = if follows { diagnosis.fix(Remedy::Follow) } else { diagnosis };
        fail("address gone", diagnosis.fix(alone))
    }

    pub(super) fn connect(&self) -> Judged {
        if let Some(Err(failure)) = seen(self.seen.connect.as_ref()) {
            return self.unconnected(failure, self.expected.first_port());
        }
        let Some(silent) = self.seen.silent.first().copied() else { return Ok(self.ports()) };
        let cause = Cause::FamilyHalf { host: self.seen.name.clone(), silent };
        fail(format!("not on {silent}"), Diagnosis::new(cause).fix(self.map_again()))
    }
}

fn commanded(cause: Cause, evidence: &str, command: String) -> Diagnosis {
    Diagnosis::new(cause).seen(Evidence::Words(evidence.to_owned())).fix(Remedy::Shell(command))
}

/// The command by which Windows asks a server for the names below a site (`Add-DnsClientNrptRule`), for an administrator.
fn name_rule(site: &HostName, responder: SocketAddr) -> String {
    format!("powershell -Command \"Add-DnsClientNrptRule -Namespace '.{site}' -NameServers '{}'\"", responder.ip())
}

/// The command after which resolvers read the hosts file, with all lines that can be saved and those of the sites.
fn make_readable(file: &Utf8Path, fault: &HostsFault) -> String {
    match fault {
        HostsFault::Unreadable => System::HERE.make_hosts_readable(file),
        HostsFault::Utf16 => System::HERE.convert_hosts(file),
        HostsFault::Missing | HostsFault::Dangling(_) => System::HERE.make_hosts(file),
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
