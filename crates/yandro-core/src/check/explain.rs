//! From symptoms to causes: what a server, its files and its log say about a finding.

use super::PROOF_FILE;
use super::cause::{CertificateFault, Forbidden, OverrideRefusal};
use super::circumstances::{Circumstances, LogLine, PortHolder};
use super::codes::{Cause, Code, Severity};
use super::configured::{Of, put_back_at, refused};
use super::finding::{Diagnosis, Evidence, Finding};
use super::php_fault::{php_fault, php_fault_at};
use super::remedy::{MapOption, Remedy, other_ports, unconfine};
use super::report::{SiteReport, StepOutcome};
use super::step::CheckStep;
use super::traits::Symptom;
use crate::config::Place;
use crate::site::{Overrides, ServerId};

/// Puts causes in the place of symptoms, as far as the circumstances tell them. One cause for
/// several symptoms is reported once.
pub fn explain(report: &mut SiteReport, http_port: u16, https_port: u16, around: &Circumstances) {
    let explanation = Explanation { report, ports: [http_port, https_port], around };
    let mut explained: Vec<Finding> = Vec::new();
    for symptom in &report.findings {
        let finding = explanation.of(symptom);
        let is_cause = finding.code() != symptom.code();
        let is_known = |other: &Finding| {
            other.code() == finding.code() && (is_cause || finding.is_foretold() || other.cause() == finding.cause())
        };
        match explained.iter_mut().find(|other| is_known(other)) {
            // The files predicted it; now it is observed.
            Some(known) if known.severity() < finding.severity() => *known = finding,
            Some(_) => {}
            None => explained.push(finding),
        }
    }
    // Drop what follows from a graver cause.
    let has = |wanted: Code| explained.iter().any(|own| own.code() == wanted);
    let has_error = explained.iter().any(|own| own.severity() == Severity::Error);
    let is_gone = has(Code::AddressGone);
    // A configuration that isn't taken at all foretells nothing: half of it may be left out for the same cause.
    let is_refused = [Code::ModuleOff, Code::ConfigurationBroken, Code::LogFolderMissing].into_iter().any(has);
    let has_upstream_fault = has(Code::UpstreamFails) || has(Code::UpstreamDown);
    let has_file_fault = has(Code::CertificateFile);
    let is_built_in = report.server == ServerId::BuiltIn;
    let has_plain_first = has(Code::TlsPlain) && around.configured.plain_first.is_some();
    explained.retain(|own| match own.code() {
        Code::FamilyHalf => !has_error,
        Code::HttpsFails | Code::HttpsStatus | Code::HttpFails => !has_upstream_fault,
        // The server refuses its configuration for that file.
        Code::ConfigurationBroken => !has_file_fault,
        // The built-in server leaves such a site out.
        Code::TlsFails | Code::RedirectMissing if is_built_in && has_file_fault => false,
        Code::TlsFails | Code::PortClosed | Code::Unreachable => !is_gone,
        _ if own.is_foretold() => !(is_refused && has_error || has_plain_first),
        _ => true,
    });
    report.findings = explained;
    weigh_again(report);
}

/// Gives each step the severity of its cause; lowers it only where no later step depends on it.
fn weigh_again(report: &mut SiteReport) {
    for step in report.names.iter_mut().flat_map(|name| &mut name.steps) {
        let of_step = report.findings.iter().filter(|finding| finding.step == step.step);
        let is_last = matches!(step.step, CheckStep::Https | CheckStep::Application | CheckStep::Proof);
        match (step.outcome, of_step.map(Finding::severity).max()) {
            (StepOutcome::Warned, Some(Severity::Error)) => step.outcome = StepOutcome::Failed,
            (StepOutcome::Failed, Some(Severity::Warning)) if is_last => step.outcome = StepOutcome::Warned,
            _ => {}
        }
    }
    for name in &mut report.names {
        name.is_proven &= name.is_well();
    }
}

pub(super) struct Explanation<'e> {
    pub(super) report: &'e SiteReport,
    pub(super) ports: [u16; 2],
    pub(super) around: &'e Circumstances,
}

impl Explanation<'_> {
    fn of(&self, finding: &Finding) -> Finding {
        let code = finding.code();
        let Some(symptom) = code.traits().symptom else { return finding.clone() };
        let symptom_of = &finding.diagnosis;
        let cause = match symptom {
            Symptom::Closed => self.closed(),
            Symptom::Wrong => self.wrong(code, symptom_of).or_else(|| self.status(symptom_of)),
            Symptom::Status => self.wrong_before(code).or_else(|| self.status(symptom_of)),
            Symptom::Circle => self.at_rule(symptom_of),
            Symptom::Index => self.other_index(symptom_of),
            Symptom::Php => Some(self.php_source(symptom_of)),
            Symptom::Silent => self.held().or_else(|| self.refused()).or_else(|| self.silent(symptom_of)),
        };
        let mut diagnosis = cause.unwrap_or_else(|| symptom_of.clone());
        if diagnosis.remedies.is_empty() {
            diagnosis.remedies.clone_from(&symptom_of.remedies);
        }
        let mut finding = Finding { diagnosis, ..finding.clone() };
        // The server's log line goes with the reported finding.
        if matches!(symptom, Symptom::Wrong | Symptom::Status)
            && let Some(line) = self.telling_entry()
        {
            let evidence = &mut finding.diagnosis.evidence;
            let is_line = |seen: &Evidence| matches!(seen, Evidence::Log(own) if own.text == line.text);
            if !evidence.iter().any(is_line) {
                evidence.push(Evidence::Log(line.clone()));
            }
        }
        finding
    }

    pub(super) fn server(&self) -> ServerId {
        self.report.server
    }

    /// The entry of the log that is shown: the last one that is about a page, and not about the proof.
    fn telling_entry(&self) -> Option<&LogLine> {
        let mut entries = self.around.log.iter().rev();
        entries.find(|entry| !entry.text.contains(PROOF_FILE)).or(self.around.log.last())
    }

    fn refused(&self) -> Option<Diagnosis> {
        self.around.refuses.as_ref().map(|words| refused(words, self.server(), self.around.runs))
    }

    fn closed(&self) -> Option<Diagnosis> {
        let server = self.server();
        if !server.is_configured() {
            return self.held_from_built_in();
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
            if let Some(sandboxed) = self.sandboxed() {
                return Some(sandboxed);
            }
            let start = Remedy::reload_or_start(server, self.around.runs);
            return Some(Diagnosis::new(Cause::ServerDown { server }).fix(start));
        }
        let (site, configured) = (&self.report.site, &self.around.configured);
        configured
            .not_read(site, server)
            .or_else(|| configured.not_listened(site, server))
            .or_else(|| self.not_reloaded())
    }

    fn key_mismatch(&self) -> Option<Diagnosis> {
        if self.around.key_fits != Some(false) {
            return None;
        }
        let site = self.report.site.name.clone();
        Some(Diagnosis::new(Cause::KeyMismatch { site: site.clone() }).fix(Remedy::CheckAndFix(site)))
    }

    /// The site's own virtual host shows another certificate than the site's: somebody has named it there.
    fn other_certificate(&self, code: Code) -> Option<Diagnosis> {
        let (host, fault) = (self.report.site.name.clone(), CertificateFault::OtherFile);
        let cause = match code {
            Code::CertificateUnknown => Cause::CertificateUnknown { host, fault },
            Code::CertificateName => Cause::CertificateName { host, fault },
            Code::CertificateExpired => Cause::CertificateExpired { host, fault },
            _ => return None,
        };
        if self.around.names_certificate {
            return None;
        }
        let host = self.around.configured.answering.iter().find(|host| host.is_own && host.tls)?;
        Some(put_back_at(cause, &host.place, &self.report.site))
    }

    fn not_reloaded(&self) -> Option<Diagnosis> {
        let (server, file) = (self.server(), self.around.newer.clone());
        if file.is_none() && !self.is_behind() {
            return None;
        }
        Some(Diagnosis::new(Cause::NotReloaded { server, file }).fix(Remedy::reload(server)))
    }

    /// Whether it answers otherwise than its files say, whatever their times are: by them it is the site's own virtual
    /// host, and the certificate that is shown is none of the site's.
    fn is_behind(&self) -> bool {
        let hosts = &self.around.configured.answering;
        let is_own = !hosts.is_empty() && hosts.iter().all(|host| host.is_own);
        is_own && self.around.names_certificate && self.report.names.iter().any(|name| name.is_anothers)
    }

    /// Another program has the port.
    fn held(&self) -> Option<Diagnosis> {
        let (server, holders) = (self.server(), &self.around.holders);
        let has_own = |port: u16| holders.iter().any(|holder| holder.port == port && holder.server == Some(server));
        // While the server runs, a process that this user can't see may be the server itself.
        let is_other = |holder: &&PortHolder| {
            let is_unseen = holder.pid.is_none() && self.around.runs == Some(true);
            holder.server != Some(server) && !has_own(holder.port) && !is_unseen
        };
        holders.iter().find(is_other).map(|other| self.held_by(other))
    }

    /// Another program has a port of the built-in server's. The system holds the ports of a service.
    fn held_from_built_in(&self) -> Option<Diagnosis> {
        let is_other = |holder: &&PortHolder| holder.server.map_or(!holder.is_manager, ServerId::is_configured);
        let own = Some(ServerId::BuiltIn);
        let has_own = self.around.holders.iter().any(|holder| holder.server == own);
        let other = self.around.holders.iter().find(is_other).filter(|_| Some(self.server()) == own && !has_own);
        other.map(|other| self.held_by(other))
    }

    fn held_by(&self, other: &PortHolder) -> Diagnosis {
        let (server, site) = (self.server(), &self.report.site.name);
        let cause = Cause::PortHeld { port: other.port, holder: Box::new(other.clone()), server };
        let held = Diagnosis::new(cause).fix(other.remedy(server));
        match other.server {
            // No option of a site changes its ports: they are in the settings.
            None if server == ServerId::BuiltIn => held,
            None => {
                let of_holders = |port| self.around.holders.iter().any(|own| own.port == port);
                held.fix(other_ports(site, |port| self.ports.contains(&port) || of_holders(port)))
            }
            Some(id) => {
                held.seen(Evidence::Holder(id, other.names.clone())).fix(Remedy::map(site, [MapOption::Server(id)]))
            }
        }
    }

    /// Why it is another virtual host, or none, that answers.
    fn wrong(&self, code: Code, symptom: &Diagnosis) -> Option<Diagnosis> {
        let server = self.server();
        if !server.is_configured() {
            return self.held_from_built_in();
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
            let cause = Cause::ModuleOff { server, refusal: None };
            return Some(Diagnosis::new(cause).fix(Remedy::map(&site.name, [])));
        }
        if code == Code::TlsVersion {
            return self.old_tls(symptom);
        }
        if code == Code::AnsweredElsewhere
            && let Some(sandboxed) = self.sandboxed()
        {
            return Some(sandboxed);
        }
        let of = if is_tls { Of::Tls(self.ports[1]) } else { Of::Either(self.ports) };
        let is_elsewhere = code == Code::AnsweredElsewhere;
        configured
            .not_listened(site, server)
            .or_else(|| if is_tls { configured.tls_off(site) } else { None })
            .or_else(|| self.plain_first(code))
            .or_else(|| configured.other_answers(site, server, of))
            .or_else(|| if is_elsewhere { configured.other_folder(site) } else { None })
            .or_else(|| self.other_certificate(code))
            // An application behind the server answers as it likes: a reload wouldn't change that.
            .or_else(|| if code == Code::UpstreamDiffers { None } else { self.not_reloaded() })
            .or_else(|| self.unanswered(code))
            .or_else(|| if is_elsewhere { self.by_rule(Some(symptom.status()?)) } else { None })
            .or_else(|| if is_elsewhere { self.intercepted() } else { None })
    }

    /// Why no answer comes over a connection that is there.
    fn unanswered(&self, code: Code) -> Option<Diagnosis> {
        match code {
            Code::HttpsFails if self.around.is_slow => self.php_busy(),
            Code::HttpsFails | Code::HttpFails => self.by_rule(None),
            Code::TlsFails => self.wants_certificate(),
            _ => None,
        }
    }

    /// By the configuration the site's own virtual host answers from its folder: a rule in there takes the request.
    fn intercepted(&self) -> Option<Diagnosis> {
        let (site, hosts) = (&self.report.site, &self.around.configured.answering);
        let place = self.around.rule.as_ref()?;
        if hosts.is_empty() || hosts.iter().any(|host| !host.is_own) {
            return None;
        }
        let diagnosis = Diagnosis::new(Cause::ProofIntercepted { content: site.content.clone() });
        Some(diagnosis.seen(Evidence::ProofRule(place.clone())).fix(self.edit_rule(place)))
    }

    /// With the first rule of the project's own, if there is one: what an application does by itself has none.
    fn at_rule(&self, symptom: &Diagnosis) -> Option<Diagnosis> {
        let place = self.around.rule.as_ref()?;
        let remedies = vec![self.edit_rule(place)];
        Some(Diagnosis { remedies, ..symptom.clone() }.seen(Evidence::FirstRule(place.clone())))
    }

    /// Opens a rule of the project's own, and has it read.
    pub(super) fn edit_rule(&self, place: &Place) -> Remedy {
        let edit = Remedy::Edit(place.clone());
        match &self.around.override_file {
            // Read with every request.
            Some(file) if *file == place.file => edit,
            _ => edit.and(Remedy::reload(self.server())),
        }
    }

    /// A status that is another server's, or of an old configuration.
    fn wrong_before(&self, code: Code) -> Option<Diagnosis> {
        if code != Code::HttpsStatus || self.around.log.is_empty() && self.around.has_index.is_none() {
            return None;
        }
        self.held()
    }

    /// Why the site's own server answers with an error.
    fn status(&self, symptom: &Diagnosis) -> Option<Diagnosis> {
        let status = symptom.status();
        let sandboxed = || if matches!(status, Some(403 | 404)) { self.sandboxed() } else { None };
        let forbidden = || if status == Some(403) { self.forbidden() } else { None };
        let refused_override = || if status == Some(500) { self.override_fault() } else { None };
        let php_down = || if matches!(status, Some(502..=504)) { self.php_down() } else { None };
        let php_fault = || {
            let (message, place) = self.around.log.iter().rev().find_map(|entry| php_fault(&entry.text))?;
            Some(php_fault_at(&message, &place))
        };
        sandboxed()
            .or_else(forbidden)
            .or_else(refused_override)
            .or_else(php_fault)
            .or_else(php_down)
            .or_else(|| self.near_upstream(symptom))
            .or_else(|| self.no_index(symptom))
            .or_else(|| self.by_rule(Some(status.filter(|status| *status != 403)?)))
    }

    /// The last entry of the log that has one of these words.
    pub(super) fn logged(&self, words: &[&str]) -> Option<&LogLine> {
        let fits = |line: &&LogLine| words.iter().any(|word| line.text.contains(word));
        self.around.log.iter().rev().find(fits)
    }

    /// The obstacle to the folder: a security module, a line of the configuration, or the rights of the index page.
    fn forbidden(&self) -> Option<Diagnosis> {
        let (server, content) = (self.server(), &self.report.site.content);
        if let Some(seen) = &self.around.confined {
            let remedies = unconfine(seen, &content.to_string()).into_iter().collect();
            let cause = Cause::Confined { server, content: content.clone() };
            return Some(Diagnosis { remedies, ..Diagnosis::new(cause).seen(Evidence::Words(seen.clone())) });
        }
        if let Some(barred) = self.by_rule(Some(403)) {
            return Some(barred);
        }
        let barrier = self.around.unread_index.as_ref()?;
        let to = Forbidden::Index { user: barrier.user.clone(), path: barrier.folder.clone() };
        let diagnosis = Diagnosis::new(Cause::FolderForbidden { to }).seen(Evidence::Mode(barrier.mode));
        Some(diagnosis.fix(Remedy::Shell(barrier.fix.clone())))
    }

    /// A line of an override file that the server refuses.
    fn override_fault(&self) -> Option<Diagnosis> {
        let site = &self.report.site;
        let file = self.around.override_file.clone()?;
        let line = self.logged(&[".htaccess", "override", "not allowed here", "Invalid command"])?;
        let may_be_allowed = line.text.contains("not allowed here") && site.serving.overrides == Overrides::On;
        let (refusal, fix) = if may_be_allowed {
            (OverrideRefusal::CanRunPrograms, Remedy::map(&site.name, [MapOption::AllOverrides]))
        } else {
            let place = Place { file: file.to_string(), line: 1 };
            (OverrideRefusal::Faulty(self.server()), Remedy::Edit(place))
        };
        let diagnosis = Diagnosis::new(Cause::OverrideFault { file, refusal });
        Some(diagnosis.seen(Evidence::Log(line.clone())).fix(fix))
    }

    /// The upstream answers at a port above its own.
    fn near_upstream(&self, symptom: &Diagnosis) -> Option<Diagnosis> {
        let Cause::UpstreamDown { site, content, .. } = &symptom.cause else { return None };
        let near = self.around.near_upstream.first()?;
        let url = format!("http://127.0.0.1:{}", near.port);
        let near = Some(Box::new(near.clone()));
        let cause = Cause::UpstreamDown { site: site.clone(), content: content.clone(), near };
        Some(Diagnosis { cause, remedies: vec![Remedy::map_to(site, url, [])], ..symptom.clone() })
    }
}
