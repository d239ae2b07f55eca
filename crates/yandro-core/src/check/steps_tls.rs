//! The steps of TLS: handshake, chain, name, validity.

use super::cause::{CertificateFault, FileFault};
use super::codes::Cause;
use super::finding::{Diagnosis, Evidence, Judged, fail};
use super::judge::Judge;
use super::observation::{Connection, FailureKind, Verdict};
use super::remedy::Remedy;
use super::steps::seen;
use crate::config::OTHERS;
use crate::pki::due_days;
use crate::system::System;

impl Judge<'_> {
    pub(super) fn tls(&self) -> Judged {
        let failure = match seen(self.seen.tls.as_ref()) {
            Some(Ok(connection)) => return Ok(connection.version.clone()),
            Some(Err(failure)) => failure,
            None => return Ok(String::new()),
        };
        let (host, port) = (self.seen.name.clone(), self.expected.https_port);
        let words = Evidence::Words(failure.words.clone());
        match failure.kind {
            // TCP gets through to the other port, and nothing is said on this one.
            FailureKind::TimedOut if seen(self.seen.connect.as_ref()).is_some_and(Result::is_ok) => {
                self.silent(failure, port)
            }
            FailureKind::Refused | FailureKind::TimedOut | FailureKind::NoWay => self.unconnected(failure, port),
            FailureKind::PlainHttp => {
                fail("plain HTTP", Diagnosis::new(Cause::TlsPlain { port }).fix(self.map_again()))
            }
            FailureKind::TlsVersion => {
                fail("too old", Diagnosis::new(Cause::TlsVersion { host }).seen(words).fix(self.put_back()))
            }
            FailureKind::Other => {
                fail("no handshake", Diagnosis::new(Cause::TlsFails { host }).seen(words).fix(self.start_server()))
            }
        }
    }

    pub(super) fn connection(&self) -> Option<&Connection> {
        seen(self.seen.tls.as_ref()).and_then(|result| result.as_ref().ok())
    }

    pub(super) fn chain(&self) -> Judged {
        let Some(connection) = self.connection() else { return Ok(String::new()) };
        let host = self.seen.name.clone();
        let issuer = connection.chain.leaf.as_ref().map(|leaf| Evidence::Issuer(leaf.issuer.clone()));
        let (cause, evidence) = match &connection.chain.verdict {
            // The next steps report the names and the time.
            Verdict::Trusted | Verdict::Time | Verdict::Name => return Ok("trusted".into()),
            Verdict::UnknownIssuer => {
                (Cause::CertificateUnknown { host, fault: CertificateFault::OtherIssuer }, issuer)
            }
            Verdict::NoAuthority => (Cause::AuthorityMissing {}, issuer),
            Verdict::Constraints => (Cause::CertificateConstraints { host }, issuer),
            Verdict::Other(words) => {
                let evidence = Some(Evidence::Words(words.clone()));
                (Cause::CertificateUnknown { host, fault: CertificateFault::Refused }, evidence)
            }
        };
        let fix = match cause {
            Cause::CertificateConstraints { .. } => Remedy::Widen(self.seen.name.clone()),
            _ => self.map_again(),
        };
        let evidence = evidence.into_iter().collect();
        fail("untrusted", Diagnosis { evidence, ..Diagnosis::new(cause).fix(fix) })
    }

    /// Whether a certificate is served that is neither the one on disk nor one for the site at all.
    pub(super) fn is_anothers(&self) -> bool {
        let chain = self.connection().map(|connection| &connection.chain);
        chain.is_some_and(|own| !own.is_on_disk && !matches!(own.verdict, Verdict::Trusted | Verdict::Time))
    }

    pub(super) fn disk(&self) -> Judged {
        let files = &self.beside.files;
        if let Some((file, fault)) = files.certificate.clone() {
            let detail = if fault == FileFault::Missing { "missing" } else { "damaged" };
            return fail(detail, Diagnosis::new(Cause::CertificateFile { file, fault }).fix(self.map_again()));
        }
        if files.is_other_key {
            let site = self.expected.site.name.clone();
            let fix = Remedy::CheckAndFix(site.clone());
            return fail("another key", Diagnosis::new(Cause::KeyMismatch { site }).fix(fix));
        }
        let Some(connection) = self.connection() else { return Ok(String::new()) };
        if connection.chain.is_on_disk {
            return Ok("the same".into());
        }
        let cause = Cause::CertificateOld { host: self.seen.name.clone() };
        fail("not as on disk", Diagnosis::new(cause).fix(self.reload_server()))
    }

    pub(super) fn name(&self) -> Judged {
        let leaf = self.connection().and_then(|connection| connection.chain.leaf.as_ref());
        let (fault, evidence) = match leaf {
            Some(leaf) if leaf.names.iter().any(|name| name == OTHERS) => {
                (CertificateFault::OfUnknownNames, Evidence::VirtualHostSilent)
            }
            Some(leaf) if !leaf.covers(&self.seen.name) => {
                (CertificateFault::OtherNames, Evidence::Names(leaf.names.clone()))
            }
            _ => return Ok("covered".into()),
        };
        let cause = Cause::CertificateName { host: self.seen.name.clone(), fault };
        fail("other names", Diagnosis::new(cause).seen(evidence).fix(self.map_again()))
    }

    /// For how many days the certificate that is served is valid.
    pub(super) fn days_left(&self) -> Option<i64> {
        let leaf = self.connection()?.chain.leaf.as_ref()?;
        Some(leaf.days_left(self.expected.now))
    }

    pub(super) fn validity(&self) -> Judged {
        let Some(leaf) = self.connection().and_then(|connection| connection.chain.leaf.as_ref()) else {
            return Ok(String::new());
        };
        let (host, now) = (self.seen.name.clone(), self.expected.now);
        let (days, start, end) = (leaf.days_left(now), leaf.not_before, leaf.not_after);
        if let Some(since) = self.expected.authority_since.filter(|since| *since > now) {
            let fix = Remedy::Shell(System::HERE.set_clock());
            return fail("clock wrong", Diagnosis::new(Cause::ClockWrong { now, since }).fix(fix));
        }
        let (detail, cause) = if start > now {
            ("not yet".to_owned(), Cause::CertificateEarly { host, start })
        } else if days < 0 {
            ("ended".to_owned(), Cause::CertificateExpired { host, fault: CertificateFault::Ended(end) })
        } else if days <= due_days(leaf.days()) {
            (format!("{days} days"), Cause::CertificateEnds { host, end, days })
        } else {
            return Ok(format!("{days} days"));
        };
        fail(detail, Diagnosis::new(cause).fix(self.map_again()))
    }
}
