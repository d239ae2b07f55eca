//! What each step means: the detail that is shown, or the fault.

use std::net::{IpAddr, Ipv6Addr};

use super::finding::{Code, Severity};
use super::judge::Judge;
use super::observation::{Answer, Connection, Failure, FailureKind, Proof, ResolverAnswer, Timed, Verdict};
use crate::hosts::contradicted;
use crate::httpd::OTHERS;
use crate::pki::{RENEW_DAYS, date};
use crate::site::{Content, DEFAULT_ADDRESS, Https, ServerKind};

/// A finding before it is known which step of which name it belongs to.
pub(super) struct Fault {
    pub(super) code: Code,
    pub(super) severity: Severity,
    pub(super) cause: String,
    pub(super) evidence: Option<String>,
    pub(super) remedy: Option<String>,
}

impl Fault {
    fn error(code: Code, cause: impl Into<String>) -> Self {
        Self { code, severity: Severity::Error, cause: cause.into(), evidence: None, remedy: None }
    }

    fn warning(code: Code, cause: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, cause) }
    }

    fn seen(mut self, evidence: impl Into<String>) -> Self {
        self.evidence = Some(evidence.into());
        self
    }

    fn mend(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }
}

/// The detail of a step that is well, or detail and fault of one that is not.
pub(super) type Judged = Result<String, Box<(String, Fault)>>;

fn fail(detail: impl Into<String>, fault: Fault) -> Judged {
    Err(Box::new((detail.into(), fault)))
}

impl Judge<'_> {
    fn map_again(&self) -> String {
        format!("yandro map {}", self.expected.site.name)
    }

    fn start_server(&self) -> String {
        match self.expected.server {
            ServerKind::Apache => self.map_again(),
            ServerKind::BuiltIn if !self.expected.site.address.is_loopback() => {
                format!("yandro serve --listen {}", self.expected.site.address)
            }
            ServerKind::BuiltIn => "yandro serve".into(),
            ServerKind::Elsewhere => format!("start the server at {}", self.expected.site.address),
        }
    }

    pub(super) fn hosts(&self) -> Judged {
        let (name, wanted) = (&self.seen.name, self.expected.site.address);
        let (file, lines) = (&self.expected.hosts_file, &self.seen.hosts.seen.lines);
        let Some((address, _)) = lines.first() else {
            return fail(
                "missing",
                Fault::error(Code::HostsMissing, format!("no line of {file} names `{name}`")).mend(self.map_again()),
            );
        };
        let other = lines.iter().find(|(other, _)| contradicted(*other, &self.wanted()).is_some());
        if let Some((other, line)) = other {
            let fault = Fault::error(
                Code::HostsElsewhere,
                format!("the hosts file points `{name}` to {other}, and the site is at {wanted}"),
            )
            .seen(format!("{file}:{line}"));
            let fault = if self.seen.hosts.seen.foreign {
                fault.mend(format!("edit line {line} of {file}, then {}", self.map_again()))
            } else {
                fault.mend(self.map_again())
            };
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
                Ok(addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))
            }
            ResolverAnswer::Addresses(addresses) => {
                let seen = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                let cause = format!(
                    "the system resolves `{name}` to {seen}, though the hosts file says {}",
                    self.expected.site.address
                );
                let otherwise = Fault::error(Code::ResolverDiffers, cause.clone())
                    .seen("neither a cache that runs nor /etc/nsswitch.conf explains it");
                fail(seen, self.why_not_the_file(&cause).unwrap_or(otherwise))
            }
            ResolverAnswer::Failed(words) => {
                let cause = format!("the system finds no address for `{name}`, though the hosts file has one");
                let otherwise = Fault::error(Code::ResolverFails, cause.clone()).seen(words);
                fail("no address", self.why_not_the_file(&cause).unwrap_or(otherwise))
            }
        }
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
        if let Some(source) = setup.before_files() {
            let why = if source == "files" {
                "the system doesn't read the hosts file".to_owned()
            } else {
                format!("the system asks `{source}` before the hosts file")
            };
            let fault = Fault::error(Code::ResolverOrder, format!("{cause}: {why}"));
            let line = format!("hosts: {}", setup.sources.join(" "));
            return Some(fault.seen(line).mend("put `files` first in the `hosts:` line of /etc/nsswitch.conf"));
        }
        let cache = setup.caches.first()?;
        let fault = Fault::error(Code::ResolverStale, format!("{cause}: {} holds an old answer", cache.title()));
        Some(fault.mend(cache.typed()))
    }

    fn unconnected(&self, failure: &Failure, port: u16) -> Judged {
        let address = self.seen.resolver.seen.first(&self.seen.hosts.seen).unwrap_or(self.expected.site.address);
        if failure.kind != FailureKind::Refused {
            let cause = format!("{address} doesn't answer on port {port}");
            return fail("no answer", Fault::error(Code::Unreachable, cause).seen(failure.words.clone()));
        }
        let is_refused = |failure: &Failure| failure.kind == FailureKind::Refused;
        let plain = seen(self.seen.connect.as_ref()).is_some_and(|result| result.as_ref().is_err_and(is_refused));
        let secure = seen(self.seen.tls.as_ref()).is_some_and(|result| result.as_ref().is_err_and(is_refused));
        let (http, https) = (self.expected.http_port, self.expected.https_port);
        let cause = match (plain && secure, self.expected.server) {
            (true, server) => {
                format!("nothing listens on ports {http} and {https} of {address}: {server} isn't running")
            }
            (false, server) => {
                format!("nothing listens on port {port} of {address}: {server} listens elsewhere, or not at all")
            }
        };
        fail("refused", Fault::error(Code::PortClosed, cause).mend(self.start_server()))
    }

    pub(super) fn connect(&self) -> Judged {
        let (address, own) = (self.expected.site.address, &self.expected.resolver.own_addresses);
        let is_here = self.expected.server != ServerKind::Elsewhere;
        if is_here && !address.is_loopback() && !own.is_empty() && !own.contains(&address) {
            let cause =
                format!("no interface of this machine has the address {address} any more, which the site is at");
            let others: Vec<String> = own
                .iter()
                .filter(|own| !own.is_loopback() && own.is_ipv4() == address.is_ipv4())
                .map(ToString::to_string)
                .collect();
            let seen = if others.is_empty() {
                "it has loopback alone".to_owned()
            } else {
                format!("it has {}", others.join(", "))
            };
            let remedy = format!(
                "yandro map {} --address {}",
                self.expected.site.name,
                others.first().map_or("127.0.0.1", String::as_str)
            );
            return fail("address gone", Fault::error(Code::AddressGone, cause).seen(seen).mend(remedy));
        }
        match seen(self.seen.connect.as_ref()) {
            Some(Err(failure)) => self.unconnected(failure, self.expected.http_port),
            _ => Ok(format!("port {}", self.expected.http_port)),
        }
    }

    pub(super) fn http(&self) -> Judged {
        let name = &self.seen.name;
        let answer = match seen(self.seen.http.as_ref()) {
            Some(Ok(answer)) => answer,
            Some(Err(failure)) => {
                let cause = format!("`http://{name}/` gives no proper answer");
                return fail("no answer", Fault::error(Code::HttpFails, cause).seen(failure.words.clone()));
            }
            None => return Ok(String::new()),
        };
        if self.expected.site.https != Https::Only {
            return self.page(answer, "http");
        }
        let Some(location) = answer.location.as_ref().filter(|_| (300..400).contains(&answer.status)) else {
            let cause = format!(
                "`http://{name}/` answers {} and doesn't lead to HTTPS: another virtual host answers, or its redirect is gone",
                answer.status
            );
            return fail(
                answer.status.to_string(),
                Fault::warning(Code::RedirectMissing, cause).mend(self.map_again()),
            );
        };
        let host =
            location.strip_prefix("https://").map(|rest| rest.split(['/', '?', '#', ':']).next().unwrap_or_default());
        if host.is_some_and(|host| self.expected.site.names().any(|own| host.eq_ignore_ascii_case(own.as_str()))) {
            return Ok(format!("{} to https", answer.status));
        }
        let cause = format!("`http://{name}/` leads to `{location}`, which is not this site over HTTPS");
        fail(
            format!("{} elsewhere", answer.status),
            Fault::warning(Code::RedirectElsewhere, cause).mend(self.map_again()),
        )
    }

    pub(super) fn tls(&self) -> Judged {
        match seen(self.seen.tls.as_ref()) {
            Some(Ok(connection)) => Ok(connection.version.clone()),
            Some(Err(failure)) if matches!(failure.kind, FailureKind::Refused | FailureKind::TimedOut) => {
                self.unconnected(failure, self.expected.https_port)
            }
            Some(Err(failure)) if failure.kind == FailureKind::PlainHttp => {
                let cause = format!("plain HTTP is spoken on port {}, where TLS is expected", self.expected.https_port);
                fail("plain HTTP", Fault::error(Code::TlsPlain, cause).mend(self.map_again()))
            }
            Some(Err(failure)) => {
                let cause = format!(
                    "the TLS handshake for `{}` fails: the server has no certificate for this name, or TLS is off",
                    self.seen.name
                );
                fail(
                    "no handshake",
                    Fault::error(Code::TlsFails, cause).seen(failure.words.clone()).mend(self.start_server()),
                )
            }
            None => Ok(String::new()),
        }
    }

    fn connection(&self) -> Option<&Connection> {
        seen(self.seen.tls.as_ref()).and_then(|result| result.as_ref().ok())
    }

    pub(super) fn chain(&self) -> Judged {
        let Some(connection) = self.connection() else { return Ok(String::new()) };
        let name = &self.seen.name;
        let issuer = connection.chain.leaf.as_ref().map(|leaf| format!("issued by {}", leaf.issuer));
        let mut fault = match &connection.chain.verdict {
            Verdict::Trusted | Verdict::Time if connection.chain.is_on_disk => return Ok("trusted".into()),
            // Whose it is the next step tells.
            Verdict::Name => return Ok("trusted".into()),
            Verdict::Trusted | Verdict::Time => {
                let fault = Fault::warning(
                    Code::CertificateOld,
                    format!(
                        "the server sends another certificate for `{name}` than the one on disk: it was not reloaded since"
                    ),
                );
                return fail("not as on disk", fault.mend(self.start_server()));
            }
            Verdict::UnknownIssuer => Fault::error(
                Code::CertificateUnknown,
                format!("the certificate served for `{name}` was not issued by the local authority"),
            ),
            Verdict::NoAuthority => Fault::error(Code::AuthorityMissing, "there is no local authority on this machine"),
            Verdict::Constraints => Fault::error(
                Code::CertificateConstraints,
                format!("the local authority may not vouch for `{name}`, and clients refuse its certificate"),
            ),
            Verdict::Other(words) => {
                Fault::error(Code::CertificateUnknown, format!("the certificate served for `{name}` is refused"))
                    .seen(words.clone())
            }
        };
        fault.evidence = fault.evidence.or(issuer);
        fail("untrusted", fault.mend(self.map_again()))
    }

    pub(super) fn name(&self) -> Judged {
        let leaf = self.connection().and_then(|connection| connection.chain.leaf.as_ref());
        match leaf {
            Some(leaf) if leaf.names.iter().any(|name| name == OTHERS) => {
                let cause = format!(
                    "the virtual host of `{}` doesn't answer over HTTPS: the one for names that are no sites does",
                    self.seen.name
                );
                let seen = "its file is not enabled, was not taken up by the server, or has no `SSLEngine on`";
                fail("other names", Fault::error(Code::CertificateName, cause).seen(seen).mend(self.map_again()))
            }
            Some(leaf) if !leaf.covers(&self.seen.name) => {
                let cause = format!("the certificate does not name `{}`", self.seen.name);
                let names = if leaf.names.is_empty() { "none".to_owned() } else { leaf.names.join(", ") };
                fail(
                    "other names",
                    Fault::error(Code::CertificateName, cause).seen(format!("it names {names}")).mend(self.map_again()),
                )
            }
            _ => Ok("covered".into()),
        }
    }

    pub(super) fn validity(&self) -> Judged {
        let Some(leaf) = self.connection().and_then(|connection| connection.chain.leaf.as_ref()) else {
            return Ok(String::new());
        };
        let days = leaf.days_left(self.expected.now);
        let (start, end) = (date(leaf.not_before), date(leaf.not_after));
        if leaf.not_before > self.expected.now {
            let cause = format!(
                "the certificate of `{}` is valid from {start} on, which is to come: is the clock right?",
                self.seen.name
            );
            return fail("not yet", Fault::error(Code::CertificateExpired, cause).mend(self.map_again()));
        }
        if days < 0 {
            let cause = format!("the certificate of `{}` ended on {end}", self.seen.name);
            return fail("ended", Fault::error(Code::CertificateExpired, cause).mend(self.map_again()));
        }
        if days <= RENEW_DAYS {
            let cause = format!("the certificate of `{}` ends on {end}, in {days} days", self.seen.name);
            return fail(format!("{days} days"), Fault::warning(Code::CertificateEnds, cause).mend(self.map_again()));
        }
        Ok(format!("{days} days"))
    }

    pub(super) fn https(&self) -> Judged {
        let name = &self.seen.name;
        match seen(self.seen.https.as_ref()) {
            Some(Ok(answer)) => self.page(answer, "https"),
            Some(Err(failure)) => {
                let cause = format!("`https://{name}/` gives no proper answer");
                fail("no answer", Fault::error(Code::HttpsFails, cause).seen(failure.words.clone()))
            }
            None => Ok(String::new()),
        }
    }

    /// The site's own first page.
    fn page(&self, answer: &Answer, scheme: &str) -> Judged {
        let name = &self.seen.name;
        let served_by = answer.server.as_ref().map(|server| format!("answered by `{server}`"));
        let is_folder = matches!(self.expected.site.content, Content::Folder { .. });
        // Where the proof tells the cause, the status is only its symptom.
        if answer.status >= 400
            && let Err(failed) = self.proof()
            && failed.1.severity == Severity::Error
        {
            return fail(answer.status.to_string(), failed.1);
        }
        let cause = match answer.status {
            500.. => {
                format!("`{scheme}://{name}/` answers {}: a fault within the server or the application", answer.status)
            }
            403 if is_folder => format!(
                "`{scheme}://{name}/` answers 403: the server may not read the folder, or there is no index page and no listing"
            ),
            404 if is_folder => format!("`{scheme}://{name}/` answers 404: the document root has no index page"),
            _ => return Ok(answer.status.to_string()),
        };
        let mut fault = Fault::warning(Code::HttpsStatus, cause);
        fault.evidence = served_by;
        fail(answer.status.to_string(), fault)
    }

    fn forbidden(&self) -> Fault {
        let content = &self.expected.site.content;
        Fault::error(Code::FolderForbidden, format!("the server may not read {content}, or a rule there forbids it"))
            .seen("the proof file was answered with 403")
            .mend(format!("namei -l {content}   # the first folder without `r-x` for others is the one"))
    }

    fn upstream_down(&self, words: &str) -> Fault {
        let cause = format!(
            "the upstream of `{}` doesn't answer at {}: start it",
            self.expected.site.name, self.expected.site.content
        );
        Fault::error(Code::UpstreamDown, cause).seen(words)
    }

    pub(super) fn proof(&self) -> Judged {
        let name = &self.seen.name;
        let content = &self.expected.site.content;
        let Some(timed) = &self.seen.proof else { return Ok(String::new()) };
        match &timed.seen {
            Proof::Given => Ok("proven".into()),
            Proof::UpstreamVaries => Ok("answers vary".into()),
            Proof::FolderMissing => {
                let fault = Fault::error(Code::FolderMissing, format!("the folder of `{name}` is gone: {content}"));
                fail("no folder", fault.mend(format!("yandro map {} FOLDER", self.expected.site.name)))
            }
            Proof::NotWritten(words) => {
                let cause = format!("the proof file could not be written below {content}");
                fail("not written", Fault::warning(Code::ProofNotWritten, cause).seen(words.clone()))
            }
            Proof::Status(403) => fail("forbidden", self.forbidden()),
            Proof::Status(status) => {
                let cause = format!("`{name}` is answered, but not from {content}");
                let fault = Fault::error(Code::AnsweredElsewhere, cause)
                    .seen(format!("a file put there a moment ago was answered with {status}"));
                fail("elsewhere", fault.mend(self.map_again()))
            }
            Proof::OtherContent if matches!(content, Content::Upstream(_)) => {
                let cause = format!("what `{name}` answers is not what {content} answers");
                fail("differs", Fault::warning(Code::UpstreamDiffers, cause).mend(self.map_again()))
            }
            Proof::OtherContent => {
                let cause = format!("`{name}` is answered, but not from {content}");
                let fault = Fault::error(Code::AnsweredElsewhere, cause)
                    .seen("a file put there a moment ago came back with other content");
                fail("elsewhere", fault.mend(self.map_again()))
            }
            Proof::UpstreamDown(words) => fail("upstream down", self.upstream_down(words)),
            Proof::Failed(words) => {
                let cause = format!("the request for the proof of `{name}` failed");
                fail("no answer", Fault::error(Code::HttpsFails, cause).seen(words.clone()))
            }
        }
    }
}

fn seen<T>(timed: Option<&Timed<T>>) -> Option<&T> {
    timed.map(|timed| &timed.seen)
}
