//! The steps that don't depend on the site's answers: its name's suffix, the listeners, the
//! configuration on disk, and the further offers within TLS.

use super::codes::Cause;
use super::finding::{Diagnosis, Evidence, Judged, fail};
use super::judge::Judge;
use super::observation::{Expected, OtherName, Proof, ResolverAnswer};
use super::remedy::Remedy;
use super::report::StepPart;
use super::step::CheckStep;
use crate::name::Suffix;
use crate::site::{Content, Https, ServerId};

impl Judge<'_> {
    /// Why there is nothing to do for a step, if there isn't.
    pub(super) fn not_needed(&self, step: CheckStep) -> Option<&'static str> {
        let (site, beside) = (&self.expected.site, self.beside);
        match step {
            CheckStep::Http | CheckStep::Redirect if site.own_tls().is_some() => Some("HTTPS alone"),
            _ if step.is_of_tls() && !site.https.is_on() => Some("only plain HTTP"),
            CheckStep::Redirect if site.https != Https::Only => Some("HTTP serves as well"),
            CheckStep::Resolver if self.seen.resolver.seen == ResolverAnswer::NotAsked => {
                Some("not asked in a sysroot")
            }
            CheckStep::VirtualHost if beside.configured.is_none() => Some(match self.expected.server {
                ServerId::BuiltIn => "the built-in server's own",
                _ if site.own_tls().is_some() => "the upstream's own",
                _ => "not looked at from here",
            }),
            CheckStep::Stores if beside.stores.as_ref().is_none_or(|stores| stores.seen.is_empty()) => {
                Some("none is known")
            }
            CheckStep::Stores if self.trusting() == 0 => Some("not trusted yet. Run: yandro authority trust"),
            CheckStep::Offers if self.seen.offers.is_none() => Some("not asked"),
            CheckStep::OtherNames if self.seen.other_names.is_none() => Some("not asked"),
            CheckStep::Disk if self.is_anothers() => Some("another is served"),
            CheckStep::Proof if self.has_proof(&Proof::Guarded) => Some("a password is asked for first"),
            CheckStep::Proof if self.is_put_off() => Some("the server puts requests off"),
            CheckStep::Application if !self.is_page() => Some("no page of the site's own"),
            _ => None,
        }
    }

    /// Whether the server puts the request for the proof off.
    fn is_put_off(&self) -> bool {
        match self.seen.proof.as_ref().map(|timed| &timed.seen) {
            Some(Proof::PutOff(_)) => true,
            Some(Proof::Status(status)) => self.is_limited(*status),
            _ => false,
        }
    }

    /// Whether a status is that of requests beyond a number, as the configuration has it.
    pub(super) fn is_limited(&self, status: u16) -> bool {
        matches!(status, 429 | 503) && self.beside.limits.is_some()
    }

    pub(super) fn has_proof(&self, proof: &Proof) -> bool {
        self.seen.proof.as_ref().is_some_and(|timed| timed.seen == *proof)
    }

    /// Whether the site's first answer is one that may lead somewhere.
    fn is_page(&self) -> bool {
        let answer = if self.expected.site.https.is_on() { &self.seen.https } else { &self.seen.http };
        answer.as_ref().is_some_and(|timed| timed.seen.as_ref().is_ok_and(|answer| answer.status < 400))
    }

    pub(super) fn suffix(&self) -> String {
        match self.seen.name.suffix() {
            Suffix::Reserved("internal") => ".internal is reserved (ICANN)".into(),
            Suffix::Reserved("home.arpa") => ".home.arpa is reserved (RFC 8375)".into(),
            Suffix::Reserved(suffix) => format!(".{suffix} is reserved (RFC 6761)"),
            Suffix::MulticastDns => ".local also belongs to multicast DNS".into(),
            Suffix::ForcedHttps(suffix) => format!("public name; browsers use only HTTPS below .{suffix}"),
            Suffix::Public => "public name, hidden on this machine".into(),
            Suffix::Unlisted => "unregistered suffix".into(),
        }
    }

    pub(super) fn ports(&self) -> String {
        let Expected { site, http_port, https_port, .. } = self.expected;
        match (site.own_tls(), site.https.is_on()) {
            (Some(port), _) => format!("port {port}"),
            (None, true) => format!("ports {http_port}, {https_port}"),
            (None, false) => format!("port {http_port}"),
        }
    }

    /// The processes that listen on them, each with its ports where it hasn't all.
    fn listeners(&self) -> Vec<StepPart> {
        let holders = self.beside.holders.as_ref().map(|timed| &timed.seen[..]).unwrap_or_default();
        let mut told: Vec<(String, Vec<u16>)> = Vec::new();
        for holder in holders {
            let words = holder.words.replace('`', "");
            match told.iter_mut().find(|(own, _)| *own == words) {
                Some((_, ports)) if ports.contains(&holder.port) => {}
                Some((_, ports)) => ports.push(holder.port),
                None => told.push((words, vec![holder.port])),
            }
        }
        let is_one = told.len() == 1;
        let one = |(words, ports): (String, Vec<u16>)| {
            let ports: Vec<String> = ports.iter().map(ToString::to_string).collect();
            let title = if is_one { words } else { format!("{}: {words}", ports.join(", ")) };
            StepPart { title, well: true }
        };
        told.into_iter().map(one).collect()
    }

    /// The parts of a step, where each is worth reporting.
    pub(super) fn parts(&self, step: CheckStep) -> Vec<StepPart> {
        match step {
            CheckStep::Connect => self.listeners(),
            CheckStep::Stores => self.store_parts(),
            _ => Vec::new(),
        }
    }

    /// The server's behaviour after it reads its configuration. A problem that the site doesn't have yet is
    /// a warning.
    pub(super) fn virtual_host(&self) -> Judged {
        let (site, server) = (&self.expected.site, self.expected.server);
        let Some(configured) = self.beside.configured.as_ref().map(|timed| &timed.seen) else {
            return Ok(String::new());
        };
        if let Some(foretold) = configured.in_the_way(site, server) {
            let detail = if foretold.cause.is_refusal() { "refused" } else { "another one answers, by the files" };
            return fail(detail, Diagnosis { foretold_for: Some(server), ..foretold });
        }
        let own = configured.answering.iter().find(|host| host.is_own && host.name == self.seen.name);
        Ok(own.map_or_else(String::new, |own| {
            let file = own.place.file.rsplit('/').next().unwrap_or_default();
            format!("{file}:{}", own.place.line)
        }))
    }

    pub(super) fn offers(&self) -> String {
        let Some(offers) = self.seen.offers.as_ref().map(|timed| &timed.seen) else { return String::new() };
        let versions = match (offers.tls12, offers.tls13) {
            (true, true) => "TLS 1.2 and 1.3",
            (true, false) => "only TLS 1.2",
            (false, true) => "only TLS 1.3",
            (false, false) => "neither TLS 1.2 nor 1.3",
        };
        let protocol = match offers.protocol.as_deref() {
            Some("h2") => "HTTP/2",
            Some("http/1.1") => "HTTP/1.1",
            Some(other) => other,
            None => "no choice of protocol",
        };
        format!("{versions}, {protocol}")
    }

    pub(super) fn other_names(&self) -> String {
        let Some(other) = self.seen.other_names.as_ref().map(|timed| &timed.seen) else { return String::new() };
        match other {
            OtherName::Refused => "refused".into(),
            OtherName::Own => "get this site's certificate".into(),
            OtherName::Certificate(names) => match names.first() {
                Some(first) => format!("rejected (certificate of {first})"),
                None => "get a certificate without names".into(),
            },
        }
    }

    fn trusting(&self) -> usize {
        let stores = self.beside.stores.as_ref().map(|timed| &timed.seen[..]).unwrap_or_default();
        stores.iter().filter(|store| store.trusts).count()
    }

    /// Whether the trust stores agree: where none trusts the authority, that is a choice.
    pub(super) fn stores(&self) -> Judged {
        let stores = self.beside.stores.as_ref().map(|timed| &timed.seen[..]).unwrap_or_default();
        let detail = format!("{} of {}", self.trusting(), stores.len());
        let Some(other) = stores.iter().find(|store| !store.trusts) else { return Ok(detail) };
        let cause = Cause::StoreUntrusting { store: other.title.clone() };
        fail(detail, Diagnosis::new(cause).seen(Evidence::Words(other.path.clone())).fix(Remedy::Trust))
    }

    fn store_parts(&self) -> Vec<StepPart> {
        let stores = self.beside.stores.as_ref().map(|timed| &timed.seen[..]).unwrap_or_default();
        stores.iter().map(|store| StepPart { title: store.title.clone(), well: store.trusts }).collect()
    }

    /// Whether the content is a folder's.
    pub(super) fn is_folder(&self) -> bool {
        matches!(self.expected.site.content, Content::Folder { .. })
    }
}
