//! From symptoms to causes: PHP's server, php-fpm.

use super::cause::SourceReason;
use super::circumstances::{PhpFacts, PhpState};
use super::codes::Cause;
use super::explain::Explanation;
use super::finding::{Diagnosis, Evidence};
use super::remedy::{MapOption, Remedy};
use crate::site::{FastCgi, ServerId};

impl Explanation<'_> {
    /// Why PHP files are sent as text.
    pub(super) fn php_source(&self, symptom: &Diagnosis) -> Diagnosis {
        let site = self.report.site.name.clone();
        let of = |reason| Cause::PhpSource { site: site.clone(), reason };
        let (cause, fix) = if self.report.site.serving.php.is_none() {
            (of(SourceReason::WithoutPhp), self.run_php())
        } else if !self.around.passes_php_on {
            (of(SourceReason::ModuleOff), Remedy::map(&site, []))
        } else {
            (of(SourceReason::LinesGone), Remedy::PutBack(site.clone()))
        };
        Diagnosis { cause, remedies: vec![fix], ..symptom.clone() }
    }

    /// Has PHP files run: by a server of PHP that is started before, if none answers.
    fn run_php(&self) -> Remedy {
        let map = Remedy::map(&self.report.site.name, [MapOption::Php(None)]);
        let PhpFacts { answering, starts, restart, install, .. } = &self.around.php;
        if self.server() == ServerId::BuiltIn {
            return match install {
                Some(install) => Remedy::Shell(install.clone()).and(map),
                None => map,
            };
        }
        match (answering.first(), starts.first().or(install.as_ref())) {
            (None, Some(start)) if restart.is_none() => Remedy::Shell(start.clone()).and(map),
            _ => map,
        }
    }

    /// Why nothing comes back from where PHP is passed on to.
    pub(super) fn php_down(&self) -> Option<Diagnosis> {
        let (address, state) = self.around.php.address.as_ref()?;
        let socket = address.to_string();
        let diagnosis = match state {
            PhpState::Listens => return None,
            PhpState::Full => return self.php_busy(),
            PhpState::Down => {
                let down = Diagnosis::new(Cause::PhpDown { socket });
                self.php_remedies(address).into_iter().fold(down, Diagnosis::fix)
            }
            PhpState::Forbidden { user, mode } => {
                let cause = Cause::PhpForbidden { socket, user: user.clone() };
                let fix = self.give_socket_to(user);
                fix.into_iter().fold(Diagnosis::new(cause).seen(Evidence::Mode(*mode)), Diagnosis::fix)
            }
        };
        let line = self.logged(&["failed (", "attempt to connect", "fastcgi", "fcgi", "FCGI"]);
        Some(match line {
            Some(line) => diagnosis.seen(Evidence::Log(line.clone())),
            None => diagnosis,
        })
    }

    /// The commands after which something answers, the best first. None of them starts a second php-fpm
    /// while one runs.
    fn php_remedies(&self, address: &FastCgi) -> Vec<Remedy> {
        let PhpFacts { answering, start_own, starts, restart, install, pool, .. } = &self.around.php;
        let site = &self.report.site;
        if self.server() == ServerId::BuiltIn {
            // It runs its own.
            return vec![self.run_php()];
        }
        if site.serving.php_as_owner.is_some() && pool.is_none() {
            // Its pool is gone, and comes back with the site.
            return vec![Remedy::map(&site.name, [])];
        }
        if let Some(start) = start_own {
            return vec![Remedy::Shell(start.clone())];
        }
        if let Some(other) = answering.iter().find(|other| *other != address) {
            let php = MapOption::Php(Some(other.to_string()));
            return vec![Remedy::map(&self.report.site.name, [php])];
        }
        let command = restart.as_ref().or_else(|| starts.first()).or(install.as_ref());
        command.into_iter().cloned().map(Remedy::Shell).collect()
    }

    /// Makes the server's user the owner of PHP's socket, which takes php-fpm a new start.
    fn give_socket_to(&self, user: &str) -> Option<Remedy> {
        let PhpFacts { pool, restart, .. } = &self.around.php;
        let site = &self.report.site;
        if self.server() == ServerId::BuiltIn {
            return Some(self.run_php());
        }
        if site.serving.php_as_owner.is_some() {
            return Some(Remedy::map(&site.name, []));
        }
        let own = Remedy::Shell(pool.as_ref()?.give_socket_to(user));
        Some(own.and(Remedy::Shell(restart.clone()?)))
    }

    /// PHP takes requests and doesn't answer in time.
    pub(super) fn php_busy(&self) -> Option<Diagnosis> {
        let PhpFacts { address, pool, restart, .. } = &self.around.php;
        let (address, state) = address.as_ref()?;
        let most = pool.as_ref().and_then(|pool| pool.most.as_ref());
        let busy = |most| Diagnosis::new(Cause::PhpBusy { socket: address.to_string(), most });
        match state {
            PhpState::Full => {
                let diagnosis = busy(most.map(|(most, _)| *most));
                let diagnosis = restart.iter().fold(diagnosis, |own, start| own.fix(Remedy::Shell(start.clone())));
                Some(match most {
                    Some((_, place)) => diagnosis.seen(Evidence::At(place.clone())),
                    None => diagnosis,
                })
            }
            PhpState::Listens if self.around.is_slow => Some(busy(None)),
            _ => None,
        }
    }
}
