//! The steps of TLS: handshake, chain, name, validity.

use super::fault::Fault;
use super::finding::Code;
use super::judge::Judge;
use super::observation::{Connection, FailureKind, Verdict};
use super::steps::{Judged, fail, seen};
use crate::config::OTHERS;
use crate::pki::{date, due_days};

impl Judge<'_> {
    pub(super) fn tls(&self) -> Judged {
        match seen(self.seen.tls.as_ref()) {
            Some(Ok(connection)) => Ok(connection.version.clone()),
            Some(Err(failure))
                if matches!(failure.kind, FailureKind::Refused | FailureKind::TimedOut | FailureKind::NoWay) =>
            {
                self.unconnected(failure, self.expected.https_port)
            }
            Some(Err(failure)) if failure.kind == FailureKind::PlainHttp => {
                let cause = format!("plain HTTP is spoken on port {}, where TLS is expected", self.expected.https_port);
                fail("plain HTTP", Fault::error(Code::TlsPlain, cause).mend(self.map_again()))
            }
            Some(Err(failure)) if failure.kind == FailureKind::TlsVersion => {
                let cause = format!("the server speaks no version of TLS with `{}` that browsers take", self.seen.name);
                let fault = Fault::error(Code::TlsVersion, cause).seen(failure.words.clone());
                fail("too old", fault.mend(self.put_back()))
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
            // Whose name it is for, and its time, the next steps tell.
            Verdict::Trusted | Verdict::Time | Verdict::Name => return Ok("trusted".into()),
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
        let mend = match fault.code {
            Code::CertificateConstraints => format!("yandro authority widen {name}"),
            _ => self.map_again(),
        };
        fail("untrusted", fault.mend(mend))
    }

    /// Whether a certificate is served that is neither the one on disk nor one for the site at all.
    pub(super) fn is_anothers(&self) -> bool {
        let chain = self.connection().map(|connection| &connection.chain);
        chain.is_some_and(|own| !own.is_on_disk && !matches!(own.verdict, Verdict::Trusted | Verdict::Time))
    }

    pub(super) fn disk(&self) -> Judged {
        let Some(connection) = self.connection() else { return Ok(String::new()) };
        if connection.chain.is_on_disk {
            return Ok("the same".into());
        }
        let cause = format!(
            "the server sends another certificate for `{}` than the one on disk: it was not reloaded since",
            self.seen.name
        );
        fail("not as on disk", Fault::warning(Code::CertificateOld, cause).mend(self.reload_server()))
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
        if let Some(since) = self.expected.authority_since.filter(|since| *since > self.expected.now) {
            let (now, since) = (date(self.expected.now), date(since));
            let cause = format!("by this machine's clock it is {now}, and its own authority was made on {since}");
            let mend = "sudo timedatectl set-ntp true";
            return fail("clock wrong", Fault::error(Code::ClockWrong, cause).mend(mend));
        }
        if leaf.not_before > self.expected.now {
            let cause = format!("the certificate of `{}` is valid from {start} on, which is to come", self.seen.name);
            return fail("not yet", Fault::error(Code::CertificateEarly, cause).mend(self.map_again()));
        }
        if days < 0 {
            let cause = format!("the certificate of `{}` ended on {end}", self.seen.name);
            return fail("ended", Fault::error(Code::CertificateExpired, cause).mend(self.map_again()));
        }
        if days <= due_days(leaf.days()) {
            let cause = format!("the certificate of `{}` ends on {end}, in {days} days", self.seen.name);
            return fail(format!("{days} days"), Fault::warning(Code::CertificateEnds, cause).mend(self.map_again()));
        }
        Ok(format!("{days} days"))
    }
}
