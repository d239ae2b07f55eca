//! From symptoms to causes: lines of the configuration that answer in the place of a site's folder, and a server that
//! doesn't answer at all.

use super::cause::{DeniedBy, IndexFault, SilenceReason};
use super::circumstances::Silence;
use super::codes::{Cause, Code};
use super::explain::Explanation;
use super::finding::{Diagnosis, Evidence};
use super::remedy::{MapOption, Remedy};
use crate::config::Place;
use crate::servers::{Rule, RuleEffect};
use crate::site::Content;

/// Words of a log about a symbolic link that the server doesn't follow.
const LINK_WORDS: [&str; 2] = ["Symbolic link not allowed", "Too many levels of symbolic links"];

impl Explanation<'_> {
    /// The line by which requests get this status; without a status the one by which they get no answer.
    pub(super) fn by_rule(&self, status: Option<u16>) -> Option<Diagnosis> {
        match status {
            None => self.wants_certificate().or_else(|| self.answers(444)),
            Some(400) => self.wants_certificate().or_else(|| self.answers(400)),
            Some(403) => self
                .bars_links(true)
                .or_else(|| self.denied_by(&RuleEffect::Denies, DeniedBy::Access))
                .or_else(|| self.answers(403))
                .or_else(|| self.bars_links(false)),
            Some(status) => self.answers(status),
        }
    }

    fn rule_with(&self, fits: impl Fn(&RuleEffect) -> bool) -> Option<&Rule> {
        self.around.rules.iter().find(|rule| fits(&rule.effect))
    }

    fn answers(&self, status: u16) -> Option<Diagnosis> {
        self.denied_by(&RuleEffect::Answers(status), DeniedBy::Status(status))
    }

    fn denied_by(&self, effect: &RuleEffect, by: DeniedBy) -> Option<Diagnosis> {
        let rule = self.rule_with(|own| own == effect)?;
        let cause = Cause::AccessDenied { content: self.report.site.content.clone(), by };
        Some(self.at_line(cause, &rule.place))
    }

    /// Symbolic links that the server doesn't follow: by the server's own words, or if the index page is one.
    fn bars_links(&self, by_words: bool) -> Option<Diagnosis> {
        let is_it = if by_words { self.logged(&LINK_WORDS).is_some() } else { self.around.is_index_linked };
        if !is_it {
            return None;
        }
        self.denied_by(&RuleEffect::BarsLinks, DeniedBy::Links)
    }

    pub(super) fn wants_certificate(&self) -> Option<Diagnosis> {
        let rule = self.rule_with(|own| *own == RuleEffect::WantsCertificate)?;
        Some(self.at_line(Cause::ClientCertificate { site: self.report.site.name.clone() }, &rule.place))
    }

    /// The line that leaves out what browsers take.
    pub(super) fn old_tls(&self, symptom: &Diagnosis) -> Option<Diagnosis> {
        let rule = self.rule_with(|own| *own == RuleEffect::OldTls)?;
        let mut diagnosis = symptom.clone();
        diagnosis.remedies = vec![self.undo_line(&rule.place)];
        Some(diagnosis.seen(Evidence::At(rule.place.clone())))
    }

    /// The folder has no index page by the names that the server looks for.
    pub(super) fn no_index(&self, symptom: &Diagnosis) -> Option<Diagnosis> {
        let site = &self.report.site;
        let is_bare = matches!(symptom.cause, Cause::HttpsStatus { status: 403 | 404, .. });
        if !is_bare || !matches!(site.content, Content::Folder { .. }) {
            return None;
        }
        if self.around.has_index == Some(false) {
            let cause = Cause::IndexMissing { content: site.content.clone(), fault: IndexFault::NoneThere };
            return Some(Diagnosis::new(cause).fix(Remedy::map(&site.name, [MapOption::Listing])));
        }
        self.other_index(symptom)
    }

    /// The line by which the server looks for index pages under other names than that of the folder's.
    pub(super) fn other_index(&self, symptom: &Diagnosis) -> Option<Diagnosis> {
        if matches!(symptom.cause, Cause::IndexMissing { fault: IndexFault::NoneThere, .. }) {
            return None;
        }
        let is_there = |name: &String| self.around.index_pages.contains(name);
        let content = self.report.site.content.clone();
        // The list itself asks for them.
        let listed = &self.report.site.serving.index;
        if let Some(page) = self.around.index_pages.first()
            && !listed.is_empty()
            && !listed.iter().any(is_there)
        {
            let cause = Cause::IndexMissing { content, fault: IndexFault::OtherNames(listed.clone()) };
            let fix = Remedy::map(&self.report.site.name, [MapOption::Index(page.clone())]);
            return Some(Diagnosis::new(cause).fix(fix));
        }
        let rule = self.rule_with(|own| matches!(own, RuleEffect::Indexes(names) if !names.iter().any(is_there)))?;
        let RuleEffect::Indexes(wanted) = &rule.effect else { return None };
        let cause = Cause::IndexMissing { content, fault: IndexFault::OtherNames(wanted.clone()) };
        let diagnosis = Diagnosis::new(cause).seen(Evidence::At(rule.place.clone()));
        // The line is the user's if yandro writes none.
        let is_users = self.report.site.serving.index.is_empty() && !self.around.has_own_index;
        Some(diagnosis.fix(if is_users { self.edit_rule(&rule.place) } else { self.undo_line(&rule.place) }))
    }

    /// A cause at a line that somebody wrote: only they know what it is for.
    fn at_line(&self, cause: Cause, place: &Place) -> Diagnosis {
        Diagnosis::new(cause).seen(Evidence::At(place.clone())).fix(self.edit_rule(place))
    }

    /// Takes a line back: in the site's own file by writing it as the site has it.
    fn undo_line(&self, place: &Place) -> Remedy {
        let is_own = self.around.configured.answering.iter().any(|host| host.is_own && host.place.file == place.file);
        if is_own { Remedy::PutBack(self.report.site.name.clone()) } else { self.edit_rule(place) }
    }

    /// The sandbox of the server's unit is in the way.
    pub(super) fn sandboxed(&self) -> Option<Diagnosis> {
        let (server, hidden) = (self.server(), self.around.sandboxed.as_ref()?);
        let fix = Remedy::Shell(hidden.let_through(self.report.site.name.as_str()));
        Some(Diagnosis::new(Cause::Sandboxed { server, hidden: hidden.clone() }).fix(fix))
    }

    /// Why the server takes connections and doesn't answer.
    pub(super) fn silent(&self, symptom: &Diagnosis) -> Option<Diagnosis> {
        let Silence { reason, stopped, waiting, log } = self.around.silence.as_ref()?;
        let (server, reason) = (self.server(), *reason);
        let mut diagnosis =
            Diagnosis { cause: Cause::ServerSilent { server, reason }, remedies: Vec::new(), ..symptom.clone() };
        diagnosis.evidence.extend((*waiting > 0).then_some(Evidence::Waiting(*waiting)));
        diagnosis.evidence.extend(log.clone().map(Evidence::Log));
        if reason == SilenceReason::Stopped {
            let all: Vec<String> = stopped.iter().map(ToString::to_string).collect();
            return Some(diagnosis.fix(Remedy::Shell(format!("sudo kill -CONT {}", all.join(" ")))));
        }
        Some(diagnosis.fix(Remedy::restart(server)))
    }

    /// Apache httpd speaks TLS on an address only if the first virtual host there does.
    pub(super) fn plain_first(&self, code: Code) -> Option<Diagnosis> {
        let place = self.around.configured.plain_first.as_ref().filter(|_| code == Code::TlsPlain)?;
        let diagnosis =
            Diagnosis::new(Cause::TlsPlain { port: self.ports[1] }).seen(Evidence::PlainFirst(place.clone()));
        Some(diagnosis.fix(Remedy::Edit(place.clone()).and(Remedy::reload(self.server()))))
    }
}
