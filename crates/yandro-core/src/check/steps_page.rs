//! The steps of the answers: over plain HTTP, over HTTPS, and the proof.

use core::net::SocketAddr;

use super::REDIRECT_PROBE;
use super::cause::{
    Forbidden, IndexFault, RequestedPage, SilenceReason, SourceReason, UnexpectedFolder, UpstreamFault,
};
use super::codes::{Cause, Severity};
use super::finding::{Diagnosis, Evidence, Judged, fail};
use super::judge::Judge;
use super::observation::{Answer, Failure, FailureKind, Proof, Trail};
use super::page::OwnAddress;
use super::page::{RedirectSource, RedirectTarget, target};
use super::php_fault::php_fault_at;
use super::remedy::{MapOption, Remedy};
use super::steps::seen;
use crate::host_port::HostPort;
use crate::name::{HostName, Suffix};
use crate::shell::word;
use crate::site::Scheme;
use crate::site::{Content, Https};

/// The host of an absolute address.
fn host_of(address: &str) -> &str {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
    rest.split(['/', '?', '#']).next().unwrap_or(rest)
}

impl Judge<'_> {
    pub(super) fn http(&self) -> Judged {
        let host = self.seen.name.clone();
        let answer = match seen(self.seen.http.as_ref()) {
            Some(Ok(answer)) => answer,
            Some(Err(failure)) if failure.kind == FailureKind::TimedOut && self.is_own_answer() => {
                return self.silent(failure, self.expected.http_port);
            }
            Some(Err(failure)) => return self.no_answer(Cause::HttpFails { host }, failure, Scheme::Http),
            None => return Ok(String::new()),
        };
        if let (Https::Off, Suffix::ForcedHttps(suffix)) = (self.expected.site.https, host.suffix()) {
            let suffix = suffix.to_owned();
            let fix = Remedy::Widen(self.expected.site.name.clone()).and(self.map([MapOption::HttpsOnly]));
            return fail("HTTPS forced", Diagnosis::new(Cause::HttpsForced { host, suffix }).fix(fix));
        }
        if self.expected.site.https != Https::Only {
            return self.page(answer, Scheme::Http);
        }
        Ok(answer.status.to_string())
    }

    fn no_answer(&self, cause: Cause, failure: &Failure, scheme: Scheme) -> Judged {
        let diagnosis = Diagnosis::new(cause).seen(Evidence::Words(failure.words.clone()));
        fail("no answer", diagnosis.fix(self.verbosely(scheme)))
    }

    /// Whether the site's server answers by itself: behind it the upstream may be what is slow.
    fn is_own_answer(&self) -> bool {
        self.is_folder() || self.expected.site.https == Https::Only && self.expected.site.own_tls().is_none()
    }

    /// The server takes the connection and says nothing.
    pub(super) fn silent(&self, failure: &Failure, port: u16) -> Judged {
        let server = self.expected.server;
        let diagnosis = Diagnosis::new(Cause::ServerSilent { server, reason: SilenceReason::Unknown })
            .seen(Evidence::OnPort(port, failure.words.clone()));
        fail("no answer", diagnosis.fix(self.start_anew()))
    }

    /// Ends the server and starts it.
    fn start_anew(&self) -> Remedy {
        match self.expected.server {
            server if server.is_configured() => Remedy::restart(server),
            _ => self.start_server(),
        }
    }

    pub(super) fn redirect(&self) -> Judged {
        let host = self.seen.name.clone();
        let Some(Ok(answer)) = seen(self.seen.http.as_ref()) else { return Ok(String::new()) };
        let status = answer.status;
        if answer.is_put_off() || self.is_limited(status) {
            return Ok(self.put_off(status));
        }
        let Some(location) = answer.redirect() else {
            let cause = Cause::RedirectMissing { host, status };
            return fail(status.to_string(), Diagnosis::new(cause).fix(self.put_back()));
        };
        let leads_to =
            location.strip_prefix("https://").map(|rest| rest.split(['/', '?', '#', ':']).next().unwrap_or_default());
        let is_own = |host: &str| self.expected.asked_names().any(|own| host.eq_ignore_ascii_case(own.as_str()));
        if !leads_to.is_some_and(is_own) {
            let cause = Cause::RedirectElsewhere { host, location: location.clone() };
            return fail(format!("{status} elsewhere"), Diagnosis::new(cause).fix(self.put_back()));
        }
        if !location.ends_with(REDIRECT_PROBE) {
            let evidence = Evidence::LeadsTo { from: Some(REDIRECT_PROBE), to: location.clone() };
            let diagnosis = Diagnosis::new(Cause::RedirectLosesPath {}).seen(evidence);
            return fail("path lost", diagnosis.fix(self.put_back()));
        }
        Ok(format!("{status} to the same over HTTPS"))
    }

    pub(super) fn https(&self) -> Judged {
        match seen(self.seen.https.as_ref()) {
            Some(Ok(answer)) => self.page(answer, Scheme::Https),
            Some(Err(failure)) => {
                let cause = Cause::HttpsFails { host: self.seen.name.clone(), request: RequestedPage::Page };
                self.no_answer(cause, failure, Scheme::Https)
            }
            None => Ok(String::new()),
        }
    }

    /// The site's own first page.
    fn page(&self, answer: &Answer, scheme: Scheme) -> Judged {
        let status = answer.status;
        if answer.is_put_off() || self.is_limited(status) {
            return Ok(self.put_off(status));
        }
        // If the proof has a cause, the status is only its symptom.
        if status >= 400
            && let Err(failed) = self.proof()
            && failed.1.severity() == Severity::Error
        {
            return fail(status.to_string(), failed.1);
        }
        let is_wrong = match status {
            500.. => true,
            // An application may have no page there: its own answer is not the server's.
            404 if self.expected.site.serving.php.is_some() => false,
            403 | 404 => self.is_folder(),
            _ => false,
        };
        if !is_wrong {
            return Ok(status.to_string());
        }
        let cause = Cause::HttpsStatus { scheme, host: self.seen.name.clone(), status };
        let evidence = answer.server.clone().map(Evidence::ServerField).into_iter().collect();
        fail(status.to_string(), Diagnosis { evidence, ..Diagnosis::new(cause).fix(self.verbosely(scheme)) })
    }

    /// Links and addresses of a page that exists.
    pub(super) fn application(&self) -> Judged {
        // Told of the site, whichever of its names was asked for: one cause is one finding.
        let site = self.expected.site.name.clone();
        let trail = self.seen.trail.as_ref().map(|trail| &trail.seen);
        let circle = match trail {
            Some(Trail::Loops(way)) => Some(way.clone()),
            _ => self.circle_of_names(),
        };
        if let Some(way) = circle {
            let diagnosis = Diagnosis::new(Cause::RedirectLoop { site }).seen(Evidence::Way(way));
            return fail("circle", diagnosis.fix(self.look_for("Redirect")));
        }
        if let Some(Trail::Leaves(there)) = trail.filter(|trail| self.is_sent_back(trail)) {
            let cause = Cause::RedirectBack { site, to: there.clone() };
            let fix = Diagnosis::new(cause).fix(self.map([MapOption::HttpsBoth]));
            return fail("circle", fix.fix(self.look_for("http://")));
        }
        if let Some(Trail::Leaves(there)) = trail
            && let Some(other) = self.listed_at(there)
        {
            return Ok(format!("leads to {other}"));
        }
        if let Some(Trail::Leaves(there)) = trail {
            let evidence = Evidence::LeadsTo { from: None, to: there.clone() };
            let diagnosis = Diagnosis::new(Cause::RedirectLeaves { site }).seen(evidence);
            return fail("leaves", diagnosis.fix(self.readdress(there)));
        }
        if self.seen.page.is_php_source {
            let fix = self.map([MapOption::Php(None)]);
            return fail(
                "PHP source",
                Diagnosis::new(Cause::PhpSource { site, reason: SourceReason::WithoutPhp }).fix(fix),
            );
        }
        if let Some(page) = self.beside.files.index_page.clone().filter(|_| self.seen.page.is_listing) {
            let cause = Cause::IndexMissing {
                content: self.expected.site.content.clone(),
                fault: IndexFault::Listed(page.clone()),
            };
            return fail("a listing", Diagnosis::new(cause).fix(self.map([MapOption::Index(page)])));
        }
        if let Some((words, place)) = &self.seen.page.php_fault {
            return fail("PHP fault", php_fault_at(words, place));
        }
        if let Some(other) = self.seen.page.own_addresses.iter().find_map(|own| self.other_address(own)) {
            let diagnosis = Diagnosis::new(Cause::PageLeaves { site }).seen(Evidence::OwnAddress(other.to_owned()));
            return fail("other address", diagnosis.fix(self.readdress(other)));
        }
        if let Some((origin, places)) = self.seen.page.loaded.iter().find(|(origin, _)| self.is_mixed(origin)) {
            // A foreign server's address is not the application's.
            let is_own = !HostName::parse(host_of(origin).split(':').next().unwrap_or_default())
                .is_ok_and(|host| host.can_be_real());
            let look = if is_own { self.readdress(origin) } else { self.look_for(origin) };
            let cause = Cause::PageMixed { site, origin: origin.clone(), places: *places };
            return fail("mixed content", Diagnosis::new(cause).fix(look));
        }
        Ok(match trail {
            Some(Trail::Ends(1) | Trail::LeadsTo(_, _, 1)) => "stays, after 1 redirect".into(),
            Some(Trail::Ends(steps) | Trail::LeadsTo(_, _, steps)) => format!("stays, after {steps} redirects"),
            _ => "stays".into(),
        })
    }

    /// The way of the first page from one of the site's names to the next, if it comes back to one of them.
    fn circle_of_names(&self) -> Option<Vec<String>> {
        let mut way = Vec::new();
        let mut here = self.seen;
        loop {
            let is_back = way.contains(&here.name.to_string());
            way.push(here.name.to_string());
            if is_back {
                return Some(way);
            }
            let Trail::LeadsTo(next, path, _) = &here.trail.as_ref()?.seen else { return None };
            here = self.all.iter().find(|other| other.name == *next && path == "/")?;
        }
    }

    /// An address that a page gives as its own and that leads away from the site. The address for search engines of
    /// the page once it is published doesn't matter for a name of this machine.
    fn other_address<'o>(&self, own: &'o OwnAddress) -> Option<&'o str> {
        let names: Vec<HostName> = self.expected.site.names().cloned().collect();
        let scheme = if self.expected.site.https.is_on() { "https" } else { "http" };
        let ports = self.expected.page_ports();
        let from = RedirectSource { names: &names, name: &self.seen.name, scheme, ports: &ports, path: "/" };
        let is_away = |address: &str| target(address, from) == RedirectTarget::Away;
        match own {
            OwnAddress::Base(address) => Some(address.as_str()).filter(|own| is_away(own)),
            OwnAddress::Canonical(address) => {
                let host = host_of(address).split(':').next().unwrap_or_default();
                let is_published = address.to_ascii_lowercase().starts_with("https://")
                    && HostName::parse(host).is_ok_and(|host| host.can_be_real());
                Some(address.as_str()).filter(|own| is_away(own) && !is_published)
            }
        }
    }

    /// The other site of the list that an address over HTTPS is of.
    fn listed_at(&self, address: &str) -> Option<HostName> {
        let host = HostName::parse(host_of(address.strip_prefix("https://")?).split(':').next()?).ok()?;
        let is_other = self.expected.site.names().all(|own| *own != host);
        Some(host).filter(|host| is_other && self.expected.listed.contains(host))
    }

    /// The detail of an answer that puts the request off: by which line, if one counts requests.
    fn put_off(&self, status: u16) -> String {
        match &self.beside.limits {
            Some(place) => format!("{status}: put off by {place}"),
            None => format!("{status}: put off"),
        }
    }

    /// Whether a page redirects to plain HTTP of the same site, from which the server redirects to HTTPS.
    fn is_sent_back(&self, trail: &Trail) -> bool {
        let site = &self.expected.site;
        let Trail::Leaves(there) = trail else { return false };
        let names: Vec<HostName> = site.names().cloned().collect();
        let ports = site.http_ports(self.expected.http_port);
        let from = RedirectSource { names: &names, name: &self.seen.name, scheme: "http", ports: &ports, path: "/" };
        site.https == Https::Only && there.starts_with("http://") && target(there, from) != RedirectTarget::Away
    }

    /// Whether a page over HTTPS can't load from an address, or it is another server of this computer.
    fn is_mixed(&self, origin: &str) -> bool {
        let is_insecure = self.expected.site.https.is_on() && origin.starts_with("http://");
        let host_port = HostPort::parse(host_of(origin), Some(443));
        is_insecure || host_port.is_some_and(|own| own.is_loopback())
    }

    /// The same request by hand, with all that is said on the way: what breaks an answer off shows there.
    fn verbosely(&self, scheme: Scheme) -> Remedy {
        let port = match scheme {
            Scheme::Http => self.expected.http_port,
            Scheme::Https => self.expected.https_port,
        };
        let port = if port == scheme.default_port() { String::new() } else { format!(":{port}") };
        Remedy::Shell(format!("curl --verbose {}://{}{port}/", scheme.word(), self.seen.name))
    }

    /// The application's new address in its own files, or a search where yandro doesn't know them.
    fn readdress(&self, old: &str) -> Remedy {
        let site = &self.expected.site;
        let scheme = old.split_once("://").map_or("https", |(scheme, _)| scheme);
        match &site.content {
            Content::Folder { .. } => Remedy::Readdress(site.name.clone(), format!("{scheme}://{}", host_of(old))),
            Content::Upstream(_) => self.look_for(host_of(old)),
        }
    }

    /// A search for the words in the project's files by which an application redirects away from its name.
    fn look_for(&self, words: &str) -> Remedy {
        let folder = match &self.expected.site.content {
            Content::Folder { folder, .. } => folder.as_str(),
            // Only the upstream knows its folder: usually it is the current one.
            Content::Upstream(_) => ".",
        };
        Remedy::Shell(format!("grep -rnFI -e {} {}", word(words), word(folder)))
    }

    /// The finding for a document root that is missing.
    pub(super) fn folder_missing(&self) -> Judged {
        let (host, content) = (self.seen.name.clone(), self.expected.site.content.clone());
        let site = self.expected.site.name.clone();
        let missing = Diagnosis::new(Cause::FolderMissing { host, content });
        let missing = match &self.beside.files.moved_to {
            Some(folder) => missing.fix(Remedy::Move(site.clone(), folder.clone())),
            None => missing.fix(Remedy::map_to(&site, ".", [])),
        };
        fail("no folder", missing.fix(self.map([MapOption::Create])).fix(Remedy::Unmap(site)))
    }

    pub(super) fn proof(&self) -> Judged {
        let Some(timed) = &self.seen.proof else { return Ok(String::new()) };
        let (host, content) = (self.seen.name.clone(), self.expected.site.content.clone());
        let site = self.expected.site.name.clone();
        let (detail, diagnosis) = match &timed.seen {
            Proof::Given => return Ok("proven".into()),
            Proof::LeadsTo(other) => return Ok(format!("leads to {other}")),
            Proof::Guarded | Proof::PutOff(_) => return Ok(String::new()),
            Proof::UpstreamVaries => return Ok("answers vary".into()),
            Proof::UpstreamUnseen => return Ok("upstream not seen".into()),
            Proof::FolderMissing => return self.folder_missing(),
            Proof::NotWritten(words) => {
                let look = Remedy::Shell(format!("ls -ld {}", word(&content.to_string())));
                let cause = Diagnosis::new(Cause::ProofNotWritten { content });
                ("not written", cause.seen(Evidence::Words(words.clone())).fix(look))
            }
            Proof::Barred(barrier) => {
                let to = Forbidden::Folder { user: barrier.user.clone(), path: barrier.folder.clone() };
                let diagnosis = Diagnosis::new(Cause::FolderForbidden { to }).seen(Evidence::Mode(barrier.mode));
                ("forbidden", diagnosis.fix(Remedy::Shell(barrier.fix.clone())))
            }
            Proof::Status(403) => {
                let diagnosis = Diagnosis::new(Cause::FolderForbidden { to: Forbidden::Content(content) });
                ("forbidden", diagnosis.seen(Evidence::ProofForbidden).fix(self.map([MapOption::FixPermissions])))
            }
            Proof::OtherContent if !self.is_folder() => {
                ("differs", Diagnosis::new(Cause::UpstreamDiffers { host, content }).fix(self.put_back()))
            }
            Proof::Status(_) | Proof::OtherContent => {
                let evidence = match timed.seen {
                    Proof::Status(status) => Evidence::ProofStatus(status),
                    _ => Evidence::ProofChanged,
                };
                let cause = Cause::AnsweredElsewhere { host, by: UnexpectedFolder::NotFrom(content) };
                ("elsewhere", Diagnosis::new(cause).seen(evidence).fix(self.put_back()))
            }
            Proof::UpstreamDown(words) => {
                let asked = Remedy::Shell(format!("curl --verbose {}", word(&content.to_string())));
                let diagnosis = Diagnosis::new(Cause::UpstreamDown { site, content, near: None });
                ("upstream down", diagnosis.seen(Evidence::Words(words.clone())).fix(asked))
            }
            Proof::UpstreamFails(fault, words) => ("upstream fails", upstream_fails(&site, &content, fault, words)),
            Proof::UpstreamRefuses(status) => {
                let diagnosis = Diagnosis::new(Cause::UpstreamRefusesHost { host, content });
                let fix = self.map([MapOption::OwnUpstreamHost]);
                ("refused", diagnosis.seen(Evidence::RefusedUnderName(*status)).fix(fix))
            }
            Proof::Failed(words) => {
                let diagnosis = Diagnosis::new(Cause::HttpsFails { host, request: RequestedPage::Proof });
                ("no answer", diagnosis.seen(Evidence::Words(words.clone())).fix(self.verbosely(Scheme::Https)))
            }
        };
        fail(detail, diagnosis)
    }
}

/// The finding for an upstream that is there and can't be used as it is.
fn upstream_fails(site: &HostName, content: &Content, fault: &UpstreamFault, words: &str) -> Diagnosis {
    let port = match content {
        Content::Upstream(upstream) => upstream.host_port().port(),
        Content::Folder { .. } => 80,
    };
    let fix = match fault {
        UpstreamFault::OtherFamily(address) => {
            Remedy::map_to(site, format!("http://{}", SocketAddr::new(*address, port)), [])
        }
        UpstreamFault::SpeaksTls => Remedy::map_to(site, content.to_string().replacen("http://", "https://", 1), []),
        UpstreamFault::Silent | UpstreamFault::Endless | UpstreamFault::Closes | UpstreamFault::NotHttp => {
            Remedy::Shell(format!("curl --verbose --max-time 60 {}", word(&content.to_string())))
        }
    };
    let cause = Cause::UpstreamFails { site: site.clone(), content: content.clone(), fault: fault.clone() };
    Diagnosis::new(cause).seen(Evidence::Words(words.to_owned())).fix(fix)
}
