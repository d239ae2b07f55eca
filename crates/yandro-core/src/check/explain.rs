//! From symptoms to causes: what a server, its files and its log say about a finding.

use super::PROOF_FILE;
use super::circumstances::{Circumstances, LogLine, PortHolder};
use super::configured::{Of, refused};
use super::fault::Fault;
use super::finding::{Code, Finding, Severity};
use super::judge::{Outcome, SiteReport, Step};
use super::php_fault::{php_fault, php_fault_at};
use super::remedy;
use crate::config::Place;
use crate::shell::word;
use crate::site::{Content, Overrides, ServerId};

/// What each symptom may be a symptom of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Symptom {
    /// Nothing listens.
    Closed,
    /// Something else answers, or with something else.
    Wrong,
    /// An answer of the site's own server with an error.
    Status,
}

/// Puts causes in the place of symptoms, as far as the circumstances tell them. One cause for
/// several symptoms is told once.
pub fn explain(report: &mut SiteReport, http_port: u16, https_port: u16, around: &Circumstances) {
    let explanation = Explanation { report, ports: [http_port, https_port], around };
    let mut explained: Vec<Finding> = Vec::new();
    for symptom in &report.findings {
        let finding = explanation.of(symptom);
        let is_cause = finding.code != symptom.code;
        let is_known = |other: &Finding| {
            other.code == finding.code && (is_cause || is_foretold(&finding) || other.cause == finding.cause)
        };
        match explained.iter_mut().find(|other| is_known(other)) {
            // What was foretold has come.
            Some(known) if known.severity < finding.severity => *known = finding,
            Some(_) => {}
            None => explained.push(finding),
        }
    }
    // What a graver cause brings with it is no finding of its own.
    let has = |wanted: Code| explained.iter().any(|own| own.code == wanted);
    let has_error = explained.iter().any(|own| own.severity == Severity::Error);
    let is_gone = has(Code::AddressGone);
    // A configuration that isn't taken at all foretells nothing: half of it may be left out for the same cause.
    let is_refused = [Code::ModuleOff, Code::ConfigurationBroken, Code::LogFolderMissing].into_iter().any(has);
    explained.retain(|own| match own.code {
        Code::FamilyHalf => !has_error,
        Code::TlsFails | Code::PortClosed | Code::Unreachable => !is_gone,
        _ if is_foretold(own) => !(is_refused && has_error),
        _ => true,
    });
    report.findings = explained;
    weigh_again(report);
}

/// What a cause turned out to be weighs on the step as well: more, or, where no other step depends on it, less.
fn weigh_again(report: &mut SiteReport) {
    for step in report.names.iter_mut().flat_map(|name| &mut name.steps) {
        let of_step = report.findings.iter().filter(|finding| finding.step == step.step);
        let is_last = matches!(step.step, Step::Https | Step::Application | Step::Proof);
        match (step.outcome, of_step.map(|finding| finding.severity).max()) {
            (Outcome::Warned, Some(Severity::Error)) => step.outcome = Outcome::Failed,
            (Outcome::Failed, Some(Severity::Warning)) if is_last => step.outcome = Outcome::Warned,
            _ => {}
        }
    }
    for name in &mut report.names {
        name.is_proven &= name.is_well();
    }
}

/// Whether the files alone say so as yet: what is an error once the server reads them is a warning before.
fn is_foretold(finding: &Finding) -> bool {
    finding.severity < finding.code.severity()
}

struct Explanation<'e> {
    report: &'e SiteReport,
    ports: [u16; 2],
    around: &'e Circumstances,
}

impl Explanation<'_> {
    fn of(&self, finding: &Finding) -> Finding {
        let symptom = match finding.code {
            Code::PortClosed => Symptom::Closed,
            Code::TlsFails
            | Code::TlsPlain
            | Code::CertificateUnknown
            | Code::CertificateName
            | Code::CertificateOld
            | Code::CertificateExpired
            | Code::RedirectMissing
            | Code::RedirectElsewhere
            | Code::AnsweredElsewhere
            | Code::UpstreamDiffers
            | Code::HttpFails
            | Code::HttpsFails => Symptom::Wrong,
            Code::HttpsStatus | Code::FolderForbidden | Code::UpstreamDown => Symptom::Status,
            Code::RedirectLoop => return self.at_rule(finding),
            Code::PhpSource => return Finding { remedy: Some(self.run_php()), ..finding.clone() },
            _ => return finding.clone(),
        };
        let cause = match symptom {
            Symptom::Closed => self.closed(),
            Symptom::Wrong => self.wrong(finding.code).or_else(|| self.status(finding)),
            Symptom::Status => self.wrong_before(finding).or_else(|| self.status(finding)),
        };
        let mut finding = finding.clone();
        if let Some(cause) = cause {
            (finding.code, finding.severity, finding.cause) = (cause.code, cause.severity, cause.cause);
            // On which ports it was seen stays with it.
            let ports = finding.evidence.as_ref().and_then(|seen| Some(seen[seen.find("on the ports ")?..].to_owned()));
            finding.evidence = match (cause.evidence, ports) {
                (Some(seen), Some(ports)) => Some(format!("{seen}; {ports}")),
                (seen, ports) => seen.or(ports),
            };
            (finding.remedy, finding.otherwise) = (cause.remedy, cause.otherwise);
        }
        // What the server wrote about it belongs to whatever is told.
        if symptom != Symptom::Closed
            && let Some(line) = self.telling_entry()
            && !finding.evidence.as_ref().is_some_and(|seen| seen.contains(&line.text))
        {
            let line = line.to_string();
            finding.evidence = Some(finding.evidence.map_or(line.clone(), |seen| format!("{seen}\n{line}")));
        }
        finding
    }

    fn server(&self) -> ServerId {
        self.report.server
    }

    /// The entry of the log that is shown: the last one that is about a page, and not about the proof.
    fn telling_entry(&self) -> Option<&LogLine> {
        let mut entries = self.around.log.iter().rev();
        entries.find(|entry| !entry.text.contains(PROOF_FILE)).or(self.around.log.last())
    }

    fn refused(&self) -> Option<Fault> {
        self.around.refuses.as_ref().map(|words| refused(words, self.server(), self.around.runs))
    }

    fn closed(&self) -> Option<Fault> {
        let server = self.server();
        if !server.is_configured() {
            return None;
        }
        let refused = self.key_mismatch().or_else(|| self.refused());
        if refused.is_some() {
            return refused;
        }
        if let Some(held) = self.held() {
            // It couldn't be started either.
            return Some(held);
        }
        if self.around.runs == Some(false) {
            let mend = remedy::bring_up(server, self.around.runs);
            return Some(Fault::new(Code::ServerDown, format!("{server} doesn't run")).mend(mend));
        }
        let (site, configured) = (&self.report.site, &self.around.configured);
        configured
            .not_read(site, server)
            .or_else(|| configured.not_listened(site, server))
            .or_else(|| self.not_reloaded())
    }

    fn key_mismatch(&self) -> Option<Fault> {
        if self.around.key_fits != Some(false) {
            return None;
        }
        let site = &self.report.site.name;
        let words = format!("the key of `{site}` on disk is not the one that its certificate is for");
        Some(Fault::new(Code::KeyMismatch, words).mend(format!("yandro check {site} --mend")))
    }

    /// The site's own virtual host shows another certificate than the site's: somebody has named it there.
    fn other_certificate(&self, code: Code) -> Option<Fault> {
        let is_of_it = matches!(code, Code::CertificateUnknown | Code::CertificateName | Code::CertificateExpired);
        let hosts = &self.around.configured.answering;
        let host = hosts.iter().find(|host| host.is_own && host.tls).filter(|_| is_of_it)?;
        if self.around.names_certificate {
            return None;
        }
        let site = &self.report.site.name;
        let words = format!("the virtual host of `{site}` names another certificate than the site's");
        Some(Fault::new(code, words).seen(host.place.to_string()).mend(remedy::put_back(site)))
    }

    fn not_reloaded(&self) -> Option<Fault> {
        let server = self.server();
        let words = match &self.around.newer {
            Some(file) => format!("{server} was not reloaded since {file} was changed"),
            None if self.is_behind() => format!("{server} was not reloaded since its files were changed"),
            None => return None,
        };
        Some(Fault::new(Code::NotReloaded, words).mend(remedy::reload(server)))
    }

    /// Whether it answers otherwise than its files say, whatever their times are: by them it is the site's own virtual
    /// host, and the certificate that is shown is none of the site's.
    fn is_behind(&self) -> bool {
        let hosts = &self.around.configured.answering;
        let is_own = !hosts.is_empty() && hosts.iter().all(|host| host.is_own);
        is_own && self.around.names_certificate && self.report.names.iter().any(|name| name.is_anothers)
    }

    /// Another program has the port.
    fn held(&self) -> Option<Fault> {
        let (server, site) = (self.server(), &self.report.site.name);
        let holders = &self.around.holders;
        let has_own = |port: u16| holders.iter().any(|holder| holder.port == port && holder.server == Some(server));
        // While the server runs, a process that this user can't see may be the server itself.
        let is_other = |holder: &&PortHolder| {
            let is_unseen = holder.pid.is_none() && self.around.runs == Some(true);
            holder.server != Some(server) && !has_own(holder.port) && !is_unseen
        };
        let other = holders.iter().find(is_other)?;
        let (port, words) = (other.port, &other.words);
        let cause = Fault::new(Code::PortHeld, format!("port {port} is held by {words}, and not by {server}"));
        let cause = match other.server {
            None => {
                let is_taken = |port| self.ports.contains(&port) || holders.iter().any(|own| own.port == port);
                cause.or(remedy::other_ports(site, is_taken))
            }
            Some(id) => {
                let names = if other.names.is_empty() { "none".to_owned() } else { other.names.join(", ") };
                cause
                    .seen(format!("it is {id}; its virtual hosts there: {names}"))
                    .or(format!("yandro map {site} --server {}", id.word()))
            }
        };
        Some(cause.mend(other.remedy(server)))
    }

    /// Why it is another virtual host, or none, that answers.
    fn wrong(&self, code: Code) -> Option<Fault> {
        let server = self.server();
        if !server.is_configured() {
            return None;
        }
        let held = self.held();
        if held.is_some() {
            return held;
        }
        if self.around.runs == Some(false) {
            return self.closed();
        }
        let (site, configured) = (&self.report.site, &self.around.configured);
        let refused = self.key_mismatch().or_else(|| self.refused()).or_else(|| configured.not_read(site, server));
        if refused.is_some() {
            return refused;
        }
        let is_tls = matches!(code, Code::TlsFails | Code::TlsPlain | Code::CertificateName | Code::CertificateUnknown);
        if is_tls && configured.has_tls == Some(false) {
            let words = format!("{server} hasn't its module for TLS switched on");
            return Some(Fault::new(Code::ModuleOff, words).mend(format!("yandro map {}", site.name)));
        }
        let of = if is_tls { Of::Tls(self.ports[1]) } else { Of::Either(self.ports) };
        configured
            .not_listened(site, server)
            .or_else(|| configured.tls_off(site).filter(|_| is_tls))
            .or_else(|| configured.other_answers(site, server, of))
            .or_else(|| configured.other_folder(site).filter(|_| code == Code::AnsweredElsewhere))
            .or_else(|| self.other_certificate(code))
            // An application behind the server answers as it likes: that is no matter of reloading.
            .or_else(|| if code == Code::UpstreamDiffers { None } else { self.not_reloaded() })
            .or_else(|| self.intercepted().filter(|_| code == Code::AnsweredElsewhere))
    }

    /// By the configuration the site's own virtual host answers from its folder: a rule in there takes the request.
    fn intercepted(&self) -> Option<Fault> {
        let (site, hosts) = (&self.report.site, &self.around.configured.answering);
        let place = self.around.rule.as_ref().filter(|_| hosts.iter().all(|host| host.is_own) && !hosts.is_empty())?;
        let words =
            format!("a rule of the project's own answers requests for files of {}: nothing is proven", site.content);
        let seen = format!("{place}: the first such rule; requests below /.well-known/ are to pass");
        Some(Fault::new(Code::ProofIntercepted, words).seen(seen).mend(self.edit_rule(place)))
    }

    /// With the first rule of the project's own, if there is one: what an application does by itself has none.
    fn at_rule(&self, finding: &Finding) -> Finding {
        let Some(place) = &self.around.rule else { return finding.clone() };
        let seen = format!("{}\n{place}: the first rule", finding.evidence.as_deref().unwrap_or_default());
        Finding { evidence: Some(seen), remedy: Some(self.edit_rule(place)), ..finding.clone() }
    }

    /// Opens a rule of the project's own, and has it read.
    fn edit_rule(&self, place: &Place) -> String {
        match &self.around.override_file {
            // Read with every request.
            Some(file) if *file == place.file => remedy::edit(place),
            _ => format!("{} && {}", remedy::edit(place), remedy::reload(self.server())),
        }
    }

    /// A status that is another server's, or of an old configuration.
    fn wrong_before(&self, finding: &Finding) -> Option<Fault> {
        if finding.code != Code::HttpsStatus || self.around.log.is_empty() && self.around.has_index.is_none() {
            return None;
        }
        self.held()
    }

    /// Why the site's own server answers with an error.
    fn status(&self, finding: &Finding) -> Option<Fault> {
        let site = &self.report.site;
        let is_folder = matches!(site.content, Content::Folder { .. });
        let log = |words: &[&str]| {
            let fits = |text: &str| words.iter().any(|word| text.contains(word));
            self.around.log.iter().rev().find(|line| fits(&line.text)).map(ToString::to_string)
        };
        let is_forbidden = finding.cause.contains("403") || finding.code == Code::FolderForbidden;
        let has_status = |status: &str| {
            finding.cause.contains(status) || finding.evidence.as_ref().is_some_and(|seen| seen.contains(status))
        };
        if let Some(seen) = self.around.confined.as_ref().filter(|_| is_forbidden) {
            let words = format!("the system's guard keeps {} from {}", self.server(), site.content);
            let mend = remedy::unconfine(seen, &site.content.to_string());
            return Some(Fault { remedy: mend, ..Fault::new(Code::Confined, words).seen(seen) });
        }
        if is_forbidden && let Some(place) = &self.around.denied {
            let words = format!("a line of the configuration forbids {}", site.content);
            let mend = format!("{} && {}", remedy::edit(place), remedy::reload(self.server()));
            return Some(Fault::new(Code::AccessDenied, words).seen(place.to_string()).mend(mend));
        }
        if let Some(barrier) = self.around.unread_index.as_ref().filter(|_| is_forbidden) {
            let words = format!("the server's user `{}` may not read {}", barrier.user, barrier.folder);
            let seen = format!("its mode is {:04o}", barrier.mode);
            return Some(Fault::new(Code::FolderForbidden, words).seen(seen).mend(&barrier.mend));
        }
        if let (true, Some(file)) = (has_status("500"), &self.around.override_file)
            && let Some(seen) = log(&[".htaccess", "override", "not allowed here", "Invalid command"])
        {
            if seen.contains("not allowed here") && site.serving.overrides == Overrides::On {
                let words = format!(
                    "the override file {file} has a line that is refused for a site without PHP, since such lines can run programs: allow it if you trust the project"
                );
                let mend = format!("yandro map {} --overrides all", site.name);
                return Some(Fault::new(Code::OverrideFault, words).seen(seen).mend(mend));
            }
            let words = format!("the override file {file} has a line that {} can't take", self.server());
            let line = Place { file: file.to_string(), line: 1 };
            return Some(Fault::new(Code::OverrideFault, words).seen(seen).mend(remedy::edit(&line)));
        }
        if let Some((words, place)) = self.around.log.iter().rev().find_map(|entry| php_fault(&entry.text)) {
            return Some(php_fault_at(&words, &place));
        }
        if let (true, Some(socket)) = (has_status("502") || has_status("503"), &self.around.php_down) {
            return Some(Fault { evidence: log(&["fastcgi", "fcgi", "FCGI", "connect()"]), ..self.php_down(socket) });
        }
        if finding.code == Code::UpstreamDown
            && let Some(near) = self.around.near_upstream.first()
        {
            let words = format!(
                "the upstream of `{}` doesn't answer at {}, and {} listens on port {}",
                site.name, site.content, near.words, near.port
            );
            let mend = format!("yandro map {} http://127.0.0.1:{}", site.name, near.port);
            let seen = finding.evidence.clone().unwrap_or_default();
            return Some(Fault::new(Code::UpstreamDown, words).seen(seen).mend(mend));
        }
        let is_bare = finding.code == Code::HttpsStatus && is_folder;
        if is_bare && self.around.has_index == Some(false) && (has_status("403") || has_status("404")) {
            let words = format!("{} has no index page, and folders are not listed", site.content);
            let mend = format!("yandro map {} --listing on", site.name);
            return Some(Fault::new(Code::IndexMissing, words).mend(mend));
        }
        None
    }

    /// Has PHP files run: by a server of PHP that is started before, if none answers.
    fn run_php(&self) -> String {
        let map = format!("yandro map {} --php", self.report.site.name);
        match (&self.around.php_sockets[..], &self.around.php_programs[..]) {
            ([], [start, ..]) => format!("{start} && {map}"),
            _ => map,
        }
    }

    fn php_down(&self, socket: &str) -> Fault {
        let site = &self.report.site.name;
        let cause = Fault::new(Code::PhpDown, format!("PHP is passed on to {socket}, and nothing answers there"));
        match (&self.around.php_sockets[..], &self.around.php_programs[..]) {
            ([other, ..], _) => cause.mend(format!("yandro map {site} --php={}", word(other))),
            ([], [start, ..]) => cause.mend(start),
            ([], []) => cause,
        }
    }
}
